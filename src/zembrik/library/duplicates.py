"""Copies of chosen bodies with what holds them together, settings put onto others, a mesh exchanged for another."""

from __future__ import annotations

import copy
import re
from typing import Any

import numpy as np

from zembrik.core.layout.gesture import Gesture, gesture_patch, mirrored_place, rounded
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets
from zembrik.core.setup.document import Setup, parse_setup
from zembrik.library.bodies import removal
from zembrik.library.groups import kept_groups
from zembrik.library.many import UNFIT
from zembrik.library.shots import Patch, apply_patch

MOST_COPIES = 500  # of a choice, by one edit
AXES = "xyz"
# What a body does and is made of; where it stands, how it moves and what holds it are its own.
SETTINGS = ("role", "material", "thickness", "friction", "bounce", "gravity", "cell", "proxy")


def stepped_copies(
    setup: Setup, document: dict[str, Any], numbers: list[int], count: int, step_m: list[float], turn_deg: float,
    assets: Assets,
) -> Patch:  # fmt: skip
    """Return the patch that adds copies of bodies, each as far from the one before it.

    Joints and pins within the choice are copied with it, what goes along with one of them goes with its copy, and a
    group that is chosen as a whole gives each copy a group.

    Args:
        setup, document: as it stands, twice. numbers: of the bodies. count: of copies.
        step_m: from one to the next, metres. turn_deg: by which each is turned about Y through the first's origin.
        assets: gives the meshes.

    Raises:
        Problem: for counts that cannot be.
    """
    if not 1 <= count <= MOST_COPIES:
        raise Problem(
            f"{count:,} copies are asked for; 1 to {MOST_COPIES} can be made.", "copies", "Type another number."
        )
    rounds, bodies, joints = _copied(document, numbers, count)
    patch: Patch = [{"op": "add", "path": "/bodies/-", "value": body} for body in bodies]
    patch += [{"op": "add", "path": "/joints/-", "value": joint} for joint in joints]
    grown = apply_patch(document, [*_lists(document, joints), *patch])
    whole, pivot = parse_setup(grown), np.array(setup.bodies[numbers[0]].place.translate)
    first = len(setup.bodies)
    for k in range(count):
        own = list(range(first + k * len(numbers), first + (k + 1) * len(numbers)))
        gesture = Gesture((k + 1) * np.array(step_m), np.array([0.0, 1.0, 0.0]), (k + 1) * turn_deg, 1.0, pivot)
        grown = apply_patch(grown, gesture_patch(whole, own, gesture, assets))
    return _added(document, grown, rounds)


def mirrored_copies(setup: Setup, document: dict[str, Any], numbers: list[int], axis: str, at_m: float) -> Patch:
    """Return the patch that adds a copy of bodies as a mirror across X, Y or Z at a coordinate shows them, metres.

    Raises:
        Problem: for what a mirror would tear apart: held places, ways of their own, forms of their own.
    """
    if axis not in AXES or not axis:
        raise Problem(f"there is no axis '{axis[:10]}'.", "mirror", "It is x, y or z.")
    for n in numbers:
        body = setup.bodies[n]
        why = "held places" if body.pins else "a motion" if body.motion else "a form of its own" if body.form else ""
        if why:
            raise Problem(f"'{body.name}' has {why}, which no mirror keeps.", "mirror", "Copy it by a step.")
    rounds, bodies, joints = _copied(document, numbers, 1)
    k, flip = AXES.index(axis), np.eye(3)
    flip[k, k] = -1.0
    for copied, n in zip(bodies, numbers, strict=True):
        copied["place"] = mirrored_place(setup.bodies[n].place, k, at_m)
    for joint in joints:
        at = np.array(joint.get("at", [0.0, 0.0, 0.0]), np.float64)
        at[k] = 2.0 * at_m - at[k]
        # An axis tells a way round, which a mirror turns: angles then say the same of both.
        joint |= {"at": rounded(at, 6), "axis": rounded(-flip @ np.array(joint.get("axis", [0.0, 1.0, 0.0])), 6)}
    patch: Patch = [{"op": "add", "path": "/bodies/-", "value": body} for body in bodies]
    patch += [{"op": "add", "path": "/joints/-", "value": joint} for joint in joints]
    grown = apply_patch(document, [*_lists(document, joints), *patch])
    return _added(document, grown, rounds)


def _copied(
    document: dict[str, Any], numbers: list[int], count: int
) -> tuple[list[dict[str, str]], list[dict[str, Any]], list[dict[str, Any]]]:
    """Return for each round of copying the new names by the old, and all copies of bodies and of joints within."""
    every = document["bodies"]
    taken, rounds = {body["name"] for body in every}, []
    bodies, joints = [], []
    for _ in range(count):
        names: dict[str, str] = {}
        for n in numbers:
            stem, number = re.sub(r" \d+$", "", every[n]["name"]), 2
            while (name := f"{stem[:110]} {number}") in taken:
                number += 1
            taken.add(name)
            names[every[n]["name"]] = name
        for n in numbers:
            body = copy.deepcopy(every[n])
            body["name"] = names[body["name"]]
            if (motion := body.get("motion")) and motion.get("parent") in names:
                motion["parent"] = names[motion["parent"]]
            for pin in body.get("pins") or []:
                if pin.get("follow") in names:
                    pin["follow"] = names[pin["follow"]]
                if (near := pin["points"].get("near")) and near["body"] in names:
                    near["body"] = names[near["body"]]
            bodies.append(body)
        for joint in document.get("joints") or []:
            if all(name is None or name in names for name in joint["bodies"]):
                joints.append({**copy.deepcopy(joint), "bodies": [names.get(n) for n in joint["bodies"]]})
        rounds.append(names)
    return rounds, bodies, joints


def _lists(document: dict[str, Any], joints: list[dict[str, Any]]) -> Patch:
    return [{"op": "add", "path": "/joints", "value": []}] if joints and not document.get("joints") else []


def _added(document: dict[str, Any], grown: dict[str, Any], rounds: list[dict[str, str]]) -> Patch:
    """Return what a grown document has more than the one before, as a patch of that one."""
    joints = (grown.get("joints") or [])[len(document.get("joints") or []) :]
    patch = _lists(document, joints)
    patch += [{"op": "add", "path": "/bodies/-", "value": b} for b in grown["bodies"][len(document["bodies"]) :]]
    patch += [{"op": "add", "path": "/joints/-", "value": joint} for joint in joints]
    return patch + kept_groups(document, rounds)


def settings_patch(document: dict[str, Any], source: int, numbers: list[int]) -> Patch:
    """Return the patch that gives bodies the role, the stuff and the proxy of another; places and motions stay."""
    bodies, patch = document["bodies"], []
    given = {name: bodies[source][name] for name in SETTINGS if name in bodies[source]}
    role = given.get("role", "left out")
    for n in numbers:
        if n == source:
            continue
        unfit = UNFIT.get(role, ()) if bodies[n].get("role", "left out") != role else ()
        body = {k: v for k, v in bodies[n].items() if k not in SETTINGS and k not in unfit}
        patch.append({"op": "replace", "path": f"/bodies/{n}", "value": body | copy.deepcopy(given)})
    if not patch:
        raise Problem("there is no other body to put them onto.", "settings", "Choose others too; the last one gives.")
    return patch


def exchange_patch(document: dict[str, Any], number: int, donor: int, gone: bool) -> Patch:
    """Return the patch that gives a body the mesh of another, which goes if asked; all its settings stay.

    Raises:
        Problem: for a body and itself.
    """
    if number == donor:
        raise Problem("that is the body itself.", "exchange", "Choose another body's mesh.")
    patch: Patch = [
        {"op": "replace", "path": f"/bodies/{number}/mesh", "value": copy.deepcopy(document["bodies"][donor]["mesh"])}
    ]
    if gone:
        taken, held = removal(document, [donor])
        if held:
            raise Problem(
                f"'{document['bodies'][donor]['name']}' is still needed: {held[0]}.",
                "exchange",
                "Leave it in the shot.",
            )
        patch += taken
    return patch
