"""Ordering deliveries and fetching their files."""

from __future__ import annotations

import json
from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import FileResponse, Response

from zembrik.core.exchange.delivery import Order
from zembrik.core.problem import Problem
from zembrik.farm.queue import DELIVER
from zembrik.library.bakes import get_bake
from zembrik.library.deliveries import get_delivery, order_delivery
from zembrik.web.dials import from_shown
from zembrik.web.pages.bench import render_bench
from zembrik.web.render import Db, Places

router = APIRouter()
Text = Annotated[str, Form()]


@router.post("/bakes/{bake_id}/deliver")
def order(
    request: Request, db: Db, places: Places, bake_id: int, format: Text, first: Text, last: Text,
    unit: Text = "m", up_axis: Text = "y",
) -> Response:  # fmt: skip
    """Put a delivery into the queue."""
    if format == "glb":
        unit, up_axis = "m", "y"
    frames = (int(from_shown("first frame", first)), int(from_shown("last frame", last)))
    with db.session() as session:
        delivery = order_delivery(session, places, bake_id, Order(format, frames, (), unit, up_axis))
        number, shot_id = delivery.id, get_bake(session, bake_id).shot_id
    request.app.state.queue.add(DELIVER, number)
    with db.session() as session:
        return render_bench(request, session, places, shot_id, "deliver")


@router.get("/deliveries/{delivery_id}/file")
def fetch(db: Db, places: Places, delivery_id: int) -> Response:
    """Return the delivered file."""
    with db.session() as session:
        delivery = get_delivery(session, delivery_id)
        path = places.deliveries / delivery.file
        if delivery.state != "done" or not path.exists():
            raise Problem(f"the delivery is {delivery.state}; its file is not there.", "delivery", "Order it again.")
        return FileResponse(path, filename=path.name)


@router.get("/deliveries/{delivery_id}/manifest")
def manifest(db: Db, delivery_id: int) -> Response:
    """Return the delivery's manifest."""
    with db.session() as session:
        delivery = get_delivery(session, delivery_id)
        if delivery.manifest is None:
            raise Problem("the delivery has no manifest yet.", "delivery", "Wait until it is written.")
        text = json.dumps(delivery.manifest, indent=1, ensure_ascii=False)
        return Response(text, media_type="application/json")
