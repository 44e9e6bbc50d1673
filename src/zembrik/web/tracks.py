"""Values over frames as pages show them: a small line, a few words, and what the curve view takes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic import BaseModel

from zembrik.core.motion.track import scaled, track_values, turn_values
from zembrik.web.render import Words

TRACKS = {  # the end of a track's path: its title, its unit, what it does
    "world/gravity_strength": ("Gravity's strength", "×", "Factor on the gravity."),
    "world/gravity_turn": ("Gravity turns", "°", "About X, then Y, then Z: a room that rolls."),
    "motion/translate": ("Moves", "m", "Way from its place."),
    "motion/rotate": ("Turns", "°", "About X, then Y, then Z, through its origin."),
    "motion/turn": ("Turns", "", "As quaternions x y z w."),
    "motion/scale": ("Size", "×", "About its origin; it is touched as a surface then."),
    "spin/angle": ("Spins", "°", "How far round its axis."),
    "path/progress": ("Along its path", "×", "0 at its start, 1 at its end."),
    "path/bank": ("Leans", "°", "About the way ahead."),
    "ripple/strength": ("Waves' strength", "×", "Factor on their height."),
    "material/rest_length": ("Rest length", "×", "Below 1 a band draws tight onto what it goes around."),
    "material/pressure": ("Pressure inside", "Pa", "Of a closed sheet: blows it up."),
    "material/drag": ("Air drag", "×", "Share of the air's pressure it feels."),
    "material/lift": ("Lift", "×", "Push across the wind on slanting faces."),
    "gravity": ("Gravity's share", "×", "Factor on the gravity for this body: 0 floats."),
    "speed": ("Speed", "m/s", "How fast the swirls go."),
    "size": ("Size", "m", "How far apart swirls are."),
    "rate": ("Rate", "a second", "How often swirls turn over; of damping, the share of speed lost."),
    "strength": ("Strength", "×", "Factor on it."),
    "veer": ("Veers", "°", "About the vertical, to the left as it goes."),
}


@dataclass(frozen=True)
class Track:
    """A value over frames, as the curve view takes it.

    Attributes:
        path: JSON pointer in the setup. title, unit, why: as shown. whose: what it is of, as the curve view tells.
        parts: what its numbers are called; one without a name is a plain number.
        keys: [frame, value, easing?]; empty where nothing is keyed.
        ease: where a key says nothing. usual: the value without keys; what a first key is made of.
        line: the curve over the shot's frames as the points of an SVG line, 120 by 24, for each part.
        told: its keys in a few words.
    """

    path: str
    title: str
    unit: str
    why: str
    parts: list[str]
    keys: list[Any]
    ease: str
    usual: Any
    line: list[str]
    told: str
    whose: str

    def plain(self) -> Words:
        """Return what the curve view needs, as JSON."""
        names = ("path", "title", "whose", "unit", "parts", "keys", "ease", "usual")
        return {name: getattr(self, name) for name in names}


def track_of(frames: Any, path: str, value: Any, usual: Any, whose: str = "") -> Track:
    """Return a track from its value: keys, a number, or None where nothing is keyed; `frames` are the shot's ends."""
    title, unit, why = next(words for end, words in TRACKS.items() if path.endswith(end))
    plain: Words | None = value.model_dump(mode="json") if isinstance(value, BaseModel) else None
    return made(frames, path, plain, usual if plain or value is None else value, (title, unit, why), whose)


def made(
    frames: Any, path: str, plain: Words | None, usual: Any, words: tuple[str, str, str], whose: str = "",
    factor: float = 1.0,
) -> Track:  # fmt: skip
    """Return a track from its plain keys, or None, and its title, unit and what it does.

    What is shown is `factor` times what the document has.
    """
    keys, ease = (plain["keys"], plain["ease"]) if plain else ([], "smooth")
    several = isinstance(usual, list)
    parts = (["x", "y", "z", "w"][: len(usual)]) if several else [""]
    if factor != 1.0:
        usual = round(usual * factor, 9)
        keys = times(keys, factor)
    told = "still" if several else f"{usual:g} {words[1]}"
    if keys:
        told = f"{len(keys)} key{'s' if len(keys) > 1 else ''}"
    return Track(path, *words, parts, keys, ease, usual, lines_of(frames, keys, ease), told, whose)


def times(keys: list[Any], factor: float) -> list[Any]:
    """Return keys of numbers with their values and handles times a factor."""
    found = scaled({"keys": keys}, factor)["keys"]
    return [
        [frame, round(value, 12), *({n: round(v, 12) for n, v in one.items()} if isinstance(one, dict) else one
                                    for one in more)]
        for frame, value, *more in found
    ]  # fmt: skip


def lines_of(frames: Any, keys: list[Any], ease: str) -> list[str]:
    """Return a track over the shot's frames as the points of SVG lines, 120 by 24, one for each of its numbers."""
    if not keys:
        return []
    first, last = frames
    frames = np.linspace(first, max(last, first + 1), 61)
    if isinstance(keys[0][1], list) and len(keys[0][1]) == 4:
        values = np.array([turn_values(keys, ease, float(f)) for f in frames])
    else:
        values = track_values(keys, ease, frames).reshape(len(frames), -1)
    low, high = float(values.min()), float(values.max())
    across = (frames - first) / (frames[-1] - first) * 120
    up = 22 - 20 * (values - low) / max(high - low, 1e-9) if high > low else np.full(values.shape, 12.0)
    return [" ".join(f"{a:.1f},{b:.1f}" for a, b in zip(across, column, strict=True)) for column in up.T]
