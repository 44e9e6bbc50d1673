"""What the ribbon shows: how far the bake is and its figures, frame by frame."""

from __future__ import annotations

from typing import Any

import numpy as np
from fastapi import APIRouter
from sqlalchemy import func, select

from zembrik.core.solver.figures import STATS
from zembrik.library.bakes import ACTIVE, USUAL_FRAMES, get_bake, progress_of, shown_bake, stale_reasons
from zembrik.library.database import Database
from zembrik.library.deliveries import deliveries_of
from zembrik.library.models import Bake, Delivery
from zembrik.library.settings import Settings
from zembrik.library.shots import get_shot
from zembrik.web.fields import Asked, Id
from zembrik.web.outcome import outcome_of
from zembrik.web.render import Db, Places

router = APIRouter()


@router.get("/shots/{shot_id}/status.json")
def status(db: Db, shot_id: Id, have: Asked = 0, bake: Asked = 0) -> dict[str, Any]:
    """Return the state of the shot's shown bake; figures only of frames after the `have` known of `bake`."""
    return status_of(db, shot_id, have, bake)


def status_of(db: Database, shot_id: int, have: int = 0, bake: int = 0) -> dict[str, Any]:
    """Return the same without a request."""
    with db.session() as session:
        places = db.settings
        shot = get_shot(session, shot_id)
        head = shot.head
        assert head is not None
        shown = shown_bake(session, shot_id)
        queue = session.scalar(select(func.count(Bake.id)).where(Bake.state.in_(ACTIVE)))
        document: dict[str, Any] = {
            "revision": head.number,
            "frames": head.document.get("frames", USUAL_FRAMES),
            "fps": head.document.get("fps", 24),
            "queue": queue,
            "work": work_of(shown, deliveries_of(session, shot_id)),
            "bake": None,
        }
        if shown is None:
            return document
        document["bake"] = {
            "id": shown.id,
            "state": shown.state,
            "first": shown.first,
            "last": shown.last,
            "error": shown.error,
            "stale": stale_reasons(shown, head),
            "wrong": _wrong_from(places, shown),
            **_so_far(places, shown, have if bake == shown.id else 0),
        }
        return document


def status_grown(db: Database, before: dict[str, Any]) -> dict[str, Any]:
    """Return a status of which only the frames of its bake are more since: a third of the work, for all open pages."""
    bake = before["bake"]
    with db.session() as session:
        shown = get_bake(session, bake["id"])
        return {**before, "bake": {**bake, **_so_far(db.settings, shown, bake["done"])}}


def _so_far(places: Settings, shown: Bake, known: int) -> dict[str, Any]:
    """Return how far a bake is, with its figures after the frames that are known."""
    progress, cache = progress_of(places, shown)
    figures: dict[str, Any] = {}
    if cache is not None:
        for name, (_, factor, _) in STATS.items():
            figures[name] = _plain(cache.figure(f"stats/{name}")[known:] * factor)
        figures["seconds"] = _plain(cache.figure("timing/seconds")[known:] * 1000)
    return {"done": progress.done, "left_s": progress.left_s, "known": known, "figures": figures}


def work_of(shown: Bake | None, deliveries: list[Delivery]) -> dict[str, str]:
    """Return how the bake shown and the files being written stand: a panel that was drawn by another is old."""
    return {
        "bake": "" if shown is None else f"{shown.id} {shown.state}",
        "files": " ".join(f"{d.id}:{d.state}:{d.frames_done}:{d.stop_asked}" for d in deliveries),
    }


def _wrong_from(places: Settings, bake: Bake) -> int | None:
    """Return the frame from which on a bake is not to be trusted; while it goes on it is not asked at every moment."""
    if bake.state in ACTIVE:
        return None
    return min((f.frame for f in outcome_of(places, bake, []) if f.frame is not None), default=None)


@router.get("/bakes/{bake_id}/figures.json")
def figures(db: Db, places: Places, bake_id: Id) -> dict[str, Any]:
    """Return a bake's figures, frame by frame, in the units they are shown in."""
    with db.session() as session:
        bake = get_bake(session, bake_id)
        cache = progress_of(places, bake)[1]
    told: dict[str, Any] = {"first": bake.first, "last": bake.last, "done": 0, "figures": {}}
    if cache is not None:
        told["done"] = cache.frame_count
        for name, (_, factor, _) in STATS.items():
            told["figures"][name] = _plain(cache.figure(f"stats/{name}") * factor)
        told["figures"]["seconds"] = _plain(cache.figure("timing/seconds") * 1000)
    return told


def _plain(values: np.ndarray) -> list[float]:
    return [float(f"{v:.5g}") if abs(v) > 1e-9 else 0.0 for v in values.tolist()]  # rounding noise is nothing
