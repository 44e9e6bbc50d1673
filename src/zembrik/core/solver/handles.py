"""Held points: they stay, or go where a motion takes them; fast, or drawn softly; until they are let go."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.rigid import Mover
from zembrik.core.motion.track import value_at

FIRM = 1.0 - 1e-9  # a strength from here on holds fast
HALF_RATE = 30.0  # 1/s, how fast a strength of one half draws a point to its place
Floats = NDArray[np.float64]


@dataclass
class Handle:
    """Points that a pin takes.

    Attributes:
        numbers: int64 (h,), of the world's particles.
        weights: float64 (h,), how firmly it takes each, 0..1.
        rest: float64 (h, 3), where they are at the start, metres.
        mover: what moves them; None where they stay.
        strength: 0..1, a number or a track. release: the frame at which they are let go, or None.
    """

    numbers: NDArray[np.int64]
    weights: Floats
    rest: Floats
    mover: Mover | None
    strength: Any = 1.0
    release: int | None = None

    @property
    def is_fast(self) -> bool:
        """Whether it holds all its points fast, always."""
        return self.release is None and self.strength == 1.0 and bool((self.weights >= FIRM).all())

    def strengths(self, frame: float) -> Floats:
        """Return how firmly each of its points (h,) is held from a frame on, 0..1."""
        if self.release is not None and frame >= self.release:
            return np.zeros(len(self.weights))
        return self.weights * value_at(self.strength, frame)

    def places(self, frame: float) -> Floats:
        """Return where its points (h, 3) are to be at a frame, metres."""
        return self.rest if self.mover is None else self.mover.points_at(self.rest, frame)


class Handles:
    """All handles of a world.

    Args:
        every: the handles (all there are, where any changes); where two take a point, the later one moves it, and the
            firmer one says how firmly.
        mass: float64 (n,), of the world's particles, kg.
    """

    def __init__(self, every: list[Handle], mass: Floats) -> None:
        self.every, self.mass = every, mass
        self.changing = not all(handle.is_fast for handle in every)
        self.w = self._inverse(-np.inf)
        self._drawn: list[tuple[Handle, NDArray[np.bool_], Floats]] = []

    @property
    def draws(self) -> bool:
        """Whether anything is drawn softly in this frame."""
        return bool(self._drawn)

    def _inverse(self, frame: float) -> Floats:
        """Return inverse masses (n,) in 1/kg at a frame, 0 for what is held fast; minus infinity is the start."""
        w = 1.0 / np.maximum(self.mass, 1e-300)
        for handle in self.every:
            strengths = handle.strengths(frame)
            w[handle.numbers[strengths >= FIRM]] = 0.0
        return np.asarray(w)

    def hold(self, frame: float, w: Floats) -> bool:
        """Set the inverse masses w (n,) to what they are from a frame on; return whether any changed."""
        self._drawn = []
        if not self.changing:
            return False
        for handle in self.every:
            strengths = handle.strengths(frame)
            softly = (strengths > 0.0) & (strengths < FIRM)
            if softly.any():
                s = strengths[softly]
                self._drawn.append((handle, softly, HALF_RATE * s / (1.0 - s)))
        new = self._inverse(frame)
        changed = bool((new != w).any())
        w[:] = new
        return changed

    def move_to(self, frame: float, x: Floats, w: Floats) -> bool:
        """Put what is held fast where it is at a frame; return whether any of it went anywhere."""
        moved = False
        for handle in self.every:
            if handle.mover is not None or self.changing:
                fast = w[handle.numbers] == 0.0
                numbers, places = handle.numbers[fast], handle.places(frame)[fast]
                moved |= bool((x[numbers] != places).any())
                x[numbers] = places
        return moved

    def springs(self, begin: float, end: float, dt: float) -> list[tuple[NDArray[np.int64], Floats, Floats, Floats]]:
        """Return what is drawn softly over a step of dt seconds from one frame to another.

        Each point hangs on a spring that is damped critically, whose rate ω is 30 1/s at a strength of one half:
        x'' = ω² (place - x) + 2 ω (place' - v) + pull. For each handle: numbers (h,), ω (h,) in 1/s, places (h, 3) at
        the end in metres and how fast they go (h, 3), m/s.
        """
        found = []
        for handle, softly, rate in self._drawn:
            there, then = handle.places(begin)[softly], handle.places(end)[softly]
            found.append((handle.numbers[softly], rate, then, (then - there) / dt))
        return found
