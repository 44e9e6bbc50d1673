"""Bakes on record: queueing, stopping, discarding, what is true and what is stale."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from sqlalchemy import Select, and_, cast, func, or_, select
from sqlalchemy.dialects.postgresql import JSONPATH, distinct_on
from sqlalchemy.orm import Session, contains_eager, joinedload

from zembrik.core.cache.reader import Cache
from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup, parse_setup
from zembrik.core.setup.materials import SIMULATED
from zembrik.library.changes import differences
from zembrik.library.models import Bake, CacheRecord, Delivery, Revision, Shot
from zembrik.library.queue import BAKE, enqueue
from zembrik.library.removal import remove_after_commit, removed
from zembrik.library.settings import Settings
from zembrik.library.shots import get_shot

ACTIVE = ("queued", "running")
GONE = ("discarded", "trashed")
OF_SHOT = or_(Bake.sheet_id.is_(None), Bake.adopted)  # trials are looked at on their sheet
USUAL_FRAMES = Setup.model_fields["frames"].default


def queue_bake(session: Session, shot_id: int) -> Bake:
    """Put the shot's setup, as it stands, into the queue.

    A bake of the same setup that was stopped half way is continued instead.

    Raises:
        Problem: when nothing is simulated, or the same setup is being baked or is done already.
    """
    bake = _bake_to_do(session, get_shot(session, shot_id, lock=True))
    if bake.state == "queued":
        enqueue(session, BAKE, bake.id)
    return bake


def _bake_to_do(session: Session, shot: Shot) -> Bake:
    assert shot.head is not None
    shot_id, setup = shot.id, parse_setup(shot.head.document)
    if not any(b.role in SIMULATED for b in setup.bodies):
        raise Problem("no body is simulated.", "bake", "Give a body the role cloth, soft or rigid on Intake.")
    first, last = setup.frames
    same = select(Bake).where(Bake.shot_id == shot_id, Bake.setup_hash == shot.head.setup_hash)
    for bake in session.scalars(same.where(Bake.state.in_([*ACTIVE, "done", "stopped"])).order_by(Bake.id.desc())):
        if bake.state in ACTIVE and (bake.sheet_id is None or bake.adopted):
            raise Problem("this setup is being baked already.", "bake", "Wait for it, or stop it.")
        if bake.state in ACTIVE:
            continue  # a trial at work; it can be adopted when it is done
        held = bake.cache.done if bake.cache else None
        if held is not None and held >= last:
            if bake.sheet_id is not None and not bake.adopted:
                bake.adopted = True
                return bake
            raise Problem("this setup is baked already, and its cache is true.", "bake", "Change a value first.")
        if bake.cache is not None and bake.cache.approved is not None:
            continue  # it stays as it is; the longer one is a bake of its own
        bake.state, bake.stop_asked, bake.error, bake.ended = "queued", False, "", None
        bake.last = max(last, bake.last)
        if bake.sheet_id is None:
            bake.revision_id = shot.head.id
        bake.adopted = bake.sheet_id is not None  # a trial of just these values
        return bake
    return new_bake(session, shot_id, shot.head.id, shot.head.setup_hash, (first, last))


def queue_show(session: Session, show_id: int, stale_only: bool) -> list[Bake]:
    """Put all shots of a show into the queue that are not true, or only those that were baked and are stale.

    What cannot be baked, as it simulates nothing, is left out; what is queued already stays as it is.
    """
    made = []
    for shot, shown in board(session, show_id):
        if shown is not None and shown.setup_hash == shot.setup_hash and shown.state in ACTIVE:
            continue
        stale = shown is not None and shown.done is not None and shown.setup_hash != shot.setup_hash
        if stale_only and not stale:
            continue
        try:
            bake = queue_bake(session, shot.id)
        except Problem:
            continue  # true already, or nothing to bake
        if bake.state == "queued":
            made.append(bake)
    return made


def new_bake(
    session: Session, shot_id: int, revision_id: int, setup_hash: str, frames: tuple[int, int], **trial: Any
) -> Bake:
    """Put a bake of first to last frame on record with room for its cache; `trial` are the fields that make it one."""
    bake = Bake(shot_id=shot_id, revision_id=revision_id, setup_hash=setup_hash, first=frames[0], last=frames[1])
    bake.state, bake.stop_asked, bake.error = "queued", False, ""
    bake.label, bake.marked, bake.adopted, bake.handed_in = "", False, False, ""
    for name, value in trial.items():
        setattr(bake, name, value)
    session.add(bake)
    session.flush()
    bake.cache = CacheRecord(folder=f"{shot_id:06d}/bake-{bake.id:06d}.zarr", size_bytes=0)
    session.flush()
    return bake


def get_bake(session: Session, bake_id: int, lock: bool = False) -> Bake:
    """Return a bake; raises Problem when there is none or it was discarded."""
    query = select(Bake).where(Bake.id == bake_id)
    bake = session.scalar(query.with_for_update() if lock else query)
    if bake is None or bake.state in GONE:
        raise Problem(f"there is no bake number {bake_id}.", "bake", "It may have been discarded.")
    return bake


def ask_stop(session: Session, bake_id: int) -> Bake:
    """Ask a bake to stop after the frame it is on; its frames are kept."""
    bake = get_bake(session, bake_id, lock=True)
    if bake.state == "queued":
        bake.state, bake.ended = "stopped", _now()
    elif bake.state == "running":
        bake.stop_asked = True
    else:
        raise Problem(f"the bake is {bake.state}; there is nothing to stop.", "bake")
    return bake


def retry(session: Session, bake_id: int) -> Bake:
    """Put a bake that failed into the queue again; it goes on from its last frame."""
    bake = get_bake(session, bake_id, lock=True)
    if bake.state != "failed":
        raise Problem("the bake has not failed.", "queue", "Load the page again.")
    refuse_approved(bake)
    bake.state, bake.error, bake.stop_asked, bake.ended = "queued", "", False, None
    enqueue(session, BAKE, bake.id)
    return bake


def discard(session: Session, settings: Settings, bake_id: int) -> Bake:
    """Take a bake and its cache away."""
    bake = get_bake(session, bake_id, lock=True)
    if bake.state in ACTIVE:
        raise Problem("the bake is still going on.", "bake", "Stop it first.")
    refuse_approved(bake)
    from zembrik.library.placing import refuse_played  # it stands on this

    refuse_played(session, bake)
    if session.scalar(select(Delivery.id).where(Delivery.bake_id == bake.id, Delivery.state.in_(ACTIVE))):
        raise Problem("a delivery is being made from this cache.", "bake", "Wait for it.")
    bake.state = "discarded"
    if bake.cache:
        removed(session, f"bake {bake.id} of {session.get_one(Shot, bake.shot_id).code}, {bake.cache.size_bytes} bytes")
        remove_after_commit(session, settings, bake.cache.folder)
        session.delete(bake.cache)
        session.flush()
    return bake


def refuse_approved(bake: Bake) -> None:
    """Raise a Problem when a bake's cache is approved."""
    if bake.cache is not None and bake.cache.approved is not None:
        raise Problem("the cache is approved, so nothing may change it.", "bake", "Take the approval back on Caches.")


def bakes_of(session: Session, shot_id: int) -> list[Bake]:
    """Return a shot's bakes, the newest first, without the discarded ones and the trials that were not adopted."""
    query = select(Bake).where(Bake.shot_id == shot_id, Bake.state.not_in(GONE), OF_SHOT).order_by(Bake.id.desc())
    return list(session.scalars(query.options(joinedload(Bake.cache), joinedload(Bake.revision))))


def _shown(what: Select[*tuple[Any, ...]]) -> Select[*tuple[Any, ...]]:
    """Choose for each shot the bake to show.

    It is the one of the setup as it stands, one still going on before others; or else the
    newest with frames; or else the newest.
    """
    same = Bake.setup_hash == Revision.setup_hash
    order = (and_(same, Bake.state.in_(ACTIVE)).desc(), same.desc(), CacheRecord.done.is_not(None).desc())
    joined = what.join(Shot, Shot.id == Bake.shot_id).join(Revision, Revision.id == Shot.head_id).outerjoin(Bake.cache)
    ordered = joined.where(Bake.state.not_in(GONE), OF_SHOT, Bake.handed_in == "").order_by(
        Bake.shot_id, *order, Bake.id.desc()
    )
    return ordered.ext(distinct_on(Bake.shot_id))


def shown_bake(session: Session, shot_id: int) -> Bake | None:
    """Return the bake that the shot's page shows."""
    return session.scalar(_shown(select(Bake)).where(Shot.id == shot_id).options(contains_eager(Bake.cache)))


def cache_path(settings: Settings, bake: Bake) -> Path:
    """Return where a bake's cache lies."""
    if bake.cache is None:
        raise Problem("the bake has no cache.", "bake", "It was discarded.")
    return settings.caches / bake.cache.folder


def stale_reasons(bake: Bake, head: Revision) -> list[str]:
    """Return what changed since the bake, or nothing when it is true."""
    if bake.setup_hash == head.setup_hash or bake.handed_in:
        return []
    before, after = ({k: v for k, v in d.items() if k != "groups"} for d in (bake.document, head.document))
    lines = differences(before, after)
    return lines or ["the content of a mesh changed"]


@dataclass(frozen=True)
class Progress:
    """How far a bake is.

    Attributes:
        done: frames committed; total: frames wanted.
        seconds: spent computing them.
        left_s: estimated seconds left, from the last frames; None before the second frame.
    """

    done: int
    total: int
    seconds: float
    left_s: float | None


def progress_of(settings: Settings, bake: Bake) -> tuple[Progress, Cache | None]:
    """Return a bake's progress, read from its cache, and the cache when there is one."""
    total = bake.last - bake.first + 1
    path = settings.caches / bake.cache.folder if bake.cache else None
    if path is None or not (path / "zarr.json").exists():
        return Progress(0, total, 0.0, None), None
    cache = Cache(path)
    spent = cache.figure("timing/seconds")
    recent = spent[1:][-12:]  # the first frame computes nothing
    left = float(np.mean(recent)) * (total - len(spent)) if len(recent) else None
    return Progress(cache.frame_count, total, float(spent.sum()), left if bake.state in ACTIVE else None), cache


class ShownBake(NamedTuple):
    """What the shots board tells of a bake; `done` is its last committed frame."""

    id: int
    state: str
    first: int
    setup_hash: str
    done: int | None


class BoardRow(NamedTuple):
    """What the shots board tells of a shot.

    Attributes:
        revision: the number of its setup as it stands, with that setup's hash.
        frames: first and last wanted; None: as usual. roles: of all bodies.
    """

    id: int
    code: str
    title: str
    revision: int
    setup_hash: str
    frames: tuple[int, int] | None
    roles: list[str]


def board(session: Session, show_id: int) -> list[tuple[BoardRow, ShownBake | None]]:
    """Return a show's shots that are not put away, each with the bake to show.

    Only what the board tells is read, as plain rows: 200 whole documents and 800 objects take 60 ms.
    """
    roles = func.jsonb_path_query_array(Revision.document, cast("$.bodies[*].role", JSONPATH))
    wanted = select(
        Shot.id, Shot.code, Shot.title, Revision.number, Revision.setup_hash, Revision.document["frames"], roles
    )
    mine = wanted.join(Shot.head).where(Shot.show_id == show_id, Shot.archived.is_(None))
    shots = session.execute(mine.order_by(Shot.code))
    told = select(Bake.shot_id, Bake.id, Bake.state, Bake.first, Bake.setup_hash, CacheRecord.done)
    bakes = {row[0]: ShownBake(*row[1:]) for row in session.execute(_shown(told).where(Shot.show_id == show_id))}
    return [(BoardRow(*row), bakes.get(row.id)) for row in shots]


def _now() -> datetime.datetime:
    return datetime.datetime.now(datetime.UTC)


def seconds_a_point(session: Session, settings: Settings, shot_id: int) -> float | None:
    """Return what a frame takes a simulated point, s, as measured: in this shot's newest bake, or else in any.

    None while nothing was baked.
    """
    rows = session.scalars(
        select(Bake)
        .join(Revision)
        .where(Bake.state == "done", Bake.handed_in == "")
        .order_by((Revision.shot_id != shot_id), Bake.id.desc())
        .limit(5)
    )
    for bake in rows:
        try:
            cache = Cache(cache_path(settings, bake))
            seconds, points = cache.figure("timing/seconds")[1:], sum(cache.point_counts)
        except (Problem, OSError):
            continue
        if len(seconds) and points:
            return float(np.median(seconds)) / points
    return None
