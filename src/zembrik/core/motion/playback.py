"""A body that goes as it went in a cache."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.between import points_at, pose_at
from zembrik.core.cache.reader import Cache
from zembrik.core.motion.rigid import Mover
from zembrik.core.units import quaternion_turn

Floats = NDArray[np.float64]
KEPT_FRAMES = 8  # of points, as one step of a bake asks for the same frames again and again


class Playback(Mover):
    """Takes a body along as it goes in a cache, placed elsewhere in space and time; before and after it stands still.

    Args:
        cache, number: the body. starts: the shot's frame at which the cache's first frame is.
        rate: frames of the cache a frame of the shot. keeps_form: whether it only moves as a whole.
        place: where the cache's world stands: turn (3, 3), scale and shift (3,), metres.
        motion: the body's own motion on top, as resolved; None for none. pivot: its origin (3,), metres.
        parent: what it goes along with.
    """

    def __init__(
        self, cache: Cache, number: int, starts: float, rate: float, keeps_form: bool,
        place: tuple[Floats, float, Floats], motion: dict[str, Any] | None, pivot: Any, parent: Mover | None = None,
    ) -> None:  # fmt: skip
        super().__init__(motion or {}, pivot, parent)
        self.cache, self.number, self.starts, self.rate = cache, number, starts, rate
        self.keeps_form, self.place = keeps_form, place
        self.changes_form = self.changes_form or not keeps_form
        self._form = lru_cache(maxsize=KEPT_FRAMES)(self._form_at)
        if keeps_form:
            pose = cache.pose(number, cache.first)
            self._began = quaternion_turn(pose[3:]), pose[:3]

    def moment(self, frame: float) -> float:
        """Return the cache's frame, or where between two, at a frame of the shot."""
        return self.cache.first + (frame - self.starts) * self.rate

    def grain(self, frame: float) -> float | None:
        """Return how many frames of the shot lie between two of the cache."""
        return max(1.0 / self.rate, super().grain(frame) or 0.0)

    def knows(self, frame: float) -> bool:
        """Tell whether a frame of the shot is in the cache."""
        assert self.cache.done is not None
        inside = self.cache.first - 1e-9 <= self.moment(frame) <= self.cache.done + 1e-9
        return inside and super().knows(frame)

    def at(self, frame: float) -> tuple[Floats, Floats]:
        """Return turn (3, 3) and shift (3,) of a body that keeps its form; see `Mover.at`."""
        turn, shift = super().at(frame)
        if not self.keeps_form:
            return turn, shift
        now, to = pose_at(self.cache, self.number, self.moment(frame))
        began, from_there = self._began
        way = now @ began.T  # in the cache's world, from where it is at the first frame
        step = to - way @ from_there
        axes, scale, stands = self.place
        way = axes @ way @ axes.T
        step = scale * axes @ step + stands - way @ stands
        return turn @ way, turn @ step + shift

    def points_at(self, points: Floats, frame: float) -> Floats:
        """Return where all points are at a frame, metres; of what changes its form `points` only say how many."""
        if self.keeps_form:
            return super().points_at(points, frame)
        return super().points_at(self._form(self.moment(frame))[: len(points)], frame)

    def _form_at(self, at: float) -> Floats:
        axes, scale, stands = self.place
        return scale * points_at(self.cache, self.number, at).astype(np.float64) @ axes.T + stands
