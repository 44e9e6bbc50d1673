"""Starting, stopping and discarding bakes."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import Response

from zembrik.library.bakes import ask_stop, discard, get_bake, queue_bake
from zembrik.library.caches import approve, disapprove
from zembrik.library.shots import Patch, edit
from zembrik.web.dials import from_shown
from zembrik.web.fields import Id, Whole
from zembrik.web.pages.bench import render_bench
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places

router = APIRouter()


@router.post("/shots/{shot_id}/bake")
def start(request: Request, db: Db, places: Places, shot_id: Id) -> Response:
    """Put the setup as it stands into the queue."""
    with db.session() as session:
        queue_bake(session, shot_id)
    with db.session() as session:
        return render_bench(request, session, places, shot_id, "bake")


@router.post("/shots/{shot_id}/bake-rough")
def start_rough(request: Request, db: Db, places: Places, shot_id: Id, base: Whole) -> Response:
    """Set the profile rough, with no dial of it by hand, and put that into the queue: one undo brings all back."""
    with db.session() as session:
        quality = {"profile": "rough"}
        edit(session, shot_id, base, [{"op": "add", "path": "/quality", "value": quality}], "rough, to see it soon")
        queue_bake(session, shot_id)
    with db.session() as session:
        return render_bench(request, session, places, shot_id, "bake")


@router.post("/bakes/{bake_id}/stop")
def stop(request: Request, db: Db, places: Places, bake_id: Id) -> Response:
    """Stop a bake after the frame it is on and keep its frames."""
    with db.session() as session:
        bake = ask_stop(session, bake_id)
        session.flush()
        return render_bench(request, session, places, bake.shot_id, "bake")


@router.post("/bakes/{bake_id}/discard")
def throw_away(request: Request, db: Db, places: Places, bake_id: Id) -> Response:
    """Take a bake and its cache away."""
    with db.session() as session:
        shot_id = get_bake(session, bake_id).shot_id
        discard(session, places, bake_id)
        return render_bench(request, session, places, shot_id, "bake")


@router.post("/shots/{shot_id}/range")
def set_range(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole,
    first: Annotated[str, Form()], last: Annotated[str, Form()],
) -> Response:  # fmt: skip
    """Set the shot's frames."""
    frames = [from_shown("first frame", first), from_shown("last frame", last)]
    patch: Patch = [{"op": "add", "path": "/frames", "value": frames}]
    return apply_patch(request, db, places, shot_id, base, patch, f"frames {first} to {last}", "bake", "")


@router.post("/bakes/{bake_id}/sign-off")
def sign_off(request: Request, db: Db, places: Places, bake_id: Id, station: Annotated[str, Form()] = "bake",
             take_back: Annotated[str, Form()] = "") -> Response:  # fmt: skip
    """Approve a bake's cache where it is looked at, or take that back."""
    with db.session() as session:
        shot_id = get_bake(session, bake_id).shot_id
        (disapprove if take_back == "yes" else approve)(session, places, bake_id)
        session.flush()
        return render_bench(request, session, places, shot_id, station)
