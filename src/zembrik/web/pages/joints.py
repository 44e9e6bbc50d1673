"""Edits of joints between rigid bodies."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response

from zembrik.core.problem import Problem
from zembrik.core.setup.joints import MOST_TURN_DEG
from zembrik.library.shots import Patch, get_shot, head_setup
from zembrik.web.dials import from_shown
from zembrik.web.fields import Id, Text, Whole
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places

router = APIRouter()
USUAL_DEG = 170.0  # of a limit that is not typed


@router.post("/shots/{shot_id}/joint")
def set_joint(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, joint: Whole, kind: Text = "hinge",
    other: Text = "", x: Text = "0", y: Text = "0", z: Text = "0", axis_x: Text = "0", axis_y: Text = "1",
    axis_z: Text = "0", touch: Text = "", least: Text = "", most: Text = "", friction: Text = "", speed: Text = "",
    torque: Text = "", station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Set a joint of a rigid body. Number -1 joins it to the world with a hinge where it stands."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        setup = head_setup(shot)
        assert shot.head is not None
        joints = shot.head.document.get("joints") or []
    if joint >= len(joints):
        raise Problem("there is no such joint.", "motion", "Load the page again.")
    patch: Patch
    if joint < 0:
        at = next((b.place.translate for b in setup.bodies if b.name == body), (0.0, 0.0, 0.0))
        added = {"kind": "hinge", "bodies": [body, None], "at": list(at)}
        patch = [{"op": "add", "path": "/joints", "value": [*joints, added]}]
    else:
        first, second = joints[joint]["bodies"]
        held: dict[str, Any] = {
            "kind": kind,
            "bodies": [first, other or None] if first == body else [other or first, second],
            "at": [from_shown("place", v) for v in (x, y, z)],
        }
        if touch:
            held["touch"] = True
        if kind == "hinge":
            held["axis"] = [from_shown("axis", v) for v in (axis_x, axis_y, axis_z)]
            held |= _turning(least, most, friction, speed, torque, "motor" in joints[joint])
        patch = [{"op": "replace", "path": f"/joints/{joint}", "value": held}]
    note = "joint added" if joint < 0 else f"{kind} set"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, body)


def _turning(least: str, most: str, friction: str, speed: str, torque: str, had_motor: bool) -> dict[str, Any]:
    """Return what is said of a hinge's turning; fields that are left empty say nothing.

    Fields are sent one by one as they are typed: the other of two gets its usual value, and no speed ends the motor.
    """
    held: dict[str, Any] = {}
    if least.strip() or most.strip():
        low = (
            from_shown("limits", least)
            if least.strip()
            else max(-USUAL_DEG, from_shown("limits", most) - MOST_TURN_DEG)
        )
        high = from_shown("limits", most) if most.strip() else min(USUAL_DEG, low + MOST_TURN_DEG)
        held["limits"] = [low, high]
    if friction.strip() and (grip := from_shown("friction", friction)):
        held["friction"] = grip
    if speed.strip() or (torque.strip() and not had_motor):
        typed = {"speed": speed, "torque": torque}
        held["motor"] = {name: from_shown(name, text) for name, text in typed.items() if text.strip()}
    return held
