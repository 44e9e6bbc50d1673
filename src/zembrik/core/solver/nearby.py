"""Finding which points and triangles, and which edges, may touch soon.

Patches (`patches`) that may touch are searched (`searching`), each pair on its own, so the pairs come in an order that
no thread changes.

What is found is to hold for some steps. Every point is expected to go on as it went: boxes cover
all of that way (as seen by one who goes with the whole), and a pair is found when the ways
of its points, relative to each other, could bring it together. Only for points that strayed from their
expected way, not for those that are fast, a new search is necessary. When the steps are over,
slow points are expected to stay where they have come to, and only the others are searched anew.

All is seen from one origin, and in single precision.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, parallel_kernel
from zembrik.core.lanes import WIDE, WIDTH
from zembrik.core.solver.patches import (
    NONE,
    Bounds,
    Patches,
    bound_patches,
    mark_strayed,
    meet_patches,
    most_of_any,
    place_beside,
)
from zembrik.core.solver.searching import ROUGH, SLIM, SOME, Things, search_patches

UNKNOWN = -1.0  # metres
ROOM = 384  # pairs of things that so many pairs of patches rarely hold more of

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]


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
        points, lines, triangles = (np.zeros(6 * len(rows), np.float32) for rows in things)
        marks = (np.zeros(len(rows) // WIDE, np.uint8) for rows in things)
        self.bounds = Bounds(
            np.zeros((count, 6)), np.zeros((count, 6)), np.zeros(count), np.zeros((count, 4)), points, lines, triangles,
            *marks,
        )  # fmt: skip
        self.edges, self.faces, bounds = edges, faces, self.bounds
        self.things = (
            Things(patches.points, patches.point_span, bounds.point_box, bounds.point_marks),
            Things(patches.edges, patches.edge_span, bounds.edge_box, bounds.edge_marks),
            Things(patches.faces, patches.face_span, bounds.face_box, bounds.face_marks),
        )
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
        self.state = np.zeros((many, 6), np.float32)

    def search_all(self, reach_m: float) -> tuple[Whole, Whole]:
        """Return the pairs of points and triangles (m, 2), and of edges (m, 2), that may come within the reach.

        `state` float32 (N, 6) is where each point is and the way that it is expected to go, metres.
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
        numbers = np.flatnonzero(self.flags)
        bound_patches(numbers, self.state, self.strayed, self.patches, self.bounds)
        reach_m += self._spare(reach_m)
        pairs = self._pairs_of_patches(numbers, reach_m, all_anew)
        lots = np.arange(-(-len(pairs) // SOME))
        counts = np.zeros((len(lots), 2), np.int64)
        bounds = self.bounds
        searched = (
            self.flags, self.state, *self.things, bounds.box, bounds.loose, reach_m, self.with_edges, self.most
        )  # fmt: skip
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

    def _spare(self, reach_m: float) -> float:
        """Return by how much the reach is widened as single precision may be off, metres.

        A point is off by half a unit in its last place, by the largest number there is; and as much again what is
        computed. Where things are slim or nearly parallel, the nearest places come from a small difference of
        products: what they are off by then is, of their size, about the root of the precision. Never more than the
        reach: what has flown off by kilometres may go through others there.
        """
        spare = ROUGH * float(np.abs(self.bounds.box).max(initial=0.0)) + SLIM * float(
            self.bounds.size.max(initial=0.0)
        )
        return spare if spare < reach_m else reach_m

    def _pairs_of_patches(self, numbers: NDArray[np.int64], reach_m: float, all_anew: bool) -> Whole:
        """Return the pairs of patches to be searched that one of those is in, see `_list_pairs`."""
        bounds = self.bounds
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
