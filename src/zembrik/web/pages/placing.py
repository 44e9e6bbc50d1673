"""Caches from elsewhere: files kept as caches, and caches of any shot placed in this one."""

from __future__ import annotations

import re
from types import SimpleNamespace
from typing import Annotated

from fastapi import APIRouter, Depends, Form, Request
from fastapi.responses import Response
from starlette.datastructures import FormData

from zembrik.core.cache.reader import Cache
from zembrik.core.problem import Problem
from zembrik.library.caches import Row, find_caches
from zembrik.library.errands import ask, get_errand
from zembrik.library.placing import placed_bodies
from zembrik.library.settings import Settings
from zembrik.library.shots import Patch, get_shot, head_setup
from zembrik.web.dials import from_shown
from zembrik.web.fields import Id, Text
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places, templates

router = APIRouter()


async def typed(request: Request) -> FormData:
    """Return all fields of a form whose names are not known ahead; the route itself runs beside others."""
    return await request.form()


Typed = Annotated[FormData, Depends(typed)]
MOST_OFFERED = 8
MOST_BODIES = 60  # of a cache that are listed one by one


@router.post("/shots/{shot_id}/hand-in")
def hand_in(
    request: Request, db: Db, shot_id: Id, reference: Text, unit: Text, up_axis: Text, fps: Text, first: Text,
    forward: Text = "z", label: Text = "", part: Annotated[list[str], Form()] = [],  # noqa: B006
) -> Response:  # fmt: skip
    """Have a worker keep chosen parts of a stored file as a cache of this shot."""
    order = {
        "reference": reference, "parts": part, "unit": unit, "up_axis": up_axis, "forward": forward,
        "fps": from_shown("frame rate", fps), "first": int(from_shown("first frame", first)),
        "label": label.strip() or reference.partition("/")[2],
    }  # fmt: skip
    if not part:
        raise Problem("no part was chosen.", "intake", "Tick at least one.")
    with db.session() as session:
        get_shot(session, shot_id)
        errand = ask(session, shot_id, "hand in", order, again=True)
        number = errand.id
    with db.session() as session:
        words = {"errand": get_errand(session, number), "shot_id": shot_id, "station": "intake", "body_name": ""}
        return templates.TemplateResponse(request, "errand.html", words)


@router.get("/shots/{shot_id}/placeable")
def placeable(request: Request, db: Db, places: Places, shot_id: Id, q: str = "") -> Response:
    """List caches that could be placed in a shot: those that fit some words, of all shows."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        rows, count, _ = find_caches(session, q, "", "newest")
        fit = [r for r in rows if r.frames and r.state not in ("active", "failed", "trial", "damaged")]
        offered = [_offered(places, r) for r in fit[:MOST_OFFERED]]
        words = {"shot": shot, "head": shot.head, "setup": head_setup(shot), "offered": offered, "q": q, "count": count}
        return templates.TemplateResponse(request, "placeable.html", words)


def _offered(places: Settings, row: Row) -> SimpleNamespace:
    try:
        names = Cache(places.caches / row.folder).names
    except Problem:
        names = []
    return SimpleNamespace(row=row, names=names[:MOST_BODIES], more=len(names) - len(names[:MOST_BODIES]))


@router.post("/shots/{shot_id}/place-cache")
def place(request: Request, db: Db, places: Places, shot_id: Id, form: Typed) -> Response:
    """Place bodies of a cache in a shot, at a frame and some way off; no byte of it is copied."""

    def text(name: str, otherwise: str = "") -> str:
        return str(form.get(name, otherwise))

    bake = text("bake")
    if not re.fullmatch(r"[0-9]{1,9}", bake):
        raise Problem("no cache is chosen.", "place", "Choose one of those listed.")
    only = [str(name) for name in form.getlist(f"only-{bake}")]
    offset = [from_shown("offset", text(axis, "0")) for axis in ("x", "y", "z")]
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
        bodies = placed_bodies(
            session, places, int(bake), only, text("role", "collider"), from_shown("frame", text("starts", "1")),
            (offset[0], offset[1], offset[2]), from_shown("turn", text("turn", "0")), {b.name for b in setup.bodies},
        )  # fmt: skip
    patch: Patch = [{"op": "add", "path": "/bodies/-", "value": b} for b in bodies]
    title = bodies[0]["name"]
    words = f"placed {title}" if len(bodies) == 1 else f"placed {title} and {len(bodies) - 1} more"
    base = text("base", "0") or "0"
    if not re.fullmatch(r"[0-9]{1,9}", base):
        raise Problem("base: this is no number of a revision.", "place", "Load the page again.")
    return apply_patch(request, db, places, shot_id, int(base), patch, f"{words} of cache {bake}", "intake", title)
