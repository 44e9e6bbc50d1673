"""Small patches of cloth and of whatever it meets, their boxes and their normals.

The points are cut into small patches; an edge or triangle belongs to the patch of its first
point. `meeting_patches` finds which of them may touch, `nearby` has those searched.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, parallel_kernel
from zembrik.core.lanes import WIDE
from zembrik.core.solver.colour import neighbourhoods

POINTS_A_PATCH = 12
NONE = -1  # no point, edge or triangle
SOME = 32  # patches that one thread takes at a time

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
    beside, beside_span = _lists(links, count, count)
    ends = patch * len(places) + np.arange(len(places))
    for things in (edges, faces):
        for k in range(things.shape[1]):
            ends = np.unique(np.concatenate([ends, patch[things[:, 0]] * len(places) + things[:, k]]))
    within, end_span = _lists(ends, count, len(places))
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


def _lists(pairs: NDArray[np.int64], count: int, stride: int) -> tuple[Whole, NDArray[np.int64]]:
    """Return the second numbers of rising pairs, first times stride plus second, and where each first's begin."""
    first, second = np.divmod(pairs, max(stride, 1))
    span = np.concatenate([[0], np.cumsum(np.bincount(first, minlength=count))]).astype(np.int64)
    return second.astype(np.int32), span


class Bounds(NamedTuple):
    """What is known of each patch when the search begins.

    Attributes:
        box: float64 (P, 6), lowest and highest corner around all that is the patch's, and all its way, metres.
        loose: float64 (P, 6), the same around what of it has strayed; only of patches that are flagged.
        size: float64 (P,), no edge of the patch is longer, metres.
        cone: float64 (P, 4), mean normal and least cosine to it.
        normal: float32 (t, 3), the normals of triangles, in the order of the patches.
        point_box, edge_box, face_box: float32 (6 n,), (6 e,) and (6 t,), of each alone, in the order of the patches:
            the first side of all, then the second of all, and so on. What is NONE meets nothing.
        point_marks, edge_marks, face_marks: uint8 (n / 8,), (e / 8,) and (t / 8,), in the bits of each which of eight
            have strayed; of patches that are not flagged, they tell of earlier searches.
    """

    box: Floats
    loose: Floats
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
def _way_of(state, i):  # type: ignore[no-untyped-def]
    """Return the low and the high corner of the box around point i and all its way (six numbers)."""
    ax, ay, az = state[i, 0], state[i, 1], state[i, 2]
    bx, by, bz = ax + state[i, 3], ay + state[i, 4], az + state[i, 5]
    return min(ax, bx), min(ay, by), min(az, bz), max(ax, bx), max(ay, by), max(az, bz)


@numba.njit(inline="always")
def _both(one, two):  # type: ignore[no-untyped-def]
    """Return the box that holds two."""
    return (
        min(one[0], two[0]), min(one[1], two[1]), min(one[2], two[2]),
        max(one[3], two[3]), max(one[4], two[4]), max(one[5], two[5]),
    )  # fmt: skip


@numba.njit(inline="always")
def _write(sides, n, box):  # type: ignore[no-untyped-def]
    """Write box n's sides."""
    count = len(sides) // 6
    sides[n], sides[count + n], sides[2 * count + n] = box[0], box[1], box[2]
    sides[3 * count + n], sides[4 * count + n], sides[5 * count + n] = box[3], box[4], box[5]


@bare_kernel
def _bound_some(begin, end, numbers, state, strayed, patches, bounds):  # type: ignore[no-untyped-def]
    """Fill the bounds of patches number begin .. end - 1 of the given ones."""
    cone, points, edges, faces = bounds.cone, patches.points, patches.edges, patches.faces
    of_points, of_edges, of_faces = bounds.point_marks, bounds.edge_marks, bounds.face_marks
    far = np.float32(np.inf)
    nothing = (far, far, far, -far, -far, -far)
    for turn in range(begin, end):
        p, sx, sy, sz, whole, loose, marks, longest = numbers[turn], 0.0, 0.0, 0.0, nothing, nothing, 0, 0.0
        for n in range(patches.point_span[p], patches.point_span[p + 1]):
            box, i, marks = nothing, points[n, 0], marks >> 1
            if i != NONE:
                box, marks = _way_of(state, i), marks | (strayed[i] << 7)
            if marks & 128:
                loose = _both(loose, box)
            _write(bounds.point_box, n, box)
            whole, of_points[n // WIDE] = _both(whole, box), marks  # the last of eight writes all of them
        for n in range(patches.edge_span[p], patches.edge_span[p + 1]):
            box, marks = nothing, marks >> 1
            if edges[n, 0] != NONE:
                i, j = np.uint32(edges[n, 1]), np.uint32(edges[n, 2])
                box, marks = _both(_way_of(state, i), _way_of(state, j)), marks | ((strayed[i] | strayed[j]) << 7)
                longest = max(longest, np.float64(box[3] - box[0]) + (box[4] - box[1]) + (box[5] - box[2]))
            if marks & 128:
                loose = _both(loose, box)
            _write(bounds.edge_box, n, box)
            whole, of_edges[n // WIDE] = _both(whole, box), marks
        first, last, bounds.size[p] = patches.face_span[p], patches.face_span[p + 1], longest
        for n in range(first, last):
            box, marks = nothing, marks >> 1
            if faces[n, 0] != NONE:
                i, j, k = np.uint32(faces[n, 1]), np.uint32(faces[n, 2]), np.uint32(faces[n, 3])
                box = _both(_both(_way_of(state, i), _way_of(state, j)), _way_of(state, k))
                marks |= (strayed[i] | strayed[j] | strayed[k]) << 7
                nx, ny, nz = _unit_normal(state, faces, n)
                bounds.normal[n, 0], bounds.normal[n, 1], bounds.normal[n, 2] = nx, ny, nz
                sx, sy, sz = sx + nx, sy + ny, sz + nz
            if marks & 128:
                loose = _both(loose, box)
            _write(bounds.face_box, n, box)
            whole, of_faces[n // WIDE] = _both(whole, box), marks
        for side in range(6):
            bounds.box[p, side], bounds.loose[p, side] = whole[side], loose[side]
        size = np.sqrt(sx * sx + sy * sy + sz * sz) + 1e-300
        sx, sy, sz = sx / size, sy / size, sz / size
        least = 1.0
        for n in range(first, last):
            if faces[n, 0] != NONE:
                nx, ny, nz = bounds.normal[n, 0], bounds.normal[n, 1], bounds.normal[n, 2]
                least = min(least, sx * nx + sy * ny + sz * nz)
        cone[p, 0], cone[p, 1], cone[p, 2], cone[p, 3] = sx, sy, sz, least


@parallel_kernel
def bound_patches(flags, state, strayed, patches, bounds, numbers):  # type: ignore[no-untyped-def]
    """Fill the bounds of the patches that are flagged, and `numbers` (P,) with which they are, rising.

    `state` float32 (N, 8) is where each point is and the way it is to go, metres; `strayed` (N,) which have strayed.
    Return how many are flagged, and of all patches the largest number of a box and the longest edge, metres.
    """
    count = 0
    for p in range(len(flags)):
        numbers[count] = p
        count += flags[p]
    for turn in numba.prange((count + SOME - 1) // SOME):
        begin = np.int64(turn) * SOME
        _bound_some(begin, min(begin + SOME, count), numbers, state, strayed, patches, bounds)
    farthest, longest = 0.0, 0.0
    for p in range(len(flags)):
        for k in range(3):
            farthest = max(farthest, -bounds.box[p, k], bounds.box[p, 3 + k])
        longest = max(longest, bounds.size[p])
    return count, farthest, longest


@numba.njit(inline="always")
def _unit_normal(x, faces, n):  # type: ignore[no-untyped-def]
    a, b, c = np.uint32(faces[n, 1]), np.uint32(faces[n, 2]), np.uint32(faces[n, 3])
    ax, ay, az = np.float64(x[a, 0]), np.float64(x[a, 1]), np.float64(x[a, 2])
    ux, uy, uz = x[b, 0] - ax, x[b, 1] - ay, x[b, 2] - az
    vx, vy, vz = x[c, 0] - ax, x[c, 1] - ay, x[c, 2] - az
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    over = 1.0 / (np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-300)
    return nx * over, ny * over, nz * over
