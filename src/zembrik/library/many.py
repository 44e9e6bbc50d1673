"""One value set on many bodies at once."""

from __future__ import annotations

from typing import Any

from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup
from zembrik.core.setup.materials import PRESETS, SIMULATED, dials_of

Patch = list[dict[str, Any]]
ROLES = ("cloth", "soft", "rigid", "collider", "left out")
POINTS_MOVE = ("proxy", "friction", "bounce", "motion", "release", "handovers", "material")
UNFIT = {  # what a body loses with its role
    "cloth": (*POINTS_MOVE, "cell"),
    "soft": POINTS_MOVE,
    "rigid": ("form", "material", "friction", "bounce", "pins", "cell", "proxy"),
    "collider": ("form", "material", "pins", "cell", "gravity", "release", "handovers"),
    "left out": ("release", "handovers", "cell"),
}
OF_COLLIDER = ("thickness", "friction", "bounce", "scale")
OF_SIMULATED = ("thickness", "scale", "gravity")


def role_patch(body: dict[str, Any], number: int, role: str) -> Patch:
    """Return the patch that gives a body (as a document) a role; what only its old role had goes away with it."""
    gone: Patch = [{"op": "remove", "path": f"/bodies/{number}/{name}"} for name in UNFIT.get(role, ()) if name in body]
    return [*gone, {"op": "add", "path": f"/bodies/{number}/role", "value": role}]


def path_of(role: str, number: int, what: str) -> str | None:
    """Return where a value lies in the setup for a body of a role; None where that role has none."""
    if what == "scale":
        return f"/bodies/{number}/place/scale"
    if role == "collider":
        return f"/bodies/{number}/{what}" if what in OF_COLLIDER else None
    if role in SIMULATED:
        if what in OF_SIMULATED:
            return f"/bodies/{number}/{what}"
        if what == "preset" or what in dials_of(role):
            return f"/bodies/{number}/material/{what}"
    return None


def set_many(setup: Setup, document: dict[str, Any], numbers: list[int], what: str, value: Any) -> tuple[Patch, int]:
    """Return the patch that sets a value on bodies, and how many of them have no such value.

    Args:
        setup, document: the setup as it stands, twice.
        numbers: of the bodies.
        what: "role", "preset", "proxy", or the name of a dial. value: of it, in the document's unit.

    Raises:
        Problem: when none of them takes it.
    """
    patch: Patch = []
    without = 0
    for number in numbers:
        if not 0 <= number < len(setup.bodies):
            raise Problem("there is no such body.", "table", "Load the page again.")
        body = setup.bodies[number]
        if what == "role":
            if value not in ROLES:
                raise Problem(f"there is no role '{str(value)[:40]}'.", "table", f"There are {', '.join(ROLES)}.")
            patch += role_patch(document["bodies"][number], number, value)
        elif what == "proxy" and body.role in ("collider", "rigid"):
            patch.append({"op": "add", "path": f"/bodies/{number}/proxy", "value": {"kind": value}})
        elif what == "preset" and body.role in SIMULATED and value not in PRESETS[body.role]:
            without += 1
        elif path := path_of(body.role, number, what):
            patch.append({"op": "add", "path": path, "value": value})
        else:
            without += 1
    if not patch:
        raise Problem("none of the chosen bodies has such a value.", "table", "Choose others, or another value.")
    return patch, without
