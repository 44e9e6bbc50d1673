"""The tetrahedra of soft bodies: their rest shapes, and how these yield. Their forces are in `soft_forces`."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


class Tets(NamedTuple):
    """All tetrahedra of a world, cluster by cluster; E tetrahedra.

    Attributes:
        points: int32 (E, 4).
        rest: float64 (E, 13): the inverse of the rest shape's edge matrix by rows (1/m), then
            the volume in m³, μ and λ in Pa, and the damping in s.
        span: int64 (clusters + 1,), where each cluster's tetrahedra begin.
    """

    points: NDArray[np.int32]
    rest: Floats
    span: NDArray[np.int64]


def lame(young: Any, poisson: Any) -> tuple[Any, Any]:
    """Return μ and λ (Pa) of `Tets.rest`: Lamé's, but for λ, which takes μ in (Macklin and Müller 2021, section 3)."""
    mu = young / (2.0 * (1.0 + poisson))
    return mu, young * poisson / ((1.0 + poisson) * (1.0 - 2.0 * poisson)) + mu


def tet_rows(points: Floats, tets: NDArray[np.int32], filled: Floats, stuff: Floats) -> tuple[Floats, Floats]:
    """Return the rows of `Tets.rest` and the volumes (E,) in m³ that count.

    Args:
        points: float64 (n, 3), at rest, metres.
        tets: int32 (E, 4).
        filled: float64 (E,), the share of each tetrahedron that is stuff.
        stuff: float64 (E, 3): Young's modulus in Pa, Poisson's ratio, damping in s.
    """
    edges = np.stack([points[tets[:, k]] - points[tets[:, 0]] for k in (1, 2, 3)], axis=2)
    volume = np.linalg.det(edges) / 6.0 * filled
    mu, lam = lame(stuff[:, 0], stuff[:, 1])
    inverse = np.linalg.inv(edges).reshape(-1, 9)
    rows = np.column_stack([inverse, volume, mu, lam, stuff[:, 2]])
    return np.ascontiguousarray(rows), volume


def yield_tets(tets: Tets, x: Floats, bound: Floats, share: Floats) -> None:
    """Let the rest shapes of tetrahedra follow what is beyond their yield strain, without a change of volume.

    The logarithms of F's stretches, less their mean, are the change of form; what of its size is
    beyond the bound goes over into the rest shape by the given share (multiplicative plasticity:
    Irving, Teran and Fedkiw 2004, "Invertible finite elements").

    Args:
        tets: their rows change.
        x: float64 (n, 3), metres.
        bound: float64 (E,), yield strain; infinite for stuff that does not yield.
        share: float64 (E,), how much of the excess goes over now, 0..1.
    """
    some = np.flatnonzero(np.isfinite(bound))
    if not len(some):
        return
    corners = x[tets.points[some]]
    edges = np.stack([corners[:, k] - corners[:, 0] for k in (1, 2, 3)], axis=2)
    inverse = tets.rest[some, :9].reshape(-1, 3, 3)
    _, stretch, axes = np.linalg.svd(edges @ inverse)
    log = np.log(np.clip(stretch, 0.05, 20.0))
    form = log - log.mean(axis=1, keepdims=True)
    size = np.linalg.norm(form, axis=1)
    over = size > bound[some]
    if not over.any():
        return
    part = np.where(over, 1.0 - bound[some] / np.maximum(size, 1e-300), 0.0) * share[some]
    plastic = np.exp(-form * part[:, None])  # the inverse of what goes over
    tets.rest[some, :9] = (inverse @ (axes.transpose(0, 2, 1) * plastic[:, None, :]) @ axes).reshape(-1, 9)
