"""A cache between two of its frames: points go as their velocities have it, rigid bodies keep their form."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.reader import Cache
from zembrik.core.keys.smooth import turns_at, values_at
from zembrik.core.units import quaternion_turn

NEAR = 1e-9  # frames; nearer to one than this is that frame


def points_at(cache: Cache, number: int, at: float) -> NDArray[np.float32]:
    """Return a body's points, float32 (n, 3), metres, at a frame or between two; beyond the ends it stays as there.

    Places go by the cubic with the velocities of both frames (central differences). What has other points from frame
    to frame has no places in between: there it is as at the frame before.
    """
    assert cache.done is not None
    at = min(max(at, cache.first), cache.done)
    if abs(at - round(at)) < NEAR:
        return cache.points(number, round(at))
    if cache.changes(number):
        return cache.points(number, int(np.floor(at)))
    if cache.is_rigid(number):
        turn, shift = pose_at(cache, number, at)
        return (cache.rest(number).astype(np.float64) @ turn.T + shift).astype(np.float32)
    around, share = _around(cache, at)
    near = np.stack([cache.points(number, f).astype(np.float64) for f in around])
    return values_at(near, share)[0].astype(np.float32)


def pose_at(cache: Cache, number: int, at: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return turn (3, 3) and shift (3,), metres, that take a rigid body's rest to where it is at a frame or between.

    The middle of its points goes a smooth way, whatever the body does about it.
    """
    assert cache.done is not None
    at = min(max(at, cache.first), cache.done)
    if abs(at - round(at)) < NEAR:
        pose = cache.pose(number, round(at))
        return quaternion_turn(pose[3:]), pose[:3]
    around, share = _around(cache, at)
    poses = np.array([cache.pose(number, f) for f in around])
    middle = cache.rest(number).astype(np.float64).mean(axis=0)
    places = np.array([quaternion_turn(p[3:]) @ middle + p[:3] for p in poses])
    turn = quaternion_turn(turns_at(poses[:, 3:], share)[0])
    return turn, values_at(places, share)[0] - turn @ middle


def _around(cache: Cache, at: float) -> tuple[range, NDArray[np.float64]]:
    """Return the frames whose places say how fast it goes at both, and where among them it is."""
    assert cache.done is not None
    low, high = max(int(np.floor(at)) - 1, cache.first), min(int(np.floor(at)) + 2, cache.done)
    return range(low, high + 1), np.array([at - low])
