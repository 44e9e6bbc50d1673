"""A surface with waves going over it."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.rigid import Mover
from zembrik.core.motion.track import value_at

Floats = NDArray[np.float64]


class Ripple(Mover):
    """Waves that lift a body's points along Y, on top of the body's own motion.

    A point p is lifted by s h sin 2π(d·p / l - r t): strength s, height h (m), length l (m), direction d,
    rate r (1/s), and t the seconds since frame 0.
    """

    def __init__(self, motion: dict[str, Any], pivot: Any, fps: float, parent: Mover | None = None) -> None:
        super().__init__(motion, pivot, parent)
        self.changes_form = True
        ripple = motion["ripple"]
        way = np.asarray(ripple["direction"], dtype=np.float64)
        self.wave = way / np.linalg.norm(way) / ripple["length"]  # waves a metre
        self.height_m, self.rate, self.strength, self.fps = ripple["height"], ripple["rate"], ripple["strength"], fps

    def points_at(self, points: Floats, frame: float) -> Floats:
        """Return where points (n, 3) of the body in its place are at a frame, metres."""
        strength = value_at(self.strength, frame)
        moved = super().points_at(points, frame)
        phase = points @ self.wave - self.rate * frame / self.fps
        moved[:, 1] += strength * self.height_m * np.sin(2.0 * np.pi * phase)
        return moved


def mover_of(motion: dict[str, Any], pivot: Any, fps: float, parent: Mover | None = None) -> Mover:
    """Return what moves a body whose resolved "motion" is given, about its origin (3,) in metres."""
    return Ripple(motion, pivot, fps, parent) if motion.get("ripple") else Mover(motion, pivot, parent)
