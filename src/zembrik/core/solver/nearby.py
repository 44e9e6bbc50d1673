"""Finding which points and triangles, and which edges, may touch soon.

The points are cut into small patches; an edge or triangle belongs to the patch of its first
point. Patches whose boxes are apart have nothing to do with one another, and a patch that is
nearly flat, with a neighbour that continues it, cannot touch itself (the normals stay within
a half space: Volino and Magnenat-Thalmann 1994). Only the patches left over are searched,
each pair on its own, so the pairs come in an order that no thread changes.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.solver.colour import neighbourhoods
from zembrik.core.solver.mesh_contact import edge_gap, point_gap

POINTS_A_PATCH = 12
FLAT = 1.5  # radians between any two normals of a patch and its neighbour, below which they cannot touch

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]


class Patches(NamedTuple):
    """Points, edges and triangles sorted by patch; P patches.

    Attributes:
        points, edges, faces: int32, numbers in the order of the patches.
        point_span, edge_span, face_span: int64 (P + 1,), where each patch's begin.
        beside, beside_span: int32 and int64 (P + 1,), the patches that share a point with each, rising.
    """

    points: Whole
    edges: Whole
    faces: Whole
    point_span: NDArray[np.int64]
    edge_span: NDArray[np.int64]
    face_span: NDArray[np.int64]
    beside: Whole
    beside_span: NDArray[np.int64]


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
    return Patches(points, lines, triangles, point_span, edge_span, face_span, beside, beside_span)


@parallel_kernel
def bound_patches(x, edges, faces, patches, half, box, cone):  # type: ignore[no-untyped-def]
    """Fill box (P, 6), widened by half a reach, and cone (P, 4): mean normal and least cosine to it."""
    for p in numba.prange(len(box)):
        for axis in range(3):
            box[p, axis], box[p, 3 + axis] = np.inf, -np.inf
        for n in range(patches.point_span[p], patches.point_span[p + 1]):
            for axis in range(3):
                v = x[patches.points[n], axis]
                box[p, axis], box[p, 3 + axis] = min(box[p, axis], v), max(box[p, 3 + axis], v)
        for n in range(patches.edge_span[p], patches.edge_span[p + 1]):
            for axis in range(3):
                v = x[edges[patches.edges[n], 1], axis]
                box[p, axis], box[p, 3 + axis] = min(box[p, axis], v), max(box[p, 3 + axis], v)
        sx, sy, sz = 0.0, 0.0, 0.0
        for n in range(patches.face_span[p], patches.face_span[p + 1]):
            t = patches.faces[n]
            for k in range(1, 3):
                for axis in range(3):
                    v = x[faces[t, k], axis]
                    box[p, axis], box[p, 3 + axis] = min(box[p, axis], v), max(box[p, 3 + axis], v)
            nx, ny, nz = _unit_normal(x, faces, t)
            sx, sy, sz = sx + nx, sy + ny, sz + nz
        for axis in range(3):
            box[p, axis], box[p, 3 + axis] = box[p, axis] - half, box[p, 3 + axis] + half
        size = np.sqrt(sx * sx + sy * sy + sz * sz) + 1e-300
        sx, sy, sz = sx / size, sy / size, sz / size
        least = 1.0
        for n in range(patches.face_span[p], patches.face_span[p + 1]):
            nx, ny, nz = _unit_normal(x, faces, patches.faces[n])
            least = min(least, sx * nx + sy * ny + sz * nz)
        cone[p, 0], cone[p, 1], cone[p, 2], cone[p, 3] = sx, sy, sz, least


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
def meet_patches(order, box, cone, patches, group, out):  # type: ignore[no-untyped-def]
    """Write to out (room, 2) the pairs of patches to be searched; returns how many there are.

    `order` sorts the boxes by their low x; `group` (P,) is -1 for colliders' corners, which do
    not meet each other, else twice the body's number, odd when it is not kept apart from itself.
    """
    found = 0
    for i in range(len(order)):
        p = order[i]
        for j in range(i, len(order)):
            q = order[j]
            if box[q, 0] > box[p, 3]:
                break
            if box[p, 1] > box[q, 4] or box[q, 1] > box[p, 4] or box[p, 2] > box[q, 5] or box[q, 2] > box[p, 5]:
                continue
            if group[p] == group[q] and (group[p] < 0 or group[p] % 2 == 1 or _flat_together(p, q, patches, cone)):
                continue
            if found < len(out):
                out[found, 0], out[found, 1] = min(p, q), max(p, q)
            found += 1
    return found


@kernel
def _apart(x, corners, k, box, p, half):  # type: ignore[no-untyped-def]
    """Tell whether the widened box around an edge or triangle is apart from a patch's box."""
    for axis in range(3):
        least = most = x[corners[k, 0], axis]
        for c in range(1, corners.shape[1]):
            least = min(least, x[corners[k, c], axis])
            most = max(most, x[corners[k, c], axis])
        if least - half > box[p, 3 + axis] or most + half < box[p, axis]:
            return True
    return False


@kernel
def _points_of(p, q, x, faces, patches, box, reach, out, found):  # type: ignore[no-untyped-def]
    """Add the pairs of patch p's points and patch q's triangles."""
    half = 0.5 * reach
    for n in range(patches.point_span[p], patches.point_span[p + 1]):
        i = patches.points[n]
        far = False
        for axis in range(3):
            if x[i, axis] + half < box[q, axis] or x[i, axis] - half > box[q, 3 + axis]:
                far = True
                break
        if far:
            continue
        for m in range(patches.face_span[q], patches.face_span[q + 1]):
            t = patches.faces[m]
            a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
            if i == a or i == b or i == c:  # noqa: SIM109
                continue
            far = False
            for axis in range(3):
                v = x[i, axis]
                if (
                    v < min(x[a, axis], x[b, axis], x[c, axis]) - reach
                    or v > max(x[a, axis], x[b, axis], x[c, axis]) + reach
                ):
                    far = True
                    break
            if far or abs(point_gap(x, x, i, a, b, c)[0]) >= reach:
                continue
            if found < len(out):
                out[found, 0], out[found, 1] = i, t
            found += 1
    return found


@kernel
def _edges_of(p, q, x, edges, patches, box, reach, out, found):  # type: ignore[no-untyped-def]
    """Add the pairs of patch p's edges and patch q's."""
    half = 0.5 * reach
    for n in range(patches.edge_span[p], patches.edge_span[p + 1]):
        e = patches.edges[n]
        if _apart(x, edges, e, box, q, half):
            continue
        a, b = edges[e, 0], edges[e, 1]
        for m in range(n + 1 if p == q else patches.edge_span[q], patches.edge_span[q + 1]):
            f = patches.edges[m]
            c, d = edges[f, 0], edges[f, 1]
            if a == c or a == d or b == c or b == d:  # noqa: SIM109
                continue
            far = False
            for axis in range(3):
                if min(x[a, axis], x[b, axis]) - reach > max(x[c, axis], x[d, axis]) or max(
                    x[a, axis], x[b, axis]
                ) + reach < min(x[c, axis], x[d, axis]):
                    far = True
                    break
            if far or abs(edge_gap(x, x, a, b, c, d)[0]) >= reach:
                continue
            if found < len(out):
                out[found, 0], out[found, 1] = e, f
            found += 1
    return found


@parallel_kernel
def search_patches(pairs, x, edges, faces, patches, box, reach, with_edges, points_out, edges_out, count):  # type: ignore[no-untyped-def]
    """Search each pair of patches into its own row of points_out and edges_out (pairs, room, 2); count (pairs, 2)."""
    for k in numba.prange(len(pairs)):
        p, q = pairs[k, 0], pairs[k, 1]
        found = _points_of(p, q, x, faces, patches, box, reach, points_out[k], 0)
        if p != q:
            found = _points_of(q, p, x, faces, patches, box, reach, points_out[k], found)
        count[k, 0] = found
        count[k, 1] = _edges_of(p, q, x, edges, patches, box, reach, edges_out[k], 0) if with_edges else 0


@parallel_kernel
def _pack(rows, start, out):  # type: ignore[no-untyped-def]
    for k in numba.prange(len(rows)):
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
        self.box, self.cone = np.empty((count, 6)), np.empty((count, 4))
        self.met = np.empty((256, 2), np.int32)
        self.room = 32

    def near(self, x: Floats, reach_m: float) -> tuple[Whole, Whole]:
        """Return pairs of points and triangles (m, 2), and of edges (m, 2), that are closer than the reach."""
        bound_patches(x, self.edges, self.faces, self.patches, 0.5 * reach_m, self.box, self.cone)
        order = np.argsort(self.box[:, 0], kind="stable")
        count = meet_patches(order, self.box, self.cone, self.patches, self.group, self.met)
        if count > len(self.met):
            self.met = np.empty((2 * count, 2), np.int32)
            count = meet_patches(order, self.box, self.cone, self.patches, self.group, self.met)
        pairs = self.met[:count]
        counts = np.zeros((count, 2), np.int64)
        while True:
            points = np.empty((count, self.room, 2), np.int32)
            edges = np.empty((count, self.room, 2), np.int32)
            things = (x, self.edges, self.faces, self.patches, self.box, reach_m, self.with_edges)
            search_patches(pairs, *things, points, edges, counts)
            most = int(counts.max(initial=0))
            if most <= self.room:
                break
            self.room = most
        return _packed(points, counts[:, 0].copy()), _packed(edges, counts[:, 1].copy())


def _packed(rows: Whole, counts: NDArray[np.int64]) -> Whole:
    """Return what rows (n, room, 2) hold, counts (n,) of each, as one list (m, 2)."""
    start = np.concatenate([[0], np.cumsum(counts)])
    out = np.empty((start[-1], 2), np.int32)
    _pack(rows, start, out)
    return out
