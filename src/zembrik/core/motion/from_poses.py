"""A file's transforms over time as tracks."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.units import to_si

Floats = NDArray[np.float64]


def motion_of(
    times_s: Floats, poses: Floats, unit: str, up_axis: str, fps: float, starts: float, forward: str = "z"
) -> dict[str, Any]:
    """Return the "motion" of a setup's body that moves as transforms (k, 4, 4) do, against the first of them.

    Args:
        times_s: float64 (k,), from 0, seconds. poses: in the file's unit and axes, see `contents.FilePart`.
        unit, up_axis, forward: of the file. fps: of the shot. starts: the shot's frame at which the first is.
    """
    axes = to_si(np.eye(3), "m", up_axis, forward).T
    size = float(np.linalg.norm(to_si(np.eye(3)[:1], unit, up_axis)))
    back = np.linalg.inv(poses[0])
    shifts, turns = [], []
    for pose in poses:
        way = pose @ back
        turns.append(axes @ way[:3, :3] @ axes.T)
        shifts.append(size * (axes @ way[:3, 3]))
    frames = [round(starts + float(t) * fps, 4) for t in times_s]
    motion: dict[str, Any] = {}
    for name, values in (("translate", np.array(shifts)), ("rotate", angles_of(np.array(turns)))):
        if np.abs(values).max() > 1e-7:
            keys = [[f, [round(float(v), 6) for v in row]] for f, row in zip(frames, values, strict=True)]
            motion[name] = {"keys": keys, "ease": "straight"}
    return motion


def angles_of(turns: Floats) -> Floats:
    """Return the angles about X, then Y, then Z, degrees (k, 3), of turns (k, 3, 3), each near the one before it.

    Of the two ways to say a turn, and of all whole turns more, the one nearest to the last is taken: no flips.
    """
    found = np.zeros((len(turns), 3))
    for k, m in enumerate(turns):
        y = np.arcsin(np.clip(-m[2, 0], -1.0, 1.0))
        if abs(m[2, 0]) > 1.0 - 1e-9:  # X and Z turn about the same axis: X stays as it was
            x = np.radians(found[k - 1, 0]) if k else 0.0
            sign = 1.0 if m[2, 0] < 0 else -1.0
            z = sign * x - np.arctan2(sign * m[0, 1], m[1, 1]) if sign > 0 else np.arctan2(-m[0, 1], m[1, 1]) - x
            ways = [np.array([x, y, z])]
        else:
            x, z = np.arctan2(m[2, 1], m[2, 2]), np.arctan2(m[1, 0], m[0, 0])
            ways = [np.array([x, y, z]), np.array([x + np.pi, np.pi - y, z + np.pi])]
        last = found[k - 1] if k else np.zeros(3)
        near = [np.degrees(w) + 360.0 * np.rint((last - np.degrees(w)) / 360.0) for w in ways]
        found[k] = min(near, key=lambda w: float(np.abs(w - last).sum()))
    return found
