"""Angles by few keys: a cubic from key to key in all three, within a bound on the turn that holds at every moment.

How far the curve is from the original turns is told as in `reduce`: the angle between both changes no faster than the
difference of their angular velocities. That of angles is no constant: it is looked at at some moments of a frame, and
between them it cannot have changed by more than its own change allows. Near the place where two axes fall together
angles swing round while the body hardly turns; there keys stand closer than a frame.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from zembrik.core.keys.reduce import fitted, greedy, rates
from zembrik.core.keys.smooth import angle_between, turns_at
from zembrik.core.motion.angles import angles_of
from zembrik.core.units import quaternion_turn

Floats = NDArray[np.float64]
MOMENTS = 8  # of a step at which the angular velocity is looked at
WILD_RAD = 0.6  # angles that may change by more than this in a frame are followed step by step
FINE = 256  # such steps a frame
DEEPEST = 12  # times a frame is halved for keys
A_LITTLE = 1e-4  # share of a piece over which its slopes are taken


@dataclass(frozen=True)
class Key:
    """A key of angles: frame, angles (3,) in degrees, and slopes (3,), degrees a frame, to the next one."""

    frame: float
    angles: Floats
    leave: Floats | None
    arrive: Floats | None


def reduced_angles(turns: Floats, order: str, bound_rad: float) -> tuple[list[Key], float]:
    """Return few keys of angles for turns a frame (k, 4), and the bound that is kept at every moment, radians.

    The original goes evenly from frame to frame, the short way. The bound is larger than asked only where a body goes
    through the place where two axes fall together so closely that the 4,096th of a frame is too long.

    Args:
        turns: quaternions, float64 (k, 4). order: see `motion.angles`. bound_rad: 0 for a key a frame at least.
    """
    followed = _Followed(turns, order)
    if len(turns) == 1:
        return [Key(0.0, followed.angles[0], None, None)], 0.0
    angles, found, worst = followed.angles, list[Key](), 0.0

    def bound(i: int, j: int) -> float:
        leave, arrive = fitted(angles, i, j)
        return _bound(order, angles[i], angles[j], leave, arrive, turns[i : j + 1])

    wild = followed.fine
    begin = 0
    for stop in [*sorted(wild), len(turns) - 1]:  # runs of frames between those where angles swing round
        run = angles[begin : stop + 1]
        picked = greedy(len(run), lambda i, j, at=begin: bound(at + i, at + j) <= bound_rad)  # type: ignore[misc]
        for one, two in pairwise(picked):
            i, j = begin + one, begin + two
            off = bound(i, j)
            if off <= bound_rad or bound_rad <= 0.0:
                found.append(Key(float(i), angles[i], *fitted(angles, i, j)))
                worst = max(worst, off)
            else:
                worst = max(worst, followed.pieces(found, float(i), float(j), angles[i], angles[j], bound_rad))
        if stop in wild:
            worst = max(worst, followed.pieces(
                found, float(stop), stop + 1.0, angles[stop], angles[stop + 1], bound_rad))  # fmt: skip
        begin = stop + 1 if stop in wild else stop
    return [*found, Key(float(len(turns) - 1), angles[-1], None, None)], worst


class _Followed:
    """Angles of turns, without flips: at every frame, and step by step in frames where they swing round.

    Attributes:
        angles: (k, 3), degrees. fine: of such frames, by their number, angles (FINE + 1, 3).
    """

    def __init__(self, turns: Floats, order: str) -> None:
        self.turns, self.order = turns, order
        steps = np.linalg.norm(rates(turns[:-1], turns[1:]), axis=1)
        at = np.arange((len(turns) - 1) * 4 + 1) / 4.0
        matrices = matrices_of(turns_at(turns, at))
        ends = ["xyz".index(order[0]), "xyz".index(order[2])]
        off = np.sqrt(np.maximum(1.0 - matrices[:, ends[1], ends[0]] ** 2, 0.0))  # cosine of the middle angle
        least = np.array([off[4 * k : 4 * k + 5].min() for k in range(len(turns) - 1)])
        wild = np.flatnonzero(steps > WILD_RAD * np.maximum(least - 0.25 * steps, 1e-9))
        places = np.unique(np.concatenate([np.arange(len(turns)), *(k + np.arange(FINE + 1) / FINE for k in wild)]))
        every = angles_of(matrices_of(turns_at(turns, places)), order)
        self.angles = every[np.searchsorted(places, np.arange(len(turns)))]
        self.fine = {int(k): every[np.searchsorted(places, k) : np.searchsorted(places, k + 1) + 1] for k in wild}

    def near(self, place: float, guess: Floats) -> Floats:
        """Return the angles (3,) at a place, the ones nearest to what is followed there, or else to a guess."""
        k = int(np.floor(place))
        if k in self.fine:
            guess = self.fine[k][round((place - k) * FINE)]
        turn = matrices_of(turns_at(self.turns, np.array([place])))
        return angles_of(turn, self.order, guess)[0]

    def pieces(
        self, found: list[Key], a: float, b: float, one: Floats, two: Floats, bound_rad: float, depth: int = 0
    ) -> float:
        """Add keys from place a to b, not b itself, halving until the bound is kept; return the one that is."""
        little = A_LITTLE * (b - a)
        leave = (self._beside(a + little, one) - one) / A_LITTLE
        arrive = (two - self._beside(b - little, two)) / A_LITTLE
        turns = turns_at(self.turns, np.array([a, b]))
        off = _bound(self.order, one, two, leave, arrive, turns)
        if off <= bound_rad or depth == DEEPEST or bound_rad <= 0.0:
            found.append(Key(a, one, leave / (b - a), arrive / (b - a)))
            return off
        middle = 0.5 * (a + b)
        between = self.near(middle, 0.5 * (one + two))
        before = self.pieces(found, a, middle, one, between, bound_rad, depth + 1)
        return max(before, self.pieces(found, middle, b, between, two, bound_rad, depth + 1))

    def _beside(self, place: float, angles: Floats) -> Floats:
        turn = matrices_of(turns_at(self.turns, np.array([place])))
        return angles_of(turn, self.order, angles)[0]


def _bound(order: str, one: Floats, two: Floats, leave: Floats, arrive: Floats, turns: Floats) -> float:
    """Return a bound on the angle between a cubic of angles and turns that go evenly from step to step, radians.

    Args:
        one, two: angles (3,) at both ends, degrees. leave, arrive: slopes (3,) there, degrees a step.
        turns: float64 (steps + 1, 4).
    """
    span = len(turns) - 1
    t = (np.arange(span * MOMENTS + 1) / (span * MOMENTS))[:, None]
    value = (2 * t**3 - 3 * t**2 + 1) * one + (3 * t**2 - 2 * t**3) * two + span * (
        (t**3 - 2 * t**2 + t) * leave + (t**3 - t**2) * arrive
    )  # fmt: skip
    slope = (6 * t**2 - 6 * t) / span * (one - two) + (3 * t**2 - 4 * t + 1) * leave + (3 * t**2 - 2 * t) * arrive
    bend = ((12 * t - 6) / span * (one - two) + (6 * t - 4) * leave + (6 * t - 2) * arrive) / span
    slope, bend = np.radians(slope), np.radians(bend)
    going = _velocity(order, value, slope)
    even = rates(turns[:-1], turns[1:])
    # A moment between two steps belongs to both.
    each = np.stack([going[k : k + span * MOMENTS : MOMENTS] for k in range(MOMENTS + 1)], axis=1)
    off = np.linalg.norm(each - even[:, None], axis=2).max(axis=1)
    # Slopes are parabolas and bends lines over a step: their largest there is bounded by both ends and the bend.
    at = np.abs(slope[::MOMENTS]), np.abs(bend[::MOMENTS])
    bends = np.maximum(at[1][:-1], at[1][1:])
    x, y, z = (np.maximum(at[0][:-1], at[0][1:]) + 0.5 * bends).T
    change = bends.sum(axis=1) + x * y + y * z + z * x  # of the angular velocity, at most, a step
    most = off + change / (2 * MOMENTS)
    away = angle_between(_quaternions(order, value[::MOMENTS]), turns)
    return float((0.5 * (away[:-1] + away[1:] + most)).max())


def matrices_of(turns: Floats) -> Floats:
    """Return quaternions (m, 4) as matrices (m, 3, 3)."""
    return np.array([quaternion_turn(q) for q in turns])


def _quaternions(order: str, angles: Floats) -> Floats:
    from scipy.spatial.transform import Rotation  # brings more than pages wait for

    columns = ["xyz".index(letter) for letter in order]
    return np.asarray(Rotation.from_euler(order, angles[:, columns], degrees=True).as_quat())


def _velocity(order: str, angles: Floats, slopes: Floats) -> Floats:
    """Return the angular velocity (m, 3), radians a step in world axes, at angles and with slopes (m, 3)."""
    first, second, third = ("xyz".index(letter) for letter in order)
    found = np.zeros_like(slopes)
    found[:, first] = slopes[:, first]
    for axis in (second, third):  # what turned before is turned along
        c, s = np.cos(np.radians(angles[:, axis])), np.sin(np.radians(angles[:, axis]))
        j, k = (axis + 1) % 3, (axis + 2) % 3
        found[:, j], found[:, k] = c * found[:, j] - s * found[:, k], s * found[:, j] + c * found[:, k]
        found[:, axis] += slopes[:, axis]
    return found
