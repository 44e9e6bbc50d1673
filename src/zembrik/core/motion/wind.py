"""Where an even wind goes at a frame."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.track import value_at


def wind_velocity(velocity: Any, strength: Any, veer: Any, frame: float) -> NDArray[np.float64]:
    """Return a wind's velocity (3,), m/s, at a frame.

    Args:
        velocity: (3,), m/s.
        strength: factor on it; veer: degrees it is turned about the vertical, counter-clockwise from above. Both are
            numbers or tracks.
    """
    angle = np.radians(value_at(veer, frame))
    x, y, z = value_at(strength, frame) * np.asarray(velocity, dtype=np.float64)
    c, s = np.cos(angle), np.sin(angle)
    return np.array([c * x + s * z, y, c * z - s * x])
