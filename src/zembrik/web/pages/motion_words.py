"""What the Motion station tells: tracks with their curves, drivers, pins, forces."""

from __future__ import annotations

from typing import Any

from zembrik.core.setup.document import Body, Keys, Pin, Setup
from zembrik.core.setup.keyed import is_keyed
from zembrik.core.setup.materials import SIMULATED
from zembrik.core.setup.pin_words import SIDE_WORDS, which_points
from zembrik.core.setup.resolve import Resolved
from zembrik.web.dials import dial
from zembrik.web.render import Words
from zembrik.web.tracks import Track, track_of

STILL, NO_TURN = [0.0, 0.0, 0.0], [0.0, 0.0, 0.0, 1.0]


def motion_words(setup: Setup, resolved: Resolved, number: int | None) -> Words:
    """Return the words of the Motion station for a chosen body."""
    whole = resolved.document
    words: Words = {
        "shot_tracks": [track_of(setup.frames, "/world/gravity_strength", setup.world.gravity_strength, 1.0),
            track_of(setup.frames, "/world/gravity_turn", setup.world.gravity_turn, STILL),
                        *_keyed(resolved, "/quality", whole["quality"]),
                        *_keyed(resolved, "/world/ground", whole["world"]["ground"] or {})],
        "forces": [
            {
                "number": k, "force": f,
                "tracks": {
                    name: track_of(setup.frames, f"/forces/{k}/{name}", getattr(f, name), 1.0, f.kind)
                    for name in ("speed", "size", "rate") if hasattr(f, name)
                },
                "strength": track_of(setup.frames, f"/forces/{k}/strength", f.strength, 1.0, f.kind),
                "veer": track_of(setup.frames, f"/forces/{k}/veer", f.veer, 0.0, f.kind) if f.kind == "wind" else None,
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
        if body.motion is not None:
            words["tracks"] = _body_tracks(setup, body, at)
    else:
        words["tracks"] = _body_tracks(setup, body, at)
        if motion := body.motion:
            words |= {"motion": motion, "path": motion.path, "spins": motion.spin is not None}
        words["can_drive"] = True
        if body.role == "rigid":
            words |= _joints(setup, body.name)
    if body.role == "cloth":
        stuff, full = body.material, resolved.document["bodies"][number]["material"]
        for name in ("rest_length", "pressure", "drag", "lift"):
            held = getattr(stuff, name) if stuff else None
            usual = full[name] if not isinstance(full[name], dict) else 1.0
            keyed = held if isinstance(held, Keys) else usual
            words["tracks"].append(track_of(setup.frames, f"{at}/material/{name}", keyed, usual, body.name))
    if body.role in SIMULATED:
        words["tracks"].append(track_of(setup.frames, f"{at}/gravity", body.gravity, 1.0, body.name))
    shown = {track.path for track in words["tracks"]}
    full = whole["bodies"][number]
    more = [*_keyed(resolved, at, full), *_keyed(resolved, f"{at}/material", full.get("material") or {})]
    words["tracks"] += [track for track in more if track.path not in shown]
    return words


def _keyed(resolved: Resolved, at: str, values: Words) -> list[Track]:
    """Return the tracks of all dials of a part of the document that are keyed by hand."""
    tracks = [dial(resolved, f"{at}/{name}") for name, value in values.items() if is_keyed(value)]
    return [d.track for d in tracks if d.track is not None and d.by_hand]


def _pin(setup: Setup, at: str, number: int, pin: Pin) -> Words:
    motion, whose = pin.motion, which_points(pin.points)
    tracks = [
        track_of(setup.frames, f"{at}/motion/translate", motion and motion.translate, STILL, whose),
        track_of(setup.frames, f"{at}/motion/rotate", motion and motion.rotate, STILL, whose),
        track_of(setup.frames, f"{at}/strength", pin.strength, 1.0, whose),
    ]
    return {"number": number, "pin": pin, "which": which_points(pin.points), "tracks": tracks}


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
    return [track_of(setup.frames, f"{at}/motion/{name}", value, usual, body.name) for name, value, usual in wanted]


def _joints(setup: Setup, name: str) -> Words:
    """Return the joints that a rigid body has, and what it may be joined to."""
    return {
        "partners": [b.name for b in setup.bodies if b.role == "rigid" and b.name != name],
        "joints": [
            {"number": k, "joint": j, "other": j.bodies[0] if j.bodies[1] == name else j.bodies[1],
             "free": j.bodies[0] == name}
            for k, j in enumerate(setup.joints) if name in j.bodies
        ],
    }  # fmt: skip


def held_words(setup: Setup, number: int | None) -> list[tuple[list[Any], str]]:
    """Return what of a body can be taken in hand, each with its words: the body, or points of it that are held."""
    if number is None or not any(b.role in ("cloth", "soft", "rigid") for b in setup.bodies):
        return []
    body = setup.bodies[number]
    if body.role in ("cloth", "soft"):
        return [([body.name, n], f"held points {n + 1}") for n, pin in enumerate(body.pins) if pin.motion is None]
    return [([body.name, None], body.name)] if body.motion is None else []
