"""A mesh with fewer faces (quadric edge collapse, Garland and Heckbert 1997, through fast-simplification)."""

from __future__ import annotations

import numpy as np

from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem


def reduced(mesh: TriMesh, keep: float, name: str = "") -> TriMesh:
    """Return a mesh of about the share `keep` of the faces (0..1), at least four.

    Raises:
        Problem: naming the body, when nothing is left of it.
    """
    import fast_simplification  # takes a while to load

    wanted = max(int(np.ceil(keep * len(mesh.faces))), 4)
    if wanted >= len(mesh.faces):
        return mesh
    middle = mesh.points.mean(axis=0)  # the library works in single precision
    points, faces = fast_simplification.simplify(
        np.ascontiguousarray(mesh.points - middle, dtype=np.float32), mesh.faces.astype(np.int32), target_count=wanted
    )
    if not len(faces):
        raise Problem("nothing is left of the mesh when it is reduced so far.", name, "Keep a larger share.")
    return TriMesh(np.asarray(points, dtype=np.float64) + middle, np.asarray(faces, dtype=np.int32), mesh.groups)
