"""Handing bodies over to physics as edits of a setup."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.angles import angles_of
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh
from zembrik.core.setup.document import Setup
from zembrik.core.setup.handover import USUAL_OVER
from zembrik.core.setup.materials import SIMULATED
from zembrik.core.units import turn_matrix
from zembrik.library.many import role_patch
from zembrik.library.shots import Patch

if TYPE_CHECKING:
    from zembrik.core.mesh.fit_onto import Fit

Floats = NDArray[np.float64]
MOST_FACES = 200_000  # of a mesh that a page lays onto another
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


def take_over_patch(
    setup: Setup, document: dict[str, Any], number: int, other: int, frame: int, assets: Assets
) -> tuple[Patch, str]:  # fmt: skip
    """Return the patch by which a body takes over from another at a frame, and what there is to tell.

    It is laid onto the other, goes along with it until the frame, and is seen from there on, where the other goes away.

    Args:
        setup, document: as it stands, twice. number: of the body that physics is to move. other: of the one before it.

    Raises:
        Problem: for bodies that cannot.
    """
    from zembrik.core.mesh.fit_onto import fit_onto  # brings the compiler, which no page waits for

    count = len(setup.bodies)
    if not (0 <= number < count and 0 <= other < count) or number == other:
        raise Problem("there is no such body.", "take over", "Load the page again.")
    body, before = setup.bodies[number], setup.bodies[other]
    if body.role not in SIMULATED:
        raise Problem(f"physics does not move '{body.name}'.", "take over", "Make it cloth, soft or rigid first.")
    if body.motion is not None or body.moves_by_mesh:
        raise Problem(f"'{body.name}' moves by itself.", "take over", "Hand it over from its own motion instead.")
    mover = mover_of_body(setup, other, assets)
    if mover is None:
        raise Problem(f"nothing moves '{before.name}'.", "take over", "Key its motion first.")
    mesh, onto = placed_mesh(body, assets), placed_mesh(before, assets)
    if max(len(mesh.faces), len(onto.faces)) > MOST_FACES:
        raise Problem(
            f"one of the meshes has more than {MOST_FACES:,} faces.",
            "take over",
            "Let it carry the detailed one instead.",
        )
    frames = [frame]
    if mover.changes_form:
        frames = [frame - 1, frame, frame + 1] if mover.knows(frame + 1) else [frame - 2, frame - 1, frame]
        fits = [fit_onto(mesh, onto.moved(mover.points_at(onto.points, float(f)))) for f in frames]
    else:
        fits = [fit_onto(mesh, onto)]
    fit = fits[frames.index(frame)]
    pivot = fit.turn @ np.array(body.place.translate) + fit.shift
    angles = angles_of((fit.turn @ turn_matrix(body.place.rotate))[None])[0]
    place = {
        "translate": [round(float(v), 7) for v in pivot], "rotate": [round(float(v), 7) for v in angles],
        "scale": body.place.scale,
    }  # fmt: skip
    motion = _keyed(frames, fits, fit, pivot) if mover.changes_form else {"parent": before.name}
    at = f"/bodies/{number}"
    patch: Patch = [
        {"op": "add", "path": f"{at}/place", "value": place},
        {"op": "add", "path": f"{at}/motion", "value": motion},
        {"op": "add", "path": f"{at}/handovers", "value": [{"at": frame}]},
        {"op": "add", "path": f"{at}/shown", "value": [[frame - 1, False], [frame, True]]},
        {"op": "add", "path": f"/bodies/{other}/shown", "value": [[frame - 1, True], [frame, False]]},
    ]
    how = "by the points they share" if fit.shared else "by their surfaces"
    told = (
        f"'{body.name}' lies on '{before.name}' {how}: {1e3 * fit.mean_m:.2f} mm off in the mean, "
        f"{1e3 * fit.worst_m:.2f} at most."
    )
    if before.role == "collider" and before.motion is not None and before.motion.ripple:
        told += f" '{before.name}' stays a collider, and would kick it out: key its handover where they are apart."
    elif before.role == "collider":  # it would be inside of what takes over from it
        patch += role_patch(document["bodies"][other], other, "left out")
        told += f" '{before.name}' is left out now: nothing bounces off it any more."
    return patch, told


def _keyed(frames: list[int], fits: list[Fit], fit: Fit, pivot: Floats) -> dict[str, Any]:
    """Return the motion of what is laid onto another at some frames, and stands as at one of them."""
    from scipy.spatial.transform import Rotation  # takes a while to load

    places, turns = [], []
    for at, one in zip(frames, fits, strict=True):
        turn = one.turn @ fit.turn.T
        shift = one.shift - turn @ fit.shift
        places.append([at, (turn @ pivot + shift - pivot).round(9).tolist()])
        turns.append([at, Rotation.from_matrix(turn).as_quat().round(9).tolist()])
    return {"translate": {"keys": places, "ease": "straight"}, "turn": {"keys": turns, "ease": "straight"}}
