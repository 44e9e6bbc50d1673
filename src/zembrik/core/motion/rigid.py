"""A body that moves by itself: its turn and shift at any moment."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.track import track_values
from zembrik.core.units import turn_matrix

Floats = NDArray[np.float64]


class Mover:
    """How far a body is from its place at any frame.

    Attributes:
        motion: the resolved document's "motion": tracks of metres and degrees.
        pivot: float64 (3,), the body's origin in the world, which it turns about, metres.
    """

    def __init__(self, motion: dict[str, Any], pivot: Any) -> None:
        self.motion = motion
        self.pivot = np.asarray(pivot, dtype=np.float64)

    def at(self, frame: float) -> tuple[Floats, Floats]:
        """Return turn (3, 3) and shift (3,): a point p of the body in its place is at turn @ p + shift."""
        turn = turn_matrix(self._track("rotate", frame))
        return turn, self.pivot + self._track("translate", frame) - turn @ self.pivot

    def points_at(self, points: Floats, frame: float) -> Floats:
        """Return where points (n, 3) of the body in its place are at a frame, metres."""
        turn, shift = self.at(frame)
        return np.asarray(points @ turn.T + shift, dtype=np.float64)

    def _track(self, name: str, frame: float) -> Any:
        track = self.motion.get(name)
        return track_values(track["keys"], track["ease"], frame)[0] if track else np.zeros(3)
