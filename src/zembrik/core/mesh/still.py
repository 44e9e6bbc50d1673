"""One frame as an ordinary mesh: given a thickness, so that it is closed, and smoothed by subdivision."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.trimesh import TriMesh, point_normals
from zembrik.core.problem import Problem

MOST_FACES = 4_000_000
MOST_ROUNDS = 3


def thickened(mesh: TriMesh, thickness_m: float) -> TriMesh:
    """Return a sheet with two sides, half the thickness off it each, and walls along its borders: a closed body.

    Args:
        mesh: of any borders; a closed one becomes a shell, its inner side turned inwards.
        thickness_m: metres. Where the sheet is bent more tightly than that, its sides may cross.

    Raises:
        Problem: for a thickness that is none, and a mesh with edges of more than two faces.
    """
    if not 0.0 < thickness_m < 1e3:
        raise Problem("a thickness is more than nothing.", "still", "Type one in millimetres.")
    if (mesh.edge_use > 2).any():
        raise Problem("edges of more than two faces have no two sides.", "still", "Mend the mesh on Intake first.")
    half = 0.5 * thickness_m * point_normals(mesh.points, mesh.faces)
    count = len(mesh.points)
    sides = np.concatenate([mesh.faces, mesh.faces[:, ::-1] + count])
    border = mesh.edge_use[mesh.face_edges] == 1  # for each face, its side from corner k to corner k + 1
    starts = mesh.faces[border]
    ends = np.roll(mesh.faces, -1, axis=1)[border]
    walls = np.concatenate([
        np.column_stack([ends, starts, starts + count]), np.column_stack([ends, starts + count, ends + count]),
    ])  # fmt: skip
    points = np.concatenate([mesh.points + half, mesh.points - half])
    return TriMesh(points, np.concatenate([sides, walls]).astype(np.int32))


def smoothed(mesh: TriMesh, rounds: int) -> TriMesh:
    """Return the mesh subdivided so many times by Loop's scheme (Loop 1987): four faces for each, and rounder.

    Raises:
        Problem: when there would be too many faces.
    """
    import trimesh

    if not 0 <= rounds <= MOST_ROUNDS or len(mesh.faces) * 4**rounds > MOST_FACES:
        raise Problem(
            f"{rounds} rounds would make {len(mesh.faces) * 4**max(rounds, 0):,} faces.", "still",
            f"Choose up to {MOST_ROUNDS} rounds and {MOST_FACES:,} faces.",
        )  # fmt: skip
    if rounds == 0:
        return mesh
    points, faces = trimesh.remesh.subdivide_loop(mesh.points, mesh.faces, iterations=rounds)
    return TriMesh(np.ascontiguousarray(points, dtype=np.float64), np.ascontiguousarray(faces, dtype=np.int32))


def still_of(
    points: NDArray[np.floating], faces: NDArray[np.int32], thickness_m: float = 0.0, rounds: int = 0
) -> TriMesh:
    """Return points (n, 3) of one frame as a mesh: smoothed first, then given a thickness if there is one."""
    mesh = smoothed(TriMesh(np.asarray(points, dtype=np.float64), faces), rounds)
    return thickened(mesh, thickness_m) if thickness_m > 0.0 else mesh
