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

from zembrik.core.compiled import bare_kernel, kernel, parallel_kernel
from zembrik.core.lanes import WIDE, WIDTH, lowest
from zembrik.core.solver.boxes import first_from, four_near
from zembrik.core.solver.colour import neighbourhoods

POINTS_A_PATCH = 12
NONE = -1  # no point, edge or triangle
FORM = -1_000_000  # the groups of colliders that change their form are this and below
SOME = 32  # patches that one thread takes at a time
MOVES = 8  # places that a patch goes in the line in the mean; where it is more, all are sorted anew
FLAT = 1.2  # radians that no normal of a patch and its neighbour leans farther to one direction: they cannot touch
LEAST = np.cos(FLAT)

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


class Line(NamedTuple):
    """The patches lined up by the low x of their boxes.

    Attributes:
        order: int64 (P,), their numbers; of equal ones, the lower first.
        rank: int64 (P,), where each is.
        sides: float64 (6 P',), their boxes by sides (see `boxes`), in that order, filled up to whole fours.
    """

    order: NDArray[np.int64]
    rank: NDArray[np.int64]
    sides: Floats


def no_line(count: int) -> Line:
    """Return room for so many patches."""
    sides = np.full((6, -(-count // WIDTH) * WIDTH), np.inf)
    sides[3:] = -np.inf
    return Line(np.arange(count), np.arange(count), sides.reshape(-1))


@kernel
def _line_up(box, line):  # type: ignore[no-untyped-def]
    """Line patches up by their boxes (P, 6), and return the largest extent along x, metres."""
    order, count, moves = line.order, len(box), 0
    for n in range(1, count):  # from search to search few change places
        p, m = order[n], n
        low = box[p, 0]
        while m > 0 and (box[order[m - 1], 0] > low or (box[order[m - 1], 0] == low and order[m - 1] > p)):
            order[m] = order[m - 1]
            m, moves = m - 1, moves + 1
        order[m] = p
        if moves > MOVES * count:
            break
    if moves > MOVES * count:
        order[:] = np.argsort(box[:, 0], kind="mergesort")
    row, widest = len(line.sides) // 6, 0.0
    for n in range(count):
        p = order[n]
        line.rank[p] = n
        for k in range(6):
            line.sides[k * row + n] = box[p, k]
        widest = max(widest, box[p, 3] - box[p, 0])
    return widest


@numba.njit(inline="always")
def _unit_normal(x, faces, n):  # type: ignore[no-untyped-def]
    a, b, c = np.uint32(faces[n, 1]), np.uint32(faces[n, 2]), np.uint32(faces[n, 3])
    ax, ay, az = np.float64(x[a, 0]), np.float64(x[a, 1]), np.float64(x[a, 2])
    ux, uy, uz = x[b, 0] - ax, x[b, 1] - ay, x[b, 2] - az
    vx, vy, vz = x[c, 0] - ax, x[c, 1] - ay, x[c, 2] - az
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    over = 1.0 / (np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-300)
    return nx * over, ny * over, nz * over


@numba.njit(inline="always")
def place_beside(p, q, patches):  # type: ignore[no-untyped-def]
    """Return a place of their own for patches p <= q that are one, or beside each other; -1 for others."""
    if p == q:
        return len(patches.beside) + p
    at = -1
    for n in range(patches.beside_span[p], patches.beside_span[p + 1]):
        if patches.beside[n] == q:
            at = n
    return at


@numba.njit(inline="always")
def _flat_together(p, q, cone):  # type: ignore[no-untyped-def]
    """Tell whether patches p and q, which are one, or neighbours, are nearly flat together."""
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
def _left_out(p, q, patches, searched):  # type: ignore[no-untyped-def]
    """Tell whether patches p and q are one, or beside each other, and were not searched yet."""
    at = place_beside(min(p, q), max(p, q), patches)
    return at >= 0 and not searched[at]


@numba.njit(inline="always")
def _may_touch(p, q, group):  # type: ignore[no-untyped-def]
    """Tell whether patches p and q have anything to do with one another."""
    if group[p] < 0 and group[q] < 0 and (group[p] <= FORM) == (group[q] <= FORM):
        return False
    return group[p] != group[q] or group[p] % 2 == 0


@bare_kernel
def _meet_one(  # type: ignore[no-untyped-def]
    p, flags, line, widest, box, loose, cone, patches, group, searched, reach, out
):
    """Fill out with the patches that patch p is to be searched with; return how many."""
    found, order, lows = 0, line.order, line.sides[: len(box)]
    low_x, low_y, low_z, high_x, high_y, high_z = around(loose, p, reach)
    for four in range(first_from(lows, low_x - widest) // WIDTH * WIDTH, len(lows), WIDTH):
        if lows[four] > high_x:
            break
        which = four_near(line.sides, four, low_x, low_y, low_z, high_x, high_y, high_z)
        while which:
            q, which = order[four + lowest(which)], which & (which - 1)
            if (q < p) & flags[q]:  # both have strayed: the lower one's row has the pair, if what strayed of it meets
                x, y, z, to_x, to_y, to_z = around(loose, q, reach)
                if meets(box, p, x, y, z, to_x, to_y, to_z):
                    continue
            if _may_touch(p, q, group) and not (group[p] == group[q] and _left_out(p, q, patches, searched)):
                if found < len(out):
                    out[found] = q
                found += 1
    # Those left out until now as nearly flat, however little of them has strayed.
    for n in range(patches.beside_span[p], patches.beside_span[p + 1] + 1):
        itself = n == patches.beside_span[p + 1]  # once, whether or not it is named as beside itself too
        q = p if itself else np.int64(patches.beside[n])
        if (q == p) != itself or (q < p) & flags[q] or not _may_touch(p, q, group):
            continue
        if _left_out(p, q, patches, searched) and not _flat_together(p, q, cone):
            if found < len(out):
                out[found] = q
            found += 1
    return found


@parallel_kernel
def meet_patches(  # type: ignore[no-untyped-def]
    numbers, line, flags, box, loose, cone, patches, group, searched, reach, all_anew, met, found, out
):
    """Write to out (room, 3) the pairs of patches to be searched, the lower number first, of the flagged ones.

    The third number tells whether all of the two is searched, or only what strayed: where all is looked for anew, and
    of patches that are one, or beside each other, when they were left out as nearly flat until now; `searched` takes
    note of those.

    Return how many there are, and how many of one patch at most; if there is no room for so many, in out or in a row of
    `met` (P, room), nothing is written. `numbers` (F,) are the flagged ones: what of them has strayed is what others
    may meet. `group` (P,) is negative for rigid bodies' and colliders' corners, which do not meet each other (but for
    colliders that change their form, `FORM` and below, which rigid bodies meet), else twice the body's number, odd when
    it is not kept apart from itself. `searched` is by `place_beside`: such patches are not left out any more, however
    flat they are. `found` (P,) is room to work in.
    """
    widest = _line_up(box, line)
    for i in numba.prange(len(numbers)):
        found[i] = _meet_one(
            numbers[i], flags, line, widest, box, loose, cone, patches, group, searched, reach, met[i]
        )  # fmt: skip
    whole, most = 0, 0
    for i in range(len(numbers)):
        whole, most = whole + found[i], max(most, found[i])
    if whole <= len(out) and most <= met.shape[1]:
        count = 0
        for i in range(len(numbers)):
            p = numbers[i]
            for n in range(found[i]):
                one, two = min(p, np.int64(met[i, n])), max(p, np.int64(met[i, n]))
                at = place_beside(one, two, patches)
                out[count, 0], out[count, 1] = one, two
                out[count, 2] = all_anew or (at >= 0 and not searched[at])
                if at >= 0:
                    searched[at] = True
                count += 1
    return whole, most
