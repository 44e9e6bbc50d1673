"""What unit and axes a file was made in, guessed from the sizes of what it holds, with the evidence."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrik.core.exchange.contents import FilePart
from zembrik.core.units import METRES_PER_UNIT, UNIT_NAMES

PERSON_M = 1.75
LIKELY_M = 0.9  # what things in a shot are about as large as
GRAVITY = 9.81  # m/s²
# How often files that do not say so are in each, as far as one can tell before looking at sizes.
USUAL = {"m": 0.4, "cm": 0.4, "mm": 0.08, "in": 0.09, "ft": 0.03}


@dataclass(frozen=True)
class UnitGuess:
    """How large a file's things would be in one unit.

    Attributes:
        unit: its short name. words: its name.
        size_m: the longest side of everything together, metres.
        people: how many people of 1.75 m that is.
        fall_frames: frames (of 24 a second) it takes to fall its own height.
        odds: 0..1, how plausible it is against the others.
    """

    unit: str
    words: str
    size_m: float
    people: float
    fall_frames: float
    odds: float


def guess_units(parts: list[FilePart], up: str) -> list[UnitGuess]:
    """Return every unit with its evidence, the most plausible first.

    A thing of a shot is about 0.9 m long, give or take a factor of six: the odds are those of a log-normal law, times
    how usual a unit is.
    """
    low = np.min([p.mesh.points.min(axis=0) for p in parts], axis=0)
    high = np.max([p.mesh.points.max(axis=0) for p in parts], axis=0)
    size = float(np.median([np.ptp(p.mesh.points, axis=0).max() for p in parts]))
    whole, height = float((high - low).max()), float((high - low)[1 if up == "y" else 2])
    weights = {
        unit: USUAL[unit] * float(np.exp(-0.5 * (np.log(max(size * metres, 1e-12) / LIKELY_M) / np.log(6.0)) ** 2))
        for unit, metres in METRES_PER_UNIT.items()
    }
    total = sum(weights.values()) or 1.0
    found = [
        UnitGuess(unit, UNIT_NAMES[unit], whole * metres, whole * metres / PERSON_M,
                  24.0 * (2.0 * height * metres / GRAVITY) ** 0.5, weights[unit] / total)
        for unit, metres in METRES_PER_UNIT.items()
    ]  # fmt: skip
    return sorted(found, key=lambda g: -g.odds)


def declared_unit(unit_m: float | None) -> str | None:
    """Return the short name of the unit that a file says it is in (metres); None when it says none, or one unnamed."""
    if unit_m is None:
        return None
    for unit, metres in METRES_PER_UNIT.items():
        if abs(unit_m / metres - 1.0) < 1e-4:
            return unit
    return None


def guess_up(parts: list[FilePart]) -> tuple[str, str]:
    """Return "y" or "z" for the axis that likely points up, and why: what stands has its lowest point at 0."""
    low = np.min([p.mesh.points.min(axis=0) for p in parts], axis=0)
    size = float(np.max([np.ptp(p.mesh.points, axis=0).max() for p in parts])) or 1.0
    off = np.abs(low) / size
    if off[2] < 0.01 < off[1]:
        return "z", f"its lowest point lies at {low[2]:.3g} along Z, but at {low[1]:.3g} along Y: it stands on Z"
    if off[1] < 0.01 < off[2]:
        return "y", f"its lowest point lies at {low[1]:.3g} along Y, but at {low[2]:.3g} along Z: it stands on Y"
    return "y", "nothing speaks for Z"
