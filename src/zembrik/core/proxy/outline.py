"""A proxy's shape as a mesh, to draw it and to measure on it."""

from __future__ import annotations

import numpy as np

from zembrik.core.distance.build import Shape
from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh

ROUND = 40  # sides of a ball that is drawn


def outline(parts: list[Shape], mesh: TriMesh, sides: int = ROUND) -> TriMesh:
    """Return the surface of a proxy's parts in world space, metres; an endless plane is drawn as wide as the mesh.

    What is round has so many sides.
    """
    drawn = [_outline(part, mesh, sides) for part in parts]
    if len(drawn) == 1:
        return drawn[0]
    first = np.concatenate([[0], np.cumsum([len(d.points) for d in drawn])[:-1]])
    faces = [d.faces + start for d, start in zip(drawn, first, strict=True)]
    return TriMesh(np.concatenate([d.points for d in drawn]), np.concatenate(faces).astype(np.int32))


def _outline(shape: Shape, mesh: TriMesh, sides: int) -> TriMesh:
    if shape.kind in ("hull", "surface"):
        assert shape.mesh is not None
        return shape.mesh
    if shape.kind == "ball":
        local = shapes.ball(shape.radius_m, sides // 2)
    elif shape.kind == "box":
        local = shapes.box((2 * shape.half_m[0], 2 * shape.half_m[1], 2 * shape.half_m[2]), 6)
    elif shape.kind == "capsule":
        local = shapes.capsule(shape.radius_m, 2 * (float(shape.half_m[1]) + shape.radius_m), sides * 4 // 5)
    else:
        width = float(np.linalg.norm(mesh.size))
        local = shapes.grid((width, width), (12, 12))
    return local.moved(local.points @ shape.turn.T + shape.origin)
