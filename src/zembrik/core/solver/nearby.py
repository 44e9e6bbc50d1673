"""Finding which points and triangles, and which edges, may touch soon.

Patches (`patches`) that may touch are searched, each pair on its own, so the pairs come in an order that no thread
changes.

What is found is to hold for some steps. Every point is expected to go on as it went: boxes cover
all of that way (as seen by one who goes with the whole), and a pair is found when the ways
of its points, relative to each other, could bring it together. Only for patches that leave their
expected way, not for those that are fast, a new search is necessary. When the steps are over,
slow patches are expected to stay where they have come to, and only the others are searched anew.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import dot3, kernel, parallel_kernel
from zembrik.core.distance.squares import square_of_segments, square_to_triangle
from zembrik.core.lanes import WIDTH, bits, corner4, either, larger, points4, root, values4
from zembrik.core.solver.patches import (
    Bounds,
    Patches,
    apart,
    bound_patches,
    find_moving,
    meet_flagged,
    meet_patches,
    most_of_any,
)

SOME = 32  # pairs of patches that one thread takes at a time
BATCH, ROOM = 1024, 96  # pairs of patches searched at a time, and pairs of things that they rarely hold more of

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]


@numba.njit(inline="always")
def _near_of(first, last, boxes, around, p, reach, near, side):  # type: ignore[no-untyped-def]
    """Write to near which of boxes first .. last - 1 are within reach of box p of around; returns how many.

    Their six sides go to side (6 len(near),), side by side, and after them come boxes that are near nothing.
    """
    count, room = 0, len(near)
    for n in range(first, last):
        if not apart(boxes, n, around, p, reach):
            near[count] = n
            for k in range(6):
                side[k * room + count] = boxes[n, k]
            count += 1
    for n in range(count, min(count + WIDTH, room)):
        side[n] = np.inf
    return count


@numba.njit(inline="always")
def _four_near(side, room, k, low_x, low_y, low_z, high_x, high_y, high_z):  # type: ignore[no-untyped-def]
    """Return in four bits which of boxes k .. k + 3, by their sides, are not apart from a box."""
    x = either(values4(side, k) > high_x, values4(side, 3 * room + k) < low_x)
    y = either(values4(side, room + k) > high_y, values4(side, 4 * room + k) < low_y)
    z = either(values4(side, 2 * room + k) > high_z, values4(side, 5 * room + k) < low_z)
    return 15 - bits(either(either(x, y), z))


@numba.njit(inline="always")
def _between(one, other):  # type: ignore[no-untyped-def]
    """Return the square of the distance of two places, in lanes."""
    x, y, z = one[0] - other[0], one[1] - other[1], one[2] - other[2]
    return dot3(x, y, z, x, y, z)


@numba.njit(inline="always")
def _choose_points(tries, count, x, way, faces, reach, out, row, found):  # type: ignore[no-untyped-def]
    """Add to a row of out those of the pairs of point and triangle, tries (count, 2), that may come near."""
    for first in range(0, count, WIDTH):
        i0, i1, i2, i3 = corner4(tries, first, 0)
        t0, t1, t2, t3 = corner4(tries, first, 1)
        a0, a1, a2, a3 = faces[t0, 0], faces[t1, 0], faces[t2, 0], faces[t3, 0]
        b0, b1, b2, b3 = faces[t0, 1], faces[t1, 1], faces[t2, 1], faces[t3, 1]
        c0, c1, c2, c3 = faces[t0, 2], faces[t1, 2], faces[t2, 2], faces[t3, 2]
        square = square_to_triangle(
            points4(x, i0, i1, i2, i3),
            points4(x, a0, a1, a2, a3),
            points4(x, b0, b1, b2, b3),
            points4(x, c0, c1, c2, c3),
        )
        goes = points4(way, i0, i1, i2, i3)
        closing = larger(
            larger(_between(goes, points4(way, a0, a1, a2, a3)), _between(goes, points4(way, b0, b1, b2, b3))),
            _between(goes, points4(way, c0, c1, c2, c3)),
        )
        hits = bits(root(square) < reach + root(closing))
        for k in range(min(WIDTH, count - first)):
            if (hits >> k) & 1:
                if found < out.shape[1]:
                    out[row, found, 0], out[row, found, 1] = tries[first + k, 0], tries[first + k, 1]
                found += 1
    return found


@numba.njit(inline="always")
def _choose_edges(tries, count, x, way, edges, reach, out, row):  # type: ignore[no-untyped-def]
    """Write to a row of out those of the pairs of edges, tries (count, 2), that may come near; returns how many."""
    found = 0
    for first in range(0, count, WIDTH):
        e0, e1, e2, e3 = corner4(tries, first, 0)
        f0, f1, f2, f3 = corner4(tries, first, 1)
        a0, a1, a2, a3 = edges[e0, 0], edges[e1, 0], edges[e2, 0], edges[e3, 0]
        b0, b1, b2, b3 = edges[e0, 1], edges[e1, 1], edges[e2, 1], edges[e3, 1]
        c0, c1, c2, c3 = edges[f0, 0], edges[f1, 0], edges[f2, 0], edges[f3, 0]
        d0, d1, d2, d3 = edges[f0, 1], edges[f1, 1], edges[f2, 1], edges[f3, 1]
        square = square_of_segments(
            points4(x, a0, a1, a2, a3),
            points4(x, b0, b1, b2, b3),
            points4(x, c0, c1, c2, c3),
            points4(x, d0, d1, d2, d3),
        )
        a, b = points4(way, a0, a1, a2, a3), points4(way, b0, b1, b2, b3)
        c, d = points4(way, c0, c1, c2, c3), points4(way, d0, d1, d2, d3)
        closing = larger(larger(_between(a, c), _between(a, d)), larger(_between(b, c), _between(b, d)))
        hits = bits(root(square) < reach + root(closing))
        for k in range(min(WIDTH, count - first)):
            if (hits >> k) & 1:
                if found < out.shape[1]:
                    out[row, found, 0], out[row, found, 1] = tries[first + k, 0], tries[first + k, 1]
                found += 1
    return found


@numba.njit(inline="always")
def _fill_up(tries, count):  # type: ignore[no-untyped-def]
    """Let the last of the tries stand for those that make the last four full."""
    if count > 0:
        for n in range(count, min(count + WIDTH, len(tries))):
            tries[n, 0], tries[n, 1] = tries[count - 1, 0], tries[count - 1, 1]


@numba.njit(inline="always")
def _points_of(p, q, x, ahead, way, faces, patches, bounds, reach, near, side, tries, out, row, found):  # type: ignore[no-untyped-def]
    """Add the pairs of patch p's points and patch q's triangles to a row of out."""
    first, last = patches.face_span[q], patches.face_span[q + 1]
    count, room = _near_of(first, last, bounds.face_box, bounds.box, p, reach, near, side), len(near)
    order, box, many = patches.faces, bounds.box, 0
    points_end = patches.point_span[p + 1] if count > 0 else patches.point_span[p]
    for n in range(patches.point_span[p], points_end):
        i = np.uint32(patches.points[n])
        low_x, high_x = min(x[i, 0], ahead[i, 0]) - reach, max(x[i, 0], ahead[i, 0]) + reach
        low_y, high_y = min(x[i, 1], ahead[i, 1]) - reach, max(x[i, 1], ahead[i, 1]) + reach
        low_z, high_z = min(x[i, 2], ahead[i, 2]) - reach, max(x[i, 2], ahead[i, 2]) + reach
        if (
            low_x > box[q, 3] or high_x < box[q, 0] or low_y > box[q, 4] or high_y < box[q, 1]
            or low_z > box[q, 5] or high_z < box[q, 2]
        ):  # fmt: skip
            continue
        for group in range(0, count, WIDTH):
            which = _four_near(side, room, group, low_x, low_y, low_z, high_x, high_y, high_z)
            for m in range(WIDTH):
                if (which >> m) & 1:
                    t = order[near[group + m]]
                    if i != faces[t, 0] and i != faces[t, 1] and i != faces[t, 2]:
                        tries[many, 0], tries[many, 1] = i, t
                        many += 1
    _fill_up(tries, many)
    return _choose_points(tries, many, x, way, faces, reach, out, row, found)


@numba.njit(inline="always")
def _edges_of(p, q, x, way, edges, patches, bounds, reach, near, side, tries, out, row):  # type: ignore[no-untyped-def]
    """Write the pairs of patch p's edges and patch q's to a row of out; returns how many."""
    first, last = patches.edge_span[q], patches.edge_span[q + 1]
    count, room = _near_of(first, last, bounds.edge_box, bounds.box, p, reach, near, side), len(near)
    order, box, own, many = patches.edges, bounds.box, bounds.edge_box, 0
    edges_end = patches.edge_span[p + 1] if count > 0 else patches.edge_span[p]
    for n in range(patches.edge_span[p], edges_end):
        if apart(own, n, box, q, reach):
            continue
        low_x, low_y, low_z = own[n, 0] - reach, own[n, 1] - reach, own[n, 2] - reach
        high_x, high_y, high_z = own[n, 3] + reach, own[n, 4] + reach, own[n, 5] + reach
        e = order[n]
        a, b = edges[e, 0], edges[e, 1]
        for group in range(0, count, WIDTH):
            which = _four_near(side, room, group, low_x, low_y, low_z, high_x, high_y, high_z)
            for k in range(WIDTH):
                if not (which >> k) & 1 or (p == q and near[group + k] <= n):
                    continue
                f = order[near[group + k]]
                c, d = edges[f, 0], edges[f, 1]
                if a != c and a != d and b != c and b != d:
                    tries[many, 0], tries[many, 1] = e, f
                    many += 1
    _fill_up(tries, many)
    return _choose_edges(tries, many, x, way, edges, reach, out, row)


@kernel
def _search_some(  # type: ignore[no-untyped-def]
    begin, end, pairs, x, ahead, way, edges, faces, patches, bounds, reach, with_edges, points_out, edges_out, count
):
    """Search pairs of patches begin .. end - 1, each into its own row."""
    # One long function: handing all these arrays on costs more than looking at a pair.
    points, lines, triangles = most_of_any(patches)
    most, every = max(lines, triangles) + WIDTH, max(points * triangles, lines * lines) + WIDTH
    near, side, tries = np.empty(most, np.int64), np.empty(6 * most), np.empty((every, 2), np.int32)
    for k in range(begin, end):
        found = 0
        for turn in range(2):
            p, q = np.int64(pairs[k, turn]), np.int64(pairs[k, 1 - turn])
            if turn == 1 and p == q:
                continue
            found = _points_of(p, q, x, ahead, way, faces, patches, bounds, reach, near, side, tries, points_out, k,
                               found)  # fmt: skip
        count[k, 0], count[k, 1] = found, 0
        if with_edges:
            p, q = np.int64(pairs[k, 0]), np.int64(pairs[k, 1])
            count[k, 1] = _edges_of(p, q, x, way, edges, patches, bounds, reach, near, side, tries, edges_out, k)


@parallel_kernel
def search_patches(  # type: ignore[no-untyped-def]
    pairs, x, ahead, way, edges, faces, patches, bounds, reach, with_edges, points_out, edges_out, count
):
    """Search each pair of patches into its own row of points_out and edges_out (pairs, room, 2); count (pairs, 2).

    `ahead` (N, 3) is where each point is expected in the end and `way` (N, 3) the whole way there, metres.
    """
    for turn in numba.prange((len(pairs) + SOME - 1) // SOME):
        begin = np.int64(turn) * SOME
        _search_some(
            begin, min(begin + SOME, len(pairs)), pairs, x, ahead, way, edges, faces, patches, bounds, reach,
            with_edges, points_out, edges_out, count,
        )  # fmt: skip


@kernel
def replaced(pairs, first, second, apart, spare, gone, new_pairs, new_apart):  # type: ignore[no-untyped-def]
    """Return pairs with no side at a point that is gone, then the new ones, with how far apart each is and its spare.

    first, second: int32 (things, k), what both sides are of; a side's first point tells whether it is gone.
    """
    count, more = 0, len(new_pairs)
    keep = np.empty(len(pairs), np.bool_)
    for k in range(len(pairs)):
        keep[k] = not (gone[first[pairs[k, 0], 0]] or gone[second[pairs[k, 1], 0]])
        count += keep[k]
    out, out_apart, out_spare = np.empty((count + more, 2), np.int32), np.empty(count + more), np.empty(count + more)
    at = 0
    for k in range(len(pairs)):
        if keep[k]:
            out[at, 0], out[at, 1], out_apart[at], out_spare[at] = pairs[k, 0], pairs[k, 1], apart[k], spare[k]
            at += 1
    for k in range(more):
        out[at, 0], out[at, 1], out_apart[at], out_spare[at] = new_pairs[k, 0], new_pairs[k, 1], new_apart[k], -np.inf
        at += 1
    return out, out_apart, out_spare


@parallel_kernel
def _pack(rows, start, out):  # type: ignore[no-untyped-def]
    for k in numba.prange(len(start) - 1):
        for n in range(start[k + 1] - start[k]):
            out[start[k] + n, 0], out[start[k] + n, 1] = rows[k, n, 0], rows[k, n, 1]


class Search:
    """Looks for near pairs in the same mesh again and again.

    Args:
        patches: of the mesh.
        edges: int32 (E, 2). faces: int32 (T, 3).
        group: int64 (P,), see `meet_patches`.
        with_edges: whether pairs of edges are wanted.
    """

    def __init__(
        self, patches: Patches, edges: Whole, faces: Whole, group: NDArray[np.int64], with_edges: bool
    ) -> None:
        self.patches, self.edges, self.faces, self.group, self.with_edges = patches, edges, faces, group, with_edges
        count = len(group)
        self.bounds = Bounds(*[np.zeros(size) for size in ((count, 6), (count, 4), (len(edges), 6), (len(faces), 6))])
        self.owner = np.zeros(int(patches.point_span[-1]), np.int32)  # the patch that each point is in
        self.owner[patches.points] = np.repeat(np.arange(count), np.diff(patches.point_span))
        self.every, self.flags = np.arange(count), np.zeros(count, np.bool_)
        self.strayed = np.zeros(len(self.owner), np.bool_)
        self.met, self.met_count = np.empty((count, 32), np.int32), np.zeros(count, np.int64)
        self.rows = [np.empty((BATCH, ROOM, 2), np.int32) for _ in range(2)]

    def look_out(self, x: Floats, expected: Floats, off_m: float) -> int:
        """Flag the patches of which a point is farther off from where it is expected; return how many there are.

        x, expected: float64 (N, 3), metres.
        """
        return self.look_for_moving(x, expected, x, off_m, np.inf)

    def look_for_moving(self, x: Floats, expected: Floats, way: Floats, off_m: float, far_m: float) -> int:
        """The same, and flag patches of which a point's way (N, 3) is longer than `far_m`."""
        find_moving(x, expected, way, off_m, far_m, self.patches, self.strayed, self.flags)
        return int(np.count_nonzero(self.flags))

    def near(
        self, x: Floats, reach_m: float, whole: Floats | None = None, flagged: bool = False
    ) -> tuple[Whole, Whole]:
        """Return pairs of points and triangles (m, 2), and of edges (m, 2), that may come near each other.

        Args:
            x: float64 (N, 3), places now, metres.
            reach_m: what is closer than this is found.
            whole: float64 (N, 3), what each point is expected to go, metres, and what comes that close on
                its way is found too; None: nothing moves.
            flagged: only pairs that a flagged patch is in. All others are where they were expected when all pairs were
                looked for; their boxes still hold.
        """
        bounds = self.bounds
        whole = np.zeros_like(x) if whole is None else whole
        ahead = x + whole
        numbers = np.flatnonzero(self.flags) if flagged else self.every
        bound_patches(numbers, x, ahead, self.edges, self.faces, self.patches, bounds)
        things = (bounds, self.patches, self.group, reach_m)
        if not flagged:
            numbers = np.argsort(bounds.box[:, 0], kind="stable")
        found = self.met_count[: len(numbers)]
        while True:
            if flagged:
                meet_flagged(numbers, self.flags, *things, self.met, found)
            else:
                meet_patches(numbers, *things, self.met, found)
            if int(found.max(initial=0)) <= self.met.shape[1]:
                break
            self.met = np.empty((len(self.every), 2 * int(found.max())), np.int32)
        inside = np.arange(self.met.shape[1]) < found[:, None]
        one, two = np.repeat(numbers, found), self.met[: len(numbers)][inside]
        pairs = np.stack([np.minimum(one, two), np.maximum(one, two)], axis=1).astype(np.int32)
        points, edges = [], []
        searched = (x, ahead, whole, self.edges, self.faces, self.patches, bounds, reach_m, self.with_edges)
        counts = np.zeros((len(pairs), 2), np.int64)
        for first in range(0, len(pairs), BATCH):
            some, count = pairs[first : first + BATCH], counts[first : first + BATCH]
            search_patches(some, *searched, *self.rows, count)
            fits = np.where(count.max(axis=1, keepdims=True) > ROOM, 0, count)
            points.append(_packed(self.rows[0], fits[:, 0].copy()))
            edges.append(_packed(self.rows[1], fits[:, 1].copy()))
        over = counts.max(axis=1) > ROOM
        if over.any():  # few pairs of patches hold most: only they get long rows
            some, count = pairs[over], counts[over]
            rows = [np.empty((len(some), int(counts.max()), 2), np.int32) for _ in range(2)]
            search_patches(some, *searched, *rows, count)
            points.append(_packed(rows[0], count[:, 0].copy()))
            edges.append(_packed(rows[1], count[:, 1].copy()))
        if not points:
            return np.zeros((0, 2), np.int32), np.zeros((0, 2), np.int32)
        return np.concatenate(points), np.concatenate(edges)


def _packed(rows: Whole, counts: NDArray[np.int64]) -> Whole:
    """Return what the first n rows (…, room, 2) hold, counts (n,) of each, as one list (m, 2)."""
    start = np.concatenate([[0], np.cumsum(counts)])
    out = np.empty((start[-1], 2), np.int32)
    _pack(rows, start, out)
    return out
