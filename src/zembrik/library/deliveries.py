"""Deliveries on record."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.carried import CarriedMesh, carried_meshes
from zembrik.core.exchange.delivery import Content, Order, expected_bytes, prepare
from zembrik.core.exchange.naming import USUAL, named
from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup
from zembrik.library.bakes import ACTIVE, cache_path, get_bake, shown_bake
from zembrik.library.models import Bake, Delivery, Shot
from zembrik.library.queue import DELIVER, enqueue
from zembrik.library.settings import Settings
from zembrik.library.shots import get_shot, head_setup
from zembrik.library.store import StoredAssets


def order_delivery(session: Session, settings: Settings, bake_id: int, order: Order, name: str = "") -> Delivery:
    """Put a delivery into the queue; the order is checked against the cache first.

    Args:
        name: of the file, with folders before it; made of shot, title and revision if left out.

    Raises:
        Problem: for a wrong order, and when just this is being written already.
    """
    bake = get_bake(session, bake_id)
    shot = session.get_one(Shot, bake.shot_id)
    content = content_of(session, settings, bake, order)
    plain = plain_order(content)
    active = select(Delivery).where(Delivery.bake_id == bake.id, Delivery.state.in_(ACTIVE))
    for other in session.scalars(active):
        if other.order == plain and (not name or other.file.partition("/")[2] == name):
            raise Problem("just this file is being written already.", "delivery", "Wait for it, or stop it.")
    delivery = Delivery(bake_id=bake.id, order=plain, file="", state="queued", stop_asked=False)
    delivery.frames_done, delivery.frames_all, delivery.error = 0, len(content.frames), ""
    session.add(delivery)
    session.flush()
    delivery.file = f"{delivery.id:06d}/{name or named(USUAL, words_of(bake, shot, content), order.format)}"
    session.flush()
    enqueue(session, DELIVER, delivery.id)
    return delivery


def content_of(session: Session, settings: Settings, bake: Bake, order: Order) -> Content:
    """Return what an order takes from a bake, with what its shot says now of what is seen and carried.

    Raises:
        Problem: for a wrong order.
    """
    setup, cache = head_setup(session.get_one(Shot, bake.shot_id)), Cache(cache_path(settings, bake))
    seen = {body.name: body.shown for body in setup.bodies if body.shown}
    return prepare(cache, replace(order, shown=seen), held_meshes(setup, cache, settings, order))


def held_meshes(setup: Setup, cache: Cache, settings: Settings, order: Order) -> dict[str, CarriedMesh]:
    """Return the detailed meshes that an order takes in place of bodies' own."""
    return carried_meshes(setup, cache, StoredAssets(settings)) if order.carried else {}


def plain_order(content: Content) -> dict[str, Any]:
    """Return a checked order as it is kept on record."""
    order = content.order
    return {
        "format": order.format, "frames": [content.first, content.last], "bodies": [p.name for p in content.parts],
        "unit": order.unit, "up_axis": order.up_axis, "fps": order.fps, "angles": order.angles,
        "subdivided": order.subdivided, **({"shown": order.shown} if order.shown else {}),
        **({} if order.carried else {"carried": False}),
    }  # fmt: skip


def kept_order(plain: dict[str, Any]) -> Order:
    """Return an order from what is kept of it."""
    return Order(**{**plain, "bodies": tuple(plain["bodies"]), "frames": tuple(plain["frames"])})


def words_of(bake: Bake, shot: Shot, content: Content) -> dict[str, Any]:
    """Return what the words of a file's pattern stand for; see `naming.FIELDS`."""
    return {
        "show": shot.show.title, "shot": shot.code, "title": shot.title, "revision": bake.revision.number,
        "bake": bake.id, "body": content.parts[0].name if len(content.parts) == 1 else "all",
        "first": content.first, "last": content.last, "fps": content.fps, "unit": content.order.unit,
        "format": content.order.format.replace(".", "-"),
    }  # fmt: skip


@dataclass(frozen=True)
class Planned:
    """A file of a batch: its shot and bake, its name, how many frames and bytes; or why there is none."""

    shot: Shot
    bake: Bake | None
    file: str
    frames: int
    bytes: float
    problem: str


def plan_batch(session: Session, settings: Settings, shot_ids: list[int], order: Order, pattern: str) -> list[Planned]:
    """Return what delivering the shown bakes of many shots would write; nothing is written.

    Of each shot all its frames and bodies go. What cannot be delivered, and names that come twice, are told.

    Raises:
        Problem: for a pattern that is none.
    """
    planned: list[Planned] = []
    taken: set[str] = set()
    for shot_id in shot_ids:
        shot, bake = get_shot(session, shot_id), shown_bake(session, shot_id)
        file, frames, size, problem = "", 0, 0.0, ""
        if bake is None or bake.cache is None or bake.cache.done is None:
            problem = "it is not baked"
        else:
            try:
                content = content_of(session, settings, bake, order)
                frames, size = len(content.frames), expected_bytes(content)
            except Problem as told:
                problem = told.what.rstrip(".")
            else:
                file = named(pattern, words_of(bake, shot, content), order.format)
                if file.lower() in taken:  # there are disks that know no capital letters
                    problem = "another file has this name: put [shot] into the pattern"
                taken.add(file.lower())
        planned.append(Planned(shot, bake, file, frames, size, problem))
    return planned


def order_batch(
    session: Session, settings: Settings, shot_ids: list[int], order: Order, pattern: str
) -> list[Delivery]:
    """Put the deliveries of many shots into the queue, all or none.

    Raises:
        Problem: when one of them cannot be written; it says which.
    """
    if not shot_ids:
        raise Problem("no shot is chosen.", "deliveries", "Tick at least one.")
    planned = plan_batch(session, settings, shot_ids, order, pattern)
    for one in planned:
        if one.problem:
            raise Problem(f"{one.shot.code}: {one.problem}.", "deliveries", "Untick it, or mend that first.")
    return [order_delivery(session, settings, p.bake.id, order, p.file) for p in planned if p.bake is not None]


def stop_delivery(session: Session, delivery_id: int) -> Delivery:
    """Ask a delivery to stop; no half file is left."""
    delivery = session.scalar(select(Delivery).where(Delivery.id == delivery_id).with_for_update())
    if delivery is None or delivery.state not in ACTIVE:
        raise Problem("there is no such delivery being written.", "delivery", "Load the page again.")
    if delivery.state == "queued":
        delivery.state = "stopped"
    else:
        delivery.stop_asked = True
    return delivery


def all_deliveries(session: Session, show_id: int, most: int = 100) -> list[tuple[Delivery, Shot]]:
    """Return a show's deliveries with their shots, the newest first."""
    query = select(Delivery, Shot).join(Bake, Bake.id == Delivery.bake_id).join(Shot, Shot.id == Bake.shot_id)
    rows = session.execute(query.where(Shot.show_id == show_id).order_by(Delivery.id.desc()).limit(most))
    return [(row[0], row[1]) for row in rows]


def deliveries_of(session: Session, shot_id: int, most: int = 12) -> list[Delivery]:
    """Return a shot's deliveries, the newest first."""
    query = select(Delivery).join(Bake, Bake.id == Delivery.bake_id).where(Bake.shot_id == shot_id)
    return list(session.scalars(query.order_by(Delivery.id.desc()).limit(most)))


def get_delivery(session: Session, delivery_id: int) -> Delivery:
    """Return a delivery; raises Problem when there is none."""
    delivery = session.get(Delivery, delivery_id)
    if delivery is None:
        raise Problem(f"there is no delivery number {delivery_id}.", "delivery")
    return delivery
