"""A mesh that goes along with another: bound to it once, carried wherever that goes and whatever form it takes.

Each point is bound to the closest place on the carrier and keeps its way from there in a frame that stands on the
carrier's own surface: along one side of the face, across it, and upright, where upright turns over smoothly from
point to point. So it is exactly in its place while the carrier is as it was, goes along rigidly where the carrier
moves rigidly, and bends where it bends.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.distance.tree import build_tree, closest_faces
from zembrik.core.mesh.trimesh import TriMesh, point_normals
from zembrik.core.problem import Problem

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Binding:
    """How m points are bound to a carrier of n points.

    Attributes:
        count: n.
        faces: int32 (f, 3), of the carrier.
        corners: int64 (m, 3), the carrier's points that each is bound to.
        shares: float64 (m, 3), of the place that is closest; they sum to 1.
        off: float64 (m, 3), from there to the point in the surface's own frame, metres.
    """

    count: int
    faces: NDArray[np.int32]
    corners: NDArray[np.int64]
    shares: Floats
    off: Floats


def bind(points: Floats, carrier: TriMesh, name: str = "") -> Binding:
    """Bind points (m, 3) to a carrier, both where they belong together, metres.

    Raises:
        Problem: naming the body, when the carrier has no surface.
    """
    if not len(carrier.faces) or float(carrier.face_areas.sum()) <= 0.0:
        raise Problem("a mesh without a surface can carry nothing.", name, "Give it faces.")
    face, places = closest_faces(build_tree(carrier), points)
    corners = carrier.faces[face].astype(np.int64)
    a, b, c = (carrier.points[corners[:, k]] for k in range(3))
    # Shares of the corners, by the areas opposite them.
    normal = np.cross(b - a, c - a)
    whole = np.einsum("ij,ij->i", normal, normal)
    v = np.einsum("ij,ij->i", np.cross(places - a, c - a), normal) / whole
    w = np.einsum("ij,ij->i", np.cross(b - a, places - a), normal) / whole
    shares = np.stack([1.0 - v - w, v, w], axis=1)
    frames, at = np.empty((len(points), 3, 3)), np.empty((len(points), 3))
    _stand(corners, shares, carrier.points, point_normals(carrier.points, carrier.faces), frames, at)
    off = np.einsum("mki,mi->mk", frames, points - at)
    return Binding(len(carrier.points), carrier.faces, corners, shares, off)


def carry(binding: Binding, points: NDArray[np.floating]) -> Floats:
    """Return where bound points (m, 3) are when the carrier's points (n, 3) are there, metres."""
    now = np.ascontiguousarray(points, dtype=np.float64)
    frames, at = np.empty((len(binding.off), 3, 3)), np.empty((len(binding.off), 3))
    _stand(binding.corners, binding.shares, now, point_normals(now, binding.faces), frames, at)
    return at + np.einsum("mki,mk->mi", frames, binding.off)


@kernel
def _scaled(v):  # type: ignore[no-untyped-def]
    size = np.sqrt(v[0] * v[0] + v[1] * v[1] + v[2] * v[2])
    if size < 1e-150:
        return False
    v[0], v[1], v[2] = v[0] / size, v[1] / size, v[2] / size
    return True


@parallel_kernel
def _stand(corners, shares, points, normals, frames, at):  # type: ignore[no-untyped-def]
    """Fill frames (m, 3, 3), by rows along, across and upright, and at (m, 3), their places on the carrier."""
    for i in numba.prange(len(corners)):
        a, b, c = corners[i, 0], corners[i, 1], corners[i, 2]
        r, s, t = shares[i, 0], shares[i, 1], shares[i, 2]
        up, along = np.empty(3), np.empty(3)
        for axis in range(3):
            at[i, axis] = r * points[a, axis] + s * points[b, axis] + t * points[c, axis]
            up[axis] = r * normals[a, axis] + s * normals[b, axis] + t * normals[c, axis]
            along[axis] = points[b, axis] - points[a, axis]
        if not _scaled(up):
            up[0], up[1], up[2] = 0.0, 1.0, 0.0
        for _ in range(2):
            rise = along[0] * up[0] + along[1] * up[1] + along[2] * up[2]
            for axis in range(3):
                along[axis] -= rise * up[axis]
            if _scaled(along):
                break
            # The side has no length or stands upright: any way across will do.
            along[0], along[1], along[2] = (1.0, 0.0, 0.0) if abs(up[0]) < 0.7 else (0.0, 0.0, 1.0)
        for axis in range(3):
            frames[i, 0, axis], frames[i, 2, axis] = along[axis], up[axis]
        frames[i, 1, 0] = up[1] * along[2] - up[2] * along[1]
        frames[i, 1, 1] = up[2] * along[0] - up[0] * along[2]
        frames[i, 1, 2] = up[0] * along[1] - up[1] * along[0]
