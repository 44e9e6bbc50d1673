"""The queue page: who works on what, how long it will take, and what was done in the last hours."""

from __future__ import annotations

import datetime

from fastapi import APIRouter, Request
from fastapi.responses import Response
from sqlalchemy.orm import Session

from zembrik.core.problem import Problem
from zembrik.library.bakes import ask_stop, retry
from zembrik.library.errands import ask_stop as stop_errand
from zembrik.library.queue import of_other_editions, take_over_editions
from zembrik.library.queue_view import failed_bakes, first_in_line, last_hours, other_work, waiting_bakes, workers
from zembrik.library.settings import Settings
from zembrik.library.shots import get_shot
from zembrik.web.fields import Whole
from zembrik.web.render import Db, Places, Words, templates

router = APIRouter()


@router.get("/queue")
def show(request: Request, db: Db, places: Places) -> Response:
    """Show the queue."""
    with db.session() as session:
        return _shown(request, session, places)


@router.post("/queue/{what}")
def change(request: Request, db: Db, places: Places, what: str, number: Whole) -> Response:
    """Stop a bake or an errand, let a bake be the next one, try a failed one again, or let another edition bake."""
    with db.session() as session:
        if what == "stop":
            ask_stop(session, number)
        elif what == "stop-errand":
            stop_errand(session, number)
        elif what == "first":
            first_in_line(session, number)
        elif what == "again":
            retry(session, number)
        elif what == "take-over":
            take_over_editions(session)
        else:
            raise Problem(f"there is nothing to do called '{what[:30]}'.", "queue", "Load the page again.")
    with db.session() as session:
        return _shown(request, session, places)


def _shown(request: Request, session: Session, places: Settings) -> Response:
    now = datetime.datetime.now(datetime.UTC)
    deliveries, errands = other_work(session)
    hours = last_hours(session, now)
    failed = [(bake, get_shot(session, bake.shot_id)) for bake in failed_bakes(session)]
    words: Words = {
        "bakes": waiting_bakes(session, places), "deliveries": deliveries, "errands": errands, "failed": failed,
        "hours": hours, "most": max([h.ended for h in hours] + [1]), "workers": workers(session),
        "others": of_other_editions(session),
    }  # fmt: skip
    name = "queue_list.html" if request.headers.get("hx-request") else "queue.html"
    return templates.TemplateResponse(request, name, words)
