"""Deliveries on record."""

from __future__ import annotations

import re

from sqlalchemy import select
from sqlalchemy.orm import Session

from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.delivery import Order, prepare
from zembrik.core.problem import Problem
from zembrik.library.bakes import cache_path, get_bake
from zembrik.library.models import Bake, Delivery, Shot
from zembrik.library.settings import Settings


def order_delivery(session: Session, settings: Settings, bake_id: int, order: Order) -> Delivery:
    """Put a delivery on record to be written; the order is checked against the cache first."""
    bake = get_bake(session, bake_id)
    content = prepare(Cache(cache_path(settings, bake)), order)
    shot = session.get_one(Shot, bake.shot_id)
    delivery = Delivery(
        bake_id=bake.id,
        order={
            "format": order.format,
            "frames": [content.first, content.last],
            "bodies": [p.name for p in content.parts],
            "unit": order.unit,
            "up_axis": order.up_axis,
            "fps": order.fps,
        },
        file="",
        state="queued",
        frames_all=len(content.frames),
    )
    session.add(delivery)
    session.flush()
    stem = re.sub(r"[^A-Za-z0-9-]+", "-", f"{shot.code}-{shot.title}").strip("-").lower()[:80]
    delivery.file = f"{delivery.id:06d}/{stem}-r{bake.revision.number}.{order.format}"
    session.flush()
    return delivery


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
