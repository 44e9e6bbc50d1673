"""Shows and shots under other names, put away, or deleted with all that stands on them."""

from __future__ import annotations

import datetime
from dataclasses import dataclass

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from zembrik.core.problem import Problem
from zembrik.library.bakes import ACTIVE
from zembrik.library.models import (
    Bake,
    CacheRecord,
    Delivery,
    Errand,
    KeptProxy,
    Revision,
    Shot,
    Show,
    Take,
    TrialSheet,
)
from zembrik.library.placing import refuse_played
from zembrik.library.removal import remove_after_commit, removed
from zembrik.library.settings import Settings
from zembrik.library.shots import get_shot


@dataclass(frozen=True)
class Standing:
    """What stands on a shot: bakes, approved caches among them, bytes of caches, takes, deliveries that are done."""

    bakes: int
    approved: int
    size_bytes: int
    takes: int
    deliveries: int


def standing_on(session: Session, shot_id: int) -> Standing:
    """Return what would go with a shot."""
    bakes, approved, size = session.execute(
        select(
            func.count(Bake.id), func.count(CacheRecord.approved), func.coalesce(func.sum(CacheRecord.size_bytes), 0)
        )
        .outerjoin(CacheRecord, CacheRecord.bake_id == Bake.id)
        .where(Bake.shot_id == shot_id, Bake.state != "discarded")
    ).one()
    takes = session.scalar(select(func.count(Take.id)).where(Take.shot_id == shot_id))
    done = select(func.count(Delivery.id)).join(Bake).where(Bake.shot_id == shot_id, Delivery.state == "done")
    return Standing(int(bakes), int(approved), int(size), int(takes or 0), int(session.scalar(done) or 0))


def _named(text: str, most: int, what: str) -> str:
    text = text.strip()
    if not text or len(text) > most or "\0" in text:
        raise Problem(f"a {what} has 1 to {most} letters.", what, "Type another.")
    return text


def rename_show(session: Session, show_id: int, title: str) -> Show:
    """Give a show another title; raises Problem when another has it."""
    show, title = get_show(session, show_id), _named(title, 300, "title")
    if session.scalar(select(Show.id).where(Show.title == title, Show.id != show_id)):
        raise Problem(f"there is a show '{title}' already.", "title", "Choose another title.")
    show.title = title
    return show


def rename_shot(session: Session, shot_id: int, code: str, title: str) -> Shot:
    """Give a shot another code and title; raises Problem when another shot of its show has the code."""
    shot = get_shot(session, shot_id, lock=True)
    code, title = _named(code, 40, "code"), _named(title, 300, "title")
    taken = select(Shot.id).where(Shot.show_id == shot.show_id, Shot.code == code, Shot.id != shot_id)
    if session.scalar(taken):
        raise Problem(f"the show has a shot {code} already.", "code", "Choose another code.")
    shot.code, shot.title = code, title
    return shot


def get_show(session: Session, show_id: int) -> Show:
    """Return a show; raises Problem when there is none."""
    show = session.get(Show, show_id)
    if show is None:
        raise Problem("there is no such show.", "show", "Go back to the shots board.")
    return show


def put_away(thing: Show | Shot, away: bool) -> None:
    """Put a show or a shot away, or bring it back; nothing of it is lost."""
    thing.archived = datetime.datetime.now(datetime.UTC) if away else None


def delete_shot(session: Session, settings: Settings, shot_id: int, code: str) -> None:
    """Delete a shot with its revisions, bakes, caches, trials and takes; files that were delivered stay.

    Args:
        session, settings: the installation's. shot_id: which.
        code: typed by the person, so that no click alone deletes.

    Raises:
        Problem: when the code is another, something of it is being computed, is approved, or is played elsewhere.
    """
    shot = get_shot(session, shot_id, lock=True)
    if code.strip() != shot.code:
        raise Problem(f"'{code.strip()[:40]}' is not this shot's code.", "code", f"Type {shot.code} to delete it.")
    bakes = list(session.scalars(select(Bake).where(Bake.shot_id == shot_id)))
    if any(b.state in ACTIVE for b in bakes):
        raise Problem("it is being baked.", shot.code, "Stop its bakes first.")
    if any(b.cache is not None and b.cache.approved is not None for b in bakes):
        raise Problem(
            "one of its caches is approved.", shot.code, "Take the approval back first, or put the shot away."
        )
    for bake in bakes:
        refuse_played(session, bake)
    busy = select(Delivery.id).join(Bake).where(Bake.shot_id == shot_id, Delivery.state.in_(ACTIVE))
    if session.scalar(busy.limit(1)):
        raise Problem("a delivery is being made from one of its caches.", shot.code, "Wait for it.")
    for bake in bakes:
        if bake.cache is not None:
            remove_after_commit(session, settings, bake.cache.folder)
    removed(session, f"shot {shot.code} {shot.title} of {shot.show.title}, with {len(bakes)} bakes")
    numbers = [b.id for b in bakes]
    shot.head_id = None
    session.flush()
    session.execute(delete(Delivery).where(Delivery.bake_id.in_(numbers)))
    session.execute(delete(CacheRecord).where(CacheRecord.bake_id.in_(numbers)))
    session.execute(delete(Bake).where(Bake.shot_id == shot_id))
    for table in (TrialSheet, Errand, Take, KeptProxy):
        session.execute(delete(table).where(table.shot_id == shot_id))
    session.execute(update(Revision).where(Revision.shot_id == shot_id).values(parent_id=None))
    session.execute(delete(Revision).where(Revision.shot_id == shot_id))
    session.execute(delete(Shot).where(Shot.id == shot_id))


def delete_show(session: Session, show_id: int, title: str) -> None:
    """Delete a show that has no shots any more; raises Problem as `delete_shot`."""
    show = get_show(session, show_id)
    if title.strip() != show.title:
        raise Problem("this is not the show's title.", "title", f"Type {show.title} to delete it.")
    count = session.scalar(select(func.count(Shot.id)).where(Shot.show_id == show_id)) or 0
    if count:
        raise Problem(
            f"it has {count} shot{'s' if count > 1 else ''}.", show.title, "Delete them first, or put it away."
        )
    removed(session, f"show {show.title}")
    session.execute(delete(Take).where(Take.show_id == show_id))
    session.execute(delete(Show).where(Show.id == show_id))
