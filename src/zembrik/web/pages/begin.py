"""The Start station's tools: what overlaps, the ways out, a probe, copies."""

from __future__ import annotations

from functools import lru_cache
from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import HTMLResponse, Response

from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup, parse_setup
from zembrik.library.settings import Settings
from zembrik.library.shots import Patch, get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.web.dials import from_shown
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places, templates

router = APIRouter()
Text = Annotated[str, Form()]
Whole = Annotated[int, Form()]
MOST_ROWS = 6


@lru_cache(maxsize=32)
def _rows(document: str, places: Settings) -> Any:
    from zembrik.core.start.propose import overlaps_of  # see `app._warm_up`

    return overlaps_of(Setup.model_validate_json(document), StoredAssets(places))


@lru_cache(maxsize=32)
def _proposal(document: str, places: Settings, way: str, frames: int) -> Any:
    from zembrik.core.start.propose import propose  # see `app._warm_up`

    return propose(Setup.model_validate_json(document), StoredAssets(places), way, frames)


def _plain(setup: Setup) -> str:
    return setup.model_dump_json(by_alias=True, exclude_unset=True)


@router.get("/shots/{shot_id}/overlaps")
def overlaps(request: Request, db: Db, places: Places, shot_id: int, body: str = "") -> Response:
    """Return the overlapping pairs at the start, deepest first, and the ways out."""
    from zembrik.core.start.propose import WAYS  # see `app._warm_up`

    with db.session() as session:
        shot = get_shot(session, shot_id)
        setup, head = head_setup(shot), shot.head
        words: dict[str, Any] = {"shot": shot, "head": head, "ways": WAYS, "most": MOST_ROWS, "body_name": body}
        try:
            rows = _rows(_plain(setup), places)
        except Problem as problem:
            return HTMLResponse(f'<p class="note">{problem.what}</p>')
        rigid = {b.name for b in setup.bodies if b.role == "rigid"}
        still = {b.name for b in setup.bodies if b.role == "collider" and b.motion is None}
        words["rows"] = rows
        words["open"] = [
            way for way in WAYS
            if (any(r.other in still for r in rows) if way == "ease in" else any(r.one in rigid for r in rows))
        ]  # fmt: skip
        words["rigid"] = bool(rigid)
        return templates.TemplateResponse(request, "overlaps.html", words)


@router.get("/shots/{shot_id}/way")
def preview(
    request: Request, db: Db, places: Places, shot_id: int, way: str, frames: int = 12, body: str = ""
) -> Response:
    """Return what a way out would change; nothing is changed yet."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        proposal = _proposal(_plain(head_setup(shot)), places, way, frames)
        words = {"shot": shot, "head": shot.head, "proposal": proposal, "frames": frames, "body_name": body}
        return templates.TemplateResponse(request, "proposal.html", words)


@router.post("/shots/{shot_id}/way")
def apply_way(
    request: Request, db: Db, places: Places, shot_id: int, base: Whole, way: Text, frames: Whole = 12,
    station: Text = "start", body: Text = "",
) -> Response:  # fmt: skip
    """Apply a way out as a revision."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        if shot.head is None or shot.head.number != base:
            raise Problem("the setup has changed since this was worked out.", "start", "Look at the overlaps again.")
        patch: Patch = _proposal(_plain(head_setup(shot)), places, way, frames).patch
    return apply_patch(request, db, places, shot_id, base, patch, way, station, body)


@router.get("/shots/{shot_id}/probe")
def probe(db: Db, places: Places, shot_id: int) -> Response:
    """Return what the overlaps alone would do."""
    from zembrik.core.start.propose import probe_start  # see `app._warm_up`

    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
    return HTMLResponse(f'<p class="note">{probe_start(setup, StoredAssets(places))}</p>')


@router.post("/shots/{shot_id}/copies")
def add_copies(
    request: Request, db: Db, places: Places, shot_id: int, base: Whole, number: Whole, nx: Text, ny: Text, nz: Text,
    sx: Text, sy: Text, sz: Text, turn: Text, low: Text, high: Text, seed: Text, station: Text = "start",
    body: Text = "",
) -> Response:  # fmt: skip
    """Put copies of a body beside it."""
    from zembrik.core.start.copies import copies_of

    def whole(name: str, text: str) -> int:
        value = from_shown(name, text)
        if value != int(value):
            raise Problem(f"{name}: '{text[:20]}' is no whole number.", "copies", "Type one, as in 5.")
        return int(value)

    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        setup = parse_setup(head.document)
        if not 0 <= number < len(setup.bodies):
            raise Problem("there is no such body.", "copies", "Load the page again.")
        held = head.document["bodies"][number]
        counts = (whole("copies", nx), whole("copies", ny), whole("copies", nz))
        steps = (from_shown("step", sx), from_shown("step", sy), from_shown("step", sz))
        sizes = (from_shown("size", low), from_shown("size", high))
        made = copies_of(held, counts, steps, from_shown("turn", turn), *sizes, whole("seed", seed),
                         {b.name for b in setup.bodies})  # fmt: skip
    patch: Patch = [{"op": "add", "path": "/bodies/-", "value": b} for b in made]
    return apply_patch(request, db, places, shot_id, base, patch, f"{len(made)} copies of {body}", station, body)
