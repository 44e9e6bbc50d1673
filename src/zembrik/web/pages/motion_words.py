"""What the Motion station tells: tracks with their curves, drivers, pins, forces."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic import BaseModel

from zembrik.core.setup.document import Body, Keys, Pin, Setup
from zembrik.core.setup.materials import SIMULATED
from zembrik.core.setup.resolve import Resolved
from zembrik.web.dials import dial
from zembrik.web.render import Words

SIDE_WORDS = {
    "left": "its left side (-X)", "right": "its right side (+X)", "bottom": "its lowest points",
    "top": "its highest points", "back": "its back (-Z)", "front": "its front (+Z)",
}  # fmt: skip
TRACKS = {  # the end of a track's path: its title, its unit, what it does
    "world/gravity_strength": ("Gravity's strength", "×", "Factor on the gravity."),
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
    "strength": ("Strength", "×", "Factor on it."),
    "veer": ("Veers", "°", "About the vertical, to the left as it goes."),
}
STILL, NO_TURN = [0.0, 0.0, 0.0], [0.0, 0.0, 0.0, 1.0]


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


def motion_words(setup: Setup, resolved: Resolved, number: int | None) -> Words:
    """Return the words of the Motion station for a chosen body."""
    words: Words = {
        "shot_tracks": [_track(setup, "/world/gravity_strength", setup.world.gravity_strength, 1.0)],
        "forces": [
            {
                "number": k, "force": f, "strength": _track(setup, f"/forces/{k}/strength", f.strength, 1.0, f.kind),
                "veer": _track(setup, f"/forces/{k}/veer", f.veer, 0.0, f.kind) if f.kind == "wind" else None,
            }
            for k, f in enumerate(setup.forces)
        ],
        "dials": [dial(resolved, "/world/air_density")], "sides": SIDE_WORDS, "tracks": [], "pins": [],
        "motion": None, "path": None, "spins": False,
    }  # fmt: skip
    if number is None:
        return words
    body, at = setup.bodies[number], f"/bodies/{number}"
    words["neighbours"] = [b.name for b in setup.bodies if b.name != body.name]
    words["leaders"] = [b.name for b in setup.bodies if b.role not in ("cloth", "soft") and b.name != body.name]
    if body.role in ("cloth", "soft"):
        words |= {"can_pin": True, "pins": [_pin(setup, f"{at}/pins/{n}", n, pin) for n, pin in enumerate(body.pins)]}
    else:
        words["tracks"] = _body_tracks(setup, body, at)
        if motion := body.motion:
            words |= {"motion": motion, "path": motion.path, "spins": motion.spin is not None}
        words["can_drive"] = True
        if body.role == "rigid" and body.motion:
            words["dials"].append(dial(resolved, f"{at}/release"))
    if body.role == "cloth":
        stuff, full = body.material, resolved.document["bodies"][number]["material"]
        for name in ("rest_length", "pressure", "drag", "lift"):
            held = getattr(stuff, name) if stuff else None
            usual = full[name] if not isinstance(full[name], dict) else 1.0
            keyed = held if isinstance(held, Keys) else usual
            words["tracks"].append(_track(setup, f"{at}/material/{name}", keyed, usual, body.name))
    if body.role in SIMULATED:
        words["tracks"].append(_track(setup, f"{at}/gravity", body.gravity, 1.0, body.name))
    return words


def _pin(setup: Setup, at: str, number: int, pin: Pin) -> Words:
    motion, whose = pin.motion, _which(pin.points)
    tracks = [
        _track(setup, f"{at}/motion/translate", motion and motion.translate, STILL, whose),
        _track(setup, f"{at}/motion/rotate", motion and motion.rotate, STILL, whose),
        _track(setup, f"{at}/strength", pin.strength, 1.0, whose),
    ]
    return {"number": number, "pin": pin, "which": _which(pin.points), "tracks": tracks}


def _body_tracks(setup: Setup, body: Body, at: str) -> list[Track]:
    motion = body.motion
    wanted: list[tuple[str, Any, Any]] = [("translate", motion and motion.translate, STILL)]
    if motion is not None and motion.turn is not None:
        wanted.append(("turn", motion.turn, NO_TURN))
    else:
        wanted.append(("rotate", motion and motion.rotate, STILL))
    if body.role != "rigid":
        wanted.append(("scale", motion and motion.scale, 1.0))
    if motion and motion.spin:
        wanted.append(("spin/angle", motion.spin.angle, 0.0))
    if motion and motion.path:
        wanted += [("path/progress", motion.path.progress, 0.0), ("path/bank", motion.path.bank, 0.0)]
    if motion and motion.ripple:
        wanted.append(("ripple/strength", motion.ripple.strength, 1.0))
    return [_track(setup, f"{at}/motion/{name}", value, usual, body.name) for name, value, usual in wanted]


def _which(points: Any) -> str:
    """Return in words which points a pin takes."""
    if points.box is not None:
        words = "the points in a box"
    elif points.side is not None:
        words = SIDE_WORDS[points.side]
    elif points.above is not None:
        words = f"all above {points.above:g} m"
    elif points.near is not None:
        words = f"all within {1000 * points.near.distance:g} mm of {points.near.body}"
    else:
        words = f"{len(points.numbers)} chosen point{'s' if len(points.numbers) != 1 else ''}"
    return words + (f", fading over {1000 * points.falloff:g} mm" if points.falloff else "")


def _track(setup: Setup, path: str, value: Any, usual: Any, whose: str = "") -> Track:
    """Return a track from its value: keys, a number, or None where nothing is keyed."""
    title, unit, why = next(words for end, words in TRACKS.items() if path.endswith(end))
    plain: Words = {"keys": [], "ease": "smooth"}
    if isinstance(value, BaseModel):
        plain = value.model_dump(mode="json")
    elif value is not None:
        usual = value
    keys, several = plain["keys"], isinstance(usual, list)
    parts = (["x", "y", "z", "w"][: len(usual)]) if several else [""]
    told = "still" if several else f"{usual:g} {unit}"
    if keys:
        told = f"{len(keys)} key{'s' if len(keys) > 1 else ''}"
    lines = lines_of(setup, keys, plain["ease"])
    return Track(path, title, unit, why, parts, keys, plain["ease"], usual, lines, told, whose)


def lines_of(setup: Setup, keys: list[Any], ease: str) -> list[str]:
    """Return a track over the shot's frames as the points of SVG lines, 120 by 24, one for each of its numbers."""
    from zembrik.core.motion.track import track_values, turn_values  # see `app._warm_up`

    if not keys:
        return []
    first, last = setup.frames
    frames = np.linspace(first, max(last, first + 1), 61)
    if isinstance(keys[0][1], list) and len(keys[0][1]) == 4:
        values = np.array([turn_values(keys, ease, float(f)) for f in frames])
    else:
        values = track_values(keys, ease, frames).reshape(len(frames), -1)
    low, high = float(values.min()), float(values.max())
    across = (frames - first) / (frames[-1] - first) * 120
    up = 22 - 20 * (values - low) / max(high - low, 1e-9) if high > low else np.full(values.shape, 12.0)
    return [" ".join(f"{a:.1f},{b:.1f}" for a, b in zip(across, column, strict=True)) for column in up.T]
