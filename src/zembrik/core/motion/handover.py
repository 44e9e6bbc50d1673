"""When physics moves a body, and when its own motion does; and how it gets back to that motion without a jump."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
NEAR = 1e-9  # frames


@dataclass(frozen=True)
class Spell:
    """A stretch of frames in which physics moves what its own motion moves before.

    Attributes:
        begin: the frame at which physics takes over.
        end: the frame at which the motion takes it back; infinity for never.
        over: over how many frames it is drawn back to the motion; 0 jumps.
    """

    begin: float
    end: float = np.inf
    over: float = 0.0


Spells = tuple[Spell, ...]


def is_free(spells: Spells, frame: float) -> bool:
    """Tell whether physics moves it from a frame on."""
    return any(spell.begin <= frame + NEAR and frame < spell.end - NEAR for spell in spells)


def returning(spells: Spells, frame: float) -> Spell | None:
    """Return the spell from which it is being drawn back to its motion at a frame, if it is."""
    return next((s for s in spells if s.end <= frame + NEAR and frame < s.end + s.over - NEAR), None)


def fade(spell: Spell, frame: float, fps: float, off: Floats, pace: Floats) -> Floats:
    """Return how much is left, at a frame after a spell's end, of being off the motion, (..., 3).

    The quintic that begins at `off` with the speed `pace` and no acceleration, and ends at rest at nothing: so place
    and speed go on without a jump at both ends (a polynomial of Hermite).

    Args:
        off: what it was off by when it was taken back. pace: how fast that changed, a second.
    """
    s = float(np.clip((frame - spell.end) / spell.over, 0.0, 1.0)) if spell.over > 0.0 else 1.0
    seconds = spell.over / fps
    place = 1.0 - 10.0 * s**3 + 15.0 * s**4 - 6.0 * s**5
    speed = s - 6.0 * s**3 + 8.0 * s**4 - 3.0 * s**5
    return np.asarray(place * off + seconds * speed * pace)
