"""Figures of every point at a frame, for the viewport's colours and their scale."""

from __future__ import annotations

import json
from functools import lru_cache
from pathlib import Path
from threading import Lock
from typing import TYPE_CHECKING

from fastapi import APIRouter
from fastapi.responses import Response

from zembrik.core.cache.reader import Cache
from zembrik.core.cache.shown import shown_values
from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.library.bakes import cache_path, get_bake
from zembrik.library.settings import Settings
from zembrik.library.store import StoredAssets
from zembrik.web.fields import Asked, Id
from zembrik.web.render import Db, Places
from zembrik.web.streams.pack import Pack

if TYPE_CHECKING:
    from zembrik.core.review.point_values import Seen
    from zembrik.core.solver.world import World

router = APIRouter()


@router.get("/bakes/{bake_id}/colours.bin")
def colours(db: Db, places: Places, bake_id: Id, what: str, frame: Asked, other: Asked = 0) -> Response:
    """Return a value for every point of every body at a frame, with the top of the scale, in the unit it is shown in.

    With `what` being "apart" it is the distance to another bake.
    """
    from zembrik.core.review.point_values import KINDS, apart_at, values_at  # see `app._warm_up`

    with db.session() as session:
        bake = get_bake(session, bake_id)
        cache, document = Cache(cache_path(places, bake)), json.dumps(bake.document)
        against = Cache(cache_path(places, get_bake(session, other))) if what == "apart" else None
    for one in (cache, against):
        if one is not None and (one.done is None or not one.first <= frame <= one.done):
            raise Problem(f"there is no frame {frame} in the cache.", "colours", "It may not be baked yet.")
    if against is not None:
        values, (label, unit, factor) = apart_at(cache, against, frame), ("apart", "mm", 1000.0)
        top = _top_apart(str(cache.path), cache.done or 0, str(against.path), against.done or 0)
    else:
        if what not in KINDS:
            raise Problem(f"there is no figure '{what[:40]}'.", "colours", f"There are {', '.join(KINDS)}.")
        if cache.foreign is not None:
            raise Problem("the cache was handed in; nothing was computed of it.", "colours", "Lay it over another.")
        seen = _seen(str(cache.path), document, places)
        if what == "penetration":
            alone, world = _world(str(cache.path), document, places)
            with alone:  # it is moved to the frame: whoever asks for another one waits
                values = values_at(seen, what, frame, world)
        else:
            values = values_at(seen, what, frame)
        label, unit, factor = KINDS[what]
        top = _top(str(cache.path), cache.done or 0, document, places, what)
    pack = Pack()
    bodies = [
        {"name": name, "values": pack.add(shown_values(cache, number, frame, v) * factor, "<f4")}
        for number, (name, v) in enumerate(zip(cache.names, values, strict=True))
    ]
    head = {"bodies": bodies, "what": label, "unit": unit, "top": top * factor, "frame": frame}
    return Response(pack.bytes(head), media_type="application/octet-stream")


def _seen(path: str, document: str, places: Settings) -> Seen:
    from zembrik.core.review.point_values import Seen  # see `app._warm_up`

    return Seen(Cache(Path(path)), parse_setup(json.loads(document)), StoredAssets(places))


@lru_cache(maxsize=4)
def _world(path: str, document: str, places: Settings) -> tuple[Lock, World]:
    from zembrik.core.solver.build import build_world  # see `app._warm_up`

    seen = _seen(path, document, places)
    return Lock(), build_world(seen.setup, seen.assets)


@lru_cache(maxsize=256)
def _top(path: str, done: int, document: str, places: Settings, what: str) -> float:
    from zembrik.core.review.point_values import largest  # see `app._warm_up`

    return largest(_seen(path, document, places), what)


@lru_cache(maxsize=256)
def _top_apart(path: str, done: int, other: str, other_done: int) -> float:
    from zembrik.core.trials.figures import apart  # see `app._warm_up`

    found = apart(Cache(Path(path)), Cache(Path(other)))
    return found.most_m if found else 0.0
