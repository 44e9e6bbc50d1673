"""Mass, centre and inertia of a closed mesh filled with one density."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.trimesh import TriMesh


@dataclass(frozen=True)
class MassOf:
    """How a body resists being moved and turned.

    Attributes:
        mass: kg.
        centre: float64 (3,), of mass, metres.
        moments: float64 (3,), principal moments of inertia about the centre, kg·m², rising.
        axes: float64 (3, 3), the principal axes as columns, right-handed.
    """

    mass: float
    centre: NDArray[np.float64]
    moments: NDArray[np.float64]
    axes: NDArray[np.float64]


def mass_of(mesh: TriMesh, density: float) -> MassOf:
    """Return the mass properties of a closed mesh facing out, of a density in kg/m³.

    Each face spans a tetrahedron with a place near the middle; the integrals of 1, x and x xᵀ
    over these are exact polynomials of their corners (Tonon 2004, "Explicit exact formulas for
    the 3-D tetrahedron inertia tensor").

    Raises:
        ValueError: when the mesh encloses no volume.
    """
    base = mesh.points.mean(axis=0)
    corners = mesh.points[mesh.faces] - base
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    six = np.einsum("ij,ij->i", a, np.cross(b, c))  # six times each volume, with its sign
    volume = float(six.sum()) / 6.0
    extent = float(np.prod(np.maximum(mesh.size, 1e-12)))
    if not volume > 1e-9 * extent:
        raise ValueError("the mesh encloses no volume")
    total = a + b + c
    centre = (six[:, None] * total).sum(axis=0) / (24.0 * volume)
    # Integral of x xᵀ over a tetrahedron with one corner in the origin: V / 20 (Σ pᵢ pᵢᵀ + s sᵀ).
    second = np.einsum("t,ti,tj->ij", six, total, total)
    for p in (a, b, c):
        second += np.einsum("t,ti,tj->ij", six, p, p)
    second /= 120.0
    second -= volume * np.outer(centre, centre)
    inertia = density * (np.trace(second) * np.eye(3) - second)
    moments, axes = np.linalg.eigh(inertia)
    axes *= np.where(axes[np.argmax(np.abs(axes), axis=0), range(3)] < 0, -1.0, 1.0)  # one sign on every machine
    if np.linalg.det(axes) < 0:
        axes[:, 2] *= -1.0
    return MassOf(density * volume, base + centre, np.maximum(moments, 1e-30), axes)
