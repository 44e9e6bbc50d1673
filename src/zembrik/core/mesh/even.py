"""Even remeshing: the same surface in triangles that are all about alike (Botsch and Kobbelt 2004).

Edges that are too long are halved, too short ones drawn together, edges turned so that every point gets about six of
them, and points moved along the surface to the middle of their neighbours; a few times over. Borders and sharp edges
stay where they are: points on them only ever go together along them, and corners do not move at all.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from zembrik.core.compiled import kernel
from zembrik.core.distance.tree import build_tree, closest_places
from zembrik.core.mesh.refine import refine
from zembrik.core.mesh.trimesh import TriMesh, point_normals
from zembrik.core.problem import Problem

Floats = NDArray[np.float64]
Numbers = NDArray[np.int64]
ROUNDS = 8
LONG, SHORT = 4.0 / 3.0, 0.8  # of the spacing: what is halved, and what is drawn together
SHARP_DEG = 35.0  # an edge that bends more is kept
CORNER_DEG = 50.0  # a kept line that turns more than this at a point has a corner there
FREE, LINE, CORNER = 0, 1, 2  # where a point may go: on the surface, along a kept line, nowhere


def evened(mesh: TriMesh, spacing: float, name: str = "", most_faces: int = 2_000_000) -> TriMesh:
    """Return the surface in even triangles with points about `spacing` apart (the mesh's unit).

    Raises:
        Problem: naming the body, for a spacing that cannot be.
    """
    area = float(mesh.face_areas.sum())
    if not 0.0 < spacing < np.inf or area <= 0.0:
        raise Problem("a spacing is more than nothing, and a mesh has a surface.", name, "Type one, as in 20 mm.")
    wanted = area / (0.433 * spacing * spacing)  # triangles of three equal sides
    if wanted > most_faces:
        raise Problem(f"that would take more than {most_faces:,} faces.", name, "Choose a larger spacing.")
    if wanted < 4:
        raise Problem("hardly a face would be left.", name, "Choose a smaller spacing.")
    tree, now = build_tree(mesh), TriMesh(mesh.points, mesh.faces)
    for _ in range(ROUNDS):
        now = refine(now, LONG * spacing, 4 * most_faces)
        for _ in range(12):
            before = len(now.faces)
            now = _drawn_together(now, spacing)
            if len(now.faces) == before:
                break
        for _ in range(3):
            now = _turned(now)
        now = _relaxed(now, tree)
    return TriMesh(now.points, now.faces, mesh.groups)


def _kept_lines(mesh: TriMesh) -> tuple[NDArray[np.bool_], NDArray[np.int8]]:
    """Return which edges are borders or sharp, and for each point whether it is free, on such a line, or a corner."""
    kept = mesh.edge_use != 2
    order = np.argsort(mesh.face_edges.ravel(), kind="stable")
    inner = np.flatnonzero(~kept)
    first = np.searchsorted(mesh.face_edges.ravel()[order], inner)
    one, two = order[first] // 3, order[first + 1] // 3
    cosine = np.einsum("ij,ij->i", mesh.face_normals[one], mesh.face_normals[two])
    kept[inner[cosine < np.cos(np.radians(SHARP_DEG))]] = True
    ends = mesh.edges[kept]
    count = np.bincount(ends.ravel(), minlength=len(mesh.points))
    kind = np.where(count == 0, FREE, np.where(count == 2, LINE, CORNER)).astype(np.int8)
    # The two ways a line goes on from a point sum to nothing where it goes straight on.
    way = mesh.points[ends[:, 1]] - mesh.points[ends[:, 0]]
    way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-300)
    total = np.zeros((len(mesh.points), 3))
    np.add.at(total, ends[:, 0], way)
    np.add.at(total, ends[:, 1], -way)
    bent = np.linalg.norm(total, axis=1) > 2.0 * np.sin(np.radians(CORNER_DEG) / 2.0)
    kind[(kind == LINE) & bent] = CORNER
    return kept, kind


def _faces_of_points(faces: NDArray[np.int32], count: int) -> tuple[Numbers, Numbers]:
    """Return where each point's faces begin (count + 1,), and those faces."""
    order = np.argsort(faces.ravel(), kind="stable")
    start = np.concatenate([[0], np.cumsum(np.bincount(faces.ravel(), minlength=count))])
    return start.astype(np.int64), (order // 3).astype(np.int64)


def _drawn_together(mesh: TriMesh, spacing: float) -> TriMesh:
    """Draw short edges together, the shortest first, none beside another in one go."""
    kept, kind = _kept_lines(mesh)
    short = np.flatnonzero(mesh.edge_lengths < SHORT * spacing)
    if not len(short):
        return mesh
    short = short[np.lexsort((short, mesh.edge_lengths[short]))]
    start, mine = _faces_of_points(mesh.faces, len(mesh.points))
    points, goes = mesh.points.copy(), np.arange(len(mesh.points))
    _collapse(
        points, mesh.faces.astype(np.int64), start, mine, mesh.edges[short], mesh.edge_use[short], kept[short], kind,
        (LONG * spacing) ** 2, goes,
    )  # fmt: skip
    faces = goes[mesh.faces]
    whole = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
    used, numbers = np.unique(faces[whole], return_inverse=True)
    return TriMesh(points[used], numbers.reshape(-1, 3).astype(np.int32))


@kernel
def _collapse(points, faces, start, mine, edges, use, kept, kind, longest_square, goes):  # type: ignore[no-untyped-def]
    """Fill goes (n,) with the point that each one becomes, and points with where the joint ones are."""
    touched = np.zeros(len(points), np.bool_)
    seen = np.zeros(len(points), np.int64)
    place, one, two = np.empty(3), np.empty((3, 3)), np.empty((3, 3))
    for e in range(len(edges)):
        a, b = edges[e, 0], edges[e, 1]
        if kind[a] > FREE and kind[b] > FREE and (not kept[e] or (kind[a] == CORNER and kind[b] == CORNER)):
            continue
        if kind[b] > kind[a]:
            a, b = b, a  # b becomes a
        share = 0.5 if kind[a] == FREE else 0.0
        for axis in range(3):
            place[axis] = points[a, axis] + share * (points[b, axis] - points[a, axis])
        free = True
        common = 0
        for side in range(2):
            p = a if side == 0 else b
            for m in range(start[p], start[p + 1]):
                for k in range(3):
                    q = faces[mine[m], k]
                    if touched[q]:
                        free = False
                    if side == 0:
                        seen[q] = e + 1
                    elif seen[q] == e + 1 and q != a and q != b:
                        common += 1
                        seen[q] = -e - 1  # counted
        if not free or common != use[e]:
            continue
        for side in range(2):
            p = a if side == 0 else b
            for m in range(start[p], start[p + 1]):
                f = mine[m]
                both = 0
                for k in range(3):
                    q = faces[f, k]
                    both += 1 if q in (a, b) else 0
                    for axis in range(3):
                        one[k, axis] = points[q, axis]
                        two[k, axis] = place[axis] if q in (a, b) else points[q, axis]
                if both > 1:
                    continue  # it goes
                if not _sound(one, two):
                    free = False
                for k in range(3):
                    q = faces[f, k]
                    if q != a and q != b:
                        far = 0.0
                        for axis in range(3):
                            far += (points[q, axis] - place[axis]) ** 2
                        if far > longest_square:
                            free = False
        if not free:
            continue
        goes[b] = a
        for axis in range(3):
            points[a, axis] = place[axis]
        for side in range(2):
            p = a if side == 0 else b
            for m in range(start[p], start[p + 1]):
                for k in range(3):
                    touched[faces[mine[m], k]] = True


@kernel
def _sound(one, two):  # type: ignore[no-untyped-def]
    """Tell whether a triangle (3, 3) is still one, and faces the same way, when its corners become the second's."""
    mx = (one[1, 1] - one[0, 1]) * (one[2, 2] - one[0, 2]) - (one[1, 2] - one[0, 2]) * (one[2, 1] - one[0, 1])
    my = (one[1, 2] - one[0, 2]) * (one[2, 0] - one[0, 0]) - (one[1, 0] - one[0, 0]) * (one[2, 2] - one[0, 2])
    mz = (one[1, 0] - one[0, 0]) * (one[2, 1] - one[0, 1]) - (one[1, 1] - one[0, 1]) * (one[2, 0] - one[0, 0])
    nx = (two[1, 1] - two[0, 1]) * (two[2, 2] - two[0, 2]) - (two[1, 2] - two[0, 2]) * (two[2, 1] - two[0, 1])
    ny = (two[1, 2] - two[0, 2]) * (two[2, 0] - two[0, 0]) - (two[1, 0] - two[0, 0]) * (two[2, 2] - two[0, 2])
    nz = (two[1, 0] - two[0, 0]) * (two[2, 1] - two[0, 1]) - (two[1, 1] - two[0, 1]) * (two[2, 0] - two[0, 0])
    size = np.sqrt((mx * mx + my * my + mz * mz) * (nx * nx + ny * ny + nz * nz))
    longest = 0.0
    for k in range(3):
        side = 0.0
        for axis in range(3):
            side += (two[(k + 1) % 3, axis] - two[k, axis]) ** 2
        longest = max(longest, side)
    # Not turned by more than 45°, and at least a tenth as high as it is long.
    return mx * nx + my * ny + mz * nz > 0.7 * size and nx * nx + ny * ny + nz * nz > (0.1 * longest) ** 2


def _turned(mesh: TriMesh) -> TriMesh:
    """Turn inner edges where that brings points nearer to six edges each (four on a border)."""
    kept, _ = _kept_lines(mesh)
    stride = len(mesh.points)
    keys = mesh.edges[:, 0] * stride + mesh.edges[:, 1]
    hinges = mesh.hinges.astype(np.int64)
    low, high = np.minimum(hinges[:, 0], hinges[:, 1]), np.maximum(hinges[:, 0], hinges[:, 1])
    number = np.searchsorted(keys, low * stride + high)
    hinges = np.ascontiguousarray(hinges[~kept[number]])
    border = np.zeros(stride, bool)
    border[mesh.edges[mesh.edge_use == 1].ravel()] = True
    many = np.bincount(mesh.edges.ravel(), minlength=stride) - np.where(border, 4, 6)
    start, mine = _faces_of_points(mesh.faces, stride)
    faces = mesh.faces.astype(np.int64)
    _flip(mesh.points, faces, start, mine, hinges, many.astype(np.int64))
    return TriMesh(mesh.points, faces.astype(np.int32))


@kernel
def _flip(points, faces, start, mine, hinges, many):  # type: ignore[no-untyped-def]
    """Turn edges in place; many (n,) says how many edges each point has too many."""
    touched = np.zeros(len(points), np.bool_)
    one, two = np.empty((3, 3)), np.empty((3, 3))
    for h in range(len(hinges)):
        a, b, c, d = hinges[h, 0], hinges[h, 1], hinges[h, 2], hinges[h, 3]
        if touched[a] or touched[b] or touched[c] or touched[d]:
            continue
        now = many[a] ** 2 + many[b] ** 2 + many[c] ** 2 + many[d] ** 2
        then = (many[a] - 1) ** 2 + (many[b] - 1) ** 2 + (many[c] + 1) ** 2 + (many[d] + 1) ** 2
        if then >= now:
            continue
        there, f, g = False, -1, -1
        for m in range(start[c], start[c + 1]):
            face = mine[m]
            has_a = faces[face, 0] == a or faces[face, 1] == a or faces[face, 2] == a
            has_b = faces[face, 0] == b or faces[face, 1] == b or faces[face, 2] == b
            has_d = faces[face, 0] == d or faces[face, 1] == d or faces[face, 2] == d
            there = there or has_d
            if has_a and has_b:
                f = face
        for m in range(start[d], start[d + 1]):
            face = mine[m]
            has_a = faces[face, 0] == a or faces[face, 1] == a or faces[face, 2] == a
            has_b = faces[face, 0] == b or faces[face, 1] == b or faces[face, 2] == b
            if has_a and has_b:
                g = face
        if there or f < 0 or g < 0:
            continue
        # The faces a b c and b a d become a d c and d b c: each against both old ones.
        sound = True
        for new in range(2):
            for axis in range(3):
                two[0, axis] = points[a, axis] if new == 0 else points[d, axis]
                two[1, axis] = points[d, axis] if new == 0 else points[b, axis]
                two[2, axis] = points[c, axis]
            for old in range(2):
                for axis in range(3):
                    one[0, axis] = points[a, axis] if old == 0 else points[b, axis]
                    one[1, axis] = points[b, axis] if old == 0 else points[a, axis]
                    one[2, axis] = points[c, axis] if old == 0 else points[d, axis]
                sound = sound and _sound(one, two)
        if not sound:
            continue
        faces[f, 0], faces[f, 1], faces[f, 2] = a, d, c
        faces[g, 0], faces[g, 1], faces[g, 2] = d, b, c
        touched[a], touched[b], touched[c], touched[d] = True, True, True, True
        many[a], many[b], many[c], many[d] = many[a] - 1, many[b] - 1, many[c] + 1, many[d] + 1


def _relaxed(mesh: TriMesh, tree) -> TriMesh:  # type: ignore[no-untyped-def]
    """Move free points along the surface to the middle of their neighbours, and back onto the surface it was."""
    _, kind = _kept_lines(mesh)
    count = len(mesh.points)
    ends = mesh.edges
    ones = np.ones(2 * len(ends))
    pairs = (np.concatenate([ends[:, 0], ends[:, 1]]), np.concatenate([ends[:, 1], ends[:, 0]]))
    beside = sparse.csr_array((ones, pairs), shape=(count, count))
    middle = (beside @ mesh.points) / np.maximum(beside.sum(axis=1), 1.0)[:, None]
    normal = point_normals(mesh.points, mesh.faces)
    way = middle - mesh.points
    way -= np.einsum("ij,ij->i", way, normal)[:, None] * normal
    free = kind == FREE
    moved = mesh.points.copy()
    moved[free] = closest_places(tree, mesh.points[free] + 0.8 * way[free])
    for _ in range(8):  # whoever turns a face over stays, and so do its neighbours
        vectors = mesh.moved(moved).face_vectors
        bad = np.einsum("ij,ij->i", vectors, mesh.face_vectors) <= 0.0
        if not bad.any():
            break
        back = np.unique(mesh.faces[bad])
        moved[back] = mesh.points[back]
    return mesh.moved(moved)
