"""Small patches of cloth and of whatever it meets, their boxes and their normals.

The points are cut into small patches; an edge or triangle belongs to the patch of its first
point. `meeting_patches` finds which of them may touch, `nearby` has those searched.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, dot3, parallel_kernel
from zembrik.core.lanes import WIDE, all8, choose, larger, least8, lowest, most8, root, smaller, sum8
from zembrik.core.lanes_memory import put8, rows8, values8
from zembrik.core.solver.colour import neighbourhoods

POINTS_A_PATCH = 12
NONE = -1  # no point, edge or triangle
SOME = 32  # patches that one thread takes at a time
LINE = np.float32(1e-36)  # m⁴, of a triangle's doubled area squared: below it single precision knows no normal

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Whole = NDArray[np.int32]


class Patches(NamedTuple):
    """Points, edges and triangles sorted by patch; P patches.

    Attributes:
        points: int32 (n, 1), numbers in the order of the patches; each patch's are filled up with NONE to whole
            eights.
        edges, faces: int32 (e, 3) and (t, 4), the same: the number, then the ends or corners.
        point_span, edge_span, face_span: int64 (P + 1,), where each patch's begin.
        beside, beside_span: int32 and int64 (P + 1,), the patches that share a point with each, rising.
        ends, end_span: int32 (m, 1) and int64 (P + 1,), all points of each patch and of its edges and triangles, filled
            up to whole eights with the first.
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
    (points, point_span), (lines, edge_span), (triangles, face_span) = (
        _in_eights(owner, things, count)
        for owner, things in (
            (patch, np.zeros((len(places), 0), np.int32)), (patch[edges[:, 0]], edges), (patch[faces[:, 0]], faces)
        )
    )  # fmt: skip
    # Pairs of numbers go as one number each: rows would take five times the room to sort.
    links = np.zeros(0, np.int64)
    for one, two in ((edges[:, 0], edges[:, 1]), (faces[:, 0], faces[:, 1]), (faces[:, 0], faces[:, 2])):
        there, back = patch[one] * count + patch[two], patch[two] * count + patch[one]
        links = np.unique(np.concatenate([links, there, back]))
    beside, beside_span = _lists(links, count)
    ends = patch * len(places) + np.arange(len(places))
    for things in (edges, faces):
        for k in range(things.shape[1]):
            ends = np.unique(np.concatenate([ends, patch[things[:, 0]] * len(places) + things[:, k]]))
    within, end_span = _in_eights(ends // len(places), (ends % len(places)).astype(np.int32)[:, None], count)
    first = np.repeat(within[end_span[:-1], 1], np.diff(end_span))
    within = np.where(within[:, 1] == NONE, first, within[:, 1])[:, None].astype(np.int32)
    return Patches(points, lines, triangles, point_span, edge_span, face_span, beside, beside_span, within, end_span)


def _in_eights(owner: NDArray[np.int64], things: Whole, count: int) -> tuple[Whole, NDArray[np.int64]]:
    """Return numbers and corners of things (n, k) by owner, and where each owner's begin; filled up with NONE."""
    order = np.argsort(owner, kind="stable")
    many = np.bincount(owner, minlength=count)
    span = np.concatenate([[0], np.cumsum(-(-many // WIDE) * WIDE)]).astype(np.int64)
    rows = np.full((span[-1], 1 + things.shape[1]), NONE, np.int32)
    within = np.arange(len(order)) - np.repeat(np.cumsum(many) - many, many)
    at = span[owner[order]] + within
    rows[at, 0], rows[at, 1:] = order, things[order]
    return rows, span


def _lists(pairs: NDArray[np.int64], count: int) -> tuple[Whole, NDArray[np.int64]]:
    """Return the second numbers of rising pairs, first times `count` plus second, and where each first's begin."""
    first, second = np.divmod(pairs, max(count, 1))
    span = np.concatenate([[0], np.cumsum(np.bincount(first, minlength=count))]).astype(np.int64)
    return second.astype(np.int32), span


class Bounds(NamedTuple):
    """What is known of each patch when the search begins.

    Attributes:
        box: float64 (P, 6), lowest and highest corner around all that is the patch's, and all its way, metres.
        loose: float64 (P, 6), the same around what of it has strayed; only of patches that are flagged.
        slant: float32 (16 P,), of each patch eight numbers and eight more: the lowest, then the highest of x + y,
            x - y, x + z, x - z, y + z and y - z of all that is the patch's, and all its way, metres; the last two of
            eight say nothing.
        size: float64 (P,), no edge of the patch is longer, metres.
        cone: float64 (P, 4), mean normal and least cosine to it.
        normal: float32 (3 t,), the normals of triangles, in the order of the patches: x of all, then y, then z.
        point_box, edge_box, face_box: float32 (6 n,), (6 e,) and (6 t,), of each alone, in the order of the patches:
            the first side of all, then the second of all, and so on. What is NONE meets nothing.
        point_marks, edge_marks, face_marks: uint8 (n / 8,), (e / 8,) and (t / 8,), in the bits of each which of eight
            have strayed; of patches that are not flagged, and where all have, they tell of earlier searches.
    """

    box: Floats
    loose: Floats
    slant: Singles
    size: Floats
    cone: Floats
    normal: Singles
    point_box: Singles
    edge_box: Singles
    face_box: Singles
    point_marks: NDArray[np.uint8]
    edge_marks: NDArray[np.uint8]
    face_marks: NDArray[np.uint8]


def most_of_any(patches: Patches) -> int:
    """Return how many points, edges or triangles a patch has at most, in whole eights."""
    spans = (patches.point_span, patches.edge_span, patches.face_span)
    return max(int(np.diff(span).max(initial=0)) for span in spans)


@numba.njit(inline="always")
def _at(things, n, k):  # type: ignore[no-untyped-def]
    """Return place k of row n; 0 for NONE."""
    return np.uint64(max(things[n, k], 0))


@numba.njit(inline="always")
def _eight(state, things, n, k):  # type: ignore[no-untyped-def]
    """Return where the eight points in column k from row n on are, and where they are to go, in lanes."""
    x, y, z, dx, dy, dz, _, _ = rows8(
        state, _at(things, n, k), _at(things, n + 1, k), _at(things, n + 2, k), _at(things, n + 3, k),
        _at(things, n + 4, k), _at(things, n + 5, k), _at(things, n + 6, k), _at(things, n + 7, k),
    )  # fmt: skip
    return (x, y, z), (x + dx, y + dy, z + dz)


@numba.njit(inline="always")
def _box_of(here, there):  # type: ignore[no-untyped-def]
    """Return the low and the high corners of the boxes around two places (six numbers), in lanes."""
    return (
        smaller(here[0], there[0]), smaller(here[1], there[1]), smaller(here[2], there[2]),
        larger(here[0], there[0]), larger(here[1], there[1]), larger(here[2], there[2]),
    )  # fmt: skip


@numba.njit(inline="always")
def _both(one, two):  # type: ignore[no-untyped-def]
    """Return the boxes that hold two, in lanes."""
    return (
        smaller(one[0], two[0]), smaller(one[1], two[1]), smaller(one[2], two[2]),
        larger(one[3], two[3]), larger(one[4], two[4]), larger(one[5], two[5]),
    )  # fmt: skip


@numba.njit(inline="always")
def _reaches(low, high, values):  # type: ignore[no-untyped-def]
    """Return six lowest and highest values, in lanes, with six more."""
    return (
        (
            smaller(low[0], values[0]), smaller(low[1], values[1]), smaller(low[2], values[2]),
            smaller(low[3], values[3]), smaller(low[4], values[4]), smaller(low[5], values[5]),
        ),
        (
            larger(high[0], values[0]), larger(high[1], values[1]), larger(high[2], values[2]),
            larger(high[3], values[3]), larger(high[4], values[4]), larger(high[5], values[5]),
        ),
    )  # fmt: skip


@numba.njit(inline="always")
def _askew(at):  # type: ignore[no-untyped-def]
    """Return how far a place is along the six ways between two axes, times the root of two, metres."""
    x, y, z = at
    return x + y, x - y, x + z, x - z, y + z, y - z


@numba.njit(inline="always")
def _write(sides, n, box, none):  # type: ignore[no-untyped-def]
    """Write the sides of boxes n .. n + 7, given in lanes; of those that are none (infinite, else 0), of nothing."""
    count = len(sides) // 6
    put8(sides, n, box[0] + none)
    put8(sides, count + n, box[1] + none)
    put8(sides, 2 * count + n, box[2] + none)
    put8(sides, 3 * count + n, box[3] - none)
    put8(sides, 4 * count + n, box[4] - none)
    put8(sides, 5 * count + n, box[5] - none)


@numba.njit(inline="always")
def _loosen(loose, sides, n, marks):  # type: ignore[no-untyped-def]
    """Let the box (6,) hold those of boxes n .. n + 7, by their sides, that are marked."""
    count = len(sides) // 6
    while marks:
        k, marks = n + lowest(marks), marks & (marks - 1)
        for axis in range(3):
            loose[axis] = min(loose[axis], sides[axis * count + k])
            loose[3 + axis] = max(loose[3 + axis], sides[(3 + axis) * count + k])


@numba.njit(inline="always")
def _given(things, n):  # type: ignore[no-untyped-def]
    """Return how many of rows n .. n + 7 are not NONE."""
    many = 0
    for k in range(WIDE):
        many += things[n + k, 0] != NONE
    return many


@bare_kernel
def _bound_all(p, state, ends, first, last, box, slant):  # type: ignore[no-untyped-def]
    """Fill patch p's rows of `Bounds.box` and `Bounds.slant`."""
    far = np.float32(np.inf)
    low, high = all8(far), all8(-far)
    whole, least = (low, low, low, high, high, high), (low, low, low, low, low, low)
    most = (high, high, high, high, high, high)
    for n in range(first, last, WIDE):
        here, there = _eight(state, ends, n, 0)
        whole = _both(whole, _box_of(here, there))
        least, most = _reaches(least, most, _askew(here))
        least, most = _reaches(least, most, _askew(there))
    box[p, 0], box[p, 1], box[p, 2] = least8(whole[0]), least8(whole[1]), least8(whole[2])
    box[p, 3], box[p, 4], box[p, 5] = most8(whole[3]), most8(whole[4]), most8(whole[5])
    low = 2 * WIDE * p
    slant[low], slant[low + 1], slant[low + 2] = least8(least[0]), least8(least[1]), least8(least[2])
    slant[low + 3], slant[low + 4], slant[low + 5] = least8(least[3]), least8(least[4]), least8(least[5])
    high = low + WIDE
    slant[high], slant[high + 1], slant[high + 2] = most8(most[0]), most8(most[1]), most8(most[2])
    slant[high + 3], slant[high + 4], slant[high + 5] = most8(most[3]), most8(most[4]), most8(most[5])


@bare_kernel
def _bound_points(first, last, state, strayed, all_anew, points, sides, marked, loose, none):  # type: ignore[no-untyped-def]
    """Fill the boxes and marks of points first .. last - 1 in the order of the patches."""
    for n in range(first, last, WIDE):
        many, marks = _given(points, n), 0
        here, there = _eight(state, points, n, 0)
        _write(sides, n, _box_of(here, there), values8(none, WIDE * many))
        if not all_anew:
            for k in range(many):
                marks |= strayed[np.uint32(points[n + k, 0])] << k
            marked[n // WIDE] = marks
            _loosen(loose, sides, n, marks)


@bare_kernel
def _bound_edges(first, last, state, strayed, all_anew, edges, sides, marked, loose, none):  # type: ignore[no-untyped-def]
    """The same of edges; return the longest way along all axes of one's box, metres."""
    longest = all8(np.float32(0.0))
    for n in range(first, last, WIDE):
        many, marks = _given(edges, n), 0
        here, there = _eight(state, edges, n, 1)
        box = _box_of(here, there)
        here, there = _eight(state, edges, n, 2)
        box = _both(box, _box_of(here, there))
        longest = larger(longest, (box[3] - box[0]) + (box[4] - box[1]) + (box[5] - box[2]))
        _write(sides, n, box, values8(none, WIDE * many))
        if not all_anew:
            for k in range(many):
                marks |= (strayed[np.uint32(edges[n + k, 1])] | strayed[np.uint32(edges[n + k, 2])]) << k
            marked[n // WIDE] = marks
            _loosen(loose, sides, n, marks)
    return most8(longest)


@bare_kernel
def _bound_faces(  # type: ignore[no-untyped-def]
    first, last, state, strayed, all_anew, faces, sides, normal, marked, loose, none
):
    """The same of triangles, and their normals; return the sum of those (three numbers)."""
    sx = sy = sz = all8(np.float32(0.0))
    count = len(normal) // 3
    for n in range(first, last, WIDE):
        many, marks = _given(faces, n), 0
        a, there = _eight(state, faces, n, 1)
        box = _box_of(a, there)
        b, there = _eight(state, faces, n, 2)
        box = _both(box, _box_of(b, there))
        c, there = _eight(state, faces, n, 3)
        box = _both(box, _box_of(c, there))
        _write(sides, n, box, values8(none, WIDE * many))
        nx, ny, nz = _unit_normal(a, b, c)
        put8(normal, n, nx)
        put8(normal, count + n, ny)
        put8(normal, 2 * count + n, nz)
        sx, sy, sz = sx + nx, sy + ny, sz + nz
        if not all_anew:
            for k in range(many):
                i, j, m = np.uint32(faces[n + k, 1]), np.uint32(faces[n + k, 2]), np.uint32(faces[n + k, 3])
                marks |= (strayed[i] | strayed[j] | strayed[m]) << k
            marked[n // WIDE] = marks
            _loosen(loose, sides, n, marks)
    return sum8(sx), sum8(sy), sum8(sz)


@numba.njit(inline="always")
def _unit_normal(a, b, c):  # type: ignore[no-untyped-def]
    """Return the normals of eight triangles, in lanes; nothing where one is a line, whose patch is not flat then."""
    ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    vx, vy, vz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    square = dot3(nx, ny, nz, nx, ny, nz)
    over = choose(square > LINE, np.float32(1.0) / root(square), np.float32(0.0))
    return nx * over, ny * over, nz * over


@bare_kernel
def _lean(first, last, sx, sy, sz, faces, normal, none):  # type: ignore[no-untyped-def]
    """Return the least cosine of normals first .. last - 1 to a direction; 1 of none."""
    least, count = all8(np.float32(1.0)), len(normal) // 3
    for n in range(first, last, WIDE):
        turn = dot3(values8(normal, n), values8(normal, count + n), values8(normal, 2 * count + n), sx, sy, sz)
        least = smaller(least, turn + values8(none, WIDE * _given(faces, n)))
    return least8(least)


@bare_kernel
def _bound_some(begin, end, numbers, state, strayed, all_anew, patches, bounds, loose, none):  # type: ignore[no-untyped-def]
    """Fill the bounds of patches number begin .. end - 1 of the given ones.

    `loose` (6,) is room to work in; `none` float32 (72,) has for each number k from 0 to 8 a row of eight that tells
    what of eight is none when k are given: 0 of those, then infinity.
    """
    cone, faces = bounds.cone, patches.faces
    for turn in range(begin, end):
        p = numbers[turn]
        _bound_all(p, state, patches.ends, patches.end_span[p], patches.end_span[p + 1], bounds.box, bounds.slant)
        for axis in range(3):
            loose[axis], loose[3 + axis] = np.inf, -np.inf
        _bound_points(
            patches.point_span[p], patches.point_span[p + 1], state, strayed, all_anew, patches.points,
            bounds.point_box, bounds.point_marks, loose, none,
        )  # fmt: skip
        bounds.size[p] = _bound_edges(
            patches.edge_span[p], patches.edge_span[p + 1], state, strayed, all_anew, patches.edges, bounds.edge_box,
            bounds.edge_marks, loose, none,
        )  # fmt: skip
        first, last = patches.face_span[p], patches.face_span[p + 1]
        sx, sy, sz = _bound_faces(
            first, last, state, strayed, all_anew, faces, bounds.face_box, bounds.normal, bounds.face_marks, loose, none
        )
        for side in range(6):
            bounds.loose[p, side] = bounds.box[p, side] if all_anew else loose[side]
        over = np.float32(1.0) / (np.sqrt(sx * sx + sy * sy + sz * sz) + np.float32(1e-30))
        sx, sy, sz = sx * over, sy * over, sz * over
        cone[p, 0], cone[p, 1], cone[p, 2] = sx, sy, sz
        cone[p, 3] = _lean(first, last, sx, sy, sz, faces, bounds.normal, none)


@parallel_kernel
def bound_patches(flags, state, strayed, all_anew, patches, bounds, numbers):  # type: ignore[no-untyped-def]
    """Fill the bounds of the patches that are flagged, and `numbers` (P,) with which they are, rising.

    `state` float32 (N, 8) is where each point is and the way it is to go, metres; `strayed` (N,) which have strayed;
    `all_anew` that all have, then they are not marked one by one.
    Return how many are flagged, and of all patches the largest number of a box and the longest edge, metres.
    """
    count = 0
    for p in range(len(flags)):
        numbers[count] = p
        count += flags[p]
    for turn in numba.prange((count + SOME - 1) // SOME):
        begin, loose, none = np.int64(turn) * SOME, np.empty(6), np.zeros((WIDE + 1) * WIDE, np.float32)
        for given in range(WIDE):
            none[WIDE * given + given : WIDE * (given + 1)] = np.inf
        _bound_some(begin, min(begin + SOME, count), numbers, state, strayed, all_anew, patches, bounds, loose, none)
    farthest, longest = 0.0, 0.0
    for p in range(len(flags)):
        for k in range(3):
            farthest = max(farthest, -bounds.box[p, k], bounds.box[p, 3 + k])
        longest = max(longest, bounds.size[p])
    return count, farthest, longest
