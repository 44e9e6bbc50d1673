"""Finding which points and triangles, and which edges, may touch soon.

Patches (`patches`) that may touch are searched, each pair on its own, so the pairs come in an order that no thread
changes.

What is found is to hold for some steps. Every point is expected to go on as it went: boxes cover
all of that way (as seen by one who goes with the whole), and a pair is found when the ways
of its points, relative to each other, could bring it together. Only for points that strayed from their
expected way, not for those that are fast, a new search is necessary. When the steps are over,
slow points are expected to stay where they have come to, and only the others are searched anew.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, dot3, parallel_kernel
from zembrik.core.distance.squares import square_of_segments, square_to_triangle
from zembrik.core.lanes import WIDTH, bits, lanes, larger, lowest, root
from zembrik.core.solver.boxes import four_near
from zembrik.core.solver.patches import (
    NONE,
    Bounds,
    Patches,
    around,
    bound_patches,
    mark_strayed,
    meet_patches,
    most_of_any,
    place_beside,
)

SOME = 16  # pairs of patches that one thread takes at a time
UNKNOWN = -1.0  # metres
TRIES = 2048  # pairs of things whose boxes meet that wait to be measured, if one more thing does not add many
ROOM = 384  # pairs of things that so many rarely hold more of

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]


@numba.njit(inline="always")
def _fours(span, q, sides, low_x, low_y, low_z, high_x, high_y, high_z, fours):  # type: ignore[no-untyped-def]
    """Write to fours where those of patch q's fours begin of which any box meets a box; return how many."""
    count = 0
    for n in range(span[q], span[q + 1], WIDTH):  # each is written, and the next takes its place if it does not
        fours[count] = n
        count += four_near(sides, n, low_x, low_y, low_z, high_x, high_y, high_z) != 0
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
def _four(state, tries, n, k, first):  # type: ignore[no-untyped-def]
    """Return places or ways (first = 0 or 3) of four points by their numbers in column k of tries n .. n + 3."""
    a, b = np.uint64(tries[n, k]), np.uint64(tries[n + 1, k])
    c, d = np.uint64(tries[n + 2, k]), np.uint64(tries[n + 3, k])
    return (
        lanes(state[a, first], state[b, first], state[c, first], state[d, first]),
        lanes(state[a, first + 1], state[b, first + 1], state[c, first + 1], state[d, first + 1]),
        lanes(state[a, first + 2], state[b, first + 2], state[c, first + 2], state[d, first + 2]),
    )


@numba.njit(inline="always")
def _between(one, other):  # type: ignore[no-untyped-def]
    """Return the square of the distance of two places, in lanes."""
    x, y, z = one[0] - other[0], one[1] - other[1], one[2] - other[2]
    return dot3(x, y, z, x, y, z)


@numba.njit(inline="always")
def _fill_up(tries, count):  # type: ignore[no-untyped-def]
    """Let the last of the tries stand for those that make the last four full."""
    if count > 0:
        for n in range(count, count + WIDTH):
            for k in range(6):
                tries[n, k] = tries[count - 1, k]


@bare_kernel
def _choose(state, tries, count, edges, reach, out, first_place, room, found):  # type: ignore[no-untyped-def]
    """Add to out (m, 2), from a place on, those of the tries that may come near; return how many are there then.

    A try is two numbers, and four points: edge and edge, or else a triangle's corners and a point.
    """
    _fill_up(tries, count)
    for first in range(0, count, WIDTH):
        a, b = _four(state, tries, first, 2, 0), _four(state, tries, first, 3, 0)
        c, d = _four(state, tries, first, 4, 0), _four(state, tries, first, 5, 0)
        goes_a, goes_b = _four(state, tries, first, 2, 3), _four(state, tries, first, 3, 3)
        goes_c, goes_d = _four(state, tries, first, 4, 3), _four(state, tries, first, 5, 3)
        closing = larger(_between(goes_a, goes_d), _between(goes_b, goes_d))
        if edges:
            square = square_of_segments(a, b, c, d)
            closing = larger(closing, larger(_between(goes_a, goes_c), _between(goes_b, goes_c)))
        else:
            square = square_to_triangle(d, a, b, c)
            closing = larger(closing, _between(goes_c, goes_d))
        hits = bits(root(square) < reach + root(closing))
        for k in range(min(WIDTH, count - first)):
            if (hits >> k) & 1:
                if found < room:
                    at = first_place + found
                    out[at, 0], out[at, 1] = tries[first + k, 0], tries[first + k, 1]
                found += 1
    return found


@numba.njit(inline="always")
def _marked(marks, first, whole):  # type: ignore[no-untyped-def]
    """Return in four bits which of a four have strayed; all of them where the whole is looked at."""
    return 15 if whole else np.int64(marks[first // WIDTH])


@numba.njit(inline="always")
def _points_of(p, q, whole, flags, state, patches, bounds, reach, fours, tries, out, place, room, found):  # type: ignore[no-untyped-def]
    """Add the pairs of p's points and q's triangles to out, see `_choose`; unless whole, only of what strayed."""
    own, theirs, faces, many = bounds.point_box, bounds.face_box, patches.faces, 0
    side = bounds.box if whole | flags[q] else bounds.loose
    low_x, low_y, low_z, high_x, high_y, high_z = around(side, p, reach)
    count = _fours(patches.face_span, q, theirs, low_x, low_y, low_z, high_x, high_y, high_z, fours)
    if count == 0:
        return found
    if whole | flags[p]:
        low_x, low_y, low_z, high_x, high_y, high_z = around(bounds.box, q, reach)
        for first in range(patches.point_span[p], patches.point_span[p + 1], WIDTH):
            mine = four_near(own, first, low_x, low_y, low_z, high_x, high_y, high_z)
            mine &= _marked(bounds.point_marks, first, whole)
            while mine:
                n, mine = first + lowest(mine), mine & (mine - 1)
                i, (x, y, z, to_x, to_y, to_z) = patches.points[n], _around(own, n, reach)
                for k in range(count):
                    which = four_near(theirs, fours[k], x, y, z, to_x, to_y, to_z)
                    while which:
                        m, which = fours[k] + lowest(which), which & (which - 1)
                        many += _try_face(tries, many, i, faces, m)
                if many > TRIES:
                    found, many = _choose(state, tries, many, False, reach, out, place, room, found), 0
    if flags[q] & (not whole):  # points that did not stray, with triangles that did
        for k in range(count):
            which = np.int64(bounds.face_marks[fours[k] // WIDTH])
            while which:
                m, which = fours[k] + lowest(which), which & (which - 1)
                x, y, z, to_x, to_y, to_z = _around(theirs, m, reach)
                for first in range(patches.point_span[p], patches.point_span[p + 1], WIDTH):
                    mine = four_near(own, first, x, y, z, to_x, to_y, to_z)
                    if flags[p]:
                        mine &= 15 ^ np.int64(bounds.point_marks[first // WIDTH])
                    while mine:
                        n, mine = first + lowest(mine), mine & (mine - 1)
                        many += _try_face(tries, many, patches.points[n], faces, m)
                if many > TRIES:
                    found, many = _choose(state, tries, many, False, reach, out, place, room, found), 0
    return _choose(state, tries, many, False, reach, out, place, room, found)


@numba.njit(inline="always")
def _try_face(tries, at, i, faces, m):  # type: ignore[no-untyped-def]
    """Write point i and triangle m to tries; return 1, or 0 if the one is a corner of the other."""
    a, b, c = faces[m, 1], faces[m, 2], faces[m, 3]
    tries[at, 0], tries[at, 1] = i, faces[m, 0]
    tries[at, 2], tries[at, 3], tries[at, 4], tries[at, 5] = a, b, c, i
    return (a != i) & (b != i) & (c != i)


@numba.njit(inline="always")
def _edges_of(p, q, whole, flags, state, patches, bounds, reach, fours, tries, out, place, room, found):  # type: ignore[no-untyped-def]
    """Add the pairs of patch p's edges and patch q's to out, see `_choose`; unless whole, of what strayed."""
    sides, edges, many = bounds.edge_box, patches.edges, 0
    for turn in range(2):
        # First all those of p, or those that strayed; then those of q that strayed, with those of p that did not.
        one, two = (p, q) if turn == 0 else (q, p)
        if (turn == 0) & (not (whole | flags[p])) or (turn == 1) & (whole | (p == q) | (not flags[q])):
            continue
        side = bounds.box if whole else bounds.loose
        low_x, low_y, low_z, high_x, high_y, high_z = around(side, one, reach)
        count = _fours(patches.edge_span, two, sides, low_x, low_y, low_z, high_x, high_y, high_z, fours)
        if count == 0:
            continue
        low_x, low_y, low_z, high_x, high_y, high_z = around(bounds.box, two, reach)
        for first in range(patches.edge_span[one], patches.edge_span[one + 1], WIDTH):
            mine = four_near(sides, first, low_x, low_y, low_z, high_x, high_y, high_z)
            mine &= _marked(bounds.edge_marks, first, whole)
            while mine:
                n, mine = first + lowest(mine), mine & (mine - 1)
                e, a, b = edges[n, 0], edges[n, 1], edges[n, 2]
                x, y, z, to_x, to_y, to_z = _around(sides, n, reach)
                for k in range(count):
                    which = four_near(sides, fours[k], x, y, z, to_x, to_y, to_z)
                    if p == q:  # of two that strayed, and of all when all are looked at, each pair once
                        after = min(max(n + 1 - fours[k], 0), WIDTH)
                        later = (15 << after) & 15
                        which &= later | (15 ^ _marked(bounds.edge_marks, fours[k], whole))
                    elif (turn == 1) & flags[p]:
                        which &= 15 ^ np.int64(bounds.edge_marks[fours[k] // WIDTH])
                    while which:
                        m, which = fours[k] + lowest(which), which & (which - 1)
                        c, d = edges[m, 1], edges[m, 2]
                        tries[many, 0], tries[many, 1] = e, edges[m, 0]
                        tries[many, 2], tries[many, 3], tries[many, 4], tries[many, 5] = a, b, c, d
                        many += (a != c) & (a != d) & (b != c) & (b != d)
                if many > TRIES:
                    found, many = _choose(state, tries, many, True, reach, out, place, room, found), 0
    return _choose(state, tries, many, True, reach, out, place, room, found)


@bare_kernel
def _search_some(  # type: ignore[no-untyped-def]
    begin, end, pairs, flags, state, patches, bounds, reach, with_edges, row, place, room, points_out, edges_out, count,
    fours, tries,
):  # fmt: skip
    """Search pairs of patches begin .. end - 1 as one lot."""
    points, edges = 0, 0
    at, at_edges, most, most_edges = place[row, 0], place[row, 1], room[row, 0], room[row, 1]
    for k in range(begin, end):
        p, q, whole = np.int64(pairs[k, 0]), np.int64(pairs[k, 1]), pairs[k, 2] != 0
        for turn in range(1 if p == q else 2):
            one, two = (p, q) if turn == 0 else (q, p)
            points = _points_of(
                one, two, whole, flags, state, patches, bounds, reach, fours, tries, points_out, at, most, points
            )
        if with_edges:
            edges = _edges_of(
                p, q, whole, flags, state, patches, bounds, reach, fours, tries, edges_out, at_edges, most_edges, edges
            )
    count[row, 0], count[row, 1] = points, edges


@parallel_kernel
def search_patches(  # type: ignore[no-untyped-def]
    pairs, lots, place, room, flags, state, patches, bounds, reach, with_edges, most, points_out, edges_out, count
):
    """Search pairs of patches (m, 3), lot by lot, into points_out and edges_out (…, 2).

    Of a pair whose third number is 0, only what strayed in flagged patches is looked at, and what it may meet.

    `lots` (rows,) are the numbers of those to be searched, `place` and `room` (rows, 2) where each lot's points and
    edges go and how many there may be; `count` (rows, 2) becomes how many there are, even if there is no room.
    `state` (N, 6) is where each point is and the whole way that it is expected to go, metres; `most` is
    how many points, edges or triangles a patch has at most.
    """
    for row in numba.prange(len(lots)):
        begin = lots[row] * SOME
        fours, tries = np.empty(most // WIDTH + 1, np.int64), np.empty((TRIES + most + WIDTH + 1, 6), np.int32)
        _search_some(
            begin, min(begin + SOME, len(pairs)), pairs, flags, state, patches, bounds, reach, with_edges,
            np.int64(row), place, room, points_out, edges_out, count, fours, tries,
        )  # fmt: skip


@bare_kernel
def _replace(old, first_gone, second_gone, new, out):  # type: ignore[no-untyped-def]
    """Write old pairs with no side that is gone, then the new ones (m, 2); return how many. Out may be where old is."""
    pairs, apart, until, count = out.pairs, out.apart, out.until, 0
    for k in range(len(old.pairs)):  # each is written, and the next takes its place if it is not kept
        a, b = old.pairs[k, 0], old.pairs[k, 1]
        pairs[count, 0], pairs[count, 1], apart[count], until[count] = a, b, old.apart[k], old.until[k]
        count += not (first_gone[a] | second_gone[b])
    for k in range(len(new)):
        pairs[count, 0], pairs[count, 1], apart[count], until[count] = new[k, 0], new[k, 1], UNKNOWN, -np.inf
        count += 1
    return count


class Near(NamedTuple):
    """Pairs that may touch soon.

    Attributes:
        pairs: int32 (m, 2), two numbers: a point's and a triangle's, or two edges'.
        apart: float64 (m,), how far each is apart at rest, metres; UNKNOWN before that is asked for.
        until: float64 (m,), see `measuring.find_touching`, metres.
    """

    pairs: Whole
    apart: Floats
    until: Floats


class Known:
    """The near pairs that are known, in room that is kept from search to search.

    Attributes:
        near: the pairs.
    """

    def __init__(self) -> None:
        self.near = self._room = Near(np.empty((0, 2), np.int32), np.empty(0), np.empty(0))

    def forget(self) -> None:
        """Know of none any more."""
        self.near = self._first(0)

    def replace(self, first_gone: NDArray[np.bool_], second_gone: NDArray[np.bool_], new: Whole) -> None:
        """Forget pairs with a side that is gone (things,), and take on new ones (m, 2)."""
        most = len(self.near.pairs) + len(new)
        if most > len(self._room.until):
            most += most // 4
            self._room = Near(np.empty((most, 2), np.int32), np.empty(most), np.empty(most))
        self.near = self._first(_replace(self.near, first_gone, second_gone, new, self._room))

    def _first(self, count: int) -> Near:
        return Near(self._room.pairs[:count], self._room.apart[:count], self._room.until[:count])


@parallel_kernel
def _pack(rows, lots, start, out):  # type: ignore[no-untyped-def]
    """Write what those lots hold, ROOM in rows each, to out (m, 2), where each begins, start (…,)."""
    for k in numba.prange(len(lots)):
        first, row = start[lots[k]], ROOM * lots[k]
        for n in range(start[lots[k] + 1] - first):
            out[first + n, 0], out[first + n, 1] = rows[row + n, 0], rows[row + n, 1]


@bare_kernel
def _list_pairs(numbers, met, found, patches, searched, all_anew, out):  # type: ignore[no-untyped-def]
    """Write to out (m, 3) the pairs of patches, the lower number first, and whether all of them is to be searched.

    That is so where all is looked for anew, and of patches that are one, or beside each other, when they were left out
    as nearly flat until now; `searched` takes note of those.
    """
    count = 0
    for i in range(len(numbers)):
        p = numbers[i]
        for n in range(found[i]):
            one, two = min(p, met[i, n]), max(p, met[i, n])
            at = place_beside(one, two, patches)
            out[count, 0], out[count, 1] = one, two
            out[count, 2] = all_anew or (at >= 0 and not searched[at])
            if at >= 0:
                searched[at] = True
            count += 1


class Search:
    """Looks for near pairs in the same mesh again and again.

    Args:
        patches: of the mesh.
        edges: int32 (E, 2). faces: int32 (T, 3).
        group: int64 (P,), see `meet_patches`.
        with_edges: whether pairs of edges are wanted.

    `strayed` (N,) are the points that the next search is for, `flags` (P,) the patches that hold any of them or of what
    they belong to; `faces_strayed` (T,) and `edges_strayed` (E,) are the triangles and edges that one of them is of.
    """

    def __init__(
        self, patches: Patches, edges: Whole, faces: Whole, group: NDArray[np.int64], with_edges: bool
    ) -> None:
        self.patches, self.group, self.with_edges = patches, group, with_edges
        count, given = len(group), patches.points != NONE
        things = (patches.points, patches.edges, patches.faces)
        points, lines, triangles = (np.zeros(6 * len(rows)) for rows in things)
        marks = (np.zeros(len(rows) // WIDTH, np.uint8) for rows in things)
        self.bounds = Bounds(
            np.zeros((count, 6)), np.zeros((count, 6)), np.zeros((count, 4)), points, lines, triangles, *marks
        )
        self.edges, self.faces = edges, faces
        many = int(np.count_nonzero(given))
        self.strayed, self.flags = np.zeros(many, np.bool_), np.zeros(count, np.bool_)
        self.edges_strayed, self.faces_strayed = np.zeros(len(edges), np.bool_), np.zeros(len(faces), np.bool_)
        # Which patches, that are one or beside each other, were searched since all was: they are no more left out.
        self.searched = np.zeros(count + len(patches.beside), np.bool_)
        self.rank = np.empty(count, np.int64)
        self.sides = np.full((6, -(-count // WIDTH) * WIDTH), np.inf)  # see `boxes`
        self.sides[3:] = -np.inf
        self.most = most_of_any(patches)
        self.met, self.met_count = np.empty((count, 32), np.int32), np.zeros(count, np.int64)
        self.rows = [np.empty((0, 2), np.int32) for _ in range(2)]
        self.state = np.zeros((many, 6))

    def search_all(self, reach_m: float) -> tuple[Whole, Whole]:
        """Return the pairs of points and triangles (m, 2), and of edges (m, 2), that may come within the reach.

        `state` (N, 6) is where each point is and the way that it is expected to go, metres.
        """
        self.flags[:], self.strayed[:], self.searched[:] = True, True, False
        return self._search(reach_m, all_anew=True)

    def search_strayed(self, reach_m: float) -> tuple[Whole, Whole]:
        """The same, only pairs of which a point has strayed since a search before.

        Patches that are not flagged are where they were expected when they were; their boxes still hold. So do pairs of
        which no point has strayed. Left out before were those of patches beside each other that were nearly flat: when
        they are so no more, all of the two is searched once.
        """
        mark_strayed(self.strayed, self.edges, self.faces, self.edges_strayed, self.faces_strayed)
        return self._search(reach_m, all_anew=False)

    def _search(self, reach_m: float, all_anew: bool) -> tuple[Whole, Whole]:
        pairs = self._pairs_of_patches(reach_m, all_anew)
        lots = np.arange(-(-len(pairs) // SOME))
        counts = np.zeros((len(lots), 2), np.int64)
        searched = (self.flags, self.state, self.patches, self.bounds, reach_m, self.with_edges, self.most)
        if len(self.rows[0]) < ROOM * len(lots):
            self.rows = [np.empty((ROOM * (len(lots) + len(lots) // 4), 2), np.int32) for _ in range(2)]
        place, room = np.repeat(ROOM * lots, 2).reshape(-1, 2), np.full((len(lots), 2), ROOM)
        search_patches(pairs, lots, place, room, *searched, *self.rows, counts)
        start = np.zeros((len(lots) + 1, 2), np.int64)
        np.cumsum(counts, axis=0, out=start[1:])
        found = [np.empty((many, 2), np.int32) for many in start[-1]]
        fits = counts.max(axis=1, initial=0) <= ROOM
        for kind in range(2):
            _pack(self.rows[kind], np.flatnonzero(fits), start[:, kind].copy(), found[kind])
        over = np.flatnonzero(~fits)
        if len(over):  # few hold most: they are searched once more, into their own places
            again = np.zeros((len(over), 2), np.int64)
            search_patches(pairs, over, start[over], counts[over], *searched, *found, again)
        return found[0], found[1]

    def _pairs_of_patches(self, reach_m: float, all_anew: bool) -> Whole:
        """Bound the flagged patches, and return the pairs to be searched that one of them is in, see `_list_pairs`."""
        numbers, bounds = np.flatnonzero(self.flags), self.bounds
        bound_patches(numbers, self.state, self.strayed, self.patches, bounds)
        order = np.argsort(bounds.box[:, 0], kind="stable")
        count = len(order)
        self.rank[order] = np.arange(count)
        self.sides[:, :count] = bounds.box[order].T
        lows = self.sides[0, :count]
        widest = float((self.sides[3, :count] - lows).max(initial=0.0))
        found = self.met_count[: len(numbers)]
        things = (self.rank[numbers], order, self.flags, lows, self.sides.reshape(-1), widest, bounds.box,
                  bounds.loose, bounds.cone, self.patches, self.group, self.searched, reach_m)  # fmt: skip
        meet_patches(*things, self.met, found)
        if int(found.max(initial=0)) > self.met.shape[1]:
            self.met = np.empty((len(self.flags), 2 * int(found.max())), np.int32)
            meet_patches(*things, self.met, found)
        pairs = np.empty((int(found.sum()), 3), np.int32)
        _list_pairs(numbers, self.met, found, self.patches, self.searched, all_anew, pairs)
        return pairs
