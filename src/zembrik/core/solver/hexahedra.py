"""The cells of soft bodies: hexahedra with trilinear shape functions, their rest shapes, and how these yield.

Their forces are in `soft_forces`.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.lattice import CORNERS

Floats = NDArray[np.float64]


def _gradients(places: Floats) -> Floats:
    """Return the gradients (places, 8, 3) of the shape functions at places (m, 3) in the unit cube."""
    towards = 2 * CORNERS - 1  # +1 where a coordinate takes a corner's share up
    part = np.where(CORNERS[None] == 1, places[:, None], 1.0 - places[:, None])  # (m, 8, 3)
    one, two, three = part[..., 0], part[..., 1], part[..., 2]
    return towards * np.stack([two * three, one * three, one * two], axis=-1)


GAUSS = 0.5 + (CORNERS - 0.5) / np.sqrt(3.0)  # the 2 × 2 × 2 points of Gauss-Legendre quadrature, each of weight 1/8
AT_GAUSS = np.ascontiguousarray(_gradients(GAUSS))  # (point, corner, axis)
AT_CENTRE = np.ascontiguousarray(_gradients(np.full((1, 3), 0.5))[0])  # (corner, axis)
# As kernels take them, four numbers a row. ∫ ∂N_c/∂m ∇N_d over the unit cube: row 3 (8 c + d) + m.
PRODUCTS = np.zeros((192, 4))
PRODUCTS[:, :3] = np.einsum("qcm,qdn->cdmn", AT_GAUSS, AT_GAUSS).reshape(192, 3) / 8.0
# The four corners at either end of each axis, and what the step from one to the other counts for in the gradient along
# it: at the points of quadrature in two halves (row 8 axis + 2 step + half), and the other way (row 8 axis + point).
HIGH = np.array([np.flatnonzero(CORNERS[:, axis] == 1) for axis in range(3)])
LOW = np.array([np.flatnonzero(CORNERS[:, axis] == 0) for axis in range(3)])
BACK = np.ascontiguousarray(np.concatenate([AT_GAUSS[:, HIGH[axis], axis] for axis in range(3)]))
WEIGHTS = np.concatenate([AT_GAUSS[:, HIGH[axis], axis].T.reshape(8, 4) for axis in range(3)])


class Cells(NamedTuple):
    """All cells of a world, cluster by cluster; E cells.

    Attributes:
        points: int32 (E, 8), in the order of `lattice.CORNERS`.
        rest: float64 (E, 13): the inverse of the rest shape, which takes it to the unit cube, by rows (1/m), then
            the volume in m³, Lamé's μ and λ in Pa, and the damping in s.
        span: int64 (clusters + 1,), where each cluster's cells begin.
    """

    points: NDArray[np.int32]
    rest: Floats
    span: NDArray[np.int64]


def lame(young: Any, poisson: Any) -> tuple[Any, Any]:
    """Return Lamé's μ and λ (Pa) from Young's modulus (Pa) and Poisson's ratio."""
    return young / (2.0 * (1.0 + poisson)), young * poisson / ((1.0 + poisson) * (1.0 - 2.0 * poisson))


def cell_rows(edges: Floats, filled: Floats, material: Floats) -> tuple[Floats, Floats]:
    """Return the rows of `Cells.rest` and the volumes (E,) in m³ that count.

    Args:
        edges: float64 (3, 3), the three edges of every cell, as columns, metres.
        filled: float64 (E,), the share of each cell that is material.
        material: (3,): Young's modulus in Pa, Poisson's ratio, damping in s.
    """
    count, (mu, lam) = len(filled), lame(material[0], material[1])
    volume = abs(float(np.linalg.det(edges))) * filled
    inverse = np.tile(np.linalg.inv(edges).ravel(), (count, 1))
    rows = np.column_stack([inverse, volume, np.tile([mu, lam, material[2]], (count, 1))])
    return np.ascontiguousarray(rows), volume


def yield_cells(cells: Cells, x: Floats, bound: Floats, share: Floats) -> None:
    """Let the rest shapes of cells follow what is beyond their yield strain, without a change of volume.

    The logarithms of the stretches at a cell's centre, less their mean, are the change of form; what of its size is
    beyond the bound goes over into the rest shape by the given share (multiplicative plasticity:
    Irving, Teran and Fedkiw 2004, "Invertible finite elements").

    Args:
        cells: their rows change.
        x: float64 (n, 3), metres.
        bound: float64 (E,), yield strain; infinite for what does not yield.
        share: float64 (E,), how much of the excess goes over now, 0..1.
    """
    some = np.flatnonzero(np.isfinite(bound))
    if not len(some):
        return
    edges = np.einsum("eci,cj->eij", x[cells.points[some]], AT_CENTRE)
    inverse = cells.rest[some, :9].reshape(-1, 3, 3)
    _, stretch, axes = np.linalg.svd(edges @ inverse)
    log = np.log(np.clip(stretch, 0.05, 20.0))
    form = log - log.mean(axis=1, keepdims=True)
    size = np.linalg.norm(form, axis=1)
    over = size > bound[some]
    if not over.any():
        return
    part = np.where(over, 1.0 - bound[some] / np.maximum(size, 1e-300), 0.0) * share[some]
    plastic = np.exp(-form * part[:, None])  # the inverse of what goes over
    cells.rest[some, :9] = (inverse @ (axes.transpose(0, 2, 1) * plastic[:, None, :]) @ axes).reshape(-1, 9)
