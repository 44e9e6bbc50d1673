"""Looking at results: marked frames, and any caches of a shot side by side."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Annotated

from fastapi import APIRouter, Query, Request
from fastapi.responses import JSONResponse, Response

from zembrik.core.problem import Problem
from zembrik.library.bakes import bakes_of
from zembrik.library.shots import get_shot, mark_frame
from zembrik.web.fields import Asked, Id, Whole
from zembrik.web.pages.trial_words import rows_of
from zembrik.web.render import Db, Places, templates

router = APIRouter()
MOST = 12  # caches side by side


@router.post("/shots/{shot_id}/marks")
def mark(db: Db, shot_id: Id, frame: Whole) -> Response:
    """Mark a frame of a shot, or take its mark away; return all that are marked."""
    with db.session() as session:
        return JSONResponse(mark_frame(session, shot_id, frame))


@router.get("/shots/{shot_id}/compare")
def compare(
    request: Request, db: Db, places: Places, shot_id: Id, bake: Annotated[list[int], Query()], against: Asked = 0
) -> Response:
    """Show some caches of a shot side by side, by one clock; with `against`, how far the others are from that one."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        chosen = [b for b in bakes_of(session, shot_id) if b.id in bake and b.cache is not None]
        if not chosen or len(chosen) > MOST:
            raise Problem(f"there are {len(chosen)} of these caches.", "compare", f"Choose 1 to {MOST} on Review.")
        sheet = SimpleNamespace(
            id=0, title="side by side", kind="compare", chosen_id=against or None, revision=shot.head
        )
        rows = rows_of(places, against, chosen)
        for row in rows:
            row["label"] = row["bake"].label or f"revision {row['bake'].revision.number}"
        words = {
            "sheet": sheet, "shot": shot, "rows": rows, "busy": False, "fps": chosen[0].document.get("fps", 24),
            "frames": (min(b.first for b in chosen), max(b.last for b in chosen)),
            "query": "&".join(f"bake={b.id}" for b in chosen),
        }  # fmt: skip
        return templates.TemplateResponse(request, "trials.html", words)
