"""A proxy's shape as a mesh, to draw it and to measure on it."""

from __future__ import annotations

import numpy as np

from zembrik.core.distance.build import Shape
from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh


def outline(shape: Shape, mesh: TriMesh) -> TriMesh:
    """Return the proxy's surface in world space, metres; an endless plane is drawn as wide as the mesh."""
    if shape.kind in ("hull", "surface"):
        assert shape.mesh is not None
        return shape.mesh
    if shape.kind == "ball":
        local = shapes.ball(shape.radius_m, 20)
    elif shape.kind == "box":
        local = shapes.box((2 * shape.half_m[0], 2 * shape.half_m[1], 2 * shape.half_m[2]), 6)
    elif shape.kind == "capsule":
        local = shapes.capsule(shape.radius_m, 2 * (float(shape.half_m[1]) + shape.radius_m), 32)
    else:
        width = float(np.linalg.norm(mesh.size))
        local = shapes.grid((width, width), (12, 12))
    return local.moved(local.points @ shape.turn.T + shape.origin)
