"""Bakes, caches and the queue, for scripts."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import Response

from zembrik.core.cache.reader import Cache
from zembrik.library.bakes import (
    ask_stop,
    bakes_of,
    cache_path,
    discard,
    get_bake,
    queue_bake,
    queue_show,
    retry,
)
from zembrik.library.caches import (
    approve,
    ask_of_cache,
    delete_trashed,
    disapprove,
    find_caches,
    take_back,
    trash,
)
from zembrik.library.errands import ask, get_errand
from zembrik.library.errands import ask_stop as ask_stop_errand
from zembrik.library.placing import placed_bodies, players
from zembrik.library.queue_view import first_in_line, other_work, waiting_bakes, workers
from zembrik.library.shots import edit, get_shot, head_setup
from zembrik.web.api.answers import REFUSED, bake_out, delivery_out, errand_out
from zembrik.web.api.models import (
    BakeOut,
    CacheOut,
    CachesOut,
    ErrandOut,
    HandInIn,
    PlaceIn,
    QueueOut,
    ToldOut,
)
from zembrik.web.fields import Asked, Id
from zembrik.web.render import Db, Places

router = APIRouter(prefix="/api", tags=["bakes and caches"], responses=REFUSED)


@router.get("/shots/{shot_id}/bakes")
def list_bakes(db: Db, places: Places, shot_id: Id) -> list[BakeOut]:
    """List a shot's bakes, and the caches that were handed in for it, the newest first."""
    with db.session() as session:
        get_shot(session, shot_id)
        return [bake_out(places, b) for b in bakes_of(session, shot_id)]


@router.post("/shots/{shot_id}/bakes")
def queue_shot(request: Request, db: Db, places: Places, shot_id: Id) -> BakeOut:
    """Put a shot's setup as it stands into the queue; one that was stopped goes on."""
    with db.session() as session:
        bake = queue_bake(session, shot_id)
        session.flush()
        answer = bake_out(places, bake)
    return answer


@router.post("/shows/{show_id}/bakes")
def queue_all(request: Request, db: Db, places: Places, show_id: Id, stale_only: bool = False) -> list[BakeOut]:
    """Put all shots of a show into the queue that are not true, or the stale ones alone."""
    with db.session() as session:
        made = queue_show(session, show_id, stale_only)
        session.flush()
        answers = [bake_out(places, b) for b in made]
    return answers


@router.get("/bakes/{bake_id}")
def show_bake(db: Db, places: Places, bake_id: Id) -> BakeOut:
    """Return a bake and its cache."""
    with db.session() as session:
        return bake_out(places, get_bake(session, bake_id))


@router.post("/bakes/{bake_id}/stop")
def stop_bake(db: Db, places: Places, bake_id: Id) -> BakeOut:
    """Stop a bake after the frame it is on; its frames are kept."""
    with db.session() as session:
        return bake_out(places, ask_stop(session, bake_id))


@router.post("/bakes/{bake_id}/retry")
def retry_bake(request: Request, db: Db, places: Places, bake_id: Id) -> BakeOut:
    """Put a bake that failed into the queue again."""
    with db.session() as session:
        answer = bake_out(places, retry(session, bake_id))
    return answer


@router.post("/bakes/{bake_id}/first")
def bake_first(db: Db, places: Places, bake_id: Id) -> BakeOut:
    """Let a waiting bake be the next one."""
    with db.session() as session:
        first_in_line(session, bake_id)
        return bake_out(places, get_bake(session, bake_id))


@router.delete("/bakes/{bake_id}")
def discard_bake(db: Db, places: Places, bake_id: Id) -> None:
    """Take a bake and its cache away for good. Refused where it is approved, played or being delivered."""
    with db.session() as session:
        discard(session, places, bake_id)


@router.get("/bakes/{bake_id}/figures")
def bake_figures(db: Db, places: Places, bake_id: Id) -> dict[str, list[float]]:
    """Return what was measured at every committed frame, SI units; of a cache that was handed in, nothing."""
    from zembrik.core.cache.layout import FIGURES

    with db.session() as session:
        cache = Cache(cache_path(places, get_bake(session, bake_id)))
    if cache.foreign is not None:
        return {}
    return {name.partition("/")[2]: [float(v) for v in cache.figure(name)] for name in FIGURES}


@router.get(
    "/bakes/{bake_id}/points",
    response_class=Response,
    responses={200: {"content": {"application/octet-stream": {}}, "description": "float32 x y z, little-endian"}},
)
def bake_points(db: Db, places: Places, bake_id: Id, body: str, frame: Asked) -> Response:
    """Return a body's points at a frame as raw float32 (n, 3), metres, Y up."""
    with db.session() as session:
        cache = Cache(cache_path(places, get_bake(session, bake_id)))
    return Response(cache.points(cache.body_number(body), frame).tobytes(), media_type="application/octet-stream")


@router.get("/caches")
def search_caches(db: Db, words: str = "", state: str = "", sort: str = "newest") -> CachesOut:
    """Search the caches of all shows.

    `state`: one of true, stale, partial, trial, foreign, failed, active, damaged, trash, approved, unused; `sort`: one
    of newest, largest, shot, frames.
    """
    with db.session() as session:
        rows, count, size = find_caches(session, words, state, sort)
        played = players(session)
    caches = []
    for row in rows:
        plain = {name: getattr(row, name) for name in CacheOut.model_fields if name != "played_in"}
        caches.append(CacheOut(**plain, played_in=[p.code for p in played.get(row.folder, [])]))
    return CachesOut(count=count, bytes=size, caches=caches)


@router.post("/caches/{bake_id}/approve")
def approve_cache(db: Db, places: Places, bake_id: Id) -> BakeOut:
    """Approve a cache: nothing changes or deletes it from then on, by any way."""
    with db.session() as session:
        approve(session, places, bake_id)
        return bake_out(places, get_bake(session, bake_id))


@router.post("/caches/{bake_id}/disapprove")
def disapprove_cache(db: Db, places: Places, bake_id: Id) -> BakeOut:
    """Take an approval back."""
    with db.session() as session:
        disapprove(session, places, bake_id)
        return bake_out(places, get_bake(session, bake_id))


@router.post("/caches/{bake_id}/trash")
def trash_cache(db: Db, bake_id: Id) -> None:
    """Put a cache into the trash."""
    with db.session() as session:
        trash(session, bake_id)


@router.post("/caches/{bake_id}/take-back")
def take_cache_back(db: Db, places: Places, bake_id: Id) -> BakeOut:
    """Take a cache out of the trash."""
    with db.session() as session:
        take_back(session, bake_id)
        session.flush()
        return bake_out(places, get_bake(session, bake_id))


@router.delete("/caches/{bake_id}")
def delete_cache(db: Db, places: Places, bake_id: Id) -> None:
    """Delete a cache that is in the trash for good."""
    with db.session() as session:
        delete_trashed(session, places, bake_id)


@router.post("/caches/{bake_id}/verify")
def verify_cache(request: Request, db: Db, bake_id: Id) -> ErrandOut:
    """Have every frame of a cache read against its checksum."""
    with db.session() as session:
        errand = ask_of_cache(session, bake_id, "verify")
        answer = errand_out(errand)
    return answer


@router.post("/caches/{bake_id}/rebake")
def rebake_cache(request: Request, db: Db, bake_id: Id) -> ErrandOut:
    """Have the damaged frames of a cache baked again, and nothing else of it."""
    with db.session() as session:
        errand = ask_of_cache(session, bake_id, "rebake")
        answer = errand_out(errand)
    return answer


@router.post("/shots/{shot_id}/caches")
def hand_in_cache(request: Request, db: Db, shot_id: Id, order: HandInIn) -> ErrandOut:
    """Have chosen parts of a stored file kept as a cache of this shot."""
    with db.session() as session:
        get_shot(session, shot_id)
        plain = order.model_dump(mode="json")
        plain["label"] = order.label or order.reference.partition("/")[2]
        errand = ask(session, shot_id, "hand in", plain, again=True)
        answer = errand_out(errand)
    return answer


@router.post("/shots/{shot_id}/placements")
def place_cache(db: Db, places: Places, shot_id: Id, order: PlaceIn) -> ToldOut:
    """Let a shot play a cache of any shot of any show, some way off in time and space; nothing is copied."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        assert shot.head is not None
        taken = {b.name for b in head_setup(shot).bodies}
        bodies = placed_bodies(
            session, places, order.bake, order.bodies, order.role, order.starts, order.offset_m, order.turn_deg, taken
        )
        patch = [{"op": "add", "path": "/bodies/-", "value": b} for b in bodies]
        made = edit(session, shot_id, shot.head.number, patch, f"placed cache {order.bake}")
        return ToldOut(revision=made.number, told=", ".join(b["name"] for b in bodies))


@router.get("/queue")
def show_queue(db: Db, places: Places) -> QueueOut:
    """Return what the workers do and what waits."""
    with db.session() as session:
        deliveries, errands = other_work(session)
        return QueueOut(
            workers=len(workers(session)), bakes=[bake_out(places, w.bake) for w in waiting_bakes(session, places)],
            deliveries=[delivery_out(d) for d in deliveries], errands=[errand_out(e) for e in errands],
        )  # fmt: skip


@router.get("/errands/{number}")
def show_errand(db: Db, number: Id) -> ErrandOut:
    """Return how far an errand is, or what it found."""
    with db.session() as session:
        return errand_out(get_errand(session, number))


@router.post("/errands/{number}/stop")
def stop_errand(db: Db, number: Id) -> ErrandOut:
    """Stop an errand; nothing was changed by it."""
    with db.session() as session:
        return errand_out(ask_stop_errand(session, number))
