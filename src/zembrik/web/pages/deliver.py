"""Ordering deliveries and fetching their files."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import FileResponse, Response

from zembrik.core.exchange.delivery import Order, expected_bytes
from zembrik.core.problem import Problem
from zembrik.library.bakes import get_bake
from zembrik.library.deliveries import content_of, get_delivery, order_delivery, stop_delivery
from zembrik.web.dials import from_shown
from zembrik.web.fields import Id, Text, Whole
from zembrik.web.pages.bench import render_bench
from zembrik.web.pages.deliveries import order_of
from zembrik.web.render import Db, Places, size, templates

router = APIRouter()


@router.post("/bakes/{bake_id}/deliver")
def order(
    request: Request, db: Db, places: Places, bake_id: Id, format: Text, first: Text, last: Text,
    unit: Text = "m", up_axis: Text = "y", fps: Text = "", angles: Text = "xyz", subdivided: Whole = 0,
    carried: Text = "yes", body: Annotated[list[str], Form()] = [],  # noqa: B006
) -> Response:  # fmt: skip
    """Put a delivery into the queue."""
    made = _order(order_of(format, unit, up_axis, fps, angles, subdivided), first, last, body, carried)
    with db.session() as session:
        order_delivery(session, places, bake_id, made)
        shot_id = get_bake(session, bake_id).shot_id
    with db.session() as session:
        return render_bench(request, session, places, shot_id, "deliver")


def _order(order: Order, first: str, last: str, body: list[str], carried: str) -> Order:
    frames = (int(from_shown("first frame", first)), int(from_shown("last frame", last)))
    return replace(order, frames=frames, bodies=tuple(body), carried=carried != "no")


@router.post("/bakes/{bake_id}/delivery-preview")
def preview(
    request: Request, db: Db, places: Places, bake_id: Id, format: Text, first: Text, last: Text, unit: Text = "m",
    up_axis: Text = "y", fps: Text = "", angles: Text = "xyz", subdivided: Whole = 0, carried: Text = "yes",
    body: Annotated[list[str], Form()] = [],  # noqa: B006
) -> Response:  # fmt: skip
    """Tell what a file will hold and about how large it will be; nothing is written."""
    made = _order(order_of(format, unit, up_axis, fps, angles, subdivided), first, last, body, carried)
    with db.session() as session:
        content = content_of(session, places, get_bake(session, bake_id), made)
    detailed = sum(part.carried is not None for part in content.parts)
    words = f"{len(content.frames)} frames at {content.fps:g} a second, {content.moment(content.first):g} to "
    words += f"{content.moment(content.frames[-1]):.6g} of the cache, of {len(content.parts)} "
    words += f"bod{'ies' if len(content.parts) > 1 else 'y'}; about {size(expected_bytes(content))}."
    if detailed:
        words += f" {detailed} as the detailed mesh that they carry."
    return templates.TemplateResponse(request, "line.html", {"line": words, "kind": "why", "id": "delivery-preview"})


@router.post("/deliveries/{delivery_id}/stop")
def stop(request: Request, db: Db, places: Places, delivery_id: Id, shot: Whole) -> Response:
    """Stop a delivery; no half file is left."""
    with db.session() as session:
        stop_delivery(session, delivery_id)
        session.flush()
        return render_bench(request, session, places, shot, "deliver")


@router.get("/deliveries/{delivery_id}/file")
def fetch(db: Db, places: Places, delivery_id: Id) -> Response:
    """Return the delivered file."""
    with db.session() as session:
        delivery = get_delivery(session, delivery_id)
        path = places.deliveries / delivery.file
        if delivery.state != "done" or not path.exists():
            raise Problem(f"the delivery is {delivery.state}; its file is not there.", "delivery", "Order it again.")
        return FileResponse(path, filename=path.name)


@router.get("/deliveries/{delivery_id}/manifest")
def manifest(db: Db, delivery_id: Id) -> Response:
    """Return the delivery's manifest."""
    with db.session() as session:
        delivery = get_delivery(session, delivery_id)
        if delivery.manifest is None:
            raise Problem("the delivery has no manifest yet.", "delivery", "Wait until it is written.")
        text = json.dumps(delivery.manifest, indent=1, ensure_ascii=False)
        return Response(text, media_type="application/json")
