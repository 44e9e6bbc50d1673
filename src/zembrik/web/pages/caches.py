"""The cache library's page: find, look over, approve, put into the trash."""

from __future__ import annotations

from fastapi import APIRouter, Request
from fastapi.responses import Response
from sqlalchemy.orm import Session

from zembrik.core.problem import Problem
from zembrik.library.caches import (
    SORTS,
    STATES,
    approve,
    ask_of_cache,
    delete_trashed,
    disapprove,
    find_caches,
    in_trash,
    space_of,
    take_back,
    trash,
    treemap,
)
from zembrik.library.placing import players
from zembrik.library.removal import last_removals, leftovers, remove_leftovers
from zembrik.library.settings import Settings
from zembrik.web.fields import Numbers, Text
from zembrik.web.render import Db, Places, Words, templates

router = APIRouter()
WIDE, HIGH = 1000.0, 120.0  # of the treemap
MOST_BOXES = 60
FILTERS = {"": "all", "true": "true", "stale": "stale", "partial": "not all frames", "trial": "trials",
           "foreign": "handed in", "approved": "approved", "unused": "may go", "damaged": "damaged",
           "trash": "trash"}  # fmt: skip


@router.get("/caches")
def library(request: Request, db: Db, places: Places, q: str = "", state: str = "", sort: str = "newest") -> Response:
    """Show the caches of all shows, filtered and sorted; for htmx the list alone."""
    with db.session() as session:
        return _shown(request, session, places, q, state, sort)


@router.post("/caches/{what}")
def change(
    request: Request, db: Db, places: Places, what: str, q: Text = "", state: Text = "", sort: Text = "newest",
    bake: Numbers = [],  # noqa: B006
) -> Response:  # fmt: skip
    """Do one thing to all caches that are ticked; what cannot be done to one is told and left."""
    told: list[str] = []
    done = 0
    if what not in ("approve", "disapprove", "trash", "take-back", "verify", "rebake", "empty", "leftovers"):
        raise Problem(f"there is nothing to do called '{what[:30]}'.", "caches", "Load the page again.")
    if what == "leftovers":
        with db.session() as session:
            count = remove_leftovers(session, places)
        told.append(f"{count} folder{'s' if count != 1 else ''} removed.")
    if what == "empty":
        with db.session() as session:
            bake = in_trash(session)
        told.append(
            f"{len(bake)} cache{'s' if len(bake) != 1 else ''} deleted for good; what could not be is told below."
        )
    for number in bake:
        try:
            with db.session() as session:
                _one(session, places, what, number)
            done += 1
        except Problem as problem:
            told.append(f"Cache {number}: {problem.what} {problem.remedy}".strip())
    if what == "verify" and done:
        told.append(f"{done} caches are being looked over, every frame of them.")
    if what == "rebake" and done:
        told.append(f"The damaged frames of {done} caches are in the queue; nothing else of them changes.")
    with db.session() as session:
        return _shown(request, session, places, q, state, sort, told)


def _one(session: Session, places: Settings, what: str, number: int) -> None:
    """Do it to one cache."""
    if what == "approve":
        approve(session, places, number)
    elif what == "disapprove":
        disapprove(session, places, number)
    elif what == "trash":
        trash(session, number)
    elif what == "take-back":
        take_back(session, number)
    elif what == "empty":
        delete_trashed(session, places, number)
    elif what in ("verify", "rebake"):
        ask_of_cache(session, number, what)


def _shown(
    request: Request, session: Session, places: Settings, q: str, state: str, sort: str, told: list[str] | None = None
) -> Response:
    if state not in FILTERS or sort not in SORTS:
        raise Problem("there is no such filter or order.", "caches", "Load the page again.")
    rows, count, size = find_caches(session, q, state, sort)
    words: Words = {"rows": rows, "players": players(session), "count": count, "bytes": size, "q": q,
                    "state": state, "sort": sort, "filters": FILTERS, "sorts": SORTS, "states": STATES,
                    "told": told or []}  # fmt: skip
    if request.headers.get("hx-request"):
        return templates.TemplateResponse(request, "cache_list.html", words)
    space = space_of(session)
    shown, rest = space[:MOST_BOXES], space[MOST_BOXES:]
    if rest:
        shown.append(("all others", f"{len(rest)} shots", 0, sum(r[3] for r in rest)))
        shown.sort(key=lambda s: -s[3])
    boxes = treemap([float(s[3]) for s in shown], WIDE, HIGH)
    words |= {
        "leftovers": [p.relative_to(places.caches).as_posix() for p in leftovers(session, places)],
        "removals": last_removals(session),
    }
    words |= {"boxes": [(box, shown[box.which]) for box in boxes], "all_bytes": sum(s[3] for s in space)}
    return templates.TemplateResponse(request, "caches.html", words)
