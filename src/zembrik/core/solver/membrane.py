"""The triangles of cloth: their shape at rest, and how they resist being stretched, pressed and sheared."""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import parallel_kernel


class Membrane(NamedTuple):
    """All cloth triangles of a world, cluster by cluster; T triangles.

    Attributes:
        points: int32 (T, 3).
        rest: float64 (T, 8): the inverse of the rest shape's edge matrix by rows (1/m), then
            the compliances in stretch, compression and shear (1/(k A), in 1/J), then the
            damping (s).
        span: int64 (clusters + 1,), where each cluster's triangles begin.
        packed: int64 (clusters,), where its packs of four end, see `colour`.
    """

    points: NDArray[np.int32]
    rest: NDArray[np.float64]
    span: NDArray[np.int64]
    packed: NDArray[np.int64]


def rest_shape(points: NDArray[np.float64], faces: NDArray[np.int32], warp: NDArray[np.float64]):  # type: ignore[no-untyped-def]
    """Return (inverse edge matrices (T, 4) in 1/m, areas (T,) in m²) of rest points (n, 3).

    The warp directions (T, 3) are laid into each triangle's plane; where one stands upright on
    the plane, the triangle's first edge is taken instead.
    """
    a, b, c = (points[faces[:, k]] for k in range(3))
    e1, e2 = b - a, c - a
    normal = np.cross(e1, e2)
    double = np.linalg.norm(normal, axis=1)
    normal = normal / double[:, None]
    u = warp - normal * np.einsum("ij,ij->i", normal, warp)[:, None]
    length = np.linalg.norm(u, axis=1)
    first = e1 / np.linalg.norm(e1, axis=1)[:, None]
    u = np.where((length > 1e-3)[:, None], u / np.maximum(length, 1e-300)[:, None], first)
    v = np.cross(normal, u)
    dot = lambda p, q: np.einsum("ij,ij->i", p, q)  # noqa: E731
    m00, m01, m10, m11 = dot(e1, u), dot(e2, u), dot(e1, v), dot(e2, v)
    det = m00 * m11 - m01 * m10
    return np.stack([m11, -m01, -m10, m00], axis=1) / det[:, None], double / 2


def membrane_rows(
    points: NDArray[np.float64], faces: NDArray[np.int32], warp: NDArray[np.float64], stiff: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Return the rows of `Membrane.rest` for triangles at rest in the given points.

    Args:
        points: float64 (n, 3), metres.
        faces: int32 (T, 3).
        warp: float64 (T, 3), the warp direction near each triangle.
        stiff: float64 (T, 4): stretch, compression, shear in N/m, damping in s.
    """
    rest, area = rest_shape(points, faces, warp)
    return np.column_stack([rest, 1.0 / (stiff[:, :3] * area[:, None]), stiff[:, 3]])


@parallel_kernel
def measure_stretch(points, rest, x, strain):  # type: ignore[no-untyped-def]
    """Fill strain (T,) with each triangle's larger stretch along warp or weft (0.01 is one percent)."""
    for t in numba.prange(len(points)):
        i, j, k = points[t, 0], points[t, 1], points[t, 2]
        worst = -1.0
        for side in range(2):
            gj, gk = rest[t, side], rest[t, 2 + side]
            total = 0.0
            for axis in range(3):
                f = gj * (x[j, axis] - x[i, axis]) + gk * (x[k, axis] - x[i, axis])
                total += f * f
            worst = max(worst, np.sqrt(total) - 1.0)
        strain[t] = worst
