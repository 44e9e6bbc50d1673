"""Edits of handovers."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response

from zembrik.core.problem import Problem
from zembrik.core.setup.shown import seen_in
from zembrik.library.handovers import handover_patch, take_over_patch
from zembrik.library.shots import Patch, get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.web.fields import Id, Text, Whole
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places

router = APIRouter()


@router.post("/shots/{shot_id}/handover")
def set_handover(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, which: Whole = -1,
    at: Text = "", back: Text = "", over: Text = "", role: Text = "", off: Whole = 0, station: Text = "motion",
    body: Text = "",
) -> Response:  # fmt: skip
    """Hand a body over at a frame, change that, or with `off` take it away; `which` is -1 for a new one."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        assert shot.head is not None
        document, setup = shot.head.document, head_setup(shot)
    values: dict[str, Any] | None = None
    if not off:
        values = {"at": _frame("Handed over at", at)}
        values["back"] = _frame("taken back at", back) if back.strip() else None
        if over.strip():
            values["over"] = _frame("drawn back over", over)
    patch = handover_patch(setup, document, number, None if which < 0 else which, values, role)
    note = f"handed over at frame {values['at']}" if values else "a handover taken away"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, body)


@router.post("/shots/{shot_id}/take-over")
def take_over(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, source: Text, at: Text = "",
    station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Let a body take over from another that moves, at a frame."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        assert shot.head is not None
        document, setup = shot.head.document, head_setup(shot)
    other = next((k for k, b in enumerate(setup.bodies) if b.name == source), -1)
    frame = _frame("takes over at", at)
    patch, told = take_over_patch(setup, document, number, other, frame, StoredAssets(places))
    note = f"takes over from {source} at frame {frame}"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, body, told)


@router.post("/shots/{shot_id}/seen")
def set_seen(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, spans: Text = "",
    station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Set at which frames a body is seen, as typed spans; nothing is always."""
    seen = seen_in(spans)
    path = f"/bodies/{number}/shown"
    with db.session() as session:
        shot = get_shot(session, shot_id)
        assert shot.head is not None
        bodies = shot.head.document["bodies"]
        had = number < len(bodies) and "shown" in bodies[number]
    patch: Patch = [{"op": "add", "path": path, "value": seen}] if seen else []
    if not seen and had:
        patch = [{"op": "remove", "path": path}]
    return apply_patch(request, db, places, shot_id, base, patch, f"seen {spans.strip() or 'always'}", station, body)


def _frame(what: str, text: str) -> int:
    try:
        return int(text.strip())
    except ValueError:
        raise Problem(f"'{text.strip()[:30]}' is no whole number of frames.", what, "Type one, such as 24.") from None
