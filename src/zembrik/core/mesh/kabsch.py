"""The rigid motion that takes points nearest to others."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def kabsch(start: Floats, there: Floats) -> tuple[Floats, Floats]:
    """Return turn (3, 3) and shift (3,) that take points (n, 3) nearest to others.

    Least squares over all points (Kabsch 1976).
    """
    a, b = start.mean(axis=0), there.mean(axis=0)
    u, _, v = np.linalg.svd((start - a).T @ (there - b))
    turn = v.T @ np.diag([1.0, 1.0, np.sign(np.linalg.det(v.T @ u.T)) or 1.0]) @ u.T
    return turn, b - turn @ a
