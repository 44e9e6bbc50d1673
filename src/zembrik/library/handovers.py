"""Handing bodies over to physics as edits of a setup."""

from __future__ import annotations

from typing import Any

from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup
from zembrik.core.setup.handover import USUAL_OVER
from zembrik.core.setup.materials import SIMULATED
from zembrik.library.many import role_patch
from zembrik.library.shots import Patch

KEPT = ("motion", "release", "handovers")  # what a body that is handed over keeps when it becomes cloth


def handover_patch(
    setup: Setup, document: dict[str, Any], number: int, which: int | None, values: dict[str, Any] | None,
    role: str = "",
) -> Patch:  # fmt: skip
    """Return the patch that adds a handover to a body, changes one, or takes it away.

    Args:
        setup, document: as it stands, twice. number: of the body. which: of its handovers; None adds one.
        values: "at", "back" and "over" of it; None takes it away.
        role: what physics is to make of a body that it did not move before.

    Raises:
        Problem: for what nothing moves, and for a role that physics has not.
    """
    if not 0 <= number < len(setup.bodies):
        raise Problem("there is no such body.", "handover", "Load the page again.")
    body, raw = setup.bodies[number], document["bodies"][number]
    if body.motion is None and not body.moves_by_mesh:
        raise Problem(f"nothing moves '{body.name}' before.", "handover", "Key its motion first.")
    patch: Patch = []
    if body.role not in SIMULATED:
        if role not in SIMULATED:
            raise Problem(f"there is no role '{role[:20]}' that physics moves.", "handover", "Choose one of three.")
        gone = role_patch(raw, number, role)
        patch += [p for p in gone if p["path"].rpartition("/")[2] not in KEPT]
    handovers = [dict(one) for one in raw.get("handovers") or []]
    if (release := raw.get("release")) is not None:
        patch.append({"op": "remove", "path": f"/bodies/{number}/release"})
        handovers = [{"at": release}]
    if which is None:
        handovers.append({"over": USUAL_OVER, **(values or {})})
    elif not 0 <= which < len(handovers):
        raise Problem("there is no such handover.", "handover", "Load the page again.")
    elif values is None:
        del handovers[which]
    else:
        handovers[which] = {**handovers[which], **values}
    handovers.sort(key=lambda one: one["at"])
    path = f"/bodies/{number}/handovers"
    if handovers:
        return [*patch, {"op": "add", "path": path, "value": handovers}]
    if body.role in ("cloth", "soft"):  # what nothing hands over does not move by itself
        patch.append({"op": "replace", "path": f"/bodies/{number}/role", "value": "left out"})
        patch += [{"op": "remove", "path": f"/bodies/{number}/{name}"} for name in ("cell",) if name in raw]
    return [*patch, {"op": "remove", "path": path}] if "handovers" in raw else patch
