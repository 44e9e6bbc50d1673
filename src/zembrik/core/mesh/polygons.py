"""Cutting polygons into triangles.

A quad is cut along its shorter diagonal, unless only the other cut lies inside it. Larger
polygons are cut ear by ear (Meisters 1975) in the plane of their area vector; where no ear is
left (a polygon that crosses itself) the rest is fanned.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel

ALIKE = 0.01  # two diagonals whose lengths differ by no more than this share of the longer are alike


def triangulate(points: NDArray[np.float64], polygon: list[int]) -> list[tuple[int, int, int]]:
    """Return one polygon's triangles, in its own turning; points are (n, 3) in metres."""
    found = cut_all(points, np.array([len(polygon)]), np.array(polygon, dtype=np.int64))
    return [(a, b, c) for a, b, c in found.tolist()]


def cut_all(points: NDArray[np.float64], sizes: NDArray[np.integer], corners: NDArray[np.integer]) -> NDArray[np.int64]:
    """Return the triangles (m, 3) of many polygons, in their order.

    Of a quad with diagonals alike, the one is taken that goes between points where diagonals end
    already. On a lattice of quads they then lean both ways by turns; if all leaned one way, cloth
    would bend softer along them than across.

    Args:
        points: (n, 3), metres.
        sizes: (p,), corners of each polygon. corners: all of them, one polygon after the other.

    Polygons of fewer than three different corners are left out.
    """
    sizes = np.asarray(sizes, dtype=np.int64)
    start = np.concatenate([[0], np.cumsum(sizes)])
    place = np.concatenate([[0], np.cumsum(np.maximum(sizes - 2, 0))])
    triangles = np.full((int(place[-1]), 3), -1, np.int64)
    widest = int(sizes.max()) if len(sizes) else 0
    places = np.ascontiguousarray(points, dtype=np.float64)
    _cut(places, start, np.asarray(corners, dtype=np.int64), place, triangles, widest)
    return triangles[triangles[:, 0] >= 0]


@kernel
def _cut(points, start, corners, place, triangles, widest):  # type: ignore[no-untyped-def]
    ends = np.zeros(len(points), np.int32)  # how many diagonals end at each point
    ring, flat, left = np.empty(widest, np.int64), np.empty((widest, 2)), np.empty(widest, np.int64)
    for p in range(len(start) - 1):
        n = 0
        for k in range(start[p], start[p + 1]):  # named twice in a row: no surface
            if n == 0 or corners[k] != ring[n - 1]:
                ring[n] = corners[k]
                n += 1
        while n > 1 and ring[n - 1] == ring[0]:
            n -= 1
        if n == 3:
            triangles[place[p], 0], triangles[place[p], 1], triangles[place[p], 2] = ring[0], ring[1], ring[2]
        elif n > 3:
            _flatten(points, ring, n, flat)
            if n == 4:
                _cut_quad(points, ring, flat, ends, triangles, place[p])
            else:
                _cut_ears(ring, flat, left, n, triangles, place[p])


@kernel
def _flatten(points, ring, n, flat):  # type: ignore[no-untyped-def]
    """Fill flat (n, 2) with the corners in the plane of their area vector, turning counter-clockwise."""
    nx, ny, nz = 0.0, 0.0, 0.0
    ox, oy, oz = points[ring[0], 0], points[ring[0], 1], points[ring[0], 2]
    for k in range(1, n - 1):
        a, b = ring[k], ring[k + 1]
        ux, uy, uz = points[a, 0] - ox, points[a, 1] - oy, points[a, 2] - oz
        vx, vy, vz = points[b, 0] - ox, points[b, 1] - oy, points[b, 2] - oz
        nx, ny, nz = nx + uy * vz - uz * vy, ny + uz * vx - ux * vz, nz + ux * vy - uy * vx
    size = np.sqrt(nx * nx + ny * ny + nz * nz)
    if size > 0.0:
        nx, ny, nz = nx / size, ny / size, nz / size
    else:
        nx, ny, nz = 0.0, 1.0, 0.0
    # Any direction in the plane: across the axis that the normal leans to least.
    if abs(nx) <= abs(ny) and abs(nx) <= abs(nz):
        ux, uy, uz = 0.0, nz, -ny
    elif abs(ny) <= abs(nz):
        ux, uy, uz = -nz, 0.0, nx
    else:
        ux, uy, uz = ny, -nx, 0.0
    size = np.sqrt(ux * ux + uy * uy + uz * uz)
    ux, uy, uz = ux / size, uy / size, uz / size
    vx, vy, vz = ny * uz - nz * uy, nz * ux - nx * uz, nx * uy - ny * ux
    for k in range(n):
        x, y, z = points[ring[k], 0] - ox, points[ring[k], 1] - oy, points[ring[k], 2] - oz
        flat[k, 0], flat[k, 1] = x * ux + y * uy + z * uz, x * vx + y * vy + z * vz


@kernel
def _area(flat, a, b, c):  # type: ignore[no-untyped-def]
    """Return twice the signed area of a triangle, m²."""
    return (flat[b, 0] - flat[a, 0]) * (flat[c, 1] - flat[a, 1]) - (flat[b, 1] - flat[a, 1]) * (flat[c, 0] - flat[a, 0])


@kernel
def _cut_quad(points, ring, flat, ends, triangles, t):  # type: ignore[no-untyped-def]
    a, b, c, d = ring[0], ring[1], ring[2], ring[3]
    ac, bd = 0.0, 0.0
    for k in range(3):
        ac += (points[a, k] - points[c, k]) ** 2
        bd += (points[b, k] - points[d, k]) ** 2
    ac, bd = np.sqrt(ac), np.sqrt(bd)
    inside_ac = _area(flat, 0, 1, 2) >= 0.0 and _area(flat, 0, 2, 3) >= 0.0
    inside_bd = _area(flat, 0, 1, 3) >= 0.0 and _area(flat, 1, 2, 3) >= 0.0
    if inside_ac != inside_bd:
        along = inside_ac
    elif abs(ac - bd) <= ALIKE * max(ac, bd):
        along = ends[a] + ends[c] >= ends[b] + ends[d]
    else:
        along = ac <= bd
    triangles[t, 0], triangles[t, 1], triangles[t, 2] = a, b, (c if along else d)
    triangles[t + 1, 0], triangles[t + 1, 1], triangles[t + 1, 2] = (a if along else b), c, d
    ends[a if along else b] += 1
    ends[c if along else d] += 1


@kernel
def _is_ear(flat, p, q, r, left, n):  # type: ignore[no-untyped-def]
    if _area(flat, p, q, r) <= 0.0:
        return False
    for k in range(n):
        s = left[k]
        if (
            s not in (p, q, r)
            and _area(flat, p, q, s) >= 0.0
            and _area(flat, q, r, s) >= 0.0
            and _area(flat, r, p, s) >= 0.0
        ):
            return False
    return True


@kernel
def _cut_ears(ring, flat, left, n, triangles, t):  # type: ignore[no-untyped-def]
    for k in range(n):
        left[k] = k
    at = 0
    while n > 3:
        found = -1
        for turn in range(n):  # go on round from the last ear: the next one is near
            k = (at + turn) % n
            if _is_ear(flat, left[k - 1 if k else n - 1], left[k], left[(k + 1) % n], left, n):
                found = k
                break
        if found < 0:
            break
        p, q, r = left[found - 1 if found else n - 1], left[found], left[(found + 1) % n]
        triangles[t, 0], triangles[t, 1], triangles[t, 2] = ring[p], ring[q], ring[r]
        t += 1
        for k in range(found, n - 1):
            left[k] = left[k + 1]
        n -= 1
        at = found % n
    for k in range(1, n - 1):
        triangles[t, 0], triangles[t, 1], triangles[t, 2] = ring[left[0]], ring[left[k]], ring[left[k + 1]]
        t += 1
