"""Layers of a drop layout in a setup: added, dropped anew, taken out and put back, cleared of what rolled off."""

from __future__ import annotations

import copy
from typing import TYPE_CHECKING, Any

from sqlalchemy import cast, func, select
from sqlalchemy.dialects.postgresql import JSONPATH
from sqlalchemy.orm import Session

from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup
from zembrik.library.bodies import removal
from zembrik.library.intake import free_name
from zembrik.library.models import Revision, Shot
from zembrik.library.shots import Patch, apply_patch, edit, get_shot, head_setup

if TYPE_CHECKING:
    from zembrik.core.layout.drop import Layer

Body = dict[str, Any]
MOST_SHOTS = 40  # whose layers are offered
_DROPPED = "$.groups[*].drop ? (@ != null)"  # groups that were dropped, as a path in JSON


def layer_of(document: dict[str, Any], name: str) -> tuple[int, dict[str, Any]]:
    """Return a dropped layer by its name, and its number among the groups; raises Problem when there is none."""
    for number, group in enumerate(document.get("groups") or []):
        if group["name"] == name and group.get("drop"):
            return number, group
    raise Problem(f"there is no dropped layer '{name[:80]}'.", "layers", "Load the page again.")


def without_layer(setup: Setup, document: dict[str, Any], name: str) -> Patch:
    """Return the patch that takes a layer and its bodies out, so that it can be dropped anew.

    Raises:
        Problem: when something holds on to one of its bodies.
    """
    number, group = layer_of(document, name)
    if group.get("away"):
        return [{"op": "remove", "path": f"/groups/{number}"}]
    where = {body["name"]: n for n, body in enumerate(document["bodies"])}
    patch, held = removal(document, [where[n] for n in group["bodies"]])
    if held:
        raise Problem(f"'{name}' is held on to: {held[0]}.", "layers", "Let go of it first.")
    return patch


def layer_patch(document: dict[str, Any], name: str, drop: dict[str, Any], bodies: list[Body]) -> Patch:
    """Return the patch that adds a layer's bodies and the group that says how they came to lie."""
    patch: Patch = [{"op": "add", "path": "/bodies/-", "value": body} for body in bodies]
    group = {"name": name, "bodies": [body["name"] for body in bodies], "drop": drop}
    groups = [*copy.deepcopy(document.get("groups") or []), group]
    return [*patch, {"op": "add", "path": "/groups", "value": groups}]


def keep_drop(session: Session, shot_id: int, order: dict[str, Any], layer: Layer) -> None:
    """Make a revision of what was dropped, on the setup as it is by now.

    Raises:
        Problem: when what was dropped, or what a layer takes the place of, is held on to or gone by now.
    """
    shot = get_shot(session, shot_id, lock=True)
    assert shot.head is not None
    setup, document = head_setup(shot), dict(shot.head.document)
    if "names" in order:
        where = {body["name"]: n for n, body in enumerate(document["bodies"])}
        patch: Patch = [
            {"op": "add", "path": f"/bodies/{where[body['name']]}/place", "value": body["place"]}
            for body in layer.bodies if body["name"] in where
        ]  # fmt: skip
        title = f"'{order['names'][0]}'" if len(patch) == 1 else f"{len(patch)} bodies"
        edit(session, shot_id, shot.head.number, patch, f"{title} dropped, and kept where they lie")
        return
    name, gone = str(order["name"]), []
    if order.get("anew"):
        gone = without_layer(setup, document, name)
        document = apply_patch(document, gone)
    groups = {group["name"] for group in document.get("groups") or []}
    stem, count = name, 2
    while name in groups:
        name, count = f"{stem[:110]} {count}", count + 1
    taken = {body["name"] for body in document.get("bodies", [])}
    bodies = []
    for body in layer.bodies:
        bodies.append({**body, "name": free_name(body["name"], taken)})
        taken.add(bodies[-1]["name"])
    drop = {**order["drop"], "rests": layer.fall.rests, "took": layer.fall.frames}
    patch = [*gone, *layer_patch(document, name, drop, bodies)]
    edit(session, shot_id, shot.head.number, patch, f"layer '{name}' dropped: {layer.words}")


def layers_of_show(session: Session, shot: Shot) -> list[tuple[int, str, str, int]]:
    """Return the dropped layers of a show's other shots: the shot's number and code, the layer's name, how many lie."""
    query = (
        select(Shot.id, Shot.code, Revision.document)
        .join(Revision, Revision.id == Shot.head_id)
        .where(Shot.show_id == shot.show_id, Shot.id != shot.id)
        .where(func.jsonb_path_exists(Revision.document, cast(_DROPPED, JSONPATH)))
        .order_by(Shot.code)
        .limit(MOST_SHOTS)
    )
    return [
        (number, code, group["name"], len(group["bodies"] or group.get("away") or []))
        for number, code, document in session.execute(query)
        for group in document.get("groups") or []
        if group.get("drop")
    ]


def borrowed_patch(document: dict[str, Any], other: dict[str, Any], name: str) -> Patch:
    """Return the patch that lays a layer of another shot's document out here, where it lies there.

    Names that are taken get a number. What it was made of stays in the other shot: it is not dropped anew from here
    unless a body of that name is here too.
    """
    _, group = layer_of(other, name)
    wanted = set(group["bodies"])
    bodies = copy.deepcopy(group.get("away") or [b for b in other.get("bodies", []) if b["name"] in wanted])
    taken = {body["name"] for body in document.get("bodies", [])}
    for body in bodies:
        body["name"] = free_name(body["name"], taken)
        taken.add(body["name"])
    titles, title, count = {g["name"] for g in document.get("groups") or []}, name, 2
    while title in titles:
        title, count = f"{name[:110]} {count}", count + 1
    return layer_patch(document, title, group["drop"], bodies)


def away_patch(document: dict[str, Any], name: str) -> Patch:
    """Return the patch that takes a layer's bodies out of the shot and keeps them with it.

    Raises:
        Problem: when they are out already, or something holds on to one of them.
    """
    number, group = layer_of(document, name)
    if group.get("away"):
        raise Problem(f"'{name}' is out of the shot already.", "layers", "Load the page again.")
    where = {body["name"]: n for n, body in enumerate(document["bodies"])}
    numbers = [where[n] for n in group["bodies"]]
    patch, held = removal(document, numbers)
    if held:
        raise Problem(f"'{name}' is held on to: {held[0]}.", "layers", "Let go of it first.")
    kept = [copy.deepcopy(document["bodies"][n]) for n in numbers]
    groups = copy.deepcopy(document["groups"])
    groups[number] = {**groups[number], "bodies": [], "away": kept}
    return [*(op for op in patch if op["path"] != "/groups"), {"op": "add", "path": "/groups", "value": groups}]


def back_patch(document: dict[str, Any], name: str) -> Patch:
    """Return the patch that puts a layer's bodies back into the shot; names that are taken meanwhile get a number."""
    number, group = layer_of(document, name)
    taken = {body["name"] for body in document.get("bodies", [])}
    bodies = []
    for body in copy.deepcopy(group.get("away") or []):
        stem, count = body["name"], 2
        while body["name"] in taken:
            body["name"], count = f"{stem[:110]} {count}", count + 1
        taken.add(body["name"])
        bodies.append(body)
    if not bodies:
        raise Problem(f"'{name}' is in the shot already.", "layers", "Load the page again.")
    group = {k: v for k, v in group.items() if k != "away"} | {"bodies": [body["name"] for body in bodies]}
    patch: Patch = [{"op": "add", "path": "/bodies/-", "value": body} for body in bodies]
    return [*patch, {"op": "replace", "path": f"/groups/{number}", "value": group}]


def rolled_off(document: dict[str, Any], name: str) -> list[int]:
    """Return the numbers of a layer's bodies that lie outside of where they were scattered, by their origins.

    A quarter of the region's width is left around it.
    """
    _, group = layer_of(document, name)
    drop, gone = group["drop"], []
    spans = [drop.get("across", (-0.5, 0.5)), drop.get("along", (-0.5, 0.5))]
    where = {body["name"]: n for n, body in enumerate(document.get("bodies", []))}
    for body in group["bodies"]:
        at = document["bodies"][where[body]].get("place", {}).get("translate", [0.0, 0.0, 0.0])
        for value, (low, high) in zip((at[0], at[2]), spans, strict=True):
            margin = 0.25 * (high - low)
            if not low - margin <= value <= high + margin:
                gone.append(where[body])
                break
    return gone
