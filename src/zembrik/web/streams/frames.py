"""Frames of a cache as bytes, a run of them at once, while the bake still goes on."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import Response

from zembrik.core.cache.reader import Cache
from zembrik.core.problem import Problem
from zembrik.library.bakes import cache_path, get_bake
from zembrik.web.render import Db, Places

router = APIRouter()
MOST_BYTES = 24_000_000


@router.get("/bakes/{bake_id}/frames.bin")
def frames(db: Db, places: Places, bake_id: int, first: int, count: int = 1) -> Response:
    """Return up to `count` frames from `first` on: each all bodies' points as float32, one after the other.

    The header X-Frames says how many came: as many as are committed and fit the answer.
    """
    if count < 1:
        raise Problem("at least one frame must be asked for.", "frames")
    with db.session() as session:
        cache = Cache(cache_path(places, get_bake(session, bake_id)))
    if cache.done is None or not cache.first <= first <= cache.done:
        raise Problem(f"there is no frame {first} in the cache.", "frames", "It may not be baked yet.")
    fits = max(1, MOST_BYTES // max(12 * sum(cache.point_counts), 1))
    last = min(first + min(count, fits) - 1, cache.done)
    parts = [
        cache.points(number, frame).tobytes()
        for frame in range(first, last + 1)
        for number in range(len(cache.point_counts))
    ]
    headers = {"X-Frames": str(last - first + 1), "Cache-Control": "private, max-age=3600"}
    return Response(b"".join(parts), media_type="application/octet-stream", headers=headers)
