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
from zembrik.core.lanes import WIDE
from zembrik.core.solver.meeting_patches import meet_patches, no_line
from zembrik.core.solver.patches import NONE, Bounds, Patches, bound_patches, most_of_any
from zembrik.core.solver.searching import ROOM, ROUGH, SLIM, SOME, Things, search_patches

UNKNOWN = -1.0  # metres

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]


class Near(NamedTuple):
    """Pairs that may touch soon.

    Attributes:
        pairs: int32 (m, 2), two numbers: a point's and a triangle's, or two edges'.
        apart: float64 (m,), how near each may come for how far it is apart at rest, metres; UNKNOWN before
            that is asked.
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

    def room_for(self, more: int) -> Near:
        """Return room for all that are known, and so many more, where those that are known lie already or not."""
        most = len(self.near.pairs) + more
        if most > len(self._room.until):
            most += most // 4
            self._room = Near(np.empty((most, 2), np.int32), np.empty(most), np.empty(most))
        return self._room

    def know(self, count: int) -> None:
        """Know of the first so many in that room from now on."""
        self.near = self._first(count)

    def _first(self, count: int) -> Near:
        return Near(self._room.pairs[:count], self._room.apart[:count], self._room.until[:count])


@bare_kernel
def _replace(old, strayed, points, first, second, new, out):  # type: ignore[no-untyped-def]
    """Write old pairs of which no point has strayed, then new ones (m, 2); return how many.

    `first` and `second` (…, k) are the points of both sides, `points` tells that the first are points themselves. Out
    may be where old is.
    """
    pairs, apart, until, count = out.pairs, out.apart, out.until, 0
    for k in range(len(old.pairs)):  # each is written, and the next takes its place if it is not kept
        a, b = np.uint32(old.pairs[k, 0]), np.uint32(old.pairs[k, 1])
        pairs[count, 0], pairs[count, 1], apart[count], until[count] = a, b, old.apart[k], old.until[k]
        gone = strayed[np.uint32(second[b, 0])] | strayed[np.uint32(second[b, 1])]
        if points:
            gone |= strayed[a] | strayed[np.uint32(second[b, 2])]
        else:
            gone |= strayed[np.uint32(first[a, 0])] | strayed[np.uint32(first[a, 1])]
        count += not gone
    for k in range(len(new)):
        pairs[count, 0], pairs[count, 1], apart[count], until[count] = new[k, 0], new[k, 1], UNKNOWN, -np.inf
        count += 1
    return count


@parallel_kernel
def replace_pairs(points, lines, strayed, edges, faces, new_points, new_lines, points_out, lines_out):  # type: ignore[no-untyped-def]
    """Forget pairs of which a point has strayed (N,), and take on new ones (m, 2); return how many there are then.

    Args:
        points, lines: those of points and triangles, and of edges, that are known, `Near`.
        edges, faces: int32 (E, 2) and (T, 3).
        points_out, lines_out: `Near`, room for all of them; what is known may lie there.
    """
    counts, of_points, of_lines = np.empty(2, np.int64), np.bool_(True), np.bool_(False)
    for kind in numba.prange(2):
        if kind == 0:
            counts[0] = _replace(points, strayed, of_points, faces, faces, new_points, points_out)
        else:
            counts[1] = _replace(lines, strayed, of_lines, edges, edges, new_lines, lines_out)
    return counts[0], counts[1]


class Search:
    """Looks for near pairs in the same mesh again and again.

    Args:
        patches: of the mesh.
        edges: int32 (E, 2). faces: int32 (T, 3).
        group: int64 (P,), see `meet_patches`.
        with_edges: whether pairs of edges are wanted.

    `strayed` (N,) are the points that the next search is for, `flags` (P,) the patches that hold any of them or of what
    they belong to.
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
            np.zeros((count, 6)), np.zeros((count, 6)), np.zeros(2 * WIDE * count, np.float32), np.zeros(count),
            np.zeros((count, 4)),
            np.zeros(3 * len(patches.faces), np.float32), points, lines, triangles, *marks,
        )  # fmt: skip
        self.edges, self.faces, bounds = edges, faces, self.bounds
        self.things = (
            Things(patches.points, patches.point_span, bounds.point_box, bounds.point_marks),
            Things(patches.edges, patches.edge_span, bounds.edge_box, bounds.edge_marks),
            Things(patches.faces, patches.face_span, bounds.face_box, bounds.face_marks),
        )
        many = int(np.count_nonzero(given))
        self.strayed, self.flags = np.zeros(many, np.bool_), np.zeros(count, np.bool_)
        # Which patches, that are one or beside each other, were searched since all was: they are no more left out.
        self.searched = np.zeros(count + len(patches.beside), np.bool_)
        self.line, self.most = no_line(count), most_of_any(patches)
        self.numbers, self.met_count = np.zeros(count, np.int64), np.zeros(count, np.int64)
        self.met, self.pairs = np.empty((count, 32), np.int32), np.empty((0, 3), np.int32)
        self.rows = [np.empty((0, 2), np.int32) for _ in range(2)]
        self.state = np.zeros((many, 8), np.float32)

    def search_all(self, reach_m: float) -> tuple[Whole, Whole]:
        """Return the pairs of points and triangles (m, 2), and of edges (m, 2), that may come within the reach.

        `state` float32 (N, 8) is where each point is and the way that it is expected to go, metres (and two numbers
        that make it rows of eight).
        """
        self.flags[:], self.strayed[:], self.searched[:] = True, True, False
        return self._search(reach_m, all_anew=True)

    def search_strayed(self, reach_m: float) -> tuple[Whole, Whole]:
        """The same, only pairs of which a point has strayed since a search before.

        Patches that are not flagged are where they were expected when they were; their boxes still hold. So do pairs of
        which no point has strayed. Left out before were those of patches beside each other that were nearly flat: when
        they are so no more, all of the two is searched once.
        """
        return self._search(reach_m, all_anew=False)

    def _search(self, reach_m: float, all_anew: bool) -> tuple[Whole, Whole]:
        bounds = self.bounds
        count, farthest, longest = bound_patches(
            self.flags, self.state, self.strayed, all_anew, self.patches, bounds, self.numbers
        )
        # Single precision: a point is off by half a unit in its last place, by the largest number there is; and as much
        # again what is computed. Where things are slim or nearly parallel, the nearest places come from a small
        # difference of products: what they are off by then is, of their size, about the root of the precision. Never
        # more than the reach: what has flown off by kilometres may go through others there.
        spare = ROUGH * farthest + SLIM * longest
        reach_m += spare if spare < reach_m else reach_m
        pairs = self._pairs_of_patches(self.numbers[:count], reach_m, all_anew)
        lots = -(-len(pairs) // SOME)
        if len(self.rows[0]) < ROOM * lots:
            self.rows = [np.empty((ROOM * (lots + lots // 4), 2), np.int32) for _ in range(2)]
        found: tuple[Whole, Whole] = search_patches(
            pairs, self.flags, self.state, *self.things, bounds.box, bounds.loose, reach_m, self.with_edges, self.most,
            *self.rows,
        )  # fmt: skip
        return found

    def _pairs_of_patches(self, numbers: NDArray[np.int64], reach_m: float, all_anew: bool) -> Whole:
        """Return the pairs of patches to be searched that one of those is in, see `meet_patches`."""
        bounds = self.bounds
        while True:
            count, most = meet_patches(
                numbers, self.line, self.flags, bounds.box, bounds.loose, bounds.slant, bounds.cone, self.patches,
                self.group, self.searched, reach_m, all_anew, self.met, self.met_count, self.pairs,
            )  # fmt: skip
            if count <= len(self.pairs) and most <= self.met.shape[1]:
                return self.pairs[:count]
            if count > len(self.pairs):
                self.pairs = np.empty((count + count // 4, 3), np.int32)
            if most > self.met.shape[1]:
                self.met = np.empty((len(self.flags), 2 * most), np.int32)
