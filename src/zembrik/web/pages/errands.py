"""Errands from a page: asked for, watched, stopped; what they propose is applied as a revision."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import Response
from sqlalchemy.orm import Session

from zembrik.core.problem import Problem
from zembrik.core.setup.resolve import resolve
from zembrik.library.errands import ask, ask_stop, audit_order, fits_order, get_errand
from zembrik.library.models import Errand, Shot
from zembrik.library.shots import get_shot, head_setup
from zembrik.web.dials import from_shown
from zembrik.web.fields import Asked, Id, Text, Whole
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places, Words, templates

router = APIRouter()


@router.post("/shots/{shot_id}/errands")
def send(
    request: Request, db: Db, shot_id: Id, kind: Text, body: Text = "", way: Text = "", frames: Whole = 12,
    spacing: Text = "", flaw: Text = "", even: Whole = 0, bake: Whole = 0, bound_mm: Text = "1",
    bound_deg: Text = "0.5", turns: Text = "quaternions",
    only: Annotated[list[str], Form()] = [], frame: Whole = 1, thickness: Text = "0", rounds: Whole = 0,  # noqa: B006
    station: Text = "start", old: Text = "", new: Text = "", reach: Text = "300",
) -> Response:  # fmt: skip
    """Have a worker do something long; the answer is what to watch it by."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        asked: dict[str, Any] = {"way": way, "frames": frames, "spacing": spacing, "flaw": flaw, "even": even}
        asked |= {"bake": bake, "bound_mm": bound_mm, "bound_deg": bound_deg, "turns": turns, "only": only}
        asked |= {"old": old, "new": new, "reach": reach}
        asked |= {"frame": frame, "thickness": thickness, "rounds": rounds}
        order = _order(shot, kind, body, **asked)
        errand = ask(session, shot_id, kind, order)
        number = errand.id
    with db.session() as session:
        return _shown(request, session, number, shot_id, station, body)


def _order(shot: Shot, kind: str, body: str, **asked: Any) -> dict[str, Any]:
    """Return the order of an errand: what it needs to know, and so all that its result depends on."""
    assert shot.head is not None
    of_setup: dict[str, Any] = {"revision": shot.head.id}
    if kind == "spacing":
        spacing_m = from_shown("spacing", asked["spacing"]) / 1e3
        return of_setup | {"body": body, "spacing_m": spacing_m, "even": bool(asked["even"])}
    if kind == "re-seat":
        reach_m = float(from_shown("reach", asked["reach"])) / 1e3
        if not 0.0 < reach_m <= 1000.0:
            raise Problem("the reach is more than nothing.", "re-seat", "Some hundred millimetres will do.")
        sides = {side: asked[side].partition("/") for side in ("old", "new")}
        names = {side: name for side, (_, _, name) in sides.items()}
        kinds = {f"{side}_as": kind for side, (kind, _, _) in sides.items()}
        return of_setup | {"bake": asked["bake"], "reach_m": reach_m} | names | kinds
    if kind == "mend":
        return of_setup | {"body": body, "flaw": asked["flaw"]}
    if kind == "still":
        thick_m = from_shown("still thickness", asked["thickness"]) / 1e3
        return of_setup | {"body": body, "thickness_m": thick_m} | {k: asked[k] for k in ("bake", "frame", "rounds")}
    if kind == "keys":
        bounds = {name: from_shown(name, asked[name]) for name in ("bound_mm", "bound_deg")}
        return of_setup | {
            "bake": asked["bake"], "bodies": asked["only"], "bound_m": bounds["bound_mm"] / 1e3,
            "bound_deg": bounds["bound_deg"], "angles": "" if asked["turns"] == "quaternions" else asked["turns"],
        }  # fmt: skip
    if kind == "way":
        return of_setup | {"way": asked["way"], "frames": asked["frames"]}
    if kind == "over frames":
        return of_setup | {"body": body}
    if kind in ("probe", "fit all"):
        return of_setup
    if kind == "audit":
        for one in head_setup(shot).bodies:
            if one.name == body:
                return audit_order(one)
    if kind == "fits":
        setup = head_setup(shot)
        for number, one in enumerate(setup.bodies):
            if one.name == body and one.role in ("collider", "rigid"):
                return fits_order(one, resolve(setup).document["bodies"][number]["proxy"])
    raise Problem(f"there is no errand '{kind[:40]}' for '{body[:80]}'.", "errand", "Load the page again.")


@router.get("/errands/{number}")
def watch(request: Request, db: Db, number: Id, shot: Asked, station: str = "start", body: str = "") -> Response:
    """Return how far an errand is, or what it found, for a shot: another may have asked for it first."""
    with db.session() as session:
        return _shown(request, session, number, shot, station, body)


@router.post("/errands/{number}/stop")
def stop(request: Request, db: Db, number: Id, shot: Whole, station: Text = "start", body: Text = "") -> Response:
    """Stop an errand; nothing was changed by it."""
    with db.session() as session:
        ask_stop(session, number)
        session.flush()
        return _shown(request, session, number, shot, station, body)


@router.post("/shots/{shot_id}/apply-errand")
def apply(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, errand: Whole, station: Text, body: Text = ""
) -> Response:
    """Make a revision of what an errand proposes; it must be about the setup as it stands."""
    with db.session() as session:
        head, held = get_shot(session, shot_id).head, get_errand(session, errand)
        assert head is not None
        if head.number != base or held.order.get("revision") != head.id or not held.result:
            raise Problem("the setup has changed since this was worked out.", station, "Have it worked out again.")
        patch, title = held.result["patch"], held.result["title"]
    return apply_patch(request, db, places, shot_id, base, patch, title.lower(), station, body)


def _shown(request: Request, session: Session, number: int, shot_id: int, station: str, body: str) -> Response:
    errand: Errand = get_errand(session, number)
    head = get_shot(session, shot_id).head
    words: Words = {"errand": errand, "head": head, "station": station, "body_name": body, "shot_id": shot_id}
    if errand.kind == "keys" and errand.result:
        words |= _key_plot(errand.result["plot"])
    if errand.kind == "over frames" and errand.result:
        words |= _plot(errand.result)
    return templates.TemplateResponse(request, "errand.html", words)


def _key_plot(plot: Words) -> Words:
    """Return a body's original and reduced way as SVG lines, 300 by 84, x, y and z each, with the keys on them."""
    frames, low = plot["frames"], min(min(p) for p in plot["places"])
    size = max(max(max(p) for p in plot["places"]) - low, 1e-9)
    x = [300 * (f - frames[0]) / max(frames[-1] - frames[0], 1e-9) for f in frames]
    lines = {
        name: [" ".join(f"{a:.1f},{80 - 76 * (p[k] - low) / size:.1f}" for a, p in zip(x, plot[name], strict=True))
               for k in range(3)]
        for name in ("places", "reduced")
    }  # fmt: skip
    dots = []
    for key in plot["keys"]:
        n = min(range(len(frames)), key=lambda m: abs(frames[m] - key))
        dots += [(x[n], 80 - 76 * (plot["reduced"][n][k] - low) / size) for k in range(3)]
    return {"key_lines": lines, "key_dots": dots}


def _plot(result: Words) -> Words:
    """Return gap and overhang over frames as the points of two SVG lines, 300 by 60, and the largest of both, mm."""
    frames = result["frames"]
    top = max(*result["gap_m"], *result["overhang_m"], 1e-9)
    across = 300 / max(frames[-1] - frames[0], 1)
    lines = {
        name: " ".join(
            f"{(f - frames[0]) * across:.1f},{57 - 54 * v / top:.1f}" for f, v in zip(frames, result[name], strict=True)
        )
        for name in ("gap_m", "overhang_m")
    }
    return {"lines": lines, "top_mm": 1e3 * top}
