"""Few keys instead of one a frame, within a bound that holds at every moment, not only at frames.

Places: between two keys goes a cubic with slopes of its own, and the original is a cubic from frame to frame (see
`smooth`). Their difference is a cubic too, so it lies within the hull of its four Bézier points: where those are
within the bound, all of it is. Turns: between keys, and between frames of the original, everything turns at an even
rate about one axis, with angular velocities ω and ω'. The angle between the two changes no faster than |ω - ω'|, so
over a frame it is at most half of (the angle before + the angle after + |ω - ω'|).
"""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from zembrik.core.keys.smooth import angle_between, slerp, slopes_of

Floats = NDArray[np.float64]
Fits = Callable[[int, int], bool]


def reduced_places(places: Floats, bound_m: float) -> tuple[list[int], Floats, Floats]:
    """Return which of the frames become keys, and the slopes with which each leaves and the next is arrived at.

    Args:
        places: float64 (k, 3), a frame each, metres. bound_m: how far off the reduced curve may be anywhere.

    Returns:
        numbers (n,) of frames from 0, first and last among them; leave and arrive, float64 (n - 1, 3), metres a frame.
    """
    slopes = slopes_of(places)
    keys = greedy(len(places), lambda i, j: _worst_of_places(places, slopes, i, j) <= bound_m)
    ends = [fitted(places, i, j) for i, j in pairwise(keys)]
    leave = np.array([a for a, _ in ends]).reshape(-1, 3)
    arrive = np.array([b for _, b in ends]).reshape(-1, 3)
    return keys, leave, arrive


def reduced_turns(turns: Floats, bound_rad: float) -> list[int]:
    """Return which of the frames' quaternions (k, 4) become keys, straight ways between them being within the bound."""
    return greedy(len(turns), lambda i, j: _worst_of_turns(turns, i, j) <= bound_rad)


def worst_places(places: Floats, keys: list[int]) -> float:
    """Return a bound (m) on how far the reduced curve is from the original anywhere."""
    slopes = slopes_of(places)
    return max((_worst_of_places(places, slopes, i, j) for i, j in pairwise(keys)), default=0.0)


def worst_turns(turns: Floats, keys: list[int]) -> float:
    """Return a bound (radians) on how far the reduced turns are from the original anywhere."""
    return max((_worst_of_turns(turns, i, j) for i, j in pairwise(keys)), default=0.0)


def greedy(count: int, fits: Fits) -> list[int]:
    """Return keys from 0 to count - 1, each as far from the one before as doubling and halving find that it fits."""
    keys = [0]
    while keys[-1] < count - 1:
        i, step = keys[-1], 1
        good = i + 1
        while i + 2 * step <= count - 1 and fits(i, i + 2 * step):
            step *= 2
            good = i + step
        bad = min(i + 2 * step, count)
        if bad == count and good < count - 1 and fits(i, count - 1):
            good = count - 1
        while bad - good > 1:
            middle = (good + bad) // 2
            good, bad = (middle, bad) if fits(i, middle) else (good, middle)
        keys.append(good)
    return keys


def fitted(places: Floats, i: int, j: int) -> tuple[Floats, Floats]:
    """Return the slopes at both ends (3,), metres a frame, of the cubic from frame i to j that is nearest to all."""
    span = j - i
    if span == 1:
        slopes = slopes_of(places)
        return slopes[i], slopes[j]
    t = np.arange(1, span) / span
    straight = (3 * t**2 - 2 * t**3)[:, None]
    rest = places[i + 1 : j] - (places[i] + straight * (places[j] - places[i]))
    basis = span * np.column_stack([t * (1 - t) ** 2, -t * t * (1 - t)])
    if span == 2:  # the place in the middle tells only how the slopes differ
        slopes = slopes_of(places)
        basis, rest = np.vstack([basis, [1.0, 1.0]]), np.vstack([rest, slopes[i] + slopes[j]])
    found = np.linalg.lstsq(basis, rest, rcond=None)[0]
    return found[0], found[1]


def _worst_of_places(places: Floats, slopes: Floats, i: int, j: int) -> float:
    """Return a bound on how far the cubic from frame i to j is from the original between them, metres."""
    leave, arrive = fitted(places, i, j)
    span = j - i
    t = (np.arange(span + 1) / span)[:, None]
    value = (
        (2 * t**3 - 3 * t**2 + 1) * places[i] + span * (t**3 - 2 * t**2 + t) * leave
        + (3 * t**2 - 2 * t**3) * places[j] + span * (t**3 - t**2) * arrive
    )  # fmt: skip
    slope = (
        (6 * t**2 - 6 * t) / span * (places[i] - places[j])
        + (3 * t**2 - 4 * t + 1) * leave + (3 * t**2 - 2 * t) * arrive
    )  # fmt: skip
    off, turn = value - places[i : j + 1], (slope - slopes[i : j + 1]) / 3.0
    corners = [off[:-1], off[:-1] + turn[:-1], off[1:] - turn[1:], off[1:]]  # Bézier points, frame by frame
    return max(float(np.linalg.norm(c, axis=1).max()) for c in corners)


def _worst_of_turns(turns: Floats, i: int, j: int) -> float:
    """Return a bound on the angle between the straight turn from frame i to j and the original, radians."""
    span = j - i
    if span == 1:
        return 0.0
    share = np.arange(span + 1) / span
    straight = slerp(
        np.repeat(turns[i : i + 1], span + 1, axis=0), np.repeat(turns[j : j + 1], span + 1, axis=0), share
    )
    angle = angle_between(straight, turns[i : j + 1])
    differing = rates(turns[i:j], turns[i + 1 : j + 1]) - rates(straight[:-1], straight[1:])
    return float((0.5 * (angle[:-1] + angle[1:] + np.linalg.norm(differing, axis=1))).max())


def rates(one: Floats, two: Floats) -> Floats:
    """Return the angular velocities (m, 3), radians a frame in world axes, of even turns from one to two (m, 4)."""
    x, y, z, w = (one * [-1.0, -1.0, -1.0, 1.0]).T
    a, b, c, d = two.T
    turn = np.column_stack([  # two times the inverse of one
        d * x + a * w + b * z - c * y,
        d * y - a * z + b * w + c * x,
        d * z + a * y - b * x + c * w,
        d * w - a * x - b * y - c * z,
    ])  # fmt: skip
    turn = np.where(turn[:, 3:] < 0.0, -turn, turn)
    size = np.linalg.norm(turn[:, :3], axis=1)
    angle = 2.0 * np.arctan2(size, turn[:, 3])
    scale = np.where(size > 1e-12, angle / np.where(size > 1e-12, size, 1.0), 2.0)
    return np.asarray(turn[:, :3] * scale[:, None])
