"""The deliveries of a show: many shots at once by a pattern of names, and all files that were written."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import Response
from sqlalchemy import select
from sqlalchemy.orm import Session

from zembrik.core.exchange.delivery import FORMATS, Order
from zembrik.core.exchange.naming import FIELDS, USUAL
from zembrik.core.motion.angles import ORDERS
from zembrik.core.problem import Problem
from zembrik.core.units import UNIT_NAMES
from zembrik.library.bakes import board
from zembrik.library.deliveries import all_deliveries, order_batch, plan_batch, stop_delivery
from zembrik.library.models import Show
from zembrik.web.dials import from_shown
from zembrik.web.fields import Asked, Numbers, Text, Whole
from zembrik.web.render import Db, Places, Words, templates

router = APIRouter()
TRACKS = ("csv", "json")


def order_of(format: str, unit: str, up_axis: str, fps: str, angles: str, subdivided: int) -> Order:
    """Return an order of all frames and bodies from what was typed; what a format has not is left out."""
    if format == "glb":
        unit, up_axis = "m", "y"
    rate = float(from_shown("frame rate", fps)) if fps.strip() else None
    return Order(format, None, (), unit, up_axis, rate, angles, 0 if format in TRACKS else subdivided)


@router.get("/deliveries")
def page(request: Request, db: Db, show: Asked = 0) -> Response:
    """Show the deliveries of a show, and what could be delivered."""
    with db.session() as session:
        shows = list(session.scalars(select(Show).order_by(Show.title)))
        shown = next((s for s in shows if s.id == show), shows[0] if shows else None)
        words: Words = {
            "shows": shows, "shown": shown, "formats": FORMATS, "units": UNIT_NAMES, "orders": ORDERS,
            "usual": USUAL, "fields": FIELDS, "told": [], "baked": [],
        }  # fmt: skip
        if shown is not None:
            words |= _list(session, shown.id)
            words["baked"] = [
                (row, bake, bake is not None and bake.setup_hash == row.setup_hash)
                for row, bake in board(session, shown.id)
            ]
        return templates.TemplateResponse(request, "deliveries.html", words)


def _list(session: Session, show_id: int) -> Words:
    return {"rows": all_deliveries(session, show_id), "show_id": show_id}


@router.get("/deliveries/list")
def listed(request: Request, db: Db, show: Asked) -> Response:
    """Return the list of a show's files alone."""
    with db.session() as session:
        return templates.TemplateResponse(request, "delivery_list.html", _list(session, show))


@router.post("/deliveries/plan")
def plan(
    request: Request, db: Db, places: Places, format: Text, pattern: Text = "", unit: Text = "m",
    up_axis: Text = "y", fps: Text = "", angles: Text = "xyz", subdivided: Whole = 0, shot: Numbers = [],  # noqa: B006
) -> Response:  # fmt: skip
    """Tell what would be written, name by name; nothing is."""
    words: Words = {"planned": [], "problem": ""}
    try:
        order = order_of(format, unit, up_axis, fps, angles, subdivided)
        with db.session() as session:
            words["planned"] = plan_batch(session, places, shot, order, pattern)
    except Problem as problem:
        words["problem"] = f"{problem.what[:1].upper()}{problem.what[1:]} {problem.remedy}".strip()
    return templates.TemplateResponse(request, "delivery_plan.html", words)


@router.post("/deliveries/write")
def write(
    request: Request, db: Db, places: Places, show: Whole, format: Text, pattern: Text = "", unit: Text = "m",
    up_axis: Text = "y", fps: Text = "", angles: Text = "xyz", subdivided: Whole = 0, shot: Numbers = [],  # noqa: B006
) -> Response:  # fmt: skip
    """Put the files of all chosen shots into the queue."""
    order = order_of(format, unit, up_axis, fps, angles, subdivided)
    with db.session() as session:
        order_batch(session, places, shot, order, pattern)
    with db.session() as session:
        return templates.TemplateResponse(request, "delivery_list.html", _list(session, show))


@router.post("/deliveries/stop")
def stop(request: Request, db: Db, number: Whole, show: Whole) -> Response:
    """Stop a delivery; no half file is left."""
    with db.session() as session:
        stop_delivery(session, number)
        session.flush()
        return templates.TemplateResponse(request, "delivery_list.html", _list(session, show))
