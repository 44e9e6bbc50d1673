"""A file's transforms over time as tracks."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.angles import angles_of
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
