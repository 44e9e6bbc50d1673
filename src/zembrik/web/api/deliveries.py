"""Deliveries, for scripts."""

from __future__ import annotations

from fastapi import APIRouter, Request

from zembrik.core.exchange.delivery import Order
from zembrik.core.exchange.naming import named
from zembrik.library.bakes import get_bake
from zembrik.library.deliveries import (
    all_deliveries,
    content_of,
    get_delivery,
    order_batch,
    order_delivery,
    plan_batch,
    stop_delivery,
    words_of,
)
from zembrik.library.shots import get_shot
from zembrik.web.api.answers import REFUSED, delivery_out
from zembrik.web.api.models import BatchIn, DeliveryIn, DeliveryOut, OrderIn, PlannedOut
from zembrik.web.fields import Id
from zembrik.web.render import Db, Places

router = APIRouter(prefix="/api", tags=["deliveries"], responses=REFUSED)


def _order(order: OrderIn) -> Order:
    names = OrderIn.model_fields
    return Order(**{k: v for k, v in order.model_dump().items() if k in names} | {"bodies": tuple(order.bodies)})


@router.get("/shows/{show_id}/deliveries")
def list_deliveries(db: Db, show_id: Id) -> list[DeliveryOut]:
    """List a show's deliveries, the newest first."""
    with db.session() as session:
        return [delivery_out(d) for d, _ in all_deliveries(session, show_id)]


@router.post("/bakes/{bake_id}/deliveries")
def deliver_bake(request: Request, db: Db, places: Places, bake_id: Id, order: DeliveryIn) -> DeliveryOut:
    """Have a file written from a bake's cache; its manifest lies beside it."""
    made = _order(order)
    with db.session() as session:
        name = ""
        if order.pattern:
            bake = get_bake(session, bake_id)
            content = content_of(session, places, bake, made)
            name = named(order.pattern, words_of(bake, get_shot(session, bake.shot_id), content), made.format)
        answer = delivery_out(order_delivery(session, places, bake_id, made, name))
    return answer


@router.post("/deliveries/plan")
def plan_deliveries(db: Db, places: Places, order: BatchIn) -> list[PlannedOut]:
    """Tell what delivering the shown bakes of many shots would write; nothing is."""
    with db.session() as session:
        return [
            PlannedOut(
                shot=p.shot.id, bake=p.bake.id if p.bake else None, file=p.file, frames=p.frames, bytes=p.bytes,
                problem=p.problem,
            )
            for p in plan_batch(session, places, order.shots, _order(order), order.pattern)
        ]  # fmt: skip


@router.post("/deliveries")
def deliver_shots(request: Request, db: Db, places: Places, order: BatchIn) -> list[DeliveryOut]:
    """Have a file written of each of many shots, named by a pattern; all or none."""
    with db.session() as session:
        answers = [delivery_out(d) for d in order_batch(session, places, order.shots, _order(order), order.pattern)]
    return answers


@router.get("/deliveries/{delivery_id}")
def show_delivery(db: Db, delivery_id: Id) -> DeliveryOut:
    """Return a delivery; its file is at /deliveries/ID/file."""
    with db.session() as session:
        return delivery_out(get_delivery(session, delivery_id))


@router.post("/deliveries/{delivery_id}/stop")
def stop_writing(db: Db, delivery_id: Id) -> DeliveryOut:
    """Stop a delivery; no half file is left."""
    with db.session() as session:
        return delivery_out(stop_delivery(session, delivery_id))
