"""How fast what moves by itself goes at a frame: the speed that physics takes over with.

A motion may go on otherwise than it came: at a key it may stop at once. What counts for physics is how it came (the
slope from the left); for what is drawn back to a motion, how it goes on (from the right).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from zembrik.core.motion.rigid import Mover

Floats = NDArray[np.float64]
STEP = 1e-3  # frames, between places of a curve
CAME, GOES = -1, 1  # which side of a frame


def point_rates(mover: Mover, points: Floats, frame: float, fps: float, side: int) -> Floats:
    """Return how fast points (n, 3) of a body in its place go at a frame, m/s (n, 3); side is CAME or GOES."""
    return _slope(lambda at: mover.points_at(points, at), mover, frame, fps, side)


def pose_rates(mover: Mover, point: Floats, frame: float, fps: float, side: int) -> tuple[Floats, Floats]:
    """Return the speed (3,), m/s, of a point of a body in its place, and the body's spin (3,), rad/s, at a frame."""

    def place(at: float) -> Floats:
        turn, shift = mover.at(at)
        return np.asarray(turn @ point + shift)

    now = Rotation.from_matrix(mover.at(frame)[0])

    def turned(at: float) -> Floats:  # from where it is at the frame: small, and exact for an even spin
        return np.asarray((Rotation.from_matrix(mover.at(at)[0]) * now.inv()).as_rotvec())

    return _slope(place, mover, frame, fps, side), _slope(turned, mover, frame, fps, side)


def _slope(value: Callable[[float], Floats], mover: Mover, frame: float, fps: float, side: int) -> Floats:
    """Return the derivative of a value a second, at second order.

    Of samples, as a file has them, it is the central difference of the two beside the frame; where the samples end
    there, and for a curve, the one-sided one of three places.
    """
    grain = mover.grain(frame)
    before, after = (grain is not None and mover.knows(frame + way * grain) for way in (-1.0, 1.0))
    if grain is not None and before and after:
        return np.asarray((value(frame + grain) - value(frame - grain)) * (fps / (2.0 * grain)))
    step = STEP if grain is None else grain
    way = float(side) if grain is None else (1.0 if after else -1.0)
    one, two = value(frame + way * step), value(frame + 2.0 * way * step)
    return np.asarray((4.0 * one - two - 3.0 * value(frame)) * (way * fps / (2.0 * step)))
