"""Small patches of cloth and of whatever it meets: which of them may touch, by their boxes and normals.

The points are cut into small patches; an edge or triangle belongs to the patch of its first
point. Patches whose boxes are apart have nothing to do with one another. A patch, with a neighbour
that continues it, cannot cross itself while all its normals lean less than a right angle to one
direction (Volino and Magnenat-Thalmann 1994); while they lean less than FLAT, not even what lies an edge
away from a fold's crease comes closer to the other side than 0.7 of an edge. `nearby` searches those left over.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.solver.colour import neighbourhoods

POINTS_A_PATCH = 12
FORM = -1_000_000  # the groups of colliders that change their form are this and below
SOME = 32  # patches that one thread takes at a time
FLAT = 1.2  # radians that no normal of a patch and its neighbour leans farther to one direction: they cannot touch

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]


class Patches(NamedTuple):
    """Points, edges and triangles sorted by patch; P patches.

    Attributes:
        points, edges, faces: int32, numbers in the order of the patches.
        point_span, edge_span, face_span: int64 (P + 1,), where each patch's begin.
        beside, beside_span: int32 and int64 (P + 1,), the patches that share a point with each, rising.
        ends, end_span: int32 and int64 (P + 1,), all points of each patch and of its edges and triangles.
    """

    points: Whole
    edges: Whole
    faces: Whole
    point_span: NDArray[np.int64]
    edge_span: NDArray[np.int64]
    face_span: NDArray[np.int64]
    beside: Whole
    beside_span: NDArray[np.int64]
    ends: Whole
    end_span: NDArray[np.int64]


def make_patches(places: Floats, edges: Whole, faces: Whole, body: NDArray[np.int64]) -> Patches:
    """Return the patches of points that lie near each other at rest.

    Args:
        places: float64 (N, 3), metres.
        edges: int32 (E, 2). faces: int32 (T, 3).
        body: int64 (N,): points of different bodies get different patches.
    """
    patch = np.zeros(len(places), dtype=np.int64)
    count = 0
    for group in np.unique(body):
        mine = np.flatnonzero(body == group)
        patch[mine] = count + neighbourhoods(places[mine], POINTS_A_PATCH)
        count = int(patch[mine].max()) + 1
    spans, orders = [], []
    for owner in (patch, patch[edges[:, 0]], patch[faces[:, 0]]):
        orders.append(np.argsort(owner, kind="stable").astype(np.int32))
        spans.append(np.concatenate([[0], np.cumsum(np.bincount(owner, minlength=count))]).astype(np.int64))
    # Pairs of numbers go as one number each: rows would take five times the room to sort.
    links = np.zeros(0, np.int64)
    for one, two in ((edges[:, 0], edges[:, 1]), (faces[:, 0], faces[:, 1]), (faces[:, 0], faces[:, 2])):
        there, back = patch[one] * count + patch[two], patch[two] * count + patch[one]
        links = np.unique(np.concatenate([links, there, back]))
    beside, beside_span = _lists(links, count, count)
    ends = patch * len(places) + np.arange(len(places))
    for things in (edges, faces):
        for k in range(things.shape[1]):
            ends = np.unique(np.concatenate([ends, patch[things[:, 0]] * len(places) + things[:, k]]))
    points, lines, triangles = orders
    point_span, edge_span, face_span = spans
    within, end_span = _lists(ends, count, len(places))
    return Patches(points, lines, triangles, point_span, edge_span, face_span, beside, beside_span, within, end_span)


def _lists(pairs: NDArray[np.int64], count: int, stride: int) -> tuple[Whole, NDArray[np.int64]]:
    """Return the second numbers of rising pairs, first times stride plus second, and where each first's begin."""
    first, second = np.divmod(pairs, max(stride, 1))
    span = np.concatenate([[0], np.cumsum(np.bincount(first, minlength=count))]).astype(np.int64)
    return second.astype(np.int32), span


class Bounds(NamedTuple):
    """What is known of each patch when the search begins.

    Attributes:
        box: float64 (P, 6), lowest and highest corner around all that is the patch's, and all its way, metres.
        cone: float64 (P, 4), mean normal and least cosine to it.
        edge_box, face_box: float64 (E, 6) and (T, 6), of edges and faces in the order of the patches.
    """

    box: Floats
    cone: Floats
    edge_box: Floats
    face_box: Floats


@kernel
def most_of_any(patches):  # type: ignore[no-untyped-def]
    """Return how many points, edges and triangles a patch has at most."""
    points, edges, faces = 0, 0, 0
    for p in range(len(patches.point_span) - 1):
        points = max(points, patches.point_span[p + 1] - patches.point_span[p])
        edges = max(edges, patches.edge_span[p + 1] - patches.edge_span[p])
        faces = max(faces, patches.face_span[p + 1] - patches.face_span[p])
    return points, edges, faces


@numba.njit(inline="always")
def _add(x, ahead, i, box):  # type: ignore[no-untyped-def]
    for axis in range(3):
        low, high = min(x[i, axis], ahead[i, axis]), max(x[i, axis], ahead[i, axis])
        box[axis], box[3 + axis] = min(box[axis], low), max(box[3 + axis], high)


@kernel
def _bound_some(begin, end, numbers, x, ahead, edges, faces, patches, bounds):  # type: ignore[no-untyped-def]
    """Fill the bounds of patches number begin .. end - 1 of the given ones."""
    boxes, cone, edge_box, face_box = bounds.box, bounds.cone, bounds.edge_box, bounds.face_box
    normal = np.empty((most_of_any(patches)[2], 3))
    for turn in range(begin, end):
        p = numbers[turn]
        box, sx, sy, sz = boxes[p], 0.0, 0.0, 0.0
        box[:3], box[3:] = np.inf, -np.inf
        for n in range(patches.point_span[p], patches.point_span[p + 1]):
            _add(x, ahead, patches.points[n], box)
        for n in range(patches.edge_span[p], patches.edge_span[p + 1]):
            own, e = edge_box[n], patches.edges[n]
            own[:3], own[3:] = np.inf, -np.inf
            _add(x, ahead, edges[e, 0], own)
            _add(x, ahead, edges[e, 1], own)
            for axis in range(3):
                box[axis], box[3 + axis] = min(box[axis], own[axis]), max(box[3 + axis], own[3 + axis])
        first, last = patches.face_span[p], patches.face_span[p + 1]
        for n in range(first, last):
            own, t = face_box[n], patches.faces[n]
            own[:3], own[3:] = np.inf, -np.inf
            for k in range(3):
                _add(x, ahead, faces[t, k], own)
            for axis in range(3):
                box[axis], box[3 + axis] = min(box[axis], own[axis]), max(box[3 + axis], own[3 + axis])
            nx, ny, nz = _unit_normal(x, faces, t)
            normal[n - first, 0], normal[n - first, 1], normal[n - first, 2] = nx, ny, nz
            sx, sy, sz = sx + nx, sy + ny, sz + nz
        size = np.sqrt(sx * sx + sy * sy + sz * sz) + 1e-300
        sx, sy, sz = sx / size, sy / size, sz / size
        least = 1.0
        for n in range(last - first):
            least = min(least, sx * normal[n, 0] + sy * normal[n, 1] + sz * normal[n, 2])
        cone[p, 0], cone[p, 1], cone[p, 2], cone[p, 3] = sx, sy, sz, least


@parallel_kernel
def bound_patches(numbers, x, ahead, edges, faces, patches, bounds):  # type: ignore[no-untyped-def]
    """Fill the bounds of patches by number; ahead (N, 3) is where each point is expected in the end, metres."""
    count = len(numbers)
    for turn in numba.prange((count + SOME - 1) // SOME):
        begin = np.int64(turn) * SOME
        _bound_some(begin, min(begin + SOME, count), numbers, x, ahead, edges, faces, patches, bounds)


@numba.njit(inline="always")
def _any_of(p, marked, patches):  # type: ignore[no-untyped-def]
    found = False
    for n in range(patches.end_span[p], patches.end_span[p + 1]):
        found |= marked[patches.ends[n]]
    return found


@parallel_kernel
def find_moving(x, expected, way, off_m, far_m, patches, points, flags):  # type: ignore[no-untyped-def]
    """Find what has left its way or is fast: points (N,) and the patches that hold any such point, flags (P,).

    Args:
        x, expected: float64 (N, 3), places and where they should be, metres. off_m: how far from there is too far.
        way: float64 (N, 3), what they go, metres. far_m: what is longer than this is fast.
    """
    for i in numba.prange(len(x)):
        a, b, c = x[i, 0] - expected[i, 0], x[i, 1] - expected[i, 1], x[i, 2] - expected[i, 2]
        d, e, f = way[i, 0], way[i, 1], way[i, 2]
        points[i] = a * a + b * b + c * c > off_m * off_m or d * d + e * e + f * f > far_m * far_m
    for p in numba.prange(len(flags)):
        flags[p] = _any_of(np.int64(p), points, patches)


@numba.njit(inline="always")
def _unit_normal(x, faces, t):  # type: ignore[no-untyped-def]
    a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
    ux, uy, uz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
    vx, vy, vz = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    size = np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-300
    return nx / size, ny / size, nz / size


@numba.njit(inline="always")
def _flat_together(p, q, patches, cone):  # type: ignore[no-untyped-def]
    """Tell whether patches p and q are one, or neighbours, and nearly flat together."""
    together = p == q
    if not together:
        for n in range(patches.beside_span[p], patches.beside_span[p + 1]):
            together |= patches.beside[n] == q
    if not together:
        return False
    turn = cone[p, 0] * cone[q, 0] + cone[p, 1] * cone[q, 1] + cone[p, 2] * cone[q, 2]
    # Against the direction between both means, angles add up.
    return 0.5 * np.arccos(min(max(turn, -1.0), 1.0)) + np.arccos(max(min(cone[p, 3], cone[q, 3]), -1.0)) < FLAT


@numba.njit(inline="always")
def apart(one, i, two, j, reach):  # type: ignore[no-untyped-def]
    """Tell whether box i of one (…, 6) and box j of two are farther apart than the reach along an axis."""
    return (  # written out: with slices of rows this takes five times as long
        one[i, 0] - two[j, 3] > reach
        or two[j, 0] - one[i, 3] > reach
        or one[i, 1] - two[j, 4] > reach
        or two[j, 1] - one[i, 4] > reach
        or one[i, 2] - two[j, 5] > reach
        or two[j, 2] - one[i, 5] > reach
    )


@numba.njit(inline="always")
def _need(p, q, box, cone, patches, group, reach):  # type: ignore[no-untyped-def]
    """Tell whether patches p and q must be searched."""
    near = not apart(box, p, box, q, reach)
    if near and group[p] < 0 and group[q] < 0 and (group[p] <= FORM) == (group[q] <= FORM):
        near = False
    if near and group[p] == group[q]:
        near = group[p] % 2 == 0 and not _flat_together(p, q, patches, cone)
    return near


@parallel_kernel
def meet_patches(order, bounds, patches, group, reach, out, count):  # type: ignore[no-untyped-def]
    """Write to each row of out (P, room) the patches to be searched with that patch of order; count (P,) how many.

    `order` sorts the boxes by their low x. `group` (P,)
    is negative for rigid bodies' and colliders' corners, which do not meet each other (but for
    colliders that change their form, `FORM` and below, which rigid bodies meet), else twice the body's number,
    odd when it is not kept apart from itself.
    """
    box, cone = bounds.box, bounds.cone
    for i in numba.prange(len(order)):
        p, found = order[i], 0
        for j in range(i, len(order)):
            q = order[j]
            if box[q, 0] - box[p, 3] > reach:
                break
            if _need(p, q, box, cone, patches, group, reach):
                if found < out.shape[1]:
                    out[i, found] = q
                found += 1
        count[i] = found


@parallel_kernel
def meet_flagged(numbers, flags, bounds, patches, group, reach, out, count):  # type: ignore[no-untyped-def]
    """The same for the flagged patches only, whose numbers are given, with all others."""
    box, cone = bounds.box, bounds.cone
    for i in numba.prange(len(numbers)):
        p, found = numbers[i], 0
        for q in range(len(flags)):
            if (q >= p or not flags[q]) and _need(p, q, box, cone, patches, group, reach):
                if found < out.shape[1]:
                    out[i, found] = q
                found += 1
        count[i] = found
