"""A hand's recorded way as few keys, within a bound that holds at every moment."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.keys.from_cache import Keyed, Poses, keyed
from zembrik.core.problem import Problem

Floats = NDArray[np.float64]
BOUND_M, BOUND_DEG = 0.0005, 0.2
LEAST_FRAMES = 2


def keyed_way(first: int, way_m: Floats, bound_m: float = BOUND_M) -> Keyed:
    """Return a hand's way (k, 3), a frame each from `first` on, metres, as a motion of few keys.

    Raises:
        Problem: when the way is shorter than two frames, or the bound is none.
    """
    if len(way_m) < LEAST_FRAMES:
        raise Problem("nothing was recorded yet.", "hand", "Let it run, and drag.")
    if not 0.0 <= bound_m <= 1.0:
        raise Problem(f"{1e3 * bound_m:g} mm is no bound.", "hand", "Type 0 to 1,000 mm.")
    still = np.tile([0.0, 0.0, 0.0, 1.0], (len(way_m), 1))
    found = keyed(Poses(first, way_m, still, np.zeros(len(way_m))), (0.0, 0.0, 0.0), bound_m, 0.0)
    found.motion.pop("turn")
    return found


def keyed_poses(first: int, poses: Floats, pivot: Any, bound_m: float, bound_deg: float = BOUND_DEG) -> Keyed:
    """Return a rigid body's poses (k, 7), shift in metres and quaternion, from `first` on, as a motion of few keys."""
    return keyed(Poses(first, poses[:, :3], poses[:, 3:], np.zeros(len(poses))), pivot, bound_m, bound_deg)
