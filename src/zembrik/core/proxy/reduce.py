"""A mesh with fewer faces (quadric edge collapse, Garland and Heckbert 1997, through fast-simplification).

The error that decides what goes is a distance to planes, and within a flat sheet every move costs nothing: its corners
would go as soon as its middle. So while faces go, each border has a skirt of faces that stand upright on it, whose
planes hold it where it is, as Garland and Heckbert do.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.trimesh import TriMesh, point_normals
from zembrik.core.problem import Problem


def reduced(mesh: TriMesh, keep: float, name: str = "") -> TriMesh:
    """Return a mesh of about the share `keep` of the faces (0..1), at least four; borders stay where they are.

    Raises:
        Problem: naming the body, when nothing is left of it.
    """
    import fast_simplification  # takes a while to load

    wanted = max(int(np.ceil(keep * len(mesh.faces))), 4)
    if wanted >= len(mesh.faces):
        return mesh
    middle = mesh.points.mean(axis=0)  # the library works in single precision
    points, faces = _with_skirts(mesh)
    skirt = len(faces) - len(mesh.faces)
    # Of the skirt about as many faces go as along the border: the square root of what goes inside.
    asked = wanted + int(skirt * np.sqrt(keep))
    _, _, collapses = fast_simplification.simplify(
        np.ascontiguousarray(points - middle, dtype=np.float32), faces, target_count=asked, return_collapses=True
    )
    made, left, goes = fast_simplification.replay_simplification(
        np.ascontiguousarray(points - middle, dtype=np.float32), faces, collapses
    )
    own = np.zeros(len(made), dtype=bool)
    own[goes[: len(mesh.points)]] = True  # points that stand for some of the mesh's own
    left = left[own[left].all(axis=1)]
    if not len(left):
        raise Problem("nothing is left of the mesh when it is reduced so far.", name, "Keep a larger share.")
    used, numbers = np.unique(left, return_inverse=True)
    return TriMesh(
        np.asarray(made[used], dtype=np.float64) + middle, numbers.reshape(-1, 3).astype(np.int32), mesh.groups
    )


def _with_skirts(mesh: TriMesh) -> tuple[NDArray[np.float64], NDArray[np.int32]]:
    """Return points and faces with a skirt along every border, as deep as the border's edges are long."""
    directed = mesh.faces[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2)[mesh.edge_use[mesh.face_edges.ravel()] == 1]
    if not len(directed):
        return mesh.points, mesh.faces
    rim, numbers = np.unique(directed, return_inverse=True)
    depth = float(np.linalg.norm(mesh.points[directed[:, 1]] - mesh.points[directed[:, 0]], axis=1).mean())
    normals = point_normals(mesh.points, mesh.faces)[rim]
    hem = len(mesh.points) + numbers.reshape(-1, 2)
    a, b = directed.T
    skirt = np.concatenate([np.stack([b, a, hem[:, 0]], 1), np.stack([b, hem[:, 0], hem[:, 1]], 1)])
    points = np.concatenate([mesh.points, mesh.points[rim] - depth * normals])
    return points, np.concatenate([mesh.faces, skirt]).astype(np.int32)
