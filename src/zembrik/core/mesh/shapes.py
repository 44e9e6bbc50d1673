"""Primitive shapes as triangle meshes, centred on the origin, in metres, Y up."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.trimesh import TriMesh


def _lattice_faces(columns: int, rows: int, wrap_columns: bool = False, wrap_rows: bool = False) -> NDArray[np.int32]:
    """Return two triangles for each cell of a lattice of points, diagonals turned in a chequer.

    Alternating the diagonals keeps a simulated sheet from favouring one direction.
    """
    across, along = columns if wrap_columns else columns - 1, rows if wrap_rows else rows - 1
    i, j = np.repeat(np.arange(across), along), np.tile(np.arange(along), across)
    a = i * rows + j
    b = ((i + 1) % columns) * rows + j
    c = ((i + 1) % columns) * rows + (j + 1) % rows
    d = i * rows + (j + 1) % rows
    even = ((i + j) % 2 == 0)[:, None]
    first = np.where(even, np.stack([a, c, b], 1), np.stack([a, d, b], 1))
    second = np.where(even, np.stack([a, d, c], 1), np.stack([b, d, c], 1))
    return np.stack([first, second], axis=1).reshape(-1, 3).astype(np.int32)


def grid(size_m: tuple[float, float], segments: tuple[int, int]) -> TriMesh:
    """Return a flat sheet in the XZ plane, facing up: width along X, depth along Z."""
    nx, nz = segments
    x = np.linspace(-size_m[0] / 2, size_m[0] / 2, nx + 1)
    z = np.linspace(-size_m[1] / 2, size_m[1] / 2, nz + 1)
    px, pz = np.meshgrid(x, z, indexing="ij")
    points = np.stack([px.ravel(), np.zeros(px.size), pz.ravel()], axis=1)
    return TriMesh(points, _lattice_faces(nx + 1, nz + 1))


def box(size_m: tuple[float, float, float], segments: int = 1) -> TriMesh:
    """Return a closed box with `segments` cells along every side, corners shared."""
    line = np.linspace(-0.5, 0.5, segments + 1)
    u, v = (a.ravel() for a in np.meshgrid(line, line, indexing="ij"))
    half = np.full_like(u, 0.5)
    sides = [(half, u, v), (-half, v, u), (v, half, u), (u, -half, v), (u, v, half), (v, u, -half)]
    points = np.concatenate([np.stack(side, axis=1) for side in sides])
    faces = np.concatenate([_lattice_faces(segments + 1, segments + 1) + k * len(u) for k in range(6)])
    # The sides share their borders: weld by rounded place.
    keys = np.rint(points * segments * 2).astype(np.int64)
    _, first, inverse = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    faces = inverse.reshape(-1)[faces].astype(np.int32)
    mesh = TriMesh(points[first] * np.asarray(size_m, dtype=np.float64), faces)
    return _facing_out(mesh)


def ball(radius_m: float, rings: int = 16) -> TriMesh:
    """Return a closed ball of `rings` rows of faces from pole to pole and twice as many around."""
    around = 2 * rings
    profile = [(np.sin(t), np.cos(t)) for t in np.pi * np.arange(1, rings) / rings]
    return _revolved([(radius_m * r, radius_m * y) for r, y in profile], radius_m, -radius_m, around)


def cylinder(radius_m: float, height_m: float, sides: int = 24) -> TriMesh:
    """Return a closed cylinder along Y."""
    h = height_m / 2
    return _revolved([(radius_m, h), (radius_m, -h)], h, -h, sides)


def capsule(radius_m: float, height_m: float, sides: int = 24) -> TriMesh:
    """Return a closed capsule along Y; `height_m` is the whole height, caps included."""
    rows = max(2, sides // 4)
    h = max(height_m / 2 - radius_m, 0.0)
    t = np.pi / 2 * np.arange(1, rows + 1) / rows
    top = [(radius_m * np.sin(a), h + radius_m * np.cos(a)) for a in t]
    bottom = [(r, -y) for r, y in reversed(top)]
    profile = top + (bottom if h > 0 else bottom[1:])
    return _revolved(profile, h + radius_m, -h - radius_m, sides)


def ring(radius_m: float, tube_m: float, sides: int = 32, tube_sides: int = 12) -> TriMesh:
    """Return a closed ring lying flat: `radius_m` to the middle of its tube of radius `tube_m`."""
    a, b = (
        g.ravel()
        for g in np.meshgrid(
            2 * np.pi * np.arange(sides) / sides, 2 * np.pi * np.arange(tube_sides) / tube_sides, indexing="ij"
        )
    )
    r = radius_m + tube_m * np.cos(b)
    points = np.stack([r * np.cos(a), tube_m * np.sin(b), r * np.sin(a)], axis=1)
    return _facing_out(TriMesh(points, _lattice_faces(sides, tube_sides, True, True)))


def _revolved(profile: list[tuple[float, float]], top_m: float, bottom_m: float, around: int) -> TriMesh:
    """Return a closed surface of revolution about Y from (radius, height) rows and two poles."""
    angle = 2 * np.pi * np.arange(around) / around
    rows = np.array(profile, dtype=np.float64)
    points = np.stack(
        [
            np.outer(np.cos(angle), rows[:, 0]).ravel(),
            np.tile(rows[:, 1], around),
            np.outer(np.sin(angle), rows[:, 0]).ravel(),
        ],
        axis=1,
    )
    count = len(rows)
    faces = _lattice_faces(around, count, wrap_columns=True) if count > 1 else np.zeros((0, 3), np.int32)
    start = np.arange(around) * count
    after = np.roll(start, -1)
    top, bottom = len(points), len(points) + 1
    caps = np.concatenate(
        [
            np.stack([np.full(around, top), start, after], axis=1),
            np.stack([np.full(around, bottom), after + count - 1, start + count - 1], axis=1),
        ]
    ).astype(np.int32)
    points = np.concatenate([points, [[0.0, top_m, 0.0], [0.0, bottom_m, 0.0]]])
    return _facing_out(TriMesh(points, np.concatenate([faces, caps])))


def _facing_out(mesh: TriMesh) -> TriMesh:
    """Return the closed mesh with its faces turned outwards, all together."""
    a, b, c = (mesh.points[mesh.faces[:, k]] for k in range(3))
    if np.einsum("ij,ij->", a, np.cross(b, c)) < 0:
        return TriMesh(mesh.points, np.ascontiguousarray(mesh.faces[:, ::-1]))
    return mesh
