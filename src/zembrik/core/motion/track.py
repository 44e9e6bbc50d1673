"""Numbers keyed over frames."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def track_values(keys: list[Any], ease: str, frames: Floats | float) -> Floats:
    """Return a track's values at m frames (fractions allowed): (m,), or (m, 3) of vectors.

    Args:
        keys: (frame, value) in rising order of frames; a value is a number or three. A third item says how it goes
            from there to the next key: one of the eases, or slopes {"leave", "arrive"} in the value's unit a frame
            (the cubic of Hermite that has them).
        ease: where a key says nothing: "hold" keeps a value until the next key, "straight" goes in a line, "smooth"
            leaves and arrives at rest (the cubic 3t² - 2t³).
        frames: where to read; before the first and after the last key the value holds.
    """
    at = np.atleast_1d(np.asarray(frames, dtype=np.float64))
    values = np.array([k[1] for k in keys], dtype=np.float64)
    if len(keys) == 1:
        return np.repeat(values, len(at), axis=0)
    left, t = stretch_of(keys, at)
    wide = (-1, *[1] * (values.ndim - 1))
    share = np.array([_eased(_ease_of(keys[k], ease), u) for k, u in zip(left, t, strict=True)]).reshape(wide)
    found: Floats = values[left] + share * (values[left + 1] - values[left])
    for m, k in enumerate(left):
        slopes = _ease_of(keys[k], ease)
        if isinstance(slopes, dict):
            u, span = t[m], keys[k + 1][0] - keys[k][0]
            leave, arrive = np.asarray(slopes["leave"]), np.asarray(slopes["arrive"])
            found[m] = found[m] + span * (u * (1 - u) ** 2 * leave - u * u * (1 - u) * arrive)
    return found


def turn_values(keys: list[Any], ease: str, frame: float) -> Floats:
    """Return the quaternion (4,), x y z w, of a track of quaternions at a frame: on the shortest arc (Shoemake 1985).

    Args: see `track_values`; quaternions of any length but 0.
    """
    turns = [np.asarray(k[1], dtype=np.float64) / np.linalg.norm(k[1]) for k in keys]
    if len(keys) == 1:
        return turns[0]
    (k,), (t,) = stretch_of(keys, np.array([frame]))
    share = _eased(_ease_of(keys[k], ease), t)
    one, two = turns[k], turns[k + 1]
    cosine = float(one @ two)
    two, cosine = (-two, -cosine) if cosine < 0.0 else (two, cosine)
    angle = np.arccos(min(cosine, 1.0))
    if angle < 1e-6:
        mixed = one + share * (two - one)
    else:
        mixed = (np.sin((1.0 - share) * angle) * one + np.sin(share * angle) * two) / np.sin(angle)
    return np.asarray(mixed / np.linalg.norm(mixed))


def stretch_of(keys: list[Any], at: Floats) -> tuple[NDArray[np.int64], Floats]:
    """Return for each frame of at (m,) the key before it, and the share (0..1) of the way to the next."""
    places = np.array([k[0] for k in keys], dtype=np.float64)
    left = np.clip(np.searchsorted(places, at, side="right") - 1, 0, len(keys) - 2)
    return left, np.clip((at - places[left]) / (places[left + 1] - places[left]), 0.0, 1.0)


def _ease_of(key: Any, ease: str) -> Any:
    return key[2] if len(key) > 2 else ease


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


def most_of(value: Any) -> float:
    """Return how large a number, or a track of numbers, gets at its keys."""
    if isinstance(value, dict):
        return max(abs(float(key[1])) for key in value["keys"])
    return abs(float(value))
