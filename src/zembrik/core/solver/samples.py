"""The places on a rigid body that ask others how far they are.

A ball asks from its middle with its radius, a capsule from its core; flat shapes ask from
their corners and from places along their longer edges, a surface from all its points.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.build import Shape
from zembrik.core.mesh.shapes import box
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.solver.touching import sharp_corners

Floats = NDArray[np.float64]
EDGE_PARTS = 4  # twice the way from its middle to its farthest corner, over this: how far apart places on an edge are


def samples_of(shapes: list[Shape]) -> tuple[Floats, Floats]:
    """Return places (k, 3) in world space and the radius (k,) of the ball each stands for, metres."""
    places, radii = [np.zeros((0, 3))], [np.zeros(0)]
    for shape in shapes:
        found, size_m = _of_one(shape)
        places.append(found)
        radii.append(np.full(len(found), size_m))
    at, radius = np.concatenate(places), np.concatenate(radii)
    if len(at) > 1:  # hulls that were cut from one another share their rims
        size = float(np.linalg.norm(np.ptp(at, axis=0))) or 1.0
        _, first = np.unique(np.rint(at / size * 1e6).astype(np.int64), axis=0, return_index=True)
        first = np.sort(first)
        at, radius = at[first], radius[first]
    return at, radius


def _of_one(shape: Shape) -> tuple[Floats, float]:
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
        if shape.kind == "surface":
            return mesh.points, 0.0
    return _corners_and_edges(mesh), 0.0


def _corners_and_edges(mesh: TriMesh) -> Floats:
    """Return the corners of a convex mesh, and places along its sharp edges: as many whichever way it is turned."""
    # Not its extents along the axes, which a turn changes. A thousandth more, so that rounding adds no part.
    size = 2.0 * float(np.linalg.norm(mesh.points - mesh.points.mean(axis=0), axis=1).max()) or 1.0
    along, _ = sharp_corners(mesh, 1.001 * size / EDGE_PARTS)
    every = np.concatenate([mesh.points, along])
    _, first = np.unique(np.rint(every / size * 1e6).astype(np.int64), axis=0, return_index=True)
    return every[np.sort(first)]
