"""Searching pairs of patches for what may come near: boxes first, then the distances of what those let pass.

All is in single precision, eight at a time: a pair too many does no harm, and the reach is as much wider as such
numbers may be off (`nearby.Search`).
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, dot3, kernel, parallel_kernel
from zembrik.core.distance.squares import square_of_segments, square_to_triangle
from zembrik.core.lanes import WIDE, bits, larger, lowest, root
from zembrik.core.lanes_memory import note8, rows8
from zembrik.core.solver.boxes import eight_near
from zembrik.core.solver.meeting_patches import around

SOME = 16  # pairs of patches that one thread takes at a time
ROOM = 384  # pairs of things that so many pairs of patches rarely hold more of
TRIES = 2048  # pairs of things whose boxes meet that wait to be measured, if eight more things do not add many
EDGES, POINT_FIRST, FACE_FIRST = 0, 1, 2  # what pairs are of
ROUGH = 4.0 * float(np.finfo(np.float32).eps)  # of the largest number, that what is computed from such may be off
SLIM = 1e-3  # of their size, that distances of slim or nearly parallel things may be off


class Things(NamedTuple):
    """All points, or edges, or triangles, in the order of the patches; see `patches.Patches` and `patches.Bounds`.

    Attributes:
        numbers: int32 (n, 1 to 4), the number of each, then its ends or corners.
        span: int64 (P + 1,), where each patch's begin.
        box: float32 (6 n,), their sides.
        marks: uint8 (n / 8,), which of each eight have strayed.
    """

    numbers: NDArray[np.int32]
    span: NDArray[np.int64]
    box: NDArray[np.float32]
    marks: NDArray[np.uint8]


class Waiting(NamedTuple):
    """Room to work in for one thread.

    Attributes:
        eights: int64, where those eights of a patch begin that are looked at.
        ones, twos: int32 (m,), places of pairs whose boxes meet. tries: int32 (m, 6), see `_corners`.
    """

    eights: NDArray[np.int64]
    ones: NDArray[np.int32]
    twos: NDArray[np.int32]
    tries: NDArray[np.int32]


@numba.njit(inline="always")
def _eights(span, q, sides, low_x, low_y, low_z, high_x, high_y, high_z, eights):  # type: ignore[no-untyped-def]
    """Write to eights where those of patch q's eights begin of which any box meets a box; return how many."""
    count = 0
    for n in range(span[q], span[q + 1], WIDE):  # each is written, and the next takes its place if it does not
        eights[count] = n
        count += eight_near(sides, n, low_x, low_y, low_z, high_x, high_y, high_z) != 0
    return count


@numba.njit(inline="always")
def _around(sides, n, reach):  # type: ignore[no-untyped-def]
    """Return the low and the high corner of box n, by its sides, farther out by the reach (six numbers)."""
    count = len(sides) // 6
    return (
        sides[n] - reach, sides[count + n] - reach, sides[2 * count + n] - reach,
        sides[3 * count + n] + reach, sides[4 * count + n] + reach, sides[5 * count + n] + reach,
    )  # fmt: skip


@numba.njit(inline="always")
def _eight(state, tries, n, k):  # type: ignore[no-untyped-def]
    """Return where eight points are, and their ways, by their numbers in column k of tries n .. n + 7."""
    x, y, z, to_x, to_y, to_z, _, _ = rows8(
        state, np.uint64(tries[n, k]), np.uint64(tries[n + 1, k]), np.uint64(tries[n + 2, k]),
        np.uint64(tries[n + 3, k]), np.uint64(tries[n + 4, k]), np.uint64(tries[n + 5, k]),
        np.uint64(tries[n + 6, k]), np.uint64(tries[n + 7, k]),
    )  # fmt: skip
    return (x, y, z), (to_x, to_y, to_z)


@numba.njit(inline="always")
def _between(one, other):  # type: ignore[no-untyped-def]
    """Return the square of the distance of two places, in lanes."""
    x, y, z = one[0] - other[0], one[1] - other[1], one[2] - other[2]
    return dot3(x, y, z, x, y, z)


@numba.njit(inline="always")
def _corners(ones, twos, many, kind, own, other, tries):  # type: ignore[no-untyped-def]
    """Write to tries two numbers, and four points, of each pair that shares none; return how many.

    Pairs are places in own and other, of such a kind: two edges, a point and a triangle, or a triangle and a point.
    The point's number is written before the triangle's, its corners before the point.
    """
    count = 0
    for k in range(many):  # each is written, and the next takes its place if a point is shared
        n, m = ones[k], twos[k]
        i, j = own[n, 0], other[m, 0]
        if kind == EDGES:
            a, b, c, d = own[n, 1], own[n, 2], other[m, 1], other[m, 2]
            alone = (a != c) & (b != c)
        elif kind == POINT_FIRST:
            a, b, c, d = other[m, 1], other[m, 2], other[m, 3], i
            alone = c != d
        else:
            a, b, c, d = own[n, 1], own[n, 2], own[n, 3], j
            alone, i, j = c != d, j, i
        tries[count, 0], tries[count, 1], tries[count, 2], tries[count, 3] = i, j, a, b
        tries[count, 4], tries[count, 5] = c, d
        count += alone & (a != d) & (b != d)
    for n in range(count, count + WIDE if count else 0):  # the last stands for those that make the last eight full
        for k in range(6):
            tries[n, k] = tries[count - 1, k]
    return count


@bare_kernel
def _choose(state, ones, twos, many, kind, own, other, tries, reach, out, first_place, room, found):  # type: ignore[no-untyped-def]
    """Add to out (m, 2), from a place on, those pairs that may come near; return how many are there then."""
    count = _corners(ones, twos, many, kind, own, other, tries)
    for first in range(0, count, WIDE):
        (a, goes_a), (b, goes_b) = _eight(state, tries, first, 2), _eight(state, tries, first, 3)
        (c, goes_c), (d, goes_d) = _eight(state, tries, first, 4), _eight(state, tries, first, 5)
        closing = larger(_between(goes_a, goes_d), _between(goes_b, goes_d))
        if kind == EDGES:
            square = square_of_segments(a, b, c, d)
            closing = larger(closing, larger(_between(goes_a, goes_c), _between(goes_b, goes_c)))
        else:
            square = square_to_triangle(d, a, b, c)
            closing = larger(closing, _between(goes_c, goes_d))
        hits = bits(root(square) < reach + root(closing))
        if first + WIDE > count:
            hits &= (1 << (count - first)) - 1
        while hits:
            k, hits = first + lowest(hits), hits & (hits - 1)
            if found < room:
                at = first_place + found
                out[at, 0], out[at, 1] = tries[k, 0], tries[k, 1]
            found += 1
    return found


@numba.njit(inline="always")
def _search_two(  # type: ignore[no-untyped-def]
    one, other, own, theirs, side, whole, rest, kind, state, box, reach, waiting, out, place, room, found
):
    """Add pairs of patch one's own things and patch other's to out, see `_choose`; return how many are there then.

    Of the own things, all (`whole`) or those that strayed; of theirs all, or (`rest`) those that did not. Of two edges
    of one patch that strayed, or of all, each pair once. `box` (P, 6) are the boxes of the patches, and `side` (P, 6)
    those of what is taken of the own one.
    """
    eights, ones, twos = waiting.eights, waiting.ones, waiting.twos
    own_box, their_box, marks = own.box, theirs.box, theirs.marks
    low_x, low_y, low_z, high_x, high_y, high_z = around(side, one, reach)
    count = _eights(theirs.span, other, their_box, low_x, low_y, low_z, high_x, high_y, high_z, eights)
    if count == 0:
        return found
    many, once, end = np.int64(0), (kind == EDGES) & (one == other), own.span[one + 1]
    low_x, low_y, low_z, high_x, high_y, high_z = around(box, other, reach)
    for first in range(own.span[one], end, WIDE):
        mine = eight_near(own_box, first, low_x, low_y, low_z, high_x, high_y, high_z)
        if not whole:
            mine &= np.int64(own.marks[first // WIDE])
        while mine:
            n, mine = first + lowest(mine), mine & (mine - 1)
            x, y, z, to_x, to_y, to_z = _around(own_box, n, np.float32(reach))
            for k in range(count):
                which = eight_near(their_box, eights[k], x, y, z, to_x, to_y, to_z)
                if once:
                    later = (255 << min(max(n + 1 - eights[k], 0), WIDE)) & 255
                    which &= later if whole else later | (255 ^ np.int64(marks[eights[k] // WIDE]))
                elif rest:
                    which &= 255 ^ np.int64(marks[eights[k] // WIDE])
                for m in range(WIDE):
                    ones[many + m] = n
                many += note8(eights[k], which, twos, many)
        if (many > TRIES) | (first + WIDE >= end):
            found = _choose(
                state, ones, twos, many, kind, own.numbers, theirs.numbers, waiting.tries, reach, out, place, room,
                found,
            )  # fmt: skip
            many = np.int64(0)
    return found


@bare_kernel
def _search_some(  # type: ignore[no-untyped-def]
    begin, end, pairs, flags, state, points, edges, faces, box, loose, reach, with_edges, row, place, room, points_out,
    edges_out, count, waiting,
):  # fmt: skip
    """Search pairs of patches begin .. end - 1 as one lot."""
    # What kernels are handed is named by a variable: of each constant, they would be compiled once more.
    found, found_edges, all_of_them = np.int64(0), np.int64(0), np.bool_(False)
    of_edges, point_first, face_first = np.int64(EDGES), np.int64(POINT_FIRST), np.int64(FACE_FIRST)
    at, at_edges, most, most_edges = place[row, 0], place[row, 1], room[row, 0], room[row, 1]
    for k in range(begin, end):
        p, q, whole = np.int64(pairs[k, 0]), np.int64(pairs[k, 1]), pairs[k, 2] != 0
        side = box if whole else loose
        for turn in range(2 if p == q else 4):
            # First one's points, or those that strayed; then other's triangles that strayed, with points that did not.
            one, other = (p, q) if turn < 2 else (q, p)
            if turn % 2 == 0:
                if whole | flags[one]:
                    found = _search_two(
                        one, other, points, faces, side, whole, all_of_them, point_first, state, box, reach, waiting,
                        points_out, at, most, found,
                    )  # fmt: skip
            elif flags[other] & (not whole):
                found = _search_two(
                    other, one, faces, points, side, whole, flags[one], face_first, state, box, reach, waiting,
                    points_out, at, most, found,
                )  # fmt: skip
        for turn in range(2 if with_edges else 0):
            # First all edges of p, or those that strayed; then those of q that strayed, with those of p that did not.
            one, other = (p, q) if turn == 0 else (q, p)
            if whole | flags[one] if turn == 0 else flags[one] & (not whole) & (p != q):
                found_edges = _search_two(
                    one, other, edges, edges, side, whole, (turn == 1) & flags[p], of_edges, state, box, reach,
                    waiting, edges_out, at_edges, most_edges, found_edges,
                )  # fmt: skip
    count[row, 0], count[row, 1] = found, found_edges


@parallel_kernel
def _search_lots(  # type: ignore[no-untyped-def]
    pairs, lots, place, room, flags, state, points, edges, faces, box, loose, reach, with_edges, most, points_out,
    edges_out, counts,
):  # fmt: skip
    """Search lots of SOME pairs of patches by their numbers, into points_out and edges_out (…, 2).

    `place` and `room` (all lots, 2) are where each lot's points and edges go and how many there may be; `counts`
    (all lots, 2) becomes how many there are, even if there is no room.
    """
    for row in numba.prange(len(lots)):
        begin, many = lots[row] * SOME, TRIES + WIDE * (most + 2)
        waiting = Waiting(
            np.empty(most // WIDE + 1, np.int64), np.empty(many, np.int32), np.empty(many, np.int32),
            np.empty((many, 6), np.int32),
        )  # fmt: skip
        _search_some(
            begin, min(begin + SOME, len(pairs)), pairs, flags, state, points, edges, faces, box, loose, reach,
            with_edges, lots[row], place, room, points_out, edges_out, counts, waiting,
        )  # fmt: skip


@parallel_kernel
def _pack(rows, counts, start, out):  # type: ignore[no-untyped-def]
    """Write what every lot holds, in ROOM rows each, to out (…, 2), where it starts; not what has had no room."""
    for lot in numba.prange(len(counts)):
        first, row = start[lot], ROOM * np.int64(lot)
        for n in range(counts[lot] if counts[lot] <= ROOM else 0):
            out[first + n, 0], out[first + n, 1] = rows[row + n, 0], rows[row + n, 1]


@kernel
def search_patches(  # type: ignore[no-untyped-def]
    pairs, flags, state, points, edges, faces, box, loose, reach, with_edges, most, points_room, edges_room
):  # fmt: skip
    """Search pairs of patches (m, 3); return the pairs of points and triangles (…, 2), and of edges (…, 2).

    Of a pair whose third number is 0, only what strayed in flagged patches is looked at, and what it may meet.

    `state` float32 (N, 8) is where each point is and the whole way that it is expected to go, metres; `points`,
    `edges` and `faces` are `Things`, `box` and `loose` as in `patches.Bounds`; `most` is how many points, edges or
    triangles a patch has at most. `points_room` and `edges_room` are ROOM rows for every SOME pairs of patches.
    """
    lots = (len(pairs) + SOME - 1) // SOME
    numbers, counts, room = np.arange(lots), np.zeros((lots, 2), np.int64), np.full((lots, 2), ROOM)
    place = np.empty((lots, 2), np.int64)
    for lot in range(lots):
        place[lot, 0] = place[lot, 1] = ROOM * lot
    _search_lots(
        pairs, numbers, place, room, flags, state, points, edges, faces, box, loose, reach, with_edges, most,
        points_room, edges_room, counts,
    )  # fmt: skip
    start, over, many, many_edges = place, 0, 0, 0
    for lot in range(lots):
        start[lot, 0], start[lot, 1] = many, many_edges
        many, many_edges = many + counts[lot, 0], many_edges + counts[lot, 1]
        numbers[over] = lot
        over += max(counts[lot, 0], counts[lot, 1]) > ROOM
    points_out, edges_out = np.empty((many, 2), np.int32), np.empty((many_edges, 2), np.int32)
    _pack(points_room, counts[:, 0], start[:, 0], points_out)
    _pack(edges_room, counts[:, 1], start[:, 1], edges_out)
    if over > 0:  # those few lots that hold most are searched once more, into their own places
        _search_lots(
            pairs, numbers[:over], start, counts.copy(), flags, state, points, edges, faces, box, loose, reach,
            with_edges, most, points_out, edges_out, counts,
        )  # fmt: skip
    return points_out, edges_out
