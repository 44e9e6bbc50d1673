"""A surface that goes from form to form, as an animated mesh does."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.rigid import Mover

Floats = NDArray[np.float64]


class Deform(Mover):
    """Forms of a body's points over frames, each going straight over into the next.

    Args:
        frames: float64 (k,), rising. forms: float64 (k, n, 3), where the points of the body in its place are, metres.
        motion: the body's own motion on top, as resolved; None for none. pivot: its origin (3,), metres.
        parent: what it goes along with.
    """

    def __init__(
        self, frames: Floats, forms: Floats, motion: dict[str, Any] | None, pivot: Any, parent: Mover | None = None
    ) -> None:
        super().__init__(motion or {}, pivot, parent)
        self.changes_form = True
        self.frames, self.forms = frames, forms

    def grain(self, frame: float) -> float | None:
        """Return how many frames lie between the forms around a frame."""
        if len(self.frames) < 2:
            return super().grain(frame)
        k = int(np.clip(np.searchsorted(self.frames, frame, side="right") - 1, 0, len(self.frames) - 2))
        return max(float(self.frames[k + 1] - self.frames[k]), super().grain(frame) or 0.0)

    def knows(self, frame: float) -> bool:
        """Tell whether a frame lies between the first and the last form."""
        inside = self.frames[0] - 1e-9 <= frame <= self.frames[-1] + 1e-9
        return bool(inside) and super().knows(frame)

    def points_at(self, points: Floats, frame: float) -> Floats:
        """Return where all points are at a frame, metres; `points` only say how many there are."""
        k = int(np.clip(np.searchsorted(self.frames, frame, side="right") - 1, 0, len(self.frames) - 1))
        form = self.forms[k]
        if k + 1 < len(self.frames) and frame > self.frames[k]:
            t = (frame - self.frames[k]) / (self.frames[k + 1] - self.frames[k])
            form = (1.0 - t) * form + t * self.forms[k + 1]
        return super().points_at(form[: len(points)], frame)
