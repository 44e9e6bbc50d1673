"""A tree of boxes over triangles, for the closest point of a whole mesh."""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.distance.triangle import closest_on_triangle
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.stack import new_stack, put, take

LEAF_FACES = 4


class Tree(NamedTuple):
    """Boxes over triangles, in arrays that kernels read.

    Attributes:
        corners: float64 (faces, 3, 3), the faces' corners in the tree's order.
        face: int64 (faces,), the mesh's number of each face of the tree.
        low, high: float64 (nodes, 3), the nodes' boxes.
        span: int64 (nodes, 2): first and last + 1 face of a leaf, or the two children with
            the first written as -1 - child.
        normals: float64 (faces, 7, 3): what stands upright on corner 0..2, edge 0..2, inside;
            averaged by angle at corners and by both faces at edges, so that its side tells
            inside from outside (Bærentzen and Aanæs 2005).
    """

    corners: NDArray[np.float64]
    face: NDArray[np.int64]
    low: NDArray[np.float64]
    high: NDArray[np.float64]
    span: NDArray[np.int64]
    normals: NDArray[np.float64]


def build_tree(mesh: TriMesh) -> Tree:
    """Return a tree over the mesh's faces that have an area."""
    keep = np.flatnonzero(mesh.face_areas > 0)
    corners = mesh.points[mesh.faces[keep]]
    order, low, high, span = _split(corners)
    normals = _upright(mesh)
    return Tree(
        np.ascontiguousarray(corners[order]),
        keep[order].astype(np.int64),
        low,
        high,
        span,
        np.ascontiguousarray(normals[keep][order]),
    )


def _split(
    corners: NDArray[np.float64],
) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64], NDArray[np.int64]]:
    """Halve the faces by the middle of their longest extent, until a leaf is small."""
    middles = np.ascontiguousarray(corners.mean(axis=1))
    order, most = np.arange(len(corners)), 2 * max(len(corners), 1)
    low, high, span = np.empty((most, 3)), np.empty((most, 3)), np.empty((most, 2), np.int64)
    count = _halve(corners.min(axis=1), corners.max(axis=1), middles, order, low, high, span)
    return order, low[:count].copy(), high[:count].copy(), span[:count].copy()


@kernel
def _halve(face_low, face_high, middles, order, low, high, span):  # type: ignore[no-untyped-def]
    """Fill the order of the faces and the nodes; return how many nodes there are."""
    todo = np.empty((128, 4), np.int64)  # first, last, parent, side
    todo[0, 0], todo[0, 1], todo[0, 2], todo[0, 3] = 0, len(order), -1, 0
    top, count = 1, 0
    while top:
        top -= 1
        first, last, parent, side = todo[top, 0], todo[top, 1], todo[top, 2], todo[top, 3]
        node, count = count, count + 1
        if parent >= 0:
            span[parent, side] = -1 - node if side == 0 else node
        span[node, 0], span[node, 1] = first, last
        axis, widest = 0, -1.0
        for k in range(3):
            down, up, least, most = np.inf, -np.inf, np.inf, -np.inf
            for n in range(first, last):
                f = order[n]
                down, up = min(down, face_low[f, k]), max(up, face_high[f, k])
                least, most = min(least, middles[f, k]), max(most, middles[f, k])
            low[node, k], high[node, k] = down, up
            if most - least > widest:
                axis, widest = k, most - least
        if last - first > LEAF_FACES:
            part = order[first:last].copy()
            order[first:last] = part[np.argsort(middles[part, axis], kind="mergesort")]
            half = (last - first) // 2
            todo[top, 0], todo[top, 1], todo[top, 2], todo[top, 3] = first + half, last, node, 1
            todo[top + 1, 0], todo[top + 1, 1], todo[top + 1, 2], todo[top + 1, 3] = first, first + half, node, 0
            top += 2
    return count


def _upright(mesh: TriMesh) -> NDArray[np.float64]:
    """Return what `Tree.normals` holds (Bærentzen and Aanæs 2005); nothing stands upright on an open border.

    What is nearest to a border is beside the sheet, not behind it: it has no side there, and counts as outside.
    """
    points, faces, normal = mesh.points, mesh.faces, mesh.face_normals
    at_corner = np.zeros_like(points)
    for k in range(3):
        u = points[faces[:, (k + 1) % 3]] - points[faces[:, k]]
        v = points[faces[:, (k + 2) % 3]] - points[faces[:, k]]
        length = np.linalg.norm(u, axis=1) * np.linalg.norm(v, axis=1)
        cosine = np.einsum("ij,ij->i", u, v) / np.where(length > 0, length, 1.0)
        angle = np.where(length > 0, np.arccos(np.clip(cosine, -1, 1)), 0.0)
        np.add.at(at_corner, faces[:, k], normal * angle[:, None])
    at_edge = np.zeros((len(mesh.edges), 3))
    for k in range(3):
        np.add.at(at_edge, mesh.face_edges[:, k], normal)
    border = mesh.edge_use == 1
    at_edge[border] = 0.0
    at_corner[mesh.edges[border]] = 0.0
    table = np.empty((len(faces), 7, 3))
    table[:, 0:3] = at_corner[faces]
    table[:, 3:6] = at_edge[mesh.face_edges]
    table[:, 6] = normal
    length = np.linalg.norm(table, axis=2, keepdims=True)
    return table / np.where(length > 0, length, 1.0)


@kernel
def _box_distance_sq(low, high, n, px, py, pz):  # type: ignore[no-untyped-def]
    dx = max(low[n, 0] - px, 0.0, px - high[n, 0])
    dy = max(low[n, 1] - py, 0.0, py - high[n, 1])
    dz = max(low[n, 2] - pz, 0.0, pz - high[n, 2])
    return dx * dx + dy * dy + dz * dz


@kernel
def _closest_on_face(corners, f, px, py, pz):  # type: ignore[no-untyped-def]
    """Return (part, x, y, z) of the place of face f closest to p."""
    ax, ay, az = corners[f, 0, 0], corners[f, 0, 1], corners[f, 0, 2]
    bx, by, bz = corners[f, 1, 0], corners[f, 1, 1], corners[f, 1, 2]
    cx, cy, cz = corners[f, 2, 0], corners[f, 2, 1], corners[f, 2, 2]
    u, v, w, part = closest_on_triangle(px, py, pz, ax, ay, az, bx, by, bz, cx, cy, cz)
    return part, u * ax + v * bx + w * cx, u * ay + v * by + w * cy, u * az + v * bz + w * cz


@kernel
def closest_in_nodes(low, high, span, corners, root, guess, px, py, pz):  # type: ignore[no-untyped-def]
    """Return (squared distance m², face, part, x, y, z) of the surface point closest to p.

    `guess` is a face whose distance bounds the search from the start. Nodes are numbered
    from 0 in `low`, `high` and `span`; `root` is where this surface's tree begins.
    """
    stack = new_stack()
    put(stack, 0, root)
    top = 1
    part, cx, cy, cz = _closest_on_face(corners, guess, px, py, pz)
    best = (px - cx) ** 2 + (py - cy) ** 2 + (pz - cz) ** 2
    face = guess
    while top > 0:
        top -= 1
        node = take(stack, top)
        if _box_distance_sq(low, high, node, px, py, pz) >= best:
            continue
        if span[node, 0] < 0:
            left, right = -1 - span[node, 0], span[node, 1]
            near = _box_distance_sq(low, high, left, px, py, pz)
            far = _box_distance_sq(low, high, right, px, py, pz)
            if near > far:
                left, right = right, left
            put(stack, top, right)
            put(stack, top + 1, left)
            top += 2
        else:
            for f in range(span[node, 0], span[node, 1]):
                where, x, y, z = _closest_on_face(corners, f, px, py, pz)
                d = (px - x) ** 2 + (py - y) ** 2 + (pz - z) ** 2
                if d < best:
                    best, face, part = d, f, where
                    cx, cy, cz = x, y, z
    return best, face, part, cx, cy, cz


@parallel_kernel
def closest_points(tree, points, distance, face):  # type: ignore[no-untyped-def]
    """Fill distance (n,) in metres, signed by the surface's side, and face (n,), the tree's face, for points (n, 3)."""
    for i in numba.prange(len(points)):
        px, py, pz = points[i, 0], points[i, 1], points[i, 2]
        sq, f, part, x, y, z = closest_in_nodes(tree.low, tree.high, tree.span, tree.corners, 0, 0, px, py, pz)
        n = tree.normals[f, part]
        side = (px - x) * n[0] + (py - y) * n[1] + (pz - z) * n[2]
        distance[i] = np.sqrt(sq) if side >= 0.0 else -np.sqrt(sq)
        face[i] = f


def distances_to_mesh(tree: Tree, points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the signed distances (n,) in metres from points (n, 3) to the tree's surface; negative inside."""
    distance, face = np.empty(len(points)), np.empty(len(points), dtype=np.int64)
    closest_points(tree, np.ascontiguousarray(points, dtype=np.float64), distance, face)
    return distance


@parallel_kernel
def _fill_places(tree, points, places):  # type: ignore[no-untyped-def]
    for i in numba.prange(len(points)):
        px, py, pz = points[i, 0], points[i, 1], points[i, 2]
        _, _, _, x, y, z = closest_in_nodes(tree.low, tree.high, tree.span, tree.corners, 0, 0, px, py, pz)
        places[i, 0], places[i, 1], places[i, 2] = x, y, z


def closest_places(tree: Tree, points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the places (n, 3) on the tree's surface that are closest to points (n, 3), metres."""
    places = np.empty((len(points), 3))
    _fill_places(tree, np.ascontiguousarray(points, dtype=np.float64), places)
    return places


@parallel_kernel
def _fill_faces(tree, points, face, places):  # type: ignore[no-untyped-def]
    for i in numba.prange(len(points)):
        px, py, pz = points[i, 0], points[i, 1], points[i, 2]
        _, f, _, x, y, z = closest_in_nodes(tree.low, tree.high, tree.span, tree.corners, 0, 0, px, py, pz)
        face[i] = tree.face[f]
        places[i, 0], places[i, 1], places[i, 2] = x, y, z


def closest_faces(tree: Tree, points: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Return the mesh's faces (n,) that are closest to points (n, 3), and the places (n, 3) on them, metres."""
    face, places = np.empty(len(points), dtype=np.int64), np.empty((len(points), 3))
    _fill_faces(tree, np.ascontiguousarray(points, dtype=np.float64), face, places)
    return face, places
