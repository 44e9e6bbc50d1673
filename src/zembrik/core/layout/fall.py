"""How far one mesh can fall straight down until it lies on another: exact for triangles.

Seen from above, the height between two flat triangles is linear where they overlap, so that it is least at a corner of
the overlap: a point of one within the other, or a crossing of two edges.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel
from zembrik.core.mesh.trimesh import TriMesh

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]
MOST_CELLS = 512  # of the grid a side
SLANT = 0.5  # a room is kept along the normal; on what is steeper than 60 degrees it counts as much as there
EDGE = 1e-12  # of a triangle's area: a point this far outside of it is on its edge


def upright(gravity: Floats) -> Floats:
    """Return the turn (3, 3) that brings where gravity (3,) pulls to -Y; none where it does not pull."""
    length = float(np.linalg.norm(gravity))
    up = -gravity / length if length > 0.0 else np.array([0.0, 1.0, 0.0])
    side = np.eye(3)[0] if abs(up[0]) < 0.9 else np.eye(3)[2]
    z = np.cross(side, up)
    z /= np.linalg.norm(z)
    return np.stack([np.cross(up, z), up, z])


class Lower:
    """What many things fall onto, one after the other: a mesh whose triangles' bounds are known.

    Attributes:
        mesh: itself. triangles: float64 (m, 3, 3), metres. low, high: float64 (m, 3), of each.
    """

    def __init__(self, mesh: TriMesh) -> None:
        self.mesh, self.triangles = mesh, mesh.points[mesh.faces]
        self.low, self.high = self.triangles.min(axis=1), self.triangles.max(axis=1)


def fall_onto(upper: TriMesh, lower: TriMesh | Lower, room_m: float) -> tuple[float, bool]:
    """Return how far a mesh can fall along -Y until it is a room away from another one, metres, and if they cross.

    Infinity where nothing of the lower mesh is below it. What is less than a room away has a fall below 0. Where
    triangles go through one another, they count as touching already.
    """
    below = lower if isinstance(lower, Lower) else Lower(lower)
    if not len(upper.faces) or not len(below.triangles):
        return np.inf, False
    a = upper.points[upper.faces]
    low, high = a.min(axis=(0, 1)), a.max(axis=(0, 1))
    near = (below.low[:, 0] <= high[0]) & (below.high[:, 0] >= low[0]) & (below.low[:, 2] <= high[2])
    near &= (below.high[:, 2] >= low[2]) & (below.low[:, 1] <= high[1])
    b = np.ascontiguousarray(below.triangles[near])
    if not len(b):
        return np.inf, False
    corner, cell, count = _grid(a, low, high)
    first, members = _into_cells(a, corner, cell, count)
    fall, crosses = _falls(np.ascontiguousarray(a), b, corner, cell, count, first, members, room_m)
    return float(fall), bool(crosses)


def heights_under(points: Floats, mesh: TriMesh, above_m: float) -> Floats:
    """Return how high (n,) a mesh is at the places of points (n, 3) as seen from above, metres.

    Of several heights the highest that is not farther than `above_m` above the point; NaN where there is none.
    """
    found = np.full(len(points), np.nan)
    if not len(mesh.faces) or not len(points):
        return found
    triangles = np.ascontiguousarray(mesh.points[mesh.faces])
    corner, cell, count = _grid(triangles, triangles.min(axis=(0, 1)), triangles.max(axis=(0, 1)))
    first, members = _into_cells(triangles, corner, cell, count)
    _fill_heights(np.ascontiguousarray(points), triangles, corner, cell, count, first, members, above_m, found)
    return found


@kernel
def _fill_heights(points, triangles, corner, cell, count, first, members, above, found):  # type: ignore[no-untyped-def]
    for p in range(len(points)):
        i, j = int(np.floor((points[p, 0] - corner[0]) / cell)), int(np.floor((points[p, 2] - corner[1]) / cell))
        if i < -1 or j < -1 or i > count[0] or j > count[1]:
            continue
        i, j = min(max(i, 0), count[0] - 1), min(max(j, 0), count[1] - 1)
        for k in range(first[i * count[1] + j], first[i * count[1] + j + 1]):
            height, up = _height(triangles[members[k]], points[p, 0], points[p, 2])
            if up > 0.0 and height <= points[p, 1] + above and not found[p] >= height:
                found[p] = height


def _grid(triangles: Floats, low: Floats, high: Floats) -> tuple[Floats, float, Whole]:
    """Return a grid over X and Z whose cells are about as wide as triangles (n, 3, 3): corner, width, counts."""
    wide = (triangles.max(axis=1) - triangles.min(axis=1))[:, [0, 2]].max(axis=1)
    size = (high - low)[[0, 2]]
    cell = max(float(wide.mean()), float(size.max()) / MOST_CELLS, 1e-9)
    return low[[0, 2]].copy(), cell, np.maximum(np.ceil(size / cell).astype(np.int64), 1)


@kernel
def _span(triangle, corner, cell, count):  # type: ignore[no-untyped-def]
    """Return the first and last cell that a triangle (3, 3) lies over, along X and along Z."""
    x0 = min(triangle[0, 0], triangle[1, 0], triangle[2, 0]) - corner[0]
    x1 = max(triangle[0, 0], triangle[1, 0], triangle[2, 0]) - corner[0]
    z0 = min(triangle[0, 2], triangle[1, 2], triangle[2, 2]) - corner[1]
    z1 = max(triangle[0, 2], triangle[1, 2], triangle[2, 2]) - corner[1]
    i0 = min(max(int(np.floor(x0 / cell)), 0), count[0] - 1)
    i1 = min(max(int(np.floor(x1 / cell)), 0), count[0] - 1)
    j0 = min(max(int(np.floor(z0 / cell)), 0), count[1] - 1)
    j1 = min(max(int(np.floor(z1 / cell)), 0), count[1] - 1)
    return i0, i1, j0, j1


@kernel
def _into_cells(triangles, corner, cell, count):  # type: ignore[no-untyped-def]
    """Return the triangles over every cell: int64 (cells + 1,) where each cell's begin in the list, and the list."""
    first = np.zeros(count[0] * count[1] + 1, np.int64)
    for t in range(len(triangles)):
        i0, i1, j0, j1 = _span(triangles[t], corner, cell, count)
        for i in range(i0, i1 + 1):
            for j in range(j0, j1 + 1):
                first[i * count[1] + j + 1] += 1
    for c in range(len(first) - 1):
        first[c + 1] += first[c]
    members, filled = np.empty(first[-1], np.int64), first[:-1].copy()
    for t in range(len(triangles)):
        i0, i1, j0, j1 = _span(triangles[t], corner, cell, count)
        for i in range(i0, i1 + 1):
            for j in range(j0, j1 + 1):
                c = i * count[1] + j
                members[filled[c]] = t
                filled[c] += 1
    return first, members


@kernel
def _falls(upper, lower, corner, cell, count, first, members, room):  # type: ignore[no-untyped-def]
    """Return the least fall of all pairs of triangles (n, 3, 3) and (m, 3, 3), and whether any two cross."""
    least, crosses = np.inf, False
    for s in range(len(lower)):
        i0, i1, j0, j1 = _span(lower[s], corner, cell, count)
        for i in range(i0, i1 + 1):
            for j in range(j0, j1 + 1):
                c = i * count[1] + j
                for k in range(first[c], first[c + 1]):
                    fall, crossing = _pair(upper[members[k]], lower[s], room)
                    least = min(least, fall)
                    crosses = crosses or crossing
    return least, crosses


@kernel
def _pair(upper, lower, room):  # type: ignore[no-untyped-def]
    """Return how far a triangle (3, 3) can fall onto another one (infinity if it never meets it), and if they cross."""
    lowest, highest, fall = np.inf, -np.inf, np.inf
    for k in range(3):
        height, up = _height(lower, upper[k, 0], upper[k, 2])
        if up > 0.0:
            gap = upper[k, 1] - height
            lowest, highest, fall = min(lowest, gap), max(highest, gap), min(fall, gap - room / max(up, SLANT))
        height, up = _height(upper, lower[k, 0], lower[k, 2])
        if up > 0.0:
            gap = height - lower[k, 1]
            lowest, highest, fall = min(lowest, gap), max(highest, gap), min(fall, gap - room / max(up, SLANT))
    for k in range(3):
        p, q = upper[k], upper[(k + 1) % 3]
        for j in range(3):
            r, s = lower[j], lower[(j + 1) % 3]
            ux, uy, uz = q[0] - p[0], q[1] - p[1], q[2] - p[2]
            vx, vy, vz = s[0] - r[0], s[1] - r[1], s[2] - r[2]
            flat = ux * vz - uz * vx
            if abs(flat) <= 1e-12 * np.sqrt((ux * ux + uz * uz) * (vx * vx + vz * vz)) or flat == 0.0:
                continue
            dx, dz = r[0] - p[0], r[2] - p[2]
            along, across = (dx * vz - dz * vx) / flat, (dx * uz - dz * ux) / flat
            if along < 0.0 or along > 1.0 or across < 0.0 or across > 1.0:
                continue
            gap = p[1] + along * uy - r[1] - across * vy
            nx, nz = uy * vz - uz * vy, ux * vy - uy * vx
            square = nx * nx + flat * flat + nz * nz
            up = abs(flat) / np.sqrt(square)
            # Where they are a room apart, the nearest places of both lines are no longer above one another: where these
            # lie off the edges, what is nearest there is not these two.
            apart = room / up / square
            one, two = along + apart * (vx * nz - vz * nx), across + apart * (ux * nz - uz * nx)
            keeps = room / max(up, SLANT) if 0.0 <= one <= 1.0 and 0.0 <= two <= 1.0 else 0.0
            lowest, highest, fall = min(lowest, gap), max(highest, gap), min(fall, gap - keeps)
    slack = 1e-9 * (1.0 + abs(upper[0, 1]))
    if lowest >= -slack:
        return fall, False
    if highest <= slack:  # it lies above
        return np.inf, False
    return np.inf, True


@kernel
def _height(triangle, x, z):  # type: ignore[no-untyped-def]
    """Return a triangle's height (3, 3) at a place seen from above, and how much its normal points up; 0 if outside."""
    ax, az = triangle[1, 0] - triangle[0, 0], triangle[1, 2] - triangle[0, 2]
    bx, bz = triangle[2, 0] - triangle[0, 0], triangle[2, 2] - triangle[0, 2]
    area = ax * bz - az * bx
    if abs(area) <= 1e-12 * (ax * ax + az * az + bx * bx + bz * bz):
        return 0.0, 0.0
    dx, dz = x - triangle[0, 0], z - triangle[0, 2]
    one, two = (dx * bz - dz * bx) / area, (ax * dz - az * dx) / area
    if one < -EDGE or two < -EDGE or one + two > 1.0 + EDGE:
        return 0.0, 0.0
    ay, by = triangle[1, 1] - triangle[0, 1], triangle[2, 1] - triangle[0, 1]
    nx, nz = ay * bz - az * by, ax * by - ay * bx
    return triangle[0, 1] + one * ay + two * by, abs(area) / np.sqrt(nx * nx + area * area + nz * nz)
