"""A cache's bodies as they are drawn: always as many points, whatever changes from frame to frame.

A body whose numbers of points and faces change is drawn as loose triangles, as many as it ever has; those that a frame
has not are nothing (all three corners in one place).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.reader import Cache


def shown_faces(cache: Cache, number: int) -> NDArray[np.integer]:
    """Return a body's faces (m, 3), the same at all frames."""
    if not cache.changes(number):
        return cache.faces(number)
    return np.arange(3 * cache.most_faces(number), dtype=np.int32).reshape(-1, 3)


def shown_count(cache: Cache, number: int) -> int:
    """Return how many points a body is drawn with, the same at all frames."""
    return 3 * cache.most_faces(number) if cache.changes(number) else cache.point_counts[number]


def shown_points(cache: Cache, number: int, frame: int) -> NDArray[np.float32]:
    """Return a body's points (`shown_count`, 3) at a frame, metres."""
    return shown_values(cache, number, frame, cache.points(number, frame))


def shown_values(cache: Cache, number: int, frame: int, values: NDArray[np.floating]) -> NDArray[np.floating]:
    """Return values of a body's points at a frame, (points, ...), as values of those that it is drawn with."""
    if not cache.changes(number):
        return values
    loose = values[cache.faces(number, frame).ravel()]
    missing = shown_count(cache, number) - len(loose)
    return np.concatenate([loose, np.repeat(values[:1], missing, axis=0)])
