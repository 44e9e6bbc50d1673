"""Signed distance: how far a place is from a collider's surface, and which way is out.

Every collider is one of the kinds below, and the solver, the proxy meter and the overlap
finder all ask the same function. Distances are in metres, negative inside.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, parallel_kernel
from zembrik.core.distance.tree import closest_in_nodes
from zembrik.core.distance.triangle import INSIDE, closest_on_triangle
from zembrik.core.lanes import WIDTH, bits, choose, lane, lanes, root
from zembrik.core.lanes_memory import four, point, points4, put, put4

PLANE, BALL, BOX, CAPSULE, HULL, SURFACE = range(6)
KIND_NUMBER = {"plane": PLANE, "ball": BALL, "box": BOX, "capsule": CAPSULE, "hull": HULL, "surface": SURFACE}


class Fields(NamedTuple):
    """Colliders as arrays that kernels read; C colliders.

    Attributes:
        kind: int64 (C,), one of the kinds above.
        place: float64 (C, 12): a turn as a 3×3 matrix by rows (local to world), then the
            world place of the local origin.
        params: float64 (C, 9): ball: radius; box: half sizes; capsule: half of its core's
            length along local Y, radius; surface: grid's low corner, cell size, grid's high
            corner, first tree node, how far (m) distances are exact, if that is more than two
            cells; hull: the eighth is the reach (m) within which distances are exact.
        span: int64 (C, 5): hull: planes first, last + 1, faces first, last + 1; surface:
            first grid node, nodes along x, y, z, first face.
        planes: float64 (P, 4): outward normal and offset of hull planes.
        corners: float64 (T, 3, 3): corners of hull faces and of surface faces.
        normals: float64 (T, 7, 3): upright directions of surface faces (see `tree.Tree`).
        node_low, node_high, node_span: the surfaces' trees (see `tree.Tree`), one after the other.
        grid_distance: float32 (G,); grid_face: int32 (G,): nearest face of each grid node.
        low, high: float64 (C, 3): the world box outside of which nothing is within reach.
        open: bool (C,): whether it is a surface without an inside.
    """

    kind: NDArray[np.int64]
    place: NDArray[np.float64]
    params: NDArray[np.float64]
    span: NDArray[np.int64]
    planes: NDArray[np.float64]
    corners: NDArray[np.float64]
    normals: NDArray[np.float64]
    node_low: NDArray[np.float64]
    node_high: NDArray[np.float64]
    node_span: NDArray[np.int64]
    grid_distance: NDArray[np.float32]
    grid_face: NDArray[np.int32]
    low: NDArray[np.float64]
    high: NDArray[np.float64]
    open: NDArray[np.bool_]


CHUNK = 64  # places asked at once: one call's cost is shared by all of them


@bare_kernel
def _set(i, sign, x, y, z, less, distance, normal):  # type: ignore[no-untyped-def]
    """Write the length of (x, y, z), less something, and its direction, both turned by sign."""
    length = np.sqrt(x * x + y * y + z * z)
    distance[i] = sign * length - less
    if length > 1e-300:
        over = sign / length
        normal[i, 0], normal[i, 1], normal[i, 2] = x * over, y * over, z * over
    else:
        normal[i, 0], normal[i, 1], normal[i, 2] = 0.0, 1.0, 0.0


@bare_kernel
def _box(params, first, last, distance, normal):  # type: ignore[no-untyped-def]
    """Exact distance to a box about the origin: outside by clamping, inside by the nearest side."""
    for i in range(first, last):
        x, y, z = normal[i, 0], normal[i, 1], normal[i, 2]
        qx, qy, qz = abs(x) - params[0], abs(y) - params[1], abs(z) - params[2]
        sx = 1.0 if x >= 0 else -1.0
        sy = 1.0 if y >= 0 else -1.0
        sz = 1.0 if z >= 0 else -1.0
        if qx <= 0.0 and qy <= 0.0 and qz <= 0.0:
            normal[i, 0] = normal[i, 1] = normal[i, 2] = 0.0
            if qx >= qy and qx >= qz:
                distance[i], normal[i, 0] = qx, sx
            elif qy >= qz:
                distance[i], normal[i, 1] = qy, sy
            else:
                distance[i], normal[i, 2] = qz, sz
        else:
            _set(i, 1.0, max(qx, 0.0) * sx, max(qy, 0.0) * sy, max(qz, 0.0) * sz, 0.0, distance, normal)


@numba.njit(inline="always")
def _above(planes, p, x, y, z):  # type: ignore[no-untyped-def]
    """Return how far above plane p places are, in lanes, metres."""
    return planes[p, 0] * x + planes[p, 1] * y + planes[p, 2] * z - planes[p, 3]


@numba.njit(inline="always")
def _of_four(values, i, last, axis):  # type: ignore[no-untyped-def]
    """Return values i .. i + 3 along an axis in lanes; the last before `last` stands for those beyond."""
    j, k, m = min(i + 1, last - 1), min(i + 2, last - 1), min(i + 3, last - 1)
    return lanes(values[i, axis], values[j, axis], values[k, axis], values[m, axis])


@numba.njit(inline="always")
def _side(planes, which, axis):  # type: ignore[no-untyped-def]
    """Return, in lanes, that number of four planes."""
    a, b, c, d = int(lane(which, 0)), int(lane(which, 1)), int(lane(which, 2)), int(lane(which, 3))
    return lanes(planes[a, axis], planes[b, axis], planes[c, axis], planes[d, axis])


@bare_kernel
def _hull(planes, corners, reach, first, last, distance, normal):  # type: ignore[no-untyped-def]
    """Exact distance to a convex hull: inside the nearest plane, outside the nearest face.

    Beyond the collider's reach, any plane that is so far below: never more than the true distance.
    """
    for i in range(first, last, WIDTH):
        x, y, z = _of_four(normal, i, last, 0), _of_four(normal, i, last, 1), _of_four(normal, i, last, 2)
        worst, which = _above(planes, 0, x, y, z), lanes(0.0, 0.0, 0.0, 0.0)
        for p in range(1, len(planes)):
            above = _above(planes, p, x, y, z)
            more = above > worst
            worst, which = choose(more, above, worst), choose(more, lanes(p, p, p, p), which)
            if p % WIDTH == 0 and bits(worst > reach) == 15:  # what is out of reach is seen soon
                break
        nx, ny, nz = _side(planes, which, 0), _side(planes, which, 1), _side(planes, which, 2)
        near = bits(worst > 0.0) & bits(worst <= reach)
        over = 0
        if near:
            # Straight below it, inside of all other planes: then that plane's own face is nearest.
            px, py, pz = x - worst * nx, y - worst * ny, z - worst * nz
            for p in range(len(planes)):
                over |= bits(_above(planes, p, px, py, pz) > 1e-9)
        for k in range(min(WIDTH, last - i)):
            distance[i + k] = lane(worst, k)
            normal[i + k, 0], normal[i + k, 1], normal[i + k, 2] = lane(nx, k), lane(ny, k), lane(nz, k)
            if (near & over) >> k & 1:
                _from_faces(corners, lane(x, k), lane(y, k), lane(z, k), i + k, distance, normal)


@bare_kernel
def _from_faces(corners, x, y, z, i, distance, normal):  # type: ignore[no-untyped-def]
    """Write to i how far a place is from the nearest of a hull's faces, and which way."""
    best, bx, by, bz = np.inf, 0.0, 0.0, 0.0
    for f in range(len(corners)):
        ax, ay, az = corners[f, 0, 0], corners[f, 0, 1], corners[f, 0, 2]
        ex, ey, ez = corners[f, 1, 0], corners[f, 1, 1], corners[f, 1, 2]
        gx, gy, gz = corners[f, 2, 0], corners[f, 2, 1], corners[f, 2, 2]
        above = (
            ((ey - ay) * (gz - az) - (ez - az) * (gy - ay)) * (x - ax)
            + ((ez - az) * (gx - ax) - (ex - ax) * (gz - az)) * (y - ay)
            + ((ex - ax) * (gy - ay) - (ey - ay) * (gx - ax)) * (z - az)
        )
        if above < 0.0:
            continue  # the nearest face is one that sees the place
        u, v, w, _ = closest_on_triangle(x, y, z, ax, ay, az, ex, ey, ez, gx, gy, gz)
        dx = x - (u * ax + v * ex + w * gx)
        dy = y - (u * ay + v * ey + w * gy)
        dz = z - (u * az + v * ez + w * gz)
        d = dx * dx + dy * dy + dz * dz
        if d < best:
            best, bx, by, bz = d, dx, dy, dz
    if best > 1e-24:
        _set(i, 1.0, bx, by, bz, 0.0, distance, normal)


@bare_kernel
def _surface(fields, c, first, last, distance, normal):  # type: ignore[no-untyped-def]
    """Distance to a triangle surface: read from a grid when far, exact from nearby faces when near.

    Each grid node knows its nearest face. Near the surface that face bounds an exact search
    of the tree, so corners and edges stay as sharp as they are. Far away the grid's answer
    is good to about its cell; no contact is that far.
    """
    params, span = fields.params[c], fields.span[c]
    g, grid_face = fields.grid_distance, fields.grid_face
    corners, upright = fields.corners, fields.normals
    low, high, nodes = fields.node_low, fields.node_high, fields.node_span
    cell, root, exact = params[3], int(params[7]), params[8]
    row, layer = span[3], span[2] * span[3]
    for q in range(first, last):
        x, y, z = normal[q, 0], normal[q, 1], normal[q, 2]
        cx = min(max(x, params[0]), params[4])
        cy = min(max(y, params[1]), params[5])
        cz = min(max(z, params[2]), params[6])
        gx, gy, gz = (cx - params[0]) / cell, (cy - params[1]) / cell, (cz - params[2]) / cell
        i = min(max(int(gx), 0), span[1] - 2)
        j = min(max(int(gy), 0), span[2] - 2)
        k = min(max(int(gz), 0), span[3] - 2)
        fx, fy, fz = gx - i, gy - j, gz - k
        base = span[0] + (i * span[2] + j) * span[3] + k
        d000, d001, d010, d011 = g[base], g[base + 1], g[base + row], g[base + row + 1]
        d100, d101 = g[base + layer], g[base + layer + 1]
        d110, d111 = g[base + layer + row], g[base + layer + row + 1]
        x00, x01 = d000 + fx * (d100 - d000), d001 + fx * (d101 - d001)
        x10, x11 = d010 + fx * (d110 - d010), d011 + fx * (d111 - d011)
        y0, y1 = x00 + fy * (x10 - x00), x01 + fy * (x11 - x01)
        rough = y0 + fz * (y1 - y0)
        outside = (x - cx) ** 2 + (y - cy) ** 2 + (z - cz) ** 2
        if abs(rough) > max(2.0 * cell, exact):
            along_x = (1 - fy) * ((1 - fz) * (d100 - d000) + fz * (d101 - d001)) + fy * (
                (1 - fz) * (d110 - d010) + fz * (d111 - d011)
            )
            along_y = (1 - fz) * (x10 - x00) + fz * (x11 - x01)
            _set(q, 1.0, along_x, along_y, y1 - y0, 0.0, distance, normal)
            distance[q] = rough + np.sqrt(outside) if rough > 0 else rough
            continue
        # Comparisons, so that a place that is no number any more still names a node.
        node = base + (layer if fx > 0.5 else 0) + (row if fy > 0.5 else 0) + (1 if fz > 0.5 else 0)
        guess = span[4] + grid_face[node]
        _, f, part, bx, by, bz = closest_in_nodes(low, high, nodes, corners, root, guess, x, y, z)
        bx, by, bz = x - bx, y - by, z - bz
        up = upright[f, part]
        side = bx * up[0] + by * up[1] + bz * up[2]
        if bx * bx + by * by + bz * bz < 1e-24:
            on_border = up[0] == 0.0 and up[1] == 0.0 and up[2] == 0.0
            distance[q] = 0.0
            for axis in range(3):
                normal[q, axis] = upright[f, INSIDE, axis] if on_border else up[axis]
        else:
            _set(q, 1.0 if side >= 0.0 else -1.0, bx, by, bz, 0.0, distance, normal)


@bare_kernel
def _ball(radius, first, whole, last, distance, normal):  # type: ignore[no-untyped-def]
    """Exact distance to a ball about the origin; points before `whole` four at a time."""
    for i in range(first, whole, WIDTH):
        a, b, c, d = four(i)
        x, y, z = points4(normal, a, b, c, d)
        length = root(x * x + y * y + z * z)
        some, less = length > 1e-300, length - radius
        over = 1.0 / choose(some, length, 1.0)
        put4(normal, a, b, c, d, (x * over, choose(some, y * over, 1.0), z * over))
        for n in range(WIDTH):
            distance[i + n] = lane(less, n)
    for i in range(whole, last):
        _set(i, 1.0, normal[i, 0], normal[i, 1], normal[i, 2], radius, distance, normal)


@numba.njit(inline="always")
def _into(m, at):  # type: ignore[no-untyped-def]
    """Return a world place as the collider sees it, of numbers or lanes; m is its row of `Fields.place`."""
    dx, dy, dz = at[0] - m[9], at[1] - m[10], at[2] - m[11]
    return m[0] * dx + m[3] * dy + m[6] * dz, m[1] * dx + m[4] * dy + m[7] * dz, m[2] * dx + m[5] * dy + m[8] * dz


@numba.njit(inline="always")
def _out_of(m, way):  # type: ignore[no-untyped-def]
    """Return the collider's direction in the world, of numbers or lanes."""
    x, y, z = way
    return m[0] * x + m[1] * y + m[2] * z, m[3] * x + m[4] * y + m[5] * z, m[6] * x + m[7] * y + m[8] * z


@numba.njit(inline="always")
def fill_distances_here(fields, c, points, first, last, distance, normal):  # type: ignore[no-untyped-def]
    """Fill distance and outward unit normal of points first .. last - 1 from collider c, as part of who asks.

    For a few points at a time, handing all fields on costs as much as the distances.

    Args:
        fields: see `Fields`.
        c: which collider.
        points: float64 (n, 3), world places, metres.
        first, last: which points.
        distance: float64 (n,), metres, filled.
        normal: float64 (n, 3), world directions, filled.
    """
    m, params, kind, span = fields.place[c], fields.params[c], fields.kind[c], fields.span[c]
    whole = first + (last - first) // WIDTH * WIDTH
    for i in range(first, whole, WIDTH):
        j, k, n, o = four(i)
        put4(normal, j, k, n, o, _into(m, points4(points, j, k, n, o)))
    for i in range(whole, last):
        put(normal, i, _into(m, point(points, i)))
    if kind == PLANE:
        for i in range(first, last):
            distance[i] = normal[i, 1]
            normal[i, 0], normal[i, 1], normal[i, 2] = 0.0, 1.0, 0.0
    elif kind == BALL:
        _ball(params[0], first, whole, last, distance, normal)
    elif kind == BOX:
        _box(params, first, last, distance, normal)
    elif kind == CAPSULE:
        for i in range(first, last):
            y = normal[i, 1]
            _set(
                i, 1.0, normal[i, 0], y - min(max(y, -params[0]), params[0]), normal[i, 2], params[1], distance, normal
            )
    elif kind == HULL:
        planes, corners = fields.planes[span[0] : span[1]], fields.corners[span[2] : span[3]]
        _hull(planes, corners, params[7], first, last, distance, normal)
    else:
        _surface(fields, c, first, last, distance, normal)
    for i in range(first, whole, WIDTH):
        j, k, n, o = four(i)
        put4(normal, j, k, n, o, _out_of(m, points4(normal, j, k, n, o)))
    for i in range(whole, last):
        put(normal, i, _out_of(m, point(normal, i)))


@bare_kernel
def fill_distances(fields, c, points, first, last, distance, normal):  # type: ignore[no-untyped-def]
    """The same, as a function of its own."""
    fill_distances_here(fields, c, points, first, last, distance, normal)


@bare_kernel
def chunk_within(low, high, points, first, last):  # type: ignore[no-untyped-def]
    """Tell whether the box around points first .. last - 1 meets the box low (3,) .. high (3,)."""
    for axis in range(3):
        least, most = points[first, axis], points[first, axis]
        for i in range(first + 1, last):
            least = min(least, points[i, axis])
            most = max(most, points[i, axis])
        if most < low[axis] or least > high[axis]:
            return False
    return True


@parallel_kernel
def _distances(fields, c, points, distance, normal):  # type: ignore[no-untyped-def]
    for chunk in numba.prange((len(points) + CHUNK - 1) // CHUNK):
        first = chunk * CHUNK
        fill_distances(fields, c, points, first, min(first + CHUNK, len(points)), distance, normal)


def distances(
    fields: Fields, collider: int, points: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return signed distances (n,) in metres and outward directions (n, 3) of world points (n, 3)."""
    distance, normal = np.empty(len(points)), np.empty((len(points), 3))
    _distances(fields, collider, np.ascontiguousarray(points, dtype=np.float64), distance, normal)
    return distance, normal
