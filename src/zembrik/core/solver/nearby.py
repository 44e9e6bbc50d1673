"""Finding which points and triangles, and which edges, may touch soon.

The points are cut into small patches; an edge or triangle belongs to the patch of its first
point. Patches whose boxes are apart have nothing to do with one another, and a patch that is
nearly flat, with a neighbour that continues it, cannot touch itself (the normals stay within
a half space: Volino and Magnenat-Thalmann 1994). Only the patches left over are searched,
each pair on its own, so the pairs come in an order that no thread changes.

What is found is to hold for some steps. Every point is expected to go on as it went: boxes cover
all of that way (as seen by one who goes with the whole), and a pair is found when the ways
of its points, relative to each other, could bring it together. Only for patches that leave their
expected way, not for those that are fast, a new search is necessary.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.solver.colour import neighbourhoods
from zembrik.core.solver.mesh_contact import edge_gap, point_gap

POINTS_A_PATCH = 12
FORM = -1_000_000  # the groups of colliders that change their form are this and below
ROOM = 96  # pairs of things that most pairs of patches hold at most
FLAT = 1.5  # radians between any two normals of a patch and its neighbour, below which they cannot touch

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
    one, two = patch[edges[:, 0]], patch[edges[:, 1]]
    links = np.unique(np.concatenate([np.stack([one, two], 1), np.stack([two, one], 1)]), axis=0)
    for k in (1, 2):  # faces reach across corners that no edge of two patches does
        more = np.stack([patch[faces[:, 0]], patch[faces[:, k]]], 1)
        links = np.unique(np.concatenate([links, more, more[:, ::-1]]), axis=0)
    beside_span = np.concatenate([[0], np.cumsum(np.bincount(links[:, 0], minlength=count))]).astype(np.int64)
    points, lines, triangles = orders
    point_span, edge_span, face_span = spans
    beside = links[:, 1].astype(np.int32)
    owners = [patch, np.repeat(patch[edges[:, 0]], 2), np.repeat(patch[faces[:, 0]], 3)]
    every = np.concatenate([np.arange(len(places)), edges.ravel(), faces.ravel()])
    pairs = np.unique(np.stack([np.concatenate(owners), every], axis=1), axis=0)
    end_span = np.concatenate([[0], np.cumsum(np.bincount(pairs[:, 0], minlength=count))]).astype(np.int64)
    ends = pairs[:, 1].astype(np.int32)
    return Patches(points, lines, triangles, point_span, edge_span, face_span, beside, beside_span, ends, end_span)


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
def _add(x, ahead, i, box):  # type: ignore[no-untyped-def]
    for axis in range(3):
        low, high = min(x[i, axis], ahead[i, axis]), max(x[i, axis], ahead[i, axis])
        box[axis], box[3 + axis] = min(box[axis], low), max(box[3 + axis], high)


@kernel
def _bound(p, x, ahead, edges, faces, patches, bounds):  # type: ignore[no-untyped-def]
    """Fill the bounds of patch p."""
    box, cone = bounds.box[p], bounds.cone[p]
    box[:3], box[3:] = np.inf, -np.inf
    for n in range(patches.point_span[p], patches.point_span[p + 1]):
        _add(x, ahead, patches.points[n], box)
    for n in range(patches.edge_span[p], patches.edge_span[p + 1]):
        own = bounds.edge_box[n]
        own[:3], own[3:] = np.inf, -np.inf
        for k in range(2):
            _add(x, ahead, edges[patches.edges[n], k], own)
        for axis in range(3):
            box[axis], box[3 + axis] = min(box[axis], own[axis]), max(box[3 + axis], own[3 + axis])
    sx, sy, sz = 0.0, 0.0, 0.0
    for n in range(patches.face_span[p], patches.face_span[p + 1]):
        t, own = patches.faces[n], bounds.face_box[n]
        own[:3], own[3:] = np.inf, -np.inf
        for k in range(3):
            _add(x, ahead, faces[t, k], own)
        for axis in range(3):
            box[axis], box[3 + axis] = min(box[axis], own[axis]), max(box[3 + axis], own[3 + axis])
        nx, ny, nz = _unit_normal(x, faces, t)
        sx, sy, sz = sx + nx, sy + ny, sz + nz
    size = np.sqrt(sx * sx + sy * sy + sz * sz) + 1e-300
    sx, sy, sz = sx / size, sy / size, sz / size
    least = 1.0
    for n in range(patches.face_span[p], patches.face_span[p + 1]):
        nx, ny, nz = _unit_normal(x, faces, patches.faces[n])
        least = min(least, sx * nx + sy * ny + sz * nz)
    cone[0], cone[1], cone[2], cone[3] = sx, sy, sz, least


@parallel_kernel
def bound_patches(x, ahead, edges, faces, patches, bounds):  # type: ignore[no-untyped-def]
    """Fill the bounds of all patches; ahead (N, 3) is where each point is expected in the end, metres."""
    for p in numba.prange(len(bounds.box)):
        _bound(p, x, ahead, edges, faces, patches, bounds)


@kernel
def _any_of(p, marked, patches):  # type: ignore[no-untyped-def]
    for n in range(patches.end_span[p], patches.end_span[p + 1]):  # noqa: SIM110 - no generators in kernels
        if marked[patches.ends[n]]:
            return True
    return False


@parallel_kernel
def find_strayed(x, expected, off_m, patches, points, flags):  # type: ignore[no-untyped-def]
    """Find what has left its way: points (N,) and the patches that hold any such point, flags (P,).

    Args:
        x, expected: float64 (N, 3), places and where they should be, metres.
        off_m: how far from there is too far.
    """
    for i in numba.prange(len(x)):
        a, b, c = x[i, 0] - expected[i, 0], x[i, 1] - expected[i, 1], x[i, 2] - expected[i, 2]
        points[i] = a * a + b * b + c * c > off_m * off_m
    for p in numba.prange(len(flags)):
        flags[p] = _any_of(p, points, patches)


@kernel
def _unit_normal(x, faces, t):  # type: ignore[no-untyped-def]
    a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
    ux, uy, uz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
    vx, vy, vz = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    size = np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-300
    return nx / size, ny / size, nz / size


@kernel
def _flat_together(p, q, patches, cone):  # type: ignore[no-untyped-def]
    """Tell whether patches p and q are one, or neighbours, and nearly flat together."""
    if p != q:
        low, high = patches.beside_span[p], patches.beside_span[p + 1]
        last = high
        while low < high:
            middle = (low + high) // 2
            if patches.beside[middle] < q:
                low = middle + 1
            else:
                high = middle
        if low == last or patches.beside[low] != q:
            return False
    turn = cone[p, 0] * cone[q, 0] + cone[p, 1] * cone[q, 1] + cone[p, 2] * cone[q, 2]
    # Angles add up: all normals within 90 degrees of one another.
    return (
        np.arccos(min(max(turn, -1.0), 1.0)) + np.arccos(max(cone[p, 3], -1.0)) + np.arccos(max(cone[q, 3], -1.0))
        < FLAT
    )


@kernel
def _may_meet(p, q, box, cone, patches, group, reach):  # type: ignore[no-untyped-def]
    """Tell whether patches p and q must be searched; see `meet_patches`."""
    if (  # written out: with slices of rows this takes five times as long
        box[q, 0] - box[p, 3] > reach
        or box[p, 0] - box[q, 3] > reach
        or box[p, 1] - box[q, 4] > reach
        or box[q, 1] - box[p, 4] > reach
        or box[p, 2] - box[q, 5] > reach
        or box[q, 2] - box[p, 5] > reach
    ):
        return False
    if group[p] < 0 and group[q] < 0 and (group[p] <= FORM) == (group[q] <= FORM):
        return False
    return group[p] != group[q] or not (group[p] % 2 == 1 or _flat_together(p, q, patches, cone))


@kernel
def _meet_one(i, order, flags, flagged, box, cone, patches, group, reach, out):  # type: ignore[no-untyped-def]
    """Write to out (room,) the patches that the i-th in order must be searched with; returns how many."""
    p, found = order[i], 0
    for j in range(i, len(order)):
        q = order[j]
        if box[q, 0] - box[p, 3] > reach:
            break
        if flagged and not (flags[p] or flags[q]):
            continue
        if _may_meet(p, q, box, cone, patches, group, reach):
            if found < len(out):
                out[found] = q
            found += 1
    return found


@parallel_kernel
def meet_patches(order, flags, flagged, bounds, patches, group, reach, out, count):  # type: ignore[no-untyped-def]
    """Write to each row of out (P, room) the patches to be searched with that patch of order; count (P,) how many.

    `order` sorts the boxes by their low x; with `flagged`, only pairs with a flagged patch are wanted. `group` (P,)
    is negative for rigid bodies' and colliders' corners, which do not meet each other (but for
    colliders that change their form, `FORM` and below, which rigid bodies meet), else twice the body's number,
    odd when it is not kept apart from itself.
    """
    for i in numba.prange(len(order)):
        count[i] = _meet_one(i, order, flags, flagged, bounds.box, bounds.cone, patches, group, reach, out[i])


@kernel
def _close(way, i, j):  # type: ignore[no-untyped-def]
    """Return the square of what points i and j go relative to each other."""
    x, y, z = way[i, 0] - way[j, 0], way[i, 1] - way[j, 1], way[i, 2] - way[j, 2]
    return x * x + y * y + z * z


@kernel
def _apart(one, two, reach):  # type: ignore[no-untyped-def]
    """Tell whether two boxes (6,) are farther apart than the reach along an axis."""
    return (
        one[0] - two[3] > reach
        or two[0] - one[3] > reach
        or one[1] - two[4] > reach
        or two[1] - one[4] > reach
        or one[2] - two[5] > reach
        or two[2] - one[5] > reach
    )


@kernel
def _near_of(first, last, boxes, box, reach, out):  # type: ignore[no-untyped-def]
    """Write to out which of boxes first .. last - 1 are within reach of a box; returns how many."""
    count = 0
    for n in range(first, last):
        if not _apart(boxes[n], box, reach):
            out[count] = n
            count += 1
    return count


@kernel
def _points_of(p, q, x, ahead, way, faces, patches, bounds, reach, out, found):  # type: ignore[no-untyped-def]
    """Add the pairs of patch p's points and patch q's triangles."""
    first, last = patches.face_span[q], patches.face_span[q + 1]
    near = np.empty(last - first, np.int64)
    count = _near_of(first, last, bounds.face_box, bounds.box[p], reach, near)
    if count == 0:
        return found
    one = np.empty(6)
    for n in range(patches.point_span[p], patches.point_span[p + 1]):
        i = patches.points[n]
        one[:3], one[3:] = np.inf, -np.inf
        _add(x, ahead, i, one)
        if _apart(one, bounds.box[q], reach):
            continue
        for m in range(count):
            if _apart(one, bounds.face_box[near[m]], reach):
                continue
            t = patches.faces[near[m]]
            a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
            if i == a or i == b or i == c:  # noqa: SIM109
                continue
            closing = np.sqrt(max(_close(way, i, a), _close(way, i, b), _close(way, i, c)))
            if abs(point_gap(x, x, i, a, b, c)[0]) >= reach + closing:
                continue
            if found < len(out):
                out[found, 0], out[found, 1] = i, t
            found += 1
    return found


@kernel
def _edges_of(p, q, x, way, edges, patches, bounds, reach, out, found):  # type: ignore[no-untyped-def]
    """Add the pairs of patch p's edges and patch q's."""
    first, last = patches.edge_span[q], patches.edge_span[q + 1]
    near = np.empty(last - first, np.int64)
    count = _near_of(first, last, bounds.edge_box, bounds.box[p], reach, near)
    if count == 0:
        return found
    for n in range(patches.edge_span[p], patches.edge_span[p + 1]):
        own = bounds.edge_box[n]
        if _apart(own, bounds.box[q], reach):
            continue
        e = patches.edges[n]
        a, b = edges[e, 0], edges[e, 1]
        for k in range(count):
            m = near[k]
            if (p == q and m <= n) or _apart(own, bounds.edge_box[m], reach):
                continue
            f = patches.edges[m]
            c, d = edges[f, 0], edges[f, 1]
            if a == c or a == d or b == c or b == d:  # noqa: SIM109
                continue
            closing = np.sqrt(max(_close(way, a, c), _close(way, a, d), _close(way, b, c), _close(way, b, d)))
            if abs(edge_gap(x, x, a, b, c, d)[0]) >= reach + closing:
                continue
            if found < len(out):
                out[found, 0], out[found, 1] = e, f
            found += 1
    return found


@kernel
def _search(k, p, q, x, ahead, way, edges, faces, patches, bounds, reach, with_edges, points_out, edges_out, count):  # type: ignore[no-untyped-def]
    found = _points_of(p, q, x, ahead, way, faces, patches, bounds, reach, points_out[k], 0)
    if p != q:
        found = _points_of(q, p, x, ahead, way, faces, patches, bounds, reach, points_out[k], found)
    count[k, 0] = found
    count[k, 1] = _edges_of(p, q, x, way, edges, patches, bounds, reach, edges_out[k], 0) if with_edges else 0


@parallel_kernel
def search_patches(  # type: ignore[no-untyped-def]
    pairs, x, ahead, way, edges, faces, patches, bounds, reach, with_edges, points_out, edges_out, count
):
    """Search each pair of patches into its own row of points_out and edges_out (pairs, room, 2); count (pairs, 2).

    `ahead` (N, 3) is where each point is expected in the end and `way` (N, 3) the whole way there, metres.
    """
    for k in numba.prange(len(pairs)):
        p, q = pairs[k, 0], pairs[k, 1]
        _search(k, p, q, x, ahead, way, edges, faces, patches, bounds, reach, with_edges, points_out, edges_out, count)


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
        self.flags = np.zeros(count, np.bool_)
        self.strayed = np.zeros(len(self.owner), np.bool_)
        self.met, self.met_count = np.empty((count, 32), np.int32), np.zeros(count, np.int64)
        self.rows = [np.empty((0, ROOM, 2), np.int32), np.empty((0, ROOM, 2), np.int32)]

    def look_out(self, x: Floats, expected: Floats, off_m: float) -> int:
        """Flag the patches of which a point is farther off from where it is expected; return how many there are.

        x, expected: float64 (N, 3), metres.
        """
        find_strayed(x, expected, off_m, self.patches, self.strayed, self.flags)
        return int(self.flags.sum())

    def near(
        self, x: Floats, reach_m: float, way: Floats | None = None, steps: int = 0, flagged: bool = False
    ) -> tuple[Whole, Whole]:
        """Return pairs of points and triangles (m, 2), and of edges (m, 2), that may come near each other.

        Args:
            x: float64 (N, 3), places now, metres.
            reach_m: what is closer than this is found.
            way: float64 (N, 3), what each point goes in a step, metres; None: nothing moves.
            steps: what comes that close within so many such steps is found too.
            flagged: only pairs that a flagged patch is in.
        """
        bounds = self.bounds
        whole = np.zeros_like(x) if way is None else steps * (way - way.mean(axis=0))
        ahead = x + whole
        bound_patches(x, ahead, self.edges, self.faces, self.patches, bounds)
        order = np.argsort(bounds.box[:, 0], kind="stable")
        things = (order, self.flags, flagged, bounds, self.patches, self.group, reach_m)
        meet_patches(*things, self.met, self.met_count)
        if int(self.met_count.max(initial=0)) > self.met.shape[1]:
            self.met = np.empty((len(order), 2 * int(self.met_count.max())), np.int32)
            meet_patches(*things, self.met, self.met_count)
        inside = np.arange(self.met.shape[1]) < self.met_count[:, None]
        pairs = np.stack([np.repeat(order, self.met_count), self.met[inside]], axis=1)
        pairs = np.sort(pairs, axis=1).astype(np.int32)
        points, edges, counts = self._rows(pairs, ROOM, x, ahead, whole, reach_m)
        over = (counts > ROOM).any(axis=1)
        fits = np.where(over[:, None], 0, counts)
        found = [_packed(points, fits[:, 0].copy())], [_packed(edges, fits[:, 1].copy())]
        if over.any():  # few pairs of patches hold most: only they get long rows
            points, edges, counts = self._rows(pairs[over], int(counts.max()), x, ahead, whole, reach_m)
            found[0].append(_packed(points, counts[:, 0].copy()))
            found[1].append(_packed(edges, counts[:, 1].copy()))
        return np.concatenate(found[0]), np.concatenate(found[1])

    def _rows(
        self, pairs: Whole, room: int, x: Floats, ahead: Floats, whole: Floats, reach_m: float
    ) -> tuple[Whole, Whole, Any]:
        """Search pairs of patches into rows of a length; what does not fit is only counted."""
        if len(self.rows[0]) < len(pairs) or self.rows[0].shape[1] != room:
            size = (len(pairs) + len(pairs) // 2, room, 2)
            points, edges = np.empty(size, np.int32), np.empty(size, np.int32)
            if room == ROOM:
                self.rows = [points, edges]
        else:
            points, edges = self.rows
        counts = np.zeros((len(pairs), 2), np.int64)
        things = (x, ahead, whole, self.edges, self.faces, self.patches, self.bounds, reach_m, self.with_edges)
        search_patches(pairs, *things, points, edges, counts)
        return points, edges, counts


def _packed(rows: Whole, counts: NDArray[np.int64]) -> Whole:
    """Return what the first n rows (…, room, 2) hold, counts (n,) of each, as one list (m, 2)."""
    start = np.concatenate([[0], np.cumsum(counts)])
    out = np.empty((start[-1], 2), np.int32)
    _pack(rows, start, out)
    return out
