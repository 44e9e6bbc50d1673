"""The Start station's tools: what overlaps, the ways out, a probe, copies."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response

from zembrik.core.cache.reader import Cache
from zembrik.core.problem import Problem
from zembrik.core.remember import Aside
from zembrik.core.setup.assets import placed_mesh
from zembrik.core.setup.document import Setup, parse_setup
from zembrik.core.start.keep import kept_start, rest_frame
from zembrik.library.bakes import progress_of, shown_bake
from zembrik.library.intake import kept_forms
from zembrik.library.settings import Settings
from zembrik.library.shots import Patch, get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.web.dials import from_shown
from zembrik.web.fields import Id, Text, Whole
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places, templates

router = APIRouter()
MOST_ROWS = 6
MOST_DRAWN = 2000  # pairs that are drawn in the viewport


@lru_cache(maxsize=32)
def _rows(document: str, places: Settings) -> Any:
    from zembrik.core.start.propose import overlaps_of  # see `app._warm_up`

    return overlaps_of(Setup.model_validate_json(document), StoredAssets(places))


def _plain(setup: Setup) -> str:
    return setup.model_dump_json(by_alias=True, exclude_unset=True)


@router.get("/shots/{shot_id}/overlaps")
def overlaps(request: Request, db: Db, places: Places, shot_id: Id, body: str = "") -> Response:
    """Return the overlapping pairs at the start, deepest first, and the ways out."""
    from zembrik.core.start.propose import WAYS  # see `app._warm_up`

    with db.session() as session:
        shot = get_shot(session, shot_id)
        setup, head = head_setup(shot), shot.head
        words: dict[str, Any] = {"shot": shot, "head": head, "ways": WAYS, "most": MOST_ROWS, "body_name": body}
        try:
            rows = _rows(_plain(setup), places)
        except Problem as problem:
            return templates.TemplateResponse(request, "line.html", {"line": problem.what})
        rigid = {b.name for b in setup.bodies if b.role == "rigid"}
        still = {b.name for b in setup.bodies if b.role == "collider" and b.motion is None}
        words["rows"] = rows
        words["pairs"] = [{"at": r.at, "depth_m": r.depth_m} for r in rows[:MOST_DRAWN]]
        words["open"] = [
            way for way in WAYS
            if (any(r.other in still for r in rows) if way == "ease in" else any(r.one in rigid for r in rows))
        ]  # fmt: skip
        words["rigid"] = bool(rigid)
        return templates.TemplateResponse(request, "overlaps.html", words)


@router.post("/shots/{shot_id}/copies")
def add_copies(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, nx: Text, ny: Text, nz: Text,
    sx: Text, sy: Text, sz: Text, turn: Text, low: Text, high: Text, seed: Text, station: Text = "start",
    body: Text = "",
) -> Response:  # fmt: skip
    """Put copies of a body beside it."""
    from zembrik.core.start.copies import copies_of  # see `app._warm_up`

    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        setup = parse_setup(head.document)
        if not 0 <= number < len(setup.bodies):
            raise Problem("there is no such body.", "copies", "Load the page again.")
        held = head.document["bodies"][number]
        counts = (_whole("copies", nx), _whole("copies", ny), _whole("copies", nz))
        steps = (from_shown("step", sx), from_shown("step", sy), from_shown("step", sz))
        sizes = (from_shown("size", low), from_shown("size", high))
        made = copies_of(held, counts, steps, from_shown("turn", turn), *sizes, _whole("seed", seed),
                         {b.name for b in setup.bodies})  # fmt: skip
    patch: Patch = [{"op": "add", "path": "/bodies/-", "value": b} for b in made]
    return apply_patch(request, db, places, shot_id, base, patch, f"{len(made)} copies of {body}", station, body)


@router.post("/shots/{shot_id}/fill")
def fill(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, volume: Text, count: Text,
    turn: Text, low: Text, high: Text, seed: Text, station: Text = "start", body: Text = "",
) -> Response:  # fmt: skip
    """Fill the inside of another body with copies."""
    from zembrik.core.start.copies import copies_inside  # see `app._warm_up`

    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        setup = parse_setup(head.document)
        other = next((b for b in setup.bodies if b.name == volume), None)
        if not 0 <= number < len(setup.bodies) or other is None:
            raise Problem("there is no such body.", "copies", "Load the page again.")
        made = copies_inside(
            head.document["bodies"][number], _whole("copies", count), placed_mesh(other, StoredAssets(places)),
            from_shown("turn", turn), from_shown("size", low), from_shown("size", high), _whole("seed", seed),
            {b.name for b in setup.bodies},
        )  # fmt: skip
    patch: Patch = [{"op": "add", "path": "/bodies/-", "value": b} for b in made]
    words = f"{len(made)} copies of {body} in {volume}"
    return apply_patch(request, db, places, shot_id, base, patch, words, station, body)


def _whole(name: str, text: str) -> int:
    value = from_shown(name, text)
    if value != int(value):
        raise Problem(f"{name}: '{text[:20]}' is no whole number.", "copies", "Type one, as in 5.")
    return int(value)


@router.get("/shots/{shot_id}/rest")
def rest(request: Request, db: Db, places: Places, shot_id: Id, body: str = "") -> Response:
    """Return whether the shown bake comes to rest, and from which frame on."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        bake = shown_bake(session, shot_id)
        cache = progress_of(places, bake)[1] if bake else None
        words: dict[str, Any] = {
            "shot": shot,
            "head": shot.head,
            "bake": bake,
            "cache": cache,
            "body_name": body,
            "frame": None,
        }
        if cache is not None and cache.done is not None:
            words["frame"] = _rest_frame(str(cache.path), cache.done, Aside(cache))
        return templates.TemplateResponse(request, "rest.html", words)


@lru_cache(maxsize=64)
def _rest_frame(path: str, done: int, opened: Aside[Cache]) -> int | None:
    return rest_frame(opened.value)


@router.post("/shots/{shot_id}/keep-start")
def keep_start(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, frame: Text, station: Text = "start",
    body: Text = "",
) -> Response:  # fmt: skip
    """Let the shot begin as it is at a frame of the shown bake."""
    at = from_shown("frame", frame)
    with db.session() as session:
        bake = shown_bake(session, shot_id)
        cache = progress_of(places, bake)[1] if bake else None
        if cache is None or cache.done is None:
            raise Problem("there is no bake to take a start from.", "start", "Bake the shot first.")
        if at != int(at) or not cache.first <= at <= cache.done:
            raise Problem(
                f"frame '{frame[:20]}' is not in the bake.", "start", f"It has {cache.first} to {cache.done}."
            )
        setup = head_setup(get_shot(session, shot_id))
        kept = kept_start(setup, cache, int(at))
        patch: Patch = kept.patch + kept_forms(session, places, setup, kept)
    return apply_patch(request, db, places, shot_id, base, patch, kept.words, station, body)
