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

from zembrik.core.compiled import bare_kernel, parallel_kernel
from zembrik.core.solver.colour import neighbourhoods

POINTS_A_PATCH = 12
FORM = -1_000_000  # the groups of colliders that change their form are this and below
SOME = 32  # patches that one thread takes at a time
FLAT = 1.2  # radians that no normal of a patch and its neighbour leans farther to one direction: they cannot touch
LEAST = np.cos(FLAT)

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]


class Patches(NamedTuple):
    """Points, edges and triangles sorted by patch; P patches.

    Attributes:
        points: int32 (N,), numbers in the order of the patches.
        edges, faces: int32 (E, 3) and (T, 4), in the order of the patches: the number, then the ends or corners.
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
    lines = np.concatenate([lines[:, None], edges[lines]], axis=1).astype(np.int32)
    triangles = np.concatenate([triangles[:, None], faces[triangles]], axis=1).astype(np.int32)
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
        point_box, edge_box, face_box: float64 (N, 6), (E, 6) and (T, 6), of each alone, in the order of the patches.
    """

    box: Floats
    cone: Floats
    point_box: Floats
    edge_box: Floats
    face_box: Floats


def most_of_any(patches: Patches) -> tuple[int, int, int]:
    """Return how many points, edges and triangles a patch has at most."""
    points, edges, faces = (
        int(np.diff(span).max(initial=0)) for span in (patches.point_span, patches.edge_span, patches.face_span)
    )
    return points, edges, faces


@numba.njit(inline="always")
def _cover(state, i, box, n):  # type: ignore[no-untyped-def]
    """Widen box n of boxes (…, 6) to hold point i and all its way."""
    for axis in range(3):
        here, there = state[i, axis], state[i, axis] + state[i, 3 + axis]
        box[n, axis] = min(box[n, axis], min(here, there))
        box[n, 3 + axis] = max(box[n, 3 + axis], max(here, there))


@numba.njit(inline="always")
def _nothing(box, n):  # type: ignore[no-untyped-def]
    for axis in range(3):
        box[n, axis], box[n, 3 + axis] = np.inf, -np.inf


@numba.njit(inline="always")
def _hold_all(box, p, boxes, n):  # type: ignore[no-untyped-def]
    """Widen box p to hold box n of boxes."""
    for axis in range(3):
        box[p, axis] = min(box[p, axis], boxes[n, axis])
        box[p, 3 + axis] = max(box[p, 3 + axis], boxes[n, 3 + axis])


@bare_kernel
def _bound_some(begin, end, numbers, state, patches, bounds):  # type: ignore[no-untyped-def]
    """Fill the bounds of patches number begin .. end - 1 of the given ones."""
    boxes, cone = bounds.box, bounds.cone
    point_box, edge_box, face_box = bounds.point_box, bounds.edge_box, bounds.face_box
    for turn in range(begin, end):
        p, sx, sy, sz = numbers[turn], 0.0, 0.0, 0.0
        _nothing(boxes, p)
        for n in range(patches.point_span[p], patches.point_span[p + 1]):
            _nothing(point_box, n)
            _cover(state, patches.points[n], point_box, n)
            _hold_all(boxes, p, point_box, n)
        for n in range(patches.edge_span[p], patches.edge_span[p + 1]):
            _nothing(edge_box, n)
            _cover(state, patches.edges[n, 1], edge_box, n)
            _cover(state, patches.edges[n, 2], edge_box, n)
            _hold_all(boxes, p, edge_box, n)
        first, last = patches.face_span[p], patches.face_span[p + 1]
        for n in range(first, last):
            _nothing(face_box, n)
            for k in range(1, 4):
                _cover(state, patches.faces[n, k], face_box, n)
            _hold_all(boxes, p, face_box, n)
            nx, ny, nz = _unit_normal(state, patches.faces, n)
            sx, sy, sz = sx + nx, sy + ny, sz + nz
        size = np.sqrt(sx * sx + sy * sy + sz * sz) + 1e-300
        sx, sy, sz = sx / size, sy / size, sz / size
        least = 1.0
        for n in range(first, last):
            nx, ny, nz = _unit_normal(state, patches.faces, n)
            least = min(least, sx * nx + sy * ny + sz * nz)
        cone[p, 0], cone[p, 1], cone[p, 2], cone[p, 3] = sx, sy, sz, least


@parallel_kernel
def bound_patches(numbers, state, patches, bounds):  # type: ignore[no-untyped-def]
    """Fill the bounds of patches by number; state (N, 6) is where each point is and the way it is to go, metres."""
    count = len(numbers)
    for turn in numba.prange((count + SOME - 1) // SOME):
        begin = np.int64(turn) * SOME
        _bound_some(begin, min(begin + SOME, count), numbers, state, patches, bounds)


@numba.njit(inline="always")
def _unit_normal(x, faces, n):  # type: ignore[no-untyped-def]
    a, b, c = faces[n, 1], faces[n, 2], faces[n, 3]
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
    if cone[p, 3] < LEAST or cone[q, 3] < LEAST:
        return False
    turn = cone[p, 0] * cone[q, 0] + cone[p, 1] * cone[q, 1] + cone[p, 2] * cone[q, 2]
    # Against the direction between both means, angles add up.
    return 0.5 * np.arccos(min(max(turn, -1.0), 1.0)) + np.arccos(max(min(cone[p, 3], cone[q, 3]), -1.0)) < FLAT


@numba.njit(inline="always")
def meets(boxes, n, low_x, low_y, low_z, high_x, high_y, high_z):  # type: ignore[no-untyped-def]
    """Tell whether box n of boxes (…, 6) is not apart from the box with such corners."""
    # All six are compared, whatever the first say: which of them tells them apart cannot be foreseen, and a
    # processor that guesses wrong loses ten times as much.
    x = (boxes[n, 0] <= high_x) & (boxes[n, 3] >= low_x)
    y = (boxes[n, 1] <= high_y) & (boxes[n, 4] >= low_y)
    return x & y & (boxes[n, 2] <= high_z) & (boxes[n, 5] >= low_z)


@numba.njit(inline="always")
def around(boxes, n, reach):  # type: ignore[no-untyped-def]
    """Return the low and the high corner of box n of boxes (…, 6), farther out by the reach (six numbers)."""
    return (
        boxes[n, 0] - reach, boxes[n, 1] - reach, boxes[n, 2] - reach,
        boxes[n, 3] + reach, boxes[n, 4] + reach, boxes[n, 5] + reach,
    )  # fmt: skip


@numba.njit(inline="always")
def _need(p, q, cone, patches, group):  # type: ignore[no-untyped-def]
    """Tell whether patches p and q, whose boxes meet, must be searched."""
    need = True
    if group[p] < 0 and group[q] < 0 and (group[p] <= FORM) == (group[q] <= FORM):
        need = False
    if need and group[p] == group[q]:
        need = group[p] % 2 == 0 and not _flat_together(p, q, patches, cone)
    return need


@bare_kernel
def _meet_one(i, places, order, flags, boxes, widest, cone, patches, group, reach, out):  # type: ignore[no-untyped-def]
    """Fill row i of out for the patch that is at that place of order; return how many it is to be searched with."""
    p, found = order[places[i]], 0
    low_x, low_y, low_z, high_x, high_y, high_z = around(boxes, places[i], reach)
    first, last = np.int64(0), len(boxes)  # the first that is not too far left, by halves
    while first < last:
        middle = (first + last) // 2
        if boxes[middle, 0] < low_x - widest:
            first = middle + 1
        else:
            last = middle
    for j in range(first, len(boxes)):
        if boxes[j, 0] > high_x:
            break
        q = order[j]
        once = (q >= p) | (not flags[q])
        if once & meets(boxes, j, low_x, low_y, low_z, high_x, high_y, high_z) and _need(p, q, cone, patches, group):
            if found < out.shape[1]:
                out[i, found] = q
            found += 1
    return found


@parallel_kernel
def meet_patches(places, order, flags, boxes, widest, cone, patches, group, reach, out, count):  # type: ignore[no-untyped-def]
    """Write to each row of out (F, room) the patches to be searched with one of the flagged ones; count (F,) how many.

    `boxes` (P, 6) are those of the patches sorted by their low x, as `order` (P,) tells, and `places` (F,) are those of
    the flagged ones there; `widest` is the largest extent along x, metres. `group` (P,)
    is negative for rigid bodies' and colliders' corners, which do not meet each other (but for
    colliders that change their form, `FORM` and below, which rigid bodies meet), else twice the body's number,
    odd when it is not kept apart from itself.
    """
    for i in numba.prange(len(places)):
        count[i] = _meet_one(np.int64(i), places, order, flags, boxes, widest, cone, patches, group, reach, out)
