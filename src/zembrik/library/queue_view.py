"""What the queue page tells: what runs, what waits, what was done in the last hours, and who works."""

from __future__ import annotations

import datetime
from dataclasses import dataclass
from typing import NamedTuple

from sqlalchemy import select, text
from sqlalchemy.orm import Session, joinedload

from zembrik.core.problem import Problem
from zembrik.library.bakes import ACTIVE, Progress, progress_of
from zembrik.library.models import Bake, Delivery, Errand, Shot
from zembrik.library.settings import Settings

HOURS, BINS = 6, 36  # looked back on, in stretches of ten minutes
ALIVE_S = 30.0  # a worker says every ten seconds that it is there


class Done(NamedTuple):
    """How many bakes ended in a stretch of time, and how many of those failed."""

    ended: int
    failed: int


@dataclass(frozen=True)
class Waiting:
    """A bake that runs or waits.

    Attributes:
        bake: the row. shot: its shot. progress: how far it is. before_s: about how long until it begins, s, if known.
    """

    bake: Bake
    shot: Shot
    progress: Progress
    before_s: float | None


def waiting_bakes(session: Session, settings: Settings) -> list[Waiting]:
    """Return bakes at work and in the queue, in the order in which they will be done."""
    query = select(Bake).where(Bake.state.in_(ACTIVE)).order_by((Bake.state == "running").desc(), Bake.id)
    rows = list(session.scalars(query.options(joinedload(Bake.cache), joinedload(Bake.revision))))
    shots = {s.id: s for s in session.scalars(select(Shot).where(Shot.id.in_({b.shot_id for b in rows})))}
    found: list[Waiting] = []
    ahead: float | None = 0.0
    for bake in rows:
        progress = progress_of(settings, bake)[0]
        found.append(Waiting(bake, shots[bake.shot_id], progress, ahead if bake.state == "queued" else None))
        left = progress.left_s if progress.left_s is not None else _guess_s(session, bake)
        ahead = None if ahead is None or left is None else ahead + left
    return found


def _guess_s(session: Session, bake: Bake) -> float | None:
    """Return how long a bake will take, s, by the last one of its shot; None when there is none."""
    query = select(Bake.started, Bake.ended, Bake.first, Bake.last).where(
        Bake.shot_id == bake.shot_id, Bake.state == "done", Bake.started.is_not(None), Bake.ended.is_not(None)
    )
    row = session.execute(query.order_by(Bake.id.desc()).limit(1)).first()
    if row is None or row[0] is None or row[1] is None:
        return None
    return float((row[1] - row[0]).total_seconds() * (bake.last - bake.first + 1) / max(row[3] - row[2] + 1, 1))


def other_work(session: Session) -> tuple[list[Delivery], list[Errand]]:
    """Return deliveries and errands at work or waiting."""
    deliveries = session.scalars(select(Delivery).where(Delivery.state.in_(ACTIVE)).order_by(Delivery.id))
    errands = session.scalars(select(Errand).where(Errand.state.in_(ACTIVE)).order_by(Errand.id))
    return list(deliveries), list(errands)


def failed_bakes(session: Session) -> list[Bake]:
    """Return the last bakes that failed, the newest first."""
    query = select(Bake).where(Bake.state == "failed", Bake.handed_in == "").order_by(Bake.id.desc()).limit(10)
    return list(session.scalars(query.options(joinedload(Bake.revision))))


def last_hours(session: Session, now: datetime.datetime) -> list[Done]:
    """Return what ended in each ten minutes of the last hours, the oldest first."""
    begin = now - datetime.timedelta(hours=HOURS)
    rows = session.execute(
        select(Bake.ended, Bake.state).where(Bake.ended > begin, Bake.state.in_(["done", "stopped", "failed"]))
    )
    counts = [[0, 0] for _ in range(BINS)]
    for ended, state in rows:
        assert ended is not None
        k = min(int((ended - begin).total_seconds() / (HOURS * 3600) * BINS), BINS - 1)
        counts[k][0] += 1
        counts[k][1] += state == "failed"
    return [Done(*c) for c in counts]


class Worker(NamedTuple):
    """A worker: its number, seconds since it last said that it is there, and what it does, in words; empty: nothing."""

    number: int
    seen_s: float
    doing: str


def workers(session: Session) -> list[Worker]:
    """Return the workers that are there, with what each does; those long gone are left out."""
    age = "extract(epoch from now() - w.last_heartbeat)"
    rows = session.execute(text(
        f"SELECT w.id, {age}, j.task_name, (j.args->>'number')::int FROM procrastinate_workers w "
        "LEFT JOIN procrastinate_jobs j ON j.worker_id = w.id AND j.status = 'doing' "
        f"WHERE {age} < {ALIVE_S} ORDER BY w.id"
    ))  # fmt: skip
    return [Worker(row[0], float(row[1]), _doing(session, row[2], row[3])) for row in rows]


def _doing(session: Session, task: str | None, number: int | None) -> str:
    """Return in words what a task of the queue does."""
    if task == "zembrik.bake" and (bake := session.get(Bake, number)) is not None:
        shot = session.get_one(Shot, bake.shot_id)
        return f"bakes {shot.code}, {bake.label or f'revision {bake.revision.number}'}"
    if task == "zembrik.deliver" and (delivery := session.get(Delivery, number)) is not None:
        return f"writes {delivery.file.rpartition('/')[2]}"
    if task in ("zembrik.errand", "zembrik.rebake") and (errand := session.get(Errand, number)) is not None:
        return f"does an errand for {session.get_one(Shot, errand.shot_id).code}: {errand.kind}"
    return "looks caches over" if task == "zembrik.look-over" else ""


def first_in_line(session: Session, bake_id: int) -> int:
    """Let a waiting bake be the next one to be done; return its number."""
    bake = session.get(Bake, bake_id)
    if bake is None or bake.state != "queued":
        raise Problem("the bake does not wait any more.", "queue", "Load the page again.")
    session.execute(
        text(
            "UPDATE procrastinate_jobs SET priority = 1 + (SELECT coalesce(max(priority), 0) FROM procrastinate_jobs "
            "WHERE status = 'todo') WHERE status = 'todo' AND task_name = 'zembrik.bake' AND args @> :args"
        ),
        {"args": f'{{"number": {int(bake_id)}}}'},
    )
    return bake_id
