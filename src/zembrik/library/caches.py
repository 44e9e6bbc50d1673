"""The cache library: every cache across shows and shots, what it is for, what may go."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from typing import Any, NamedTuple

from sqlalchemy import Select, and_, case, func, or_, select
from sqlalchemy.orm import Session

from zembrik.core.cache import lock
from zembrik.core.cache.reader import Cache
from zembrik.core.problem import Problem
from zembrik.library.author import author
from zembrik.library.bakes import ACTIVE, cache_path, discard, get_bake, refuse_approved
from zembrik.library.errands import ask
from zembrik.library.models import Bake, CacheRecord, Delivery, Errand, Revision, Shot, Show
from zembrik.library.placing import players, refuse_played
from zembrik.library.settings import Settings

STATES = {  # as they are told, in the order in which the first that fits is taken
    "trash": "in the trash", "damaged": "damaged", "active": "being baked", "failed": "failed",
    "partial": "not all frames", "foreign": "handed in", "trial": "a trial", "stale": "stale", "true": "true",
}  # fmt: skip
SORTS = ("newest", "largest", "shot", "frames")
MOST_ROWS = 200


class Row(NamedTuple):
    """A cache as the library lists it.

    Attributes:
        bake, shot, show, code, title: whose it is. revision: of the setup it was baked from, note: its label.
        first, last, done: frames. bytes: on disk. state: one of STATES. approved, verified: when.
        damage: what was found wrong. deliveries: files made from it. created: when it was asked for.
        head: the revision of the setup as it stands. author, approved_by, trashed_by: who did.
    """

    bake: int
    shot: int
    show: str
    code: str
    title: str
    revision: int
    label: str
    first: int
    last: int
    done: int | None
    bytes: int
    state: str
    approved: datetime.datetime | None
    verified: datetime.datetime | None
    damage: list[str] | None
    deliveries: int
    created: datetime.datetime
    head: int
    folder: str
    author: str
    approved_by: str
    trashed_by: str

    @property
    def frames(self) -> int:
        """How many frames it holds."""
        return 0 if self.done is None else self.done - self.first + 1

    @property
    def unused(self) -> bool:
        """Whether nothing is known to need it: not approved, no file made from it, not what its shot shows."""
        return self.approved is None and not self.deliveries and self.state in ("trial", "stale", "failed")


def _query() -> Select[*tuple[Any, ...]]:
    head = Revision.__table__.alias("head")
    state = case(
        (CacheRecord.trashed.is_not(None), "trash"),
        (func.coalesce(func.jsonb_array_length(CacheRecord.damage), 0) > 0, "damaged"),
        (Bake.state.in_(ACTIVE), "active"),
        (Bake.state == "failed", "failed"),
        (or_(CacheRecord.done.is_(None), CacheRecord.done < Bake.last), "partial"),
        (Bake.handed_in != "", "foreign"),
        (and_(Bake.sheet_id.is_not(None), Bake.adopted.is_(False)), "trial"),
        (Bake.setup_hash != head.c.setup_hash, "stale"),
        else_="true",
    ).label("state")
    files = select(func.count(Delivery.id)).where(Delivery.bake_id == Bake.id, Delivery.state == "done")
    return (
        select(
            Bake.id, Shot.id, Show.title, Shot.code, Shot.title, Revision.number, Bake.label, Bake.first, Bake.last,
            CacheRecord.done, CacheRecord.size_bytes, state, CacheRecord.approved, CacheRecord.verified,
            CacheRecord.damage, files.scalar_subquery(), Bake.created, head.c.number, CacheRecord.folder,
            Bake.author, CacheRecord.approved_by, CacheRecord.trashed_by,
        )
        .join(CacheRecord, CacheRecord.bake_id == Bake.id)
        .join(Revision, Revision.id == Bake.revision_id)
        .join(Shot, Shot.id == Bake.shot_id)
        .join(Show, Show.id == Shot.show_id)
        .join(head, head.c.id == Shot.head_id)
    )  # fmt: skip


def _found(words: str, state: str, played: Sequence[str]) -> Select[Any]:
    inner = _query().subquery()
    names = list(Row._fields)
    columns = dict(zip(names, inner.c, strict=True))
    query: Select[Any] = select(inner)
    for word in words.split():
        like = f"%{word.replace('%', '').replace('_', ' ')}%"
        query = query.where(or_(*(columns[n].ilike(like) for n in ("show", "code", "title", "label"))))
    if state == "approved":
        query = query.where(columns["approved"].is_not(None))
    elif state == "unused":
        unused = and_(columns["approved"].is_(None), columns["deliveries"] == 0, columns["folder"].not_in(played))
        query = query.where(unused, columns["state"].in_(["trial", "stale", "failed"]))
    elif state:
        query = query.where(columns["state"] == state)
    else:
        query = query.where(columns["state"] != "trash")
    return query


def find_caches(session: Session, words: str = "", state: str = "", sort: str = "newest") -> tuple[list[Row], int, int]:
    """Return the first caches that fit, how many fit in all, and their bytes.

    Args:
        words: all must be in show, code, title or label. state: one of STATES, "approved", "unused", or none for all
            but the trash. sort: one of SORTS.
    """
    found = _found(words, state, list(players(session)) if state == "unused" else []).subquery()
    columns = dict(zip(Row._fields, found.c, strict=True))
    orders: dict[str, list[Any]] = {
        "newest": [columns["bake"].desc()], "largest": [columns["bytes"].desc()],
        "shot": [columns["show"], columns["code"], columns["bake"].desc()],
        "frames": [(columns["done"] - columns["first"]).desc().nulls_last()],
    }  # fmt: skip
    order = orders.get(sort, orders["newest"])
    rows = [Row._make(tuple(row)) for row in session.execute(select(found).order_by(*order).limit(MOST_ROWS))]
    size = func.coalesce(func.sum(columns["bytes"]), 0)
    totals = session.execute(select(func.count(), size).select_from(found)).one()
    return rows, int(totals[0]), int(totals[1])


def space_of(session: Session) -> list[tuple[str, str, int, int]]:
    """Return where the space goes: show, shot's code, shot's number and bytes, the largest first, without the trash."""
    total = func.sum(CacheRecord.size_bytes)
    query = (
        select(Show.title, Shot.code, Shot.id, total)
        .join(Shot, Shot.show_id == Show.id).join(Bake, Bake.shot_id == Shot.id)
        .join(CacheRecord, CacheRecord.bake_id == Bake.id).where(CacheRecord.trashed.is_(None))
        .group_by(Show.title, Shot.code, Shot.id).order_by(total.desc())
    )  # fmt: skip
    return [(show, code, shot, int(size)) for show, code, shot, size in session.execute(query) if size]


def _taken(session: Session, bake_id: int) -> Bake:
    bake = session.scalar(select(Bake).where(Bake.id == bake_id).with_for_update())
    if bake is None or bake.cache is None:
        raise Problem(f"there is no cache of bake number {bake_id}.", "caches", "It may be gone; load the page again.")
    return bake


def approve(session: Session, settings: Settings, bake_id: int) -> None:
    """Approve a cache: from then on nothing changes or deletes it. Its setup's revision never changes anyway."""
    bake = _taken(session, bake_id)
    assert bake.cache is not None
    if bake.cache.trashed is not None or bake.state in ACTIVE or bake.cache.done is None:
        raise Problem("only a cache with frames that is not being baked can be approved.", "caches", "")
    if bake.cache.damage:
        raise Problem("the cache is damaged.", "caches", "Bake it again first.")
    bake.cache.approved, bake.cache.approved_by = datetime.datetime.now(datetime.UTC), author()
    lock.lock(cache_path(settings, bake), f"approved {bake.cache.approved.isoformat(timespec='seconds')}\n")


def disapprove(session: Session, settings: Settings, bake_id: int) -> None:
    """Take an approval back."""
    bake = _taken(session, bake_id)
    assert bake.cache is not None
    bake.cache.approved = None
    lock.unlock(cache_path(settings, bake))


def trash(session: Session, bake_id: int) -> None:
    """Put a cache into the trash: no page shows it any more, and nothing is lost until the trash is emptied."""
    bake = _taken(session, bake_id)
    assert bake.cache is not None
    if bake.cache.approved is not None:
        raise Problem("the cache is approved.", "caches", "Take the approval back first.")
    if bake.state in ACTIVE:
        raise Problem("the bake is still going on.", "caches", "Stop it first.")
    refuse_played(session, bake)
    if bake.cache.trashed is None:
        bake.cache.trashed_by = author()
        bake.cache.trashed, bake.cache.was, bake.state = datetime.datetime.now(datetime.UTC), bake.state, "trashed"


def take_back(session: Session, bake_id: int) -> None:
    """Take a cache out of the trash: it is what it was."""
    bake = _taken(session, bake_id)
    assert bake.cache is not None
    if bake.cache.trashed is not None:
        bake.state, bake.cache.trashed, bake.cache.was = bake.cache.was or "stopped", None, None


def in_trash(session: Session) -> list[int]:
    """Return the bakes whose caches are in the trash."""
    return list(session.scalars(select(Bake.id).join(CacheRecord).where(CacheRecord.trashed.is_not(None))))


def delete_trashed(session: Session, settings: Settings, bake_id: int) -> None:
    """Delete what is in the trash for good."""
    bake = _taken(session, bake_id)
    if bake.cache is None or bake.cache.trashed is None:
        raise Problem("the cache is not in the trash.", "caches", "Load the page again.")
    take_back(session, bake_id)
    session.flush()
    discard(session, settings, bake_id)


def verify(session: Session, settings: Settings, bake_id: int) -> list[str]:
    """Read every chunk of a cache against its checksum; keep and return what is wrong with it."""
    bake = _taken(session, bake_id)
    assert bake.cache is not None
    try:
        found = Cache(cache_path(settings, bake)).damage()
    except (Problem, OSError, ValueError, KeyError) as problem:
        found = [f"it cannot be opened: {problem}"[:300]]
    bake.cache.verified, bake.cache.damage = datetime.datetime.now(datetime.UTC), found[:50]
    return found


def longest_unseen(session: Session, before: datetime.datetime) -> int | None:
    """Return the bake whose cache was not looked over for longest, if that is before a moment; None when all were."""
    query = (
        select(Bake.id).join(CacheRecord).where(
            CacheRecord.trashed.is_(None), CacheRecord.done.is_not(None), Bake.state.not_in(ACTIVE),
            or_(CacheRecord.verified.is_(None), CacheRecord.verified < before),
        )
        .order_by(CacheRecord.verified.asc().nulls_first(), Bake.id).limit(1)
    )  # fmt: skip
    return session.scalar(query)


def ask_of_cache(session: Session, bake_id: int, what: str) -> Errand:
    """Ask for a cache to be looked over ("verify"), or for its damaged frames to be baked again ("rebake")."""
    bake = get_bake(session, bake_id)
    if bake.cache is None or bake.state in ACTIVE:
        raise Problem("the bake is still going on.", "caches", "Wait for it.")
    if what == "rebake":
        refuse_approved(bake)
        if not bake.cache.damage:
            raise Problem("nothing is known to be damaged.", "caches", "Look it over first.")
    return ask(session, bake.shot_id, what, {"bake": bake_id}, again=True)


class Box(NamedTuple):
    """A rectangle of a treemap: where it is, and which of the sizes it stands for."""

    x: float
    y: float
    width: float
    height: float
    which: int


def treemap(sizes: Sequence[float], width: float, height: float) -> list[Box]:
    """Return rectangles whose areas are as sizes are, the largest first, as near to squares as rows allow.

    Squarified treemaps (Bruls, Huizing and van Wijk 2000). Sizes must fall and be more than 0.
    """
    boxes: list[Box] = []
    x, y, total = 0.0, 0.0, float(sum(sizes))
    scale = width * height / total if total > 0 else 0.0
    k = 0
    while k < len(sizes):
        side, row, best = max(min(width, height), 1e-12), 1, float("inf")
        while k + row <= len(sizes):
            area = scale * sum(sizes[k : k + row])
            deep = area / side
            worst = max(max(scale * s / deep / deep, deep * deep / (scale * s)) for s in sizes[k : k + row])
            if worst > best:
                break
            best, row = worst, row + 1
        row -= 1
        whole, along = sum(sizes[k : k + row]), 0.0
        # The last row takes what is left, so that rounding leaves no gap and runs over no edge.
        deep = scale * whole / side if k + row < len(sizes) else max(width, height)
        for n in range(k, k + row):
            length = side * sizes[n] / whole
            boxes.append(Box(x, y + along, deep, length, n) if width >= height else Box(x + along, y, length, deep, n))
            along += length
        if width >= height:
            x, width = x + deep, width - deep
        else:
            y, height = y + deep, height - deep
        k += row
    return boxes
