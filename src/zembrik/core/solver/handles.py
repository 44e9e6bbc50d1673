"""Held points: they stay, or go where a motion takes them; fast, or drawn softly; until they are let go."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.handover import Spells, fade, is_free, returning
from zembrik.core.motion.rates import CAME, GOES, point_rates
from zembrik.core.motion.rigid import Mover
from zembrik.core.motion.track import value_at

FIRM = 1.0 - 1e-9  # a strength from here on holds fast
TO_SECOND = 1.0  # of a point that had no step before, see `world.Past`
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
        strength: 0..1, a number or a track. spells: when they are free.
        off: float64 (h, 2, 3), by how much each was off its motion when that took it back, metres, and how fast that
            changed, m/s.
    """

    numbers: NDArray[np.int64]
    weights: Floats
    rest: Floats
    mover: Mover | None
    strength: Any = 1.0
    spells: Spells = ()

    def __post_init__(self) -> None:
        self.off = np.zeros((len(self.numbers), 2, 3))

    @property
    def is_fast(self) -> bool:
        """Whether it holds all its points fast, always."""
        return not self.spells and self.strength == 1.0 and bool((self.weights >= FIRM).all())

    def strengths(self, frame: float) -> Floats:
        """Return how firmly each of its points (h,) is held from a frame on, 0..1."""
        if is_free(self.spells, frame):
            return np.zeros(len(self.weights))
        return self.weights * value_at(self.strength, frame)

    def places(self, frame: float) -> Floats:
        """Return where its motion has its points (h, 3) at a frame, metres."""
        return self.rest if self.mover is None else self.mover.points_at(self.rest, frame)

    def held_places(self, frame: float, fps: float) -> Floats:
        """Return where its points (h, 3) are to be at a frame, metres: what was taken back is still off its motion."""
        spell, places = returning(self.spells, frame), self.places(frame)
        return places if spell is None else places + fade(spell, frame, fps, self.off[:, 0], self.off[:, 1])

    def paces(self, frame: float, fps: float, side: int) -> Floats:
        """Return how fast its motion goes at its points (h, 3), m/s."""
        if self.mover is None:
            return np.zeros_like(self.rest)
        return point_rates(self.mover, self.rest, frame, fps, side)


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

    def hold(self, frame: float, fps: float, x: Floats, v: Floats, w: Floats, order: Floats) -> bool:
        """Set the inverse masses w (n,) to what they are from a frame on; return whether any changed.

        What is let go begins where its motion has it, with its speed, and as if no step had been before; of what is
        taken back is kept by how much it is off. See `World` and `Past` for x, v and order.
        """
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
        for handle in self.every if (new != w).any() else []:
            numbers = handle.numbers
            freed, taken = (w[numbers] == 0.0) & (new[numbers] > 0.0), (w[numbers] > 0.0) & (new[numbers] == 0.0)
            if freed.any() and is_free(handle.spells, frame):
                x[numbers[freed]] = handle.places(frame)[freed]
                v[numbers[freed]] = handle.paces(frame, fps, CAME)[freed]
                order[numbers[freed]] = TO_SECOND
            if taken.any() and returning(handle.spells, frame) is not None:
                handle.off[taken, 0] = x[numbers[taken]] - handle.places(frame)[taken]
                handle.off[taken, 1] = v[numbers[taken]] - handle.paces(frame, fps, GOES)[taken]
        changed = bool((new != w).any())
        w[:] = new
        return changed

    def move_to(self, frame: float, fps: float, x: Floats, w: Floats) -> bool:
        """Put what is held fast where it is at a frame; return whether any of it went anywhere."""
        moved = False
        for handle in self.every:
            if handle.mover is not None or self.changing:
                fast = w[handle.numbers] == 0.0
                numbers, places = handle.numbers[fast], handle.held_places(frame, fps)[fast]
                moved |= bool((x[numbers] != places).any())
                x[numbers] = places
        return moved

    def state(self) -> list[Floats]:
        """Return the arrays that say how it goes on from here."""
        return [handle.off for handle in self.every if any(np.isfinite(spell.end) for spell in handle.spells)]

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
