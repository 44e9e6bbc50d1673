"""Cutting polygons into triangles."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def triangulate(points: NDArray[np.float64], polygon: list[int]) -> list[tuple[int, int, int]]:
    """Return a polygon's triangles, in its own turning.

    A quad is cut along its shorter diagonal, unless only the other cut lies inside it.
    Larger polygons are cut ear by ear (Meisters 1975) in the plane of their area vector;
    where no ear is left (a polygon that crosses itself) the rest is fanned.
    """
    if len(polygon) == 3:
        return [(polygon[0], polygon[1], polygon[2])]
    corners = points[polygon]
    if len(polygon) == 4:
        a, b, c, d = polygon
        if _turns_one_way(corners) and _length(corners[1] - corners[3]) < _length(corners[0] - corners[2]):
            return [(a, b, d), (b, c, d)]
        if _turns_one_way(corners):
            return [(a, b, c), (a, c, d)]
    flat = _flattened(corners)
    left, triangles = list(range(len(polygon))), []
    while len(left) > 3:
        for k in range(len(left)):
            p, q, r = left[k - 1], left[k], left[(k + 1) % len(left)]
            if _is_ear(flat, p, q, r, left):
                triangles.append((polygon[p], polygon[q], polygon[r]))
                del left[k]
                break
        else:
            triangles += [(polygon[left[0]], polygon[left[k]], polygon[left[k + 1]]) for k in range(1, len(left) - 1)]
            return triangles
    triangles.append((polygon[left[0]], polygon[left[1]], polygon[left[2]]))
    return triangles


def _length(vector: NDArray[np.float64]) -> float:
    return float(np.sqrt(vector @ vector))


def _turns_one_way(corners: NDArray[np.float64]) -> bool:
    flat = _flattened(corners)
    side = np.roll(flat, -1, axis=0) - flat
    nxt = np.roll(side, -1, axis=0)
    turn = side[:, 0] * nxt[:, 1] - side[:, 1] * nxt[:, 0]
    return bool((turn >= 0).all() or (turn <= 0).all())


def _flattened(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the corners (n, 2) in the plane of their area vector, turning counter-clockwise."""
    area = np.cross(corners, np.roll(corners, -1, axis=0)).sum(axis=0)
    length = _length(area)
    normal = area / length if length > 0 else np.array([0.0, 1.0, 0.0])
    u = np.cross(normal, np.eye(3)[int(np.argmin(np.abs(normal)))])
    u /= _length(u)
    return np.stack([corners @ u, corners @ np.cross(normal, u)], axis=1)


def _cross(flat: NDArray[np.float64], a: int, b: int, c: int) -> float:
    return float(
        (flat[b, 0] - flat[a, 0]) * (flat[c, 1] - flat[a, 1]) - (flat[b, 1] - flat[a, 1]) * (flat[c, 0] - flat[a, 0])
    )


def _is_ear(flat: NDArray[np.float64], p: int, q: int, r: int, left: list[int]) -> bool:
    if _cross(flat, p, q, r) <= 0:
        return False
    return not any(
        s not in (p, q, r) and _cross(flat, p, q, s) >= 0 and _cross(flat, q, r, s) >= 0 and _cross(flat, r, p, s) >= 0
        for s in left
    )
