"""Checks for dials set by hand that change nothing in this setup."""

from __future__ import annotations

from typing import Any

from zembrik.core.findings.finding import Finding
from zembrik.core.motion.track import most_of
from zembrik.core.setup.document import Setup
from zembrik.core.setup.materials import SIMULATED
from zembrik.core.setup.resolve import BY_HAND, Resolved, dotted

Idle = tuple[str, str, str]  # path in the setup, what it is called, why it does nothing


def idle_dials(setup: Setup, resolved: Resolved) -> list[Finding]:
    """Dials that were set by hand and have no effect: a bake without them is the same, byte by byte."""
    idle = [
        one for one in [*_of_quality(setup, resolved), *_of_world(resolved), *_of_bodies(setup, resolved)]
        if resolved.origins.get(dotted(one[0])) == BY_HAND
    ]  # fmt: skip
    if not idle:
        return []
    told = "; ".join(f"{name}: {why}" for _, name, why in idle[:4]) + (
        f"; and {len(idle) - 4} more" if len(idle) > 4 else ""
    )
    patch = [{"op": "remove", "path": path} for path, _, _ in idle]
    count = f"{len(idle)} dials" if len(idle) > 1 else "A dial"
    return [
        Finding("idle_dials", "Quality", False, f"{count} without effect", f"{told}.", "", None,
                "Give them back" if len(idle) > 1 else "Give it back", patch)
    ]  # fmt: skip


def _of_quality(setup: Setup, resolved: Resolved) -> list[Idle]:
    found: list[Idle] = []
    roles = {b.role for b in setup.bodies}
    if "cloth" not in roles:
        found.append(("/quality/self_collision", "self-collision", "there is no cloth"))
    if not roles & {"cloth", "soft"} and not any(b.changes_form for b in setup.bodies):
        found.append(
            ("/quality/contact", "contact", "only cloth, soft bodies and changing forms have corners to look at")
        )
    if "rigid" not in roles:
        found.append(("/quality/iterations", "iterations", "passes are over rigid bodies, and there is none"))
        found.append(("/quality/enough", "enough", "passes are over rigid bodies, and there is none"))
    elif resolved.quality("iterations") == 1:
        found.append(("/quality/enough", "enough", "a substep makes one pass anyway"))
    return found


def _of_world(resolved: Resolved) -> list[Idle]:
    if any(feels_air(body) for body in resolved.document["bodies"]):
        return []
    return [("/world/air_density", "air density", "there is no cloth, and no air drag on others")]


def feels_air(body: dict[str, Any]) -> bool:
    """Tell whether the air does anything to a resolved body: to cloth, and to what has drag or lift."""
    if body["role"] not in SIMULATED:
        return False
    stuff = body["material"]
    return body["role"] == "cloth" or most_of(stuff["drag"]) > 0.0 or most_of(stuff["lift"]) > 0.0


def _of_bodies(setup: Setup, resolved: Resolved) -> list[Idle]:
    found: list[Idle] = []
    for k, body in enumerate(setup.bodies):
        if body.role not in SIMULATED:
            continue
        stuff, at = resolved.document["bodies"][k]["material"], f"/bodies/{k}/material"
        if setup.world.air_density == 0.0 and feels_air(resolved.document["bodies"][k]):
            found += [(f"{at}/{name}", f"{name} of {body.name}", "there is no air") for name in ("drag", "lift")]
        if stuff.get("tack") == 0.0:
            found.append((f"{at}/tack_distance", f"tack distance of {body.name}", "it has no tack"))
        if stuff.get("creep") == 0.0:
            found += [
                (f"{at}/{name}", f"{name.replace('_', ' ')} of {body.name}", "it never creeps")
                for name in ("yield_strain", "yield_angle")
            ]
        if body.role == "rigid" and body.motion is not None and not body.spells:
            found.append((f"{at}/density", f"density of {body.name}", "it goes its own way and is never let go"))
            found.append((f"/bodies/{k}/gravity", f"gravity's share of {body.name}", "it is never let go"))
    return found
