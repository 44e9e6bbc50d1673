"""The shots board: a show's shots with their state."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import FileResponse, RedirectResponse, Response
from sqlalchemy import func, select

from zembrik.core.problem import Problem
from zembrik.core.setup.materials import SIMULATED
from zembrik.library.bakes import ACTIVE, USUAL_FRAMES, BoardRow, ShownBake, board, cache_path, get_bake, queue_show
from zembrik.library.models import Bake, Show
from zembrik.library.shelving import (
    delete_shot,
    delete_show,
    get_show,
    put_away,
    rename_shot,
    rename_show,
    standing_on,
)
from zembrik.library.shots import create_shot, create_show, get_shot
from zembrik.web.fields import Id, Whole
from zembrik.web.render import STATIC, Db, Places, Words, templates

router = APIRouter()


@router.get("/")
def shots_board(request: Request, db: Db, show: int | None = None, queued: int | None = None) -> Response:
    """Show the shots of one show."""
    with db.session() as session:
        every = list(session.scalars(select(Show).order_by(Show.archived.is_not(None), Show.title)))
        shown = next((s for s in every if s.id == show), every[0] if every else None)
        shows = [s for s in every if s.archived is None or s is shown]
        away = [s for s in every if s.archived is not None]
        rows = board(session, shown.id) if shown else []
        cards = [_card(*row) for row in rows]
        active = session.scalar(select(func.count()).where(Bake.state.in_(ACTIVE)))
        words: Words = {
            "shows": shows,
            "shown": shown,
            "cards": cards,
            "active": active,
            "queued": queued,
            "away": away,
        }
        words |= {"shots_of_show": list(shown.shots) if shown else []}
        return templates.TemplateResponse(request, "board.html", words)


@router.get("/favicon.ico")
def favicon() -> Response:
    """Return the mark that stands in a browser's tab."""
    return FileResponse(STATIC / "mark.svg", media_type="image/svg+xml")


def _card(shot: BoardRow, bake: ShownBake | None) -> Words:
    first, last = shot.frames or USUAL_FRAMES
    total = last - first + 1
    done = bake.done - bake.first + 1 if bake and bake.done is not None else 0
    stale = bool(bake and bake.setup_hash != shot.setup_hash)
    if bake is None:
        state, words = "none", "not baked"
    elif bake.state in ACTIVE:
        state, words = "active", "in the queue" if bake.state == "queued" else f"baking · {done} of {total}"
    elif bake.state == "failed":
        state, words = "failed", "bake failed"
    elif stale:
        state, words = "stale", "changed since its bake"
    else:
        state, words = ("true", f"{done} frames, true") if done >= total else ("partial", f"{done} of {total} frames")
    return {
        "shot": shot,
        "bake": bake if done else None,
        "state": state,
        "words": words,
        "share": min(100, round(100 * done / total)),
        "frames": f"{first}–{last}",
        "bodies": _bodies(shot.roles),
        "picture": bool(bake and done and bake.state not in ACTIVE),
    }


def _bodies(roles: list[str]) -> str:
    """Return how many bodies of each role a shot has, in words."""
    counts = [(roles.count(role), role) for role in (*SIMULATED, "collider")]
    words = [f"{n} {role}{'s' if role == 'collider' and n > 1 else ''}" for n, role in counts if n]
    return " · ".join(words) or "no bodies yet"


@router.post("/shots")
def new_shot(db: Db, code: Annotated[str, Form()], title: Annotated[str, Form()], show: Whole) -> Response:
    """Add an empty shot and open its bench."""
    with db.session() as session:
        owner = session.get(Show, show)
        if owner is None:
            raise Problem("there is no such show.", "show")
        document = {"schema": "zembrik.setup/1", "title": title.strip(), "bodies": []}
        shot = create_shot(session, owner, code, title, document)
        return RedirectResponse(f"/shots/{shot.id}/intake", 303)


@router.post("/shows")
def new_show(db: Db, title: Annotated[str, Form()]) -> Response:
    """Add a show."""
    if not title.strip() or len(title) > 300:
        raise Problem("a show needs a title of up to 300 letters.", "show")
    with db.session() as session:
        return RedirectResponse(f"/?show={create_show(session, title.strip()).id}", 303)


@router.post("/shows/{show_id}/rename")
def rename_a_show(db: Db, show_id: Id, title: Annotated[str, Form()]) -> Response:
    """Give a show another title."""
    with db.session() as session:
        rename_show(session, show_id, title)
    return RedirectResponse(f"/?show={show_id}", 303)


@router.post("/shows/{show_id}/away")
def show_away(db: Db, show_id: Id, away: Annotated[str, Form()]) -> Response:
    """Put a show away, or bring it back."""
    with db.session() as session:
        put_away(get_show(session, show_id), away == "yes")
    return RedirectResponse("/" if away == "yes" else f"/?show={show_id}", 303)


@router.post("/shows/{show_id}/delete")
def delete_a_show(db: Db, show_id: Id, typed: Annotated[str, Form()] = "") -> Response:
    """Delete a show without shots."""
    with db.session() as session:
        delete_show(session, show_id, typed)
    return RedirectResponse("/", 303)


@router.post("/shots/{shot_id}/name")
def rename_a_shot(db: Db, shot_id: Id, code: Annotated[str, Form()], title: Annotated[str, Form()]) -> Response:
    """Give a shot another code and title."""
    with db.session() as session:
        show_id = rename_shot(session, shot_id, code, title).show_id
    return RedirectResponse(f"/?show={show_id}", 303)


@router.post("/shots/{shot_id}/away")
def shot_away(db: Db, shot_id: Id, away: Annotated[str, Form()]) -> Response:
    """Put a shot away, or bring it back."""
    with db.session() as session:
        shot = get_shot(session, shot_id, lock=True)
        put_away(shot, away == "yes")
        show_id = shot.show_id
    return RedirectResponse(f"/?show={show_id}", 303)


@router.get("/shots/{shot_id}/delete")
def ask_to_delete(request: Request, db: Db, shot_id: Id) -> Response:
    """Tell what stands on a shot, and ask for its code."""
    with db.session() as session:
        words = {"shot": get_shot(session, shot_id), "standing": standing_on(session, shot_id)}
        return templates.TemplateResponse(request, "delete_shot.html", words)


@router.post("/shots/{shot_id}/delete")
def delete_a_shot(db: Db, places: Places, shot_id: Id, typed: Annotated[str, Form()] = "") -> Response:
    """Delete a shot and all that stands on it: first on record, then on disk."""
    with db.session() as session:
        show_id = get_shot(session, shot_id).show_id
        delete_shot(session, places, shot_id, typed)
    return RedirectResponse(f"/?show={show_id}", 303)


@router.post("/shows/{show_id}/bake")
def bake_many(request: Request, db: Db, show_id: Id, which: Annotated[str, Form()]) -> Response:
    """Queue all shots of a show that are not true, or the stale ones alone."""
    with db.session() as session:
        if session.get(Show, show_id) is None:
            raise Problem("there is no such show.", "show")
        numbers = [b.id for b in queue_show(session, show_id, which == "stale")]
    return RedirectResponse(f"/?show={show_id}&queued={len(numbers)}", 303)


@router.get("/bakes/{bake_id}/picture.png")
def picture(db: Db, places: Places, bake_id: Id) -> Response:
    """Return the small picture of a bake's last frame."""
    with db.session() as session:
        png = cache_path(places, get_bake(session, bake_id)) / "picture.png"
    try:
        return Response(png.read_bytes(), media_type="image/png", headers={"Cache-Control": "no-cache"})
    except OSError:
        raise Problem("there is no picture of this bake yet.", "picture") from None
