"""Drop layouts: layers scattered and dropped by a worker, which keeps them itself; then changed layer by layer."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response
from pydantic import ValidationError

from zembrik.core.problem import Problem
from zembrik.core.setup.groups import Drop
from zembrik.library.bodies import removal
from zembrik.library.errands import ask, get_errand
from zembrik.library.groups import refuse_locked, ungroup_patch
from zembrik.library.layers import away_patch, back_patch, borrowed_patch, layer_of, rolled_off
from zembrik.library.shots import get_shot, head_setup
from zembrik.web.dials import from_shown
from zembrik.web.fields import Id, Text, Whole
from zembrik.web.pages.edits import apply_patch
from zembrik.web.pages.hand import chosen_bodies
from zembrik.web.pages.placing import Typed
from zembrik.web.render import Db, Places, templates

router = APIRouter()
MOST_SOURCES = 50


def _watched(request: Request, db: Db, shot_id: int, order: dict[str, Any], body: str) -> Response:
    """Have a worker drop something and return what to watch it by."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        assert shot.head is not None
        number = ask(session, shot_id, "drop", {"revision": shot.head.id, **order}, again=True).id
    with db.session() as session:
        words = {"errand": get_errand(session, number), "shot_id": shot_id, "station": "start", "body_name": body,
                 "head": get_shot(session, shot_id).head}  # fmt: skip
        return templates.TemplateResponse(request, "errand.html", words)


@router.post("/shots/{shot_id}/layers")
def drop_layer(request: Request, db: Db, shot_id: Id, form: Typed) -> Response:
    """Scatter copies of bodies and let them fall; a worker keeps where they come to lie as a layer."""

    def number(name: str, label: str) -> float:
        return float(from_shown(label, str(form.get(name, ""))))

    sources = []
    for body, share in list(zip(form.getlist("source"), form.getlist("share"), strict=False))[:MOST_SOURCES]:
        if str(body):
            sources.append({"body": str(body), "share": float(from_shown("share", str(share) or "1"))})
    if not sources:
        raise Problem("no body is named whose copies are to fall.", "drop", "Choose one.")
    drop: dict[str, Any] = {
        "sources": sources, "count": int(number("count", "how many")),
        "across": [number("x0", "from X"), number("x1", "to X")],
        "along": [number("z0", "from Z"), number("z1", "to Z")],
        "size": [number("low", "smallest size"), number("high", "largest size")], "turn": number("turn", "turn"),
        "spacing": number("spacing_mm", "spacing") / 1e3, "seed": int(number("seed", "seed")),
        "frames": int(number("frames", "frames")),
    }  # fmt: skip
    if str(form.get("above", "")).strip():
        drop["above"] = number("above", "above")
    checked(drop)
    name = str(form.get("name", "")).strip()
    if not 0 < len(name) <= 120:
        raise Problem("a layer has a name of up to 120 letters.", "drop", "Type one.")
    with db.session() as session:
        groups = [group.name for group in head_setup(get_shot(session, shot_id)).groups]
    if name in groups:
        raise Problem(f"another group is called '{name}'.", "drop", "Choose another name.")
    order = {"name": name, "drop": drop, "role": str(form.get("role", "collider"))}
    return _watched(request, db, shot_id, order, str(sources[0]["body"]))


def checked(drop: dict[str, Any]) -> Drop:
    """Return what is to be dropped; raises Problem in words for what cannot be."""
    try:
        return Drop.model_validate(drop)
    except ValidationError as error:
        one = error.errors()[0]
        where = " ".join(str(part) for part in one["loc"]) or "drop"
        raise Problem(f"{where}: {one['msg'].removeprefix('Value error, ')}.", "drop", "Type another value.") from None


@router.post("/shots/{shot_id}/layers/again")
def drop_again(request: Request, db: Db, shot_id: Id, name: Text, seed: Text) -> Response:
    """Drop a layer anew with another seed; it takes the place of what there was."""
    with db.session() as session:
        _, group = layer_of(head_document(session, shot_id), name)
    drop = {**group["drop"], "seed": int(from_shown("seed", seed))}
    drop = {k: v for k, v in drop.items() if k not in ("rests", "took")}
    checked(drop)
    role = next((str(b.get("role", "left out")) for b in members(db, shot_id, group)), "collider")
    return _watched(request, db, shot_id, {"name": name, "drop": drop, "role": role, "anew": True}, "")


def head_document(session: Any, shot_id: int) -> dict[str, Any]:
    """Return a shot's setup as it stands, as a document."""
    head = get_shot(session, shot_id).head
    assert head is not None
    return dict(head.document)


def members(db: Db, shot_id: int, group: dict[str, Any]) -> list[dict[str, Any]]:
    """Return the bodies of a layer as a document, in the shot or away."""
    if group.get("away"):
        return list(group["away"])
    with db.session() as session:
        bodies = head_document(session, shot_id).get("bodies", [])
    return [body for body in bodies if body["name"] in set(group["bodies"])]


@router.post("/shots/{shot_id}/layers/chosen")
def drop_chosen(request: Request, db: Db, shot_id: Id, names: Text, frames: Whole = 240) -> Response:
    """Let chosen bodies fall from where they are, and keep where they come to lie."""
    chosen = chosen_bodies(db, shot_id, names)
    if not 1 <= frames <= 5000:
        raise Problem("a fall takes 1 to 5,000 frames.", "drop", "Type another number.")
    return _watched(request, db, shot_id, {"names": chosen.names, "frames": frames}, chosen.names[-1])


@router.post("/shots/{shot_id}/layers/borrow")
def borrow(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, source: Text, body: Text = ""
) -> Response:
    """Lay a layer of another shot of this show out here."""
    number, _, name = source.partition("/")
    with db.session() as session:
        shot = get_shot(session, shot_id)
        other = get_shot(session, int(number) if number.isascii() and number.isdigit() and len(number) < 10 else 0)
        if other.show_id != shot.show_id:
            raise Problem("that shot is of another show.", "layers", "Choose one of those listed.")
        patch = borrowed_patch(head_document(session, shot_id), head_document(session, other.id), name)
        note = f"layer '{name}' of {other.code} laid out here"
    return apply_patch(request, db, places, shot_id, base, patch, note, "start", body)


@router.post("/shots/{shot_id}/layers/edit")
def edit_layer(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, name: Text, do: Text, body: Text = ""
) -> Response:
    """Take a layer out of the shot, put it back, take away what rolled off, or take it apart into bodies."""
    with db.session() as session:
        document = head_document(session, shot_id)
    if do == "away":
        patch, note = away_patch(document, name), f"layer '{name}' is out of the shot"
    elif do == "back":
        patch, note = back_patch(document, name), f"layer '{name}' is back in the shot"
    elif do == "apart":
        _, group = layer_of(document, name)
        if group.get("away"):
            raise Problem(f"'{name}' is out of the shot.", "layers", "Put it back first.")
        patch, note = ungroup_patch(document, name), f"layer '{name}' taken apart into bodies"
    elif do == "rolled off":
        gone = rolled_off(document, name)
        if not gone:
            raise Problem(f"nothing of '{name}' has rolled off.", "layers", "There is nothing to take away.")
        refuse_locked(document, [document["bodies"][n]["name"] for n in gone])
        patch, held = removal(document, gone)
        if held:
            raise Problem(f"what rolled off is held on to: {held[0]}.", "layers", "Let go of it first.")
        note = f"{len(gone)} of layer '{name}' that had rolled off taken away"
    else:
        raise Problem(f"a layer cannot be '{do[:40]}'.", "layers", "Load the page again.")
    return apply_patch(request, db, places, shot_id, base, patch, note, "start", body)
