"""Numbers keyed over frames."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


class Track:
    """Keys, taken apart once, to be read often.

    Args:
        keys: (frame, value) in rising order of frames; a value is a number, three, or a quaternion of any length but
            0. A third item says how it goes from there to the next key: one of the eases, or slopes {"leave",
            "arrive"} in the value's unit a frame (the cubic of Hermite that has them).
        ease: where a key says nothing: "hold" keeps a value until the next key, "straight" goes in a line, "smooth"
            leaves and arrives at rest (the cubic 3t² - 2t³).
    """

    def __init__(self, keys: list[Any], ease: str) -> None:
        self.places = np.array([k[0] for k in keys], dtype=np.float64)
        self.data = np.array([k[1] for k in keys], dtype=np.float64)
        self.eases = [key[2] if len(key) > 2 else ease for key in keys]
        self.own = any(isinstance(one, dict) for one in self.eases)

    def values(self, frames: Floats | float) -> Floats:
        """Return the values at m frames (fractions allowed): (m,), or (m, 3) of vectors; beyond the ends it holds."""
        at = np.atleast_1d(np.asarray(frames, dtype=np.float64))
        if len(self.places) == 1:
            return np.repeat(self.data, len(at), axis=0)
        left, t = self._stretch(at)
        wide = (-1, *[1] * (self.data.ndim - 1))
        share = np.array([_eased(self.eases[k], float(u)) for k, u in zip(left, t, strict=True)]).reshape(wide)
        found: Floats = self.data[left] + share * (self.data[left + 1] - self.data[left])
        for m, k in enumerate(left) if self.own else ():
            slopes = self.eases[k]
            if isinstance(slopes, dict):
                u, span = t[m], self.places[k + 1] - self.places[k]
                leave, arrive = np.asarray(slopes["leave"]), np.asarray(slopes["arrive"])
                found[m] = found[m] + span * (u * (1 - u) ** 2 * leave - u * u * (1 - u) * arrive)
        return found

    def turn(self, frame: float) -> Floats:
        """Return the quaternion (4,), x y z w, at a frame: on the shortest arc from key to key (Shoemake 1985)."""
        if len(self.places) == 1:
            return np.asarray(self.data[0] / np.linalg.norm(self.data[0]))
        (k,), (t,) = self._stretch(np.array([frame]))
        share = _eased(self.eases[k], float(t))
        one, two = (self.data[n] / np.linalg.norm(self.data[n]) for n in (k, k + 1))
        cosine = float(one @ two)
        two, cosine = (-two, -cosine) if cosine < 0.0 else (two, cosine)
        angle = np.arccos(min(cosine, 1.0))
        if angle < 1e-6:
            mixed = one + share * (two - one)
        else:
            mixed = (np.sin((1.0 - share) * angle) * one + np.sin(share * angle) * two) / np.sin(angle)
        return np.asarray(mixed / np.linalg.norm(mixed))

    def grain(self, frame: float) -> float | None:
        """Return how many frames lie between samples around a frame; None where the track is a curve there.

        Samples are keys that lie no farther than a frame apart, with straight lines between them, as files have them.
        """
        k = int(np.searchsorted(self.places, frame - 1e-9))
        if k == len(self.places) or abs(self.places[k] - frame) > 1e-9:
            return None
        beside = [n for n in (k - 1, k) if 0 <= n < len(self.places) - 1]
        spans = [float(self.places[n + 1] - self.places[n]) for n in beside]
        if not spans or max(spans) > 1.0 + 1e-9 or any(self.eases[n] != "straight" for n in beside):
            return None
        return min(spans)

    def _stretch(self, at: Floats) -> tuple[NDArray[np.int64], Floats]:
        """Return for each frame of at (m,) the key before it, and the share (0..1) of the way to the next."""
        left = np.clip(np.searchsorted(self.places, at, side="right") - 1, 0, len(self.places) - 2)
        span = self.places[left + 1] - self.places[left]
        return left, np.clip((at - self.places[left]) / span, 0.0, 1.0)


def track_values(keys: list[Any], ease: str, frames: Floats | float) -> Floats:
    """Return a track's values at m frames (m,), or (m, 3) of vectors; see `Track`."""
    return Track(keys, ease).values(frames)


def turn_values(keys: list[Any], ease: str, frame: float) -> Floats:
    """Return the quaternion (4,), x y z w, of a track of quaternions at a frame; see `Track`."""
    return Track(keys, ease).turn(frame)


def _eased(ease: Any, t: float) -> float:
    """Return how much of the way from key to key is done after a share t of the time."""
    if ease == "hold":
        return float(np.floor(t))
    if ease == "straight":
        return float(t)
    return float(t * t * (3.0 - 2.0 * t))  # at rest at both ends; slopes come on top


def value_at(value: Any, frame: float) -> float:
    """Return a number at a frame: it is one, or a track {"keys", "ease"} of them."""
    if isinstance(value, dict):
        return float(track_values(value["keys"], value["ease"], frame)[0])
    return float(value)


def extremes_of(value: Any) -> tuple[float, float]:
    """Return the least and the most that a number, or a track of numbers, comes to, own handles included."""
    if not isinstance(value, dict):
        return float(value), float(value)
    keys = value["keys"]
    found = [float(key[1]) for key in keys]
    for (place, start, *ease), (after, end, *_) in pairwise(keys):
        if ease and isinstance(ease[0], dict):  # the only ease that leaves what lies between its keys
            span, way = float(after - place), float(end - start)
            leave, arrive = span * ease[0]["leave"], span * ease[0]["arrive"]
            # Where the cubic of Hermite, start + (3t² - 2t³) way + t(1-t)² leave - t²(1-t) arrive, is level.
            for t in np.roots([3.0 * (leave + arrive) - 6.0 * way, 6.0 * way - 4.0 * leave - 2.0 * arrive, leave]):
                if abs(t.imag) < 1e-12 and 0.0 < t.real < 1.0:
                    u = float(t.real)
                    share = u * u * (3.0 - 2.0 * u)
                    found.append(start + share * way + u * (1 - u) ** 2 * leave - u * u * (1 - u) * arrive)
    return min(found), max(found)


def integral_of(value: Any, frame: float) -> float:
    """Return a number or a track of numbers summed up over the frames from 0 to a frame, in its unit times frames.

    Between keys a track is a cubic at most, so two places of Gauss and Legendre a piece are exact.
    """
    if not isinstance(value, dict):
        return float(value) * frame
    keys = [float(key[0]) for key in value["keys"] if min(0.0, frame) < key[0] < max(0.0, frame)]
    ends = np.array([min(0.0, frame), *keys, max(0.0, frame)])
    middle, half = 0.5 * (ends[1:] + ends[:-1]), 0.5 * (ends[1:] - ends[:-1])
    off = half / np.sqrt(3.0)
    read = track_values(value["keys"], value["ease"], np.concatenate([middle - off, middle + off])).reshape(2, -1)
    return float((half * read.sum(axis=0)).sum()) * (1.0 if frame >= 0.0 else -1.0)


def most_of(value: Any) -> float:
    """Return how far from 0 a number, or a track of numbers, gets."""
    return max(abs(end) for end in extremes_of(value))


def scaled(value: Any, factor: float) -> Any:
    """Return a number, or a track of numbers, times a factor."""
    if not isinstance(value, dict):
        return factor * value
    keys = []
    for place, number, *ease in value["keys"]:
        more = [{end: factor * slope for end, slope in one.items()} if isinstance(one, dict) else one for one in ease]
        keys.append([place, factor * number, *more])
    return {**value, "keys": keys}
