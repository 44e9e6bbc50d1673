"""The places on a rigid body that ask others how far they are.

A ball asks from its middle with its radius, a capsule from its core; flat shapes ask from
their corners and from places along their longer edges, a surface from all its points.

Where a hull or a surface is smooth, it stands for something round: a point there is one of a ball inside of the mesh
(`round_off`), which many points share. So what is round rolls. From corners alone it would fall from facet to facet,
and lose speed at each.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from zembrik.core.distance.build import Shape
from zembrik.core.distance.tree import build_tree, closest_faces, distances_to_mesh
from zembrik.core.mesh.shapes import box
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.solver.colour import neighbourhoods
from zembrik.core.solver.skin import CHUNK
from zembrik.core.solver.touching import sharp_corners

Floats = NDArray[np.float64]
SMOOTH = 0.94  # least cosine between a point's normal and its faces': 20 degrees
SHRINKS = 30  # times that a ball is made smaller at most until no other point is in it
MERGES = 0.003  # of a ball's radius: nearer ones are one
FLAT_DEG = 0.5  # by which an edge bends, at most, where its faces are one
CUT = 0.02  # of a hull's size: what lies this far before a face of it is in the hull it was cut from
EDGE_PARTS = 4  # twice the way from its middle to its farthest corner, over this: how far apart places on an edge are


def samples_of(shapes: list[Shape]) -> tuple[Floats, Floats]:
    """Return places (k, 3) in world space and the radius (k,) of the ball each stands for, metres."""
    places, radii = [np.zeros((0, 3))], [np.zeros(0)]
    hulls = [shape.mesh for shape in shapes if shape.kind == "hull" and shape.mesh is not None]
    for shape in shapes:
        found, sizes = _of_one(shape, [hull for hull in hulls if hull is not shape.mesh])
        places.append(found)
        radii.append(np.broadcast_to(sizes, len(found)))
    at, radius = np.concatenate(places), np.concatenate(radii)
    if len(at) > 1:  # hulls that were cut from one another share their rims
        size = float(np.linalg.norm(np.ptp(at, axis=0))) + float(radius.max()) or 1.0
        every = np.rint(np.column_stack([at, radius]) / size * 1e6).astype(np.int64)
        _, first = np.unique(every, axis=0, return_index=True)
        first = np.sort(first)
        at, radius = at[first], radius[first]
    return at, radius


def collider_samples(shape: Shape) -> tuple[Floats, Floats]:
    """Return the places (k, 3) where a collider asks what lies on it, and the radius (k,) of the ball each stands for.

    They are as a rigid body's; of a surface, the points at which it bends outwards somewhere: what lies on others
    touches more than them. Neighbours come one after the other.
    """
    if shape.kind != "surface":
        at, radius = samples_of([shape])
    else:
        assert shape.mesh is not None
        at = _outward_points(shape.mesh)
        at = at @ shape.turn.T + shape.origin
        radius = np.zeros(len(at))
    if _is_strewn(at):
        order = np.argsort(neighbourhoods(at, CHUNK), kind="stable")
        at, radius = at[order], radius[order]
    return at, radius


def _is_strewn(places: Floats) -> bool:
    """Tell whether chunks of places (k, 3) as they come reach half as far as all of them: then these are gathered.

    Others stay in their order, which does not depend on how they are turned.
    """
    if len(places) <= 2 * CHUNK:
        return False
    chunks = np.array_split(places, len(places) // CHUNK)
    reach = [float(np.linalg.norm(chunk - chunk.mean(axis=0), axis=1).max()) for chunk in chunks]
    return float(np.median(reach)) > 0.5 * float(np.linalg.norm(places - places.mean(axis=0), axis=1).max())


def _outward_points(mesh: TriMesh) -> Floats:
    """Return the points (k, 3) of a mesh on an edge that bends outwards, or that ends."""
    hinges = mesh.hinges  # i, j: the edge; k, l: the corners across
    a, b, c, d = (mesh.points[hinges[:, k]] for k in range(4))
    one, two = np.cross(b - a, c - a), np.cross(d - a, b - a)
    size = np.linalg.norm(one, axis=1) * np.linalg.norm(two, axis=1) + 1e-300
    bent = (one * two).sum(axis=1) / size < np.cos(np.radians(FLAT_DEG))
    outwards = (one * (d - a)).sum(axis=1) < 0.0
    used = np.unique(np.concatenate([hinges[bent & outwards, :2].ravel(), mesh.edges[mesh.edge_use == 1].ravel()]))
    return np.asarray(mesh.points[used.astype(np.int64)])


def _of_one(shape: Shape, beside: list[TriMesh]) -> tuple[Floats, Floats | float]:
    """Return the places and radii of one shape; `beside` are the other hulls of the same body, in local coordinates."""
    if shape.kind == "ball":
        return shape.origin[None, :].copy(), shape.radius_m
    if shape.kind == "capsule":
        half = float(shape.half_m[1])
        parts = max(1, int(np.ceil(2.0 * half / max(shape.radius_m, 1e-6))))
        along = np.linspace(-half, half, min(parts, 16) + 1) if half > 1e-9 else np.zeros(1)
        return shape.origin + along[:, None] * shape.turn[:, 1], shape.radius_m
    if shape.kind == "box":
        size = 2.0 * shape.half_m
        mesh = box((float(size[0]), float(size[1]), float(size[2])))
        mesh = mesh.moved(mesh.points @ shape.turn.T + shape.origin)
    else:
        assert shape.mesh is not None
        mesh = shape.mesh.moved(shape.mesh.points @ shape.turn.T + shape.origin)
        hull = shape.kind == "hull"
        inside, radius = round_off(mesh, hull, _hidden(shape.mesh, beside) if hull else None)
        rounded = radius > 0.0
        corners = mesh.points if shape.kind == "surface" else _corners_and_edges(mesh)
        kept = corners[~_among(corners, mesh.points[rounded])]
        middles, sizes = _merged(inside[rounded], radius[rounded])
        return np.concatenate([kept, middles]), np.concatenate([np.zeros(len(kept)), sizes])
    return _corners_and_edges(mesh), 0.0


def round_off(mesh: TriMesh, convex: bool = False, hidden: NDArray[np.bool_] | None = None) -> tuple[Floats, Floats]:
    """Return middles (n, 3) and radii (n,) of the balls that stand for a mesh's points, metres; 0 where it is sharp.

    Each is the largest ball inside that touches the mesh at the point: its middle lies inwards along the normal, and no
    other point is in it (the shrinking ball of Ma, Bae and Choi 2012), nor does it stand out of a face farther off by
    more than that bends. A point is smooth where all faces around it look nearly the same way.

    Args:
        mesh: closed, metres. convex: whether it is. hidden: bool (f,), faces that balls may stand out of, if it is.
    """
    points, normals = mesh.points, _normals(mesh)
    facing = np.ones(len(points))
    if len(mesh.faces):
        along = np.einsum("fki,fi->fk", normals[mesh.faces], mesh.face_normals)
        np.minimum.at(facing, mesh.faces.ravel(), along.ravel())
    smooth = np.flatnonzero(facing > SMOOTH)
    radius = np.zeros(len(points))
    if len(smooth) == 0:
        return points.copy(), radius
    tree, at, inwards = cKDTree(points), points[smooth], -normals[smooth]
    size = np.full(len(smooth), float(np.linalg.norm(np.ptp(points, axis=0))))
    for _ in range(SHRINKS):
        near, which = tree.query(at + size[:, None] * inwards)
        way = points[which] - at
        ahead = np.einsum("ij,ij->i", way, inwards)
        too_large = (near < size * (1.0 - 1e-9)) & (which != smooth) & (ahead > 0.0)
        if not too_large.any():
            break
        fits = np.einsum("ij,ij->i", way, way) / np.maximum(2.0 * ahead, 1e-300)
        size = np.where(too_large, np.minimum(fits, size), size)
    bends = _bends(mesh, normals, facing > SMOOTH)
    if hidden is not None:
        bends[hidden] = -1.0  # no ball is so large that it stands out of it
    within = _within_planes if convex else _within_faces
    radius[smooth] = within(mesh, bends, smooth, inwards, size)
    return points + radius[:, None] * -normals, radius


def _hidden(mesh: TriMesh, beside: list[TriMesh]) -> NDArray[np.bool_]:
    """Tell which faces (f,) of a hull lie within other hulls of the same body: where it was cut from them."""
    size = float(np.linalg.norm(mesh.size))
    ahead = mesh.points[mesh.faces].mean(axis=1) + CUT * size * mesh.face_normals
    found = np.zeros(len(mesh.faces), np.bool_)
    for other in beside:
        before = np.einsum("fi,fi->f", other.face_normals, other.points[other.faces[:, 0]])
        found |= (ahead @ other.face_normals.T - before).max(axis=1) < 0.0
    return found


def _bends(mesh: TriMesh, normals: Floats, smooth: NDArray[np.bool_]) -> Floats:
    """Return how far each face (f,) turns away from the round surface it stands for, as a cosine; 1 where it is flat.

    By so much of a ball's radius the ball stands out of the middle of the face.
    """
    along = np.einsum("fki,fi->fk", normals[mesh.faces], mesh.face_normals)
    return np.where(smooth[mesh.faces].all(axis=1), along.min(axis=1), 1.0)


def _within_planes(mesh: TriMesh, bends: Floats, which: NDArray[np.int64], inwards: Floats, size: Floats) -> Floats:
    """Return radii (k,) of balls that touch a convex mesh at points (k,), and stand out of no face but for its bend.

    A ball of radius r about p + r u stands out of a plane with the normal n that lies d before p by r (1 + n·u) - d.
    """
    at, flat = mesh.points[which], mesh.face_areas <= 0.0
    nothing = 1e-6 * float(np.linalg.norm(mesh.size))
    normals, before = mesh.face_normals, np.einsum("fi,fi->f", mesh.face_normals, mesh.points[mesh.faces[:, 0]])
    found = size.copy()
    for first in range(0, len(at), 256):  # so many at once: there are points times faces
        some = slice(first, first + 256)
        out = np.where(flat, 0.0, inwards[some] @ normals.T + bends)
        room = before - at[some] @ normals.T
        out = np.where(room < nothing, 0.0, out)  # what is around the point itself bends with the ball
        found[some] = np.minimum(found[some], np.where(out > 1e-6, room / np.maximum(out, 1e-6), np.inf).min(axis=1))
    return found


def _within_faces(mesh: TriMesh, bends: Floats, which: NDArray[np.int64], inwards: Floats, size: Floats) -> Floats:
    """Return the same for any closed mesh: balls are made smaller until the nearest face is hardly in them."""
    tree, found, at = build_tree(mesh), size.copy(), mesh.points[which]
    for _ in range(SHRINKS):
        middles = at + found[:, None] * inwards
        face, places = closest_faces(tree, middles)
        deep, least = np.linalg.norm(places - middles, axis=1), (1.0 - 1e-6) * bends[face] * found
        own = (mesh.faces[face] == which[:, None]).any(axis=1)  # what is around the point itself bends with the ball
        out = ((deep < least) & ~own) | (distances_to_mesh(tree, middles) > 0.0)
        if not out.any():
            break
        found[out] = np.clip(deep[out] / bends[face[out]], 0.5 * found[out], 0.97 * found[out])
    return found


def _normals(mesh: TriMesh) -> Floats:
    """Return the points' normals (n, 3), weighted so that they are exact on a sphere of any triangles (Max 1999)."""
    corners, total = mesh.points[mesh.faces], np.zeros_like(mesh.points)
    for k in range(3):
        one, two = corners[:, (k + 1) % 3] - corners[:, k], corners[:, (k + 2) % 3] - corners[:, k]
        size = np.einsum("fi,fi->f", one, one) * np.einsum("fi,fi->f", two, two)
        np.add.at(total, mesh.faces[:, k], np.cross(one, two) / np.maximum(size, 1e-300)[:, None])
    return total / np.maximum(np.linalg.norm(total, axis=1), 1e-300)[:, None]


def _merged(middles: Floats, radius: Floats) -> tuple[Floats, Floats]:
    """Return the balls without those that are as good as others: nearer to one than MERGES of its radius."""
    if len(middles) == 0:
        return middles, radius
    cell = np.rint(np.column_stack([middles, radius]) / (MERGES * float(np.median(radius)))).astype(np.int64)
    _, whose, many = np.unique(cell, axis=0, return_inverse=True, return_counts=True)
    whose = whose.ravel()
    out, sizes = np.zeros((len(many), 3)), np.zeros(len(many))
    np.add.at(out, whose, middles)
    np.add.at(sizes, whose, radius)
    return out / many[:, None], sizes / many


def _among(places: Floats, others: Floats) -> NDArray[np.bool_]:
    """Tell which places (k, 3) are among others (m, 3), but for rounding."""
    if len(others) == 0 or len(places) == 0:
        return np.zeros(len(places), np.bool_)
    size = float(np.ptp(places, axis=0).max()) or 1.0
    return np.asarray(cKDTree(others).query(places)[0] < 1e-6 * size, dtype=np.bool_)


def _corners_and_edges(mesh: TriMesh) -> Floats:
    """Return the corners of a convex mesh, and places along its sharp edges: as many whichever way it is turned."""
    # Not its extents along the axes, which a turn changes. A thousandth more, so that rounding adds no part.
    size = 2.0 * float(np.linalg.norm(mesh.points - mesh.points.mean(axis=0), axis=1).max()) or 1.0
    along, _ = sharp_corners(mesh, 1.001 * size / EDGE_PARTS)
    every = np.concatenate([mesh.points, along])
    _, first = np.unique(np.rint(every / size * 1e6).astype(np.int64), axis=0, return_index=True)
    return every[np.sort(first)]
