"""Hinges: the inner edges of cloth, at which it bends.

The energy of a hinge, and how it depends on the other hinges of its two triangles, come from `bend_form`; here
e = 2 tan(θ/2) - 2 tan(θ₀/2) stands for the angle, with the dihedral angle θ. For small angles e is the change of the
angle itself (Grinspun et al. 2003); towards a full fold it grows without bound, as the curvature of discrete rods
does (Bergou et al. 2008), so that a fold never turns inside out. Its torque is own (e - e*) / B, with e* = Σ share e of
itself and its neighbours; in a crease neighbours count no more than at `cloth_forces.MOST_BENT`.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray


class Bend(NamedTuple):
    """All hinges of a world, cluster by cluster; H hinges.

    Attributes:
        points: int32 (H, 4): edge start, edge end, the two points opposite.
        rest: float64 (H, 2): 2 tan(θ₀/2), and the compliance 1/(B w) in 1/J.
        span: int64 (clusters + 1,), where each cluster's hinges begin.
        near, share: see `bend_form.BendForm`; empty where no hinge of the world depends on another.
        bent: float64 (H,), filled: e of each, up to MOST_BENT; empty likewise.
    """

    points: NDArray[np.int32]
    rest: NDArray[np.float64]
    span: NDArray[np.int64]
    near: NDArray[np.int32]
    share: NDArray[np.float64]
    bent: NDArray[np.float64]


def rest_angles(points: NDArray[np.float64], hinges: NDArray[np.int32]) -> NDArray[np.float64]:
    """Return the dihedral angles (hinges,) in radians: 0 is flat."""
    p0, p1, p2, p3 = (points[hinges[:, k]] for k in range(4))
    e = p1 - p0
    n1, n2 = np.cross(e, p2 - p0), np.cross(p3 - p0, e)
    length = np.linalg.norm(e, axis=1)
    sine = np.einsum("ij,ij->i", np.cross(n1, n2), e) / np.maximum(length, 1e-300)
    return np.arctan2(sine, np.einsum("ij,ij->i", n1, n2))


def bend_rows(
    points: NDArray[np.float64], hinges: NDArray[np.int32], stiff: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Return the rows of `Bend.rest`; `stiff` (H,) holds B times `BendForm.own` in N·m, above zero."""
    half = np.clip(rest_angles(points, hinges) / 2, -1.5, 1.5)
    return np.column_stack([2 * np.tan(half), 1.0 / stiff])
