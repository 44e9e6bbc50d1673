"""A value over frames that is exact where it must be, and goes smoothly from there to there."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solveh_banded

Floats = NDArray[np.float64]
BEND, LEVEL = 1e-3, 1e-6  # against a weight of 1: of second and of first differences


def smooth_between(values: Floats, weights: Floats) -> Floats:
    """Return values (k,) over frames: near the given ones where their weights (k,) are 1, smooth where they are 0.

    The least of Σ w (s - v)² + BEND Σ (Δ²s)² + LEVEL Σ (Δs)²: a smoothing spline (Whittaker 1923) that is level far
    from where anything is given. Zero everywhere where nothing is.
    """
    count = len(values)
    if not (weights > 0.0).any():
        return np.zeros(count)
    bands = np.zeros((3, count))  # upper diagonals: two above, one above, the middle
    bands[2] = weights
    for k in range(count - 2):
        bands[2, k : k + 3] += BEND * np.array([1.0, 4.0, 1.0])
        bands[1, k + 1 : k + 3] += BEND * np.array([-2.0, -2.0])
        bands[0, k + 2] += BEND
    for k in range(count - 1):
        bands[2, k : k + 2] += LEVEL
        bands[1, k + 1] -= LEVEL
    middle = float((weights * np.where(weights > 0.0, values, 0.0)).sum() / weights.sum())
    right = weights * np.where(weights > 0.0, values - middle, 0.0)  # what is level is exact
    return np.asarray(solveh_banded(bands, right) + middle)
