"""Building the arrays of `field.Fields` from proxies."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.field import BALL, BOX, CAPSULE, HULL, KIND_NUMBER, PLANE, SURFACE, Fields
from zembrik.core.distance.tree import build_tree, closest_points
from zembrik.core.mesh.trimesh import TriMesh

# A grid of about this many nodes holds the far distances of a surface; near it faces are exact.
GRID_NODES = 40_000


@dataclass(frozen=True)
class Shape:
    """A proxy's shape: what a field is built from.

    Attributes:
        kind: "plane", "ball", "box", "capsule", "hull" or "surface".
        turn: float64 (3, 3), local to world.
        origin: float64 (3,), world place of the local origin, metres.
        radius_m: of a ball or capsule.
        half_m: half sizes (3,) of a box; for a capsule half_m[1] is half of its core's length.
        mesh: the faces of a hull or surface, in local coordinates.
    """

    kind: str
    turn: NDArray[np.float64] = field(default_factory=lambda: np.eye(3))
    origin: NDArray[np.float64] = field(default_factory=lambda: np.zeros(3))
    radius_m: float = 0.0
    half_m: NDArray[np.float64] = field(default_factory=lambda: np.zeros(3))
    mesh: TriMesh | None = None


def build_fields(shapes: list[Shape], reach_m: float = np.inf, exact_m: float = 0.0) -> Fields:
    """Return the arrays for all shapes.

    Args:
        shapes: what the fields are of.
        reach_m: how far from a shape distances must be exact; farther out a hull answers
            with a lower bound, and the boxes low and high end there.
        exact_m: how far from a hull or a surface distances must be exact all the same: for large balls, which ask
            from their middle.
    """
    count = len(shapes)
    kind = np.array([KIND_NUMBER[s.kind] for s in shapes], dtype=np.int64).reshape(count)
    place, params = np.zeros((count, 12)), np.zeros((count, 9))
    span = np.zeros((count, 5), dtype=np.int64)
    low, high = np.full((count, 3), -np.inf), np.full((count, 3), np.inf)
    planes: list[NDArray[np.float64]] = [np.zeros((0, 4))]
    corners: list[NDArray[np.float64]] = [np.zeros((0, 3, 3))]
    normals: list[NDArray[np.float64]] = [np.zeros((0, 7, 3))]
    lows: list[NDArray[np.float64]] = [np.zeros((0, 3))]
    highs: list[NDArray[np.float64]] = [np.zeros((0, 3))]
    spans: list[NDArray[np.int64]] = [np.zeros((0, 2), np.int64)]
    grids: list[NDArray[np.float32]] = [np.zeros(0, np.float32)]
    grid_faces: list[NDArray[np.int32]] = [np.zeros(0, np.int32)]
    for c, shape in enumerate(shapes):
        place[c, :9], place[c, 9:] = shape.turn.ravel(), shape.origin
        if kind[c] == BALL:
            params[c, 0] = shape.radius_m
        elif kind[c] == BOX:
            params[c, :3] = shape.half_m
        elif kind[c] == CAPSULE:
            params[c, :2] = shape.half_m[1], shape.radius_m
        elif kind[c] in (HULL, SURFACE):
            assert shape.mesh is not None
            first = sum(map(len, corners))
            if kind[c] == HULL:
                tri = shape.mesh.points[shape.mesh.faces]
                flat = _hull_planes(shape.mesh)
                start = sum(map(len, planes))
                params[c, 7] = max(reach_m, exact_m)
                span[c, :4] = start, start + len(flat), first, first + len(tri)
                planes.append(flat)
                upright = np.zeros((len(tri), 7, 3))
            else:
                tree, grid, faces, box, dims, cell = _surface_grid(shape.mesh)
                tri, upright = tree.corners, tree.normals
                span[c] = sum(map(len, grids)), *dims, first
                root = sum(map(len, lows))
                params[c, :3], params[c, 3], params[c, 4:7], params[c, 7] = box[0], cell, box[1], root
                params[c, 8] = exact_m
                lows.append(tree.low)
                highs.append(tree.high)
                # Leaves count faces and branches count nodes: shift each into the shared pools.
                branch = tree.span[:, :1] < 0
                spans.append(tree.span + np.where(branch, np.array([-root, root]), first))
                grids.append(grid)
                grid_faces.append(faces)
            corners.append(tri)
            normals.append(upright)
        if kind[c] != PLANE:
            low[c], high[c] = _world_box(shape, reach_m)
        elif shape.turn[1, 1] == 1.0:  # level: nothing above its reach can touch it
            high[c, 1] = shape.origin[1] + reach_m
    return Fields(
        kind,
        place,
        params,
        span,
        np.concatenate(planes),
        np.concatenate(corners),
        np.concatenate(normals),
        np.concatenate(lows),
        np.concatenate(highs),
        np.concatenate(spans),
        np.concatenate(grids),
        np.concatenate(grid_faces),
        low,
        high,
        np.array([s.kind == "surface" and s.mesh is not None and not s.mesh.is_closed for s in shapes], dtype=np.bool_),
    )


def _hull_planes(mesh: TriMesh) -> NDArray[np.float64]:
    """Return the distinct planes (P, 4) of a convex mesh; coplanar triangles give one plane."""
    normal = mesh.face_normals[mesh.face_areas > 0]
    offset = np.einsum("ij,ij->i", normal, mesh.points[mesh.faces[mesh.face_areas > 0, 0]])
    flat = np.column_stack([normal, offset])
    scale = max(float(np.abs(mesh.points).max()), 1e-9)
    keys = np.rint(flat / np.array([1, 1, 1, scale]) * 1e7).astype(np.int64)
    _, first = np.unique(keys, axis=0, return_index=True)
    return np.ascontiguousarray(flat[np.sort(first)])


def _surface_grid(mesh: TriMesh):  # type: ignore[no-untyped-def]
    tree = build_tree(mesh)
    size = np.maximum(mesh.size, 1e-6)
    margin = 0.08 * float(size.max())
    box = np.array([mesh.bounds[0] - margin, mesh.bounds[1] + margin])
    span = box[1] - box[0]
    cell = float((np.prod(span) / GRID_NODES) ** (1 / 3))
    dims = np.maximum(np.ceil(span / cell).astype(np.int64) + 1, 2)
    box[1] = box[0] + (dims - 1) * cell
    axes = [box[0][k] + cell * np.arange(dims[k]) for k in range(3)]
    nodes = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    distance, face = np.empty(len(nodes)), np.empty(len(nodes), dtype=np.int64)
    closest_points(tree, nodes, distance, face)
    return tree, distance.astype(np.float32), face.astype(np.int32), box, dims, cell


def _world_box(shape: Shape, reach_m: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    if shape.mesh is not None:
        world = shape.mesh.points @ shape.turn.T + shape.origin
        return world.min(axis=0) - reach_m, world.max(axis=0) + reach_m
    if shape.kind == "box":
        extent = np.abs(shape.turn) @ shape.half_m
    elif shape.kind == "capsule":
        extent = np.abs(shape.turn[:, 1]) * shape.half_m[1] + shape.radius_m
    else:
        extent = np.full(3, shape.radius_m)
    return shape.origin - extent - reach_m, shape.origin + extent + reach_m
