"""Takes on the Motion station: kept, named, favoured, used; and a body's keys in time."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, File, Request, UploadFile
from fastapi.responses import Response

from zembrik.core.problem import Problem
from zembrik.library.errands import ask, get_errand
from zembrik.library.hand_takes import hand_patch, is_by_hand
from zembrik.library.motion_in import ask_for_take
from zembrik.library.retiming import retimed
from zembrik.library.shots import Patch, get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.library.takes import favour_take, get_take, keep_take, remove_take, rename_take, use_take
from zembrik.web.dials import from_shown
from zembrik.web.fields import Id, Text, Whole
from zembrik.web.pages.bench import render_bench
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places, templates

router = APIRouter()


@router.post("/shots/{shot_id}/keep-take")
def keep(
    request: Request, db: Db, places: Places, shot_id: Id, name: Text, what: Text, bake: Whole = 0,
    bound_mm: Text = "1", bound_deg: Text = "0.5", body: Text = "",
) -> Response:  # fmt: skip
    """Keep a body's motion, everything that moves by keys, or what a bake's rigid bodies did, under a name."""
    if what == "bake":
        order = {
            "bake": bake, "name": name, "bodies": [], "angles": "",
            "bound_m": from_shown("bound_mm", bound_mm) / 1e3, "bound_deg": from_shown("bound_deg", bound_deg),
        }  # fmt: skip
        with db.session() as session:
            errand = ask(session, shot_id, "take", order, again=True)
            number = errand.id
        with db.session() as session:
            words = {"errand": get_errand(session, number), "shot_id": shot_id, "station": "motion", "body_name": body}
            return templates.TemplateResponse(request, "errand.html", words)
    with db.session() as session:
        keep_take(session, shot_id, name, [body] if what == "body" else [])
        session.flush()
        response = render_bench(request, session, places, shot_id, "motion", body, open_takes=True)
    response.headers["HX-Retarget"] = "#panel"
    return response


@router.post("/shots/{shot_id}/motion/upload")
def from_file(
    request: Request, db: Db, places: Places, shot_id: Id, file: Annotated[UploadFile, File()], name: Text = "",
    for_whom: Text = "names", stands: Text = "there", unit: Text = "", up_axis: Text = "", begins: Text = "",
    bound_mm: Text = "0.5", bound_deg: Text = "0.2", body: Text = "",
) -> Response:  # fmt: skip
    """Have a worker make a take of what moves in a file; the answer is what to watch it by."""
    with db.session() as session:
        number = ask_for_take(
            session, places, shot_id, file.file, file.filename or "motion", name, body if for_whom == "body" else "",
            stands != "elsewhere", unit, up_axis, float(from_shown("frame", begins)) if begins.strip() else None,
            from_shown("bound_mm", bound_mm) / 1e3, from_shown("bound_deg", bound_deg),
        ).id  # fmt: skip
    with db.session() as session:
        words = {"errand": get_errand(session, number), "shot_id": shot_id, "station": "motion", "body_name": body}
        return templates.TemplateResponse(request, "errand.html", words)


@router.post("/shots/{shot_id}/takes/{what}")
def change(
    request: Request, db: Db, places: Places, shot_id: Id, what: str, take: Whole, name: Text = "", body: Text = ""
) -> Response:
    """Favour, rename or take away a take."""
    with db.session() as session:
        show_id = get_shot(session, shot_id).show_id
        if what == "favour":
            favour_take(session, show_id, take)
        elif what == "rename":
            rename_take(session, show_id, take, name)
        elif what == "remove":
            remove_take(session, show_id, take)
        else:
            raise Problem(f"there is nothing to do called '{what[:30]}'.", "takes", "Load the page again.")
        session.flush()
        return render_bench(request, session, places, shot_id, "motion", body, open_takes=True)


@router.post("/shots/{shot_id}/use-take")
def use(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, source: Text, to: Text = "body",
    begins: Text = "", x: Text = "0", y: Text = "0", z: Text = "0", parent: Text = "", station: Text = "motion",
    body: Text = "",
) -> Response:  # fmt: skip
    """Give this body a track of a take, or all bodies of the same names theirs."""
    number, _, track = source.partition("/")
    start = float(from_shown("frame", begins)) if begins.strip() else None
    offset = (from_shown("offset", x), from_shown("offset", y), from_shown("offset", z))
    with db.session() as session:
        shot = get_shot(session, shot_id)
        take = get_take(session, shot.show_id, int(number) if number.isdigit() else 0)
        who = None if to == "names" else body
        if is_by_hand(take):
            patch, told = hand_patch(head_setup(shot), take, StoredAssets(places))
        else:
            patch, told = use_take(head_setup(shot), take, who, track or None, start, offset, parent or None)
        note = f"take {take.name}"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, body, told)


@router.post("/shots/{shot_id}/retime")
def retime(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, how: Text, one: Text = "",
    two: Text = "", station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Shift, trim, loop a body's keyed motion, take it to another frame rate, or key it anew."""
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
    if not 0 <= number < len(setup.bodies):
        raise Problem("there is no such body.", "motion", "Load the page again.")
    last = from_shown("last frame", two) if how == "trim" else 0.0
    motion, told, note = retimed(setup, number, how, from_shown("number", one), last)
    patch: Patch = [{"op": "add", "path": f"/bodies/{number}/motion", "value": motion}]
    return apply_patch(request, db, places, shot_id, base, patch, note, station, body, told)
