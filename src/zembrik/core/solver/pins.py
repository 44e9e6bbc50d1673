"""Which points a pin takes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.problem import Problem


def pinned_points(pin: Any, points: NDArray[np.float64], where: str) -> NDArray[np.bool_]:
    """Return which of the placed points (n, 3) a pin takes; raises Problem when it takes none."""
    held = np.zeros(len(points), dtype=bool)
    if pin.points.box is not None:
        low, high = np.array(pin.points.box)
        held = ((points >= low - 1e-9) & (points <= high + 1e-9)).all(axis=1)
    else:
        numbers = np.array(pin.points.numbers, dtype=np.int64)
        if len(numbers) and numbers.max() >= len(points):
            raise Problem(
                f"point {numbers.max()} is pinned, but the mesh has points 0 to {len(points) - 1}.",
                where,
                "Correct it.",
            )
        held[numbers] = True
    if not held.any():
        low, high = points.min(axis=0), points.max(axis=0)
        raise Problem(
            "the pin takes no point of the body.",
            where,
            f"The body reaches from ({low[0]:.3g}, {low[1]:.3g}, {low[2]:.3g}) to "
            f"({high[0]:.3g}, {high[1]:.3g}, {high[2]:.3g}) m; move or widen the pin's box.",
        )
    return held
