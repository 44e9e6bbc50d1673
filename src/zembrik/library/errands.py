"""Errands on record: what a page has a worker compute for it, with progress, a stop, and a result that is kept.

An errand's key is made of all that its result depends on, so the same thing is never computed twice: whoever asks
again gets the result there is, or joins the wait.
"""

from __future__ import annotations

import hashlib
import json
from typing import TYPE_CHECKING, Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from zembrik.core.problem import Problem
from zembrik.core.proxy.words import kinds_for
from zembrik.core.setup.document import Body, Place
from zembrik.library.models import Errand
from zembrik.library.queue import ERRAND, REBAKE, enqueue

if TYPE_CHECKING:
    from zembrik.core.proxy.measure import Fit

ACTIVE = ("queued", "running")
EDITION = 1  # raised whenever what errands compute changes: older results are not looked at any more
HEAVY_FACES = 30_000  # of a mesh that no page works on: a worker does
Order = dict[str, Any]


def key_of(kind: str, order: Order) -> str:
    """Return the key of an errand."""
    return hashlib.sha256(json.dumps([EDITION, kind, order], sort_keys=True).encode()).hexdigest()


def ask(session: Session, shot_id: int, kind: str, order: Order, again: bool = False) -> Errand:
    """Return the errand that does this, put into the queue if it is new.

    One that was done is done `again` only where that is asked.
    """
    key = key_of(kind, order)
    held = session.scalar(select(Errand).where(Errand.key == key).order_by(Errand.id.desc()).limit(1))
    if held is not None and ((held.state == "done" and not again) or (held.state in ACTIVE and not held.stop_asked)):
        return held
    errand = _recorded(session, shot_id, kind, order, "queued")
    enqueue(session, REBAKE if kind == "rebake" else ERRAND, errand.id)
    return errand


def _recorded(session: Session, shot_id: int, kind: str, order: Order, state: str) -> Errand:
    errand = Errand(
        shot_id=shot_id, kind=kind, key=key_of(kind, order), order=order, state=state, stop_asked=False, done=0,
        total=0, error="",
    )  # fmt: skip
    session.add(errand)
    session.flush()
    return errand


def get_errand(session: Session, number: int, lock: bool = False) -> Errand:
    """Return an errand; raises Problem when there is none."""
    query = select(Errand).where(Errand.id == number)
    errand = session.scalar(query.with_for_update() if lock else query)
    if errand is None:
        raise Problem(f"there is no errand number {number}.", "errand", "Load the page again.")
    return errand


def ask_stop(session: Session, number: int) -> Errand:
    """Ask an errand to stop; nothing it did so far changes anything."""
    errand = get_errand(session, number, lock=True)
    if errand.state == "queued":
        errand.state = "stopped"
    elif errand.state == "running":
        errand.stop_asked = True
    return errand


def result_of(session: Session, kind: str, order: Order) -> Order | None:
    """Return what an errand found, if it was done."""
    query = select(Errand.result).where(Errand.key == key_of(kind, order), Errand.state == "done")
    return session.scalar(query.order_by(Errand.id.desc()).limit(1))


def remember(session: Session, shot_id: int, kind: str, order: Order, result: Order) -> None:
    """Keep a result that came up while something else was done."""
    if result_of(session, kind, order) is None:
        _recorded(session, shot_id, kind, order, "done").result = result


def fits_order(body: Body, proxy: Order) -> Order:
    """Return the order to measure all proxies of a body, by what the fits depend on.

    Copies that stand elsewhere are fitted alike; only a plane looks up, wherever that is, so a collider keeps its
    turn. Of the resolved proxy only the dials count, not its kind.
    """
    rotate = body.place.rotate if body.role == "collider" else (0.0, 0.0, 0.0)
    bare = Body(name="body", mesh=body.mesh, place=Place(scale=body.place.scale, rotate=rotate))
    dials = {k: v for k, v in proxy.items() if k not in ("kind", "sides")}
    plain = bare.model_dump(mode="json", exclude_unset=True)
    return {"body": plain, "role": body.role, "kinds": kinds_for(body.role, body.changes_form), "proxy": dials}


def audit_order(body: Body) -> Order:
    """Return the order to look a body's mesh over, as it is before it is placed."""
    return {"body": Body(name="body", mesh=body.mesh).model_dump(mode="json", exclude_unset=True)}


def fits_from(result: Order) -> dict[str, Fit | str]:
    """Return the fits by kind from an errand's result."""
    from zembrik.core.proxy.measure import Fit  # brings the compiler, which no page waits for

    return {kind: fit if isinstance(fit, str) else Fit.of(fit) for kind, fit in result["fits"].items()}
