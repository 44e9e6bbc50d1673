"""Trials: planned on the Quality station, looked at side by side on their sheet, one of them adopted."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import Response
from sqlalchemy.orm import Session

from zembrik.core.mesh.density import spacing_of
from zembrik.core.motion.track import most_of, scaled
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import placed_mesh
from zembrik.core.setup.document import Setup, parse_setup
from zembrik.core.setup.keyed import is_keyed
from zembrik.core.setup.resolve import resolve
from zembrik.core.trials.leverage import design
from zembrik.core.trials.plan import MOST_TRIALS, DialValues, Trial, count_of, trials_of
from zembrik.library.bakes import bakes_of, discard, progress_of
from zembrik.library.intake import respaced_body
from zembrik.library.models import TrialSheet
from zembrik.library.settings import Settings
from zembrik.library.shots import Conflict, get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.library.trials import (
    adopt,
    create_sheet,
    get_sheet,
    stop_all,
    throw_away,
    trial_of,
)
from zembrik.web.dials import from_shown
from zembrik.web.fields import Asked, Id, Text, Whole
from zembrik.web.pages.trial_dials import range_of, turnable, values_of
from zembrik.web.pages.trial_words import sheet_words
from zembrik.web.render import Db, Places, Words, templates

router = APIRouter()
QUICK_FRAMES = 48  # of a look at three spacings
CHEAP_SUBSTEPS = 10  # of a screening


def _dials(setup: Setup, chosen: list[tuple[str, str]]) -> list[DialValues]:
    known = {t.key: t for t in turnable(setup, resolve(setup))}
    dials: list[DialValues] = []
    for key, text in chosen:
        if not key or not text.strip():
            continue
        if key not in known:
            raise Problem("one of the dials is not there any more.", "trials", "Load the page again.")
        if any(d.paths == known[key].paths for d in dials):
            raise Problem("the same dial was chosen twice.", "trials", "Choose two different ones.")
        dials.append(values_of(known[key], text))
    return dials


@router.post("/shots/{shot_id}/plan-trials")
def plan(
    request: Request, db: Db, places: Places, shot_id: Id, last: Text, one: Text, one_values: Text = "",
    two: Text = "", two_values: Text = "", coarser: Text = "",
) -> Response:  # fmt: skip
    """Return how many runs a plan has and what they will take; nothing is started."""
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
        dials = _dials(setup, [(one, one_values), (two, two_values)])
        count = count_of(dials)
        words: Words = {"shot_id": shot_id, "count": count, "most": MOST_TRIALS, "fields": {
            "one": one, "one_values": one_values, "two": two, "two_values": two_values, "last": last,
            "coarser": coarser}}  # fmt: skip
        words["labels"] = [t.label for t in trials_of(dials)] if 2 <= count <= MOST_TRIALS else []
        seconds = _estimate(session, places, shot_id, setup, dials, int(from_shown("last frame", last)))
        words["seconds"] = seconds and (seconds / 4 if coarser else seconds)
        return templates.TemplateResponse(request, "trial_plan.html", words)


def _estimate(
    session: Session, places: Settings, shot_id: int, setup: Setup, dials: list[DialValues], last: int
) -> float | None:
    """Return how long all runs will take one after the other, s, from the last bake; None while nothing was baked."""
    for bake in bakes_of(session, shot_id):
        progress, _ = progress_of(places, bake)
        if progress.done > 1 and not bake.handed_in:
            break
    else:
        return None
    before, resolved = resolve(parse_setup(bake.document)), resolve(setup)
    a_pass = progress.seconds / before.passes_of(progress.done)
    now = resolved.document["quality"]
    passes = resolved.passes_of(last - setup.frames[0] + 1)
    for dial in dials:
        name = dial.paths[0].rsplit("/", 1)[-1]
        if name in ("substeps", "iterations"):
            mean = sum(float(v) for v in dial.values) / max(len(dial.values), 1)
            passes *= mean / now[name]
    return a_pass * passes * count_of(dials)


@router.post("/shots/{shot_id}/trials")
def run(
    request: Request, db: Db, places: Places, shot_id: Id, last: Text, one: Text, one_values: Text = "",
    two: Text = "", two_values: Text = "", coarser: Text = "",
) -> Response:  # fmt: skip
    """Queue all runs of a plan and open their sheet; coarser: with the points of every cloth twice as far apart."""
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
        dials = _dials(setup, [(one, one_values), (two, two_values)])
        title = " and ".join(d.label for d in dials) + (", coarser" if coarser else "")
        base = _respaced(session, places, setup, 2.0) if coarser else None
        end = int(from_shown("last frame", last))
        sheet = create_sheet(session, shot_id, title, trials_of(dials), end, base=base)
        return _opened(sheet)


@router.post("/shots/{shot_id}/proof")
def prove(
    request: Request, db: Db, places: Places, shot_id: Id, last: Text, bound: Text, spacing: Text = ""
) -> Response:
    """Queue runs of the shot with its substeps, twice and four times as many, and open their sheet.

    With `spacing` there is one more, with its substeps and points half as far apart on every cloth.
    """
    bound_mm = float(from_shown("bound", bound))
    if not bound_mm > 0.0:
        raise Problem("near enough is more than nothing.", "proof", "Type a distance, as in 2 mm.")
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
        now = resolve(setup).quality("substeps")
        dials = [scaled(now, factor) for factor in (1, 2, 4)]
        steps = [round(most_of(dial)) for dial in dials]
        trials = [
            Trial(f"{'up to ' if is_keyed(now) else ''}{n} substeps",
                  [{"op": "add", "path": "/quality/substeps", "value": dial}])
            for n, dial in zip(steps, dials, strict=True)
        ]  # fmt: skip
        plan: Words = {"bound_m": bound_mm / 1e3, "substeps": steps}
        if spacing:
            trials.append(Trial("half the spacing", _respaced(session, places, setup, 0.5)))
        end = int(from_shown("last frame", last))
        sheet = create_sheet(session, shot_id, f"proof within {bound_mm:g} mm", trials, end, "proof", plan)
        return _opened(sheet)


def _respaced(session: Session, places: Settings, setup: Setup, factor: float) -> list[Words]:
    """Return the patch that sets the points of every cloth so many times as far apart."""
    patch: list[Words] = []
    for number, body in enumerate(setup.bodies):
        if body.role == "cloth":
            spacing_m = factor * spacing_of(placed_mesh(body, StoredAssets(places)))
            value = respaced_body(session, places, body, spacing_m)
            patch.append({"op": "replace", "path": f"/bodies/{number}", "value": value})
    if not patch:
        raise Problem("there is no cloth whose points could have another spacing.", "trials", "Leave that out.")
    return patch


@router.post("/shots/{shot_id}/leverage")
def screen(
    request: Request, db: Db, shot_id: Id, last: Text, spread: Text, walks: Text, seed: Text,
    dial: Annotated[list[str], Form()] = [],  # noqa: B006
) -> Response:  # fmt: skip
    """Queue a screening of some dials on a cheap version of the shot, and open its sheet."""
    share = float(from_shown("spread", spread)) / 100
    if not 0.0 < share < 1.0:
        raise Problem("dials are turned by more than 0 and less than 100 %.", "leverage", "Type a share, as in 50.")
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
        known = {t.key: t for t in turnable(setup, resolve(setup))}
        if any(key not in known for key in dial):
            raise Problem("one of the dials is not there any more.", "leverage", "Load the page again.")
        ranges = [range_of(known[key], share) for key in dict.fromkeys(dial)]
        planned = design(ranges, int(from_shown("walks", walks)), int(from_shown("seed", seed)))
        cheap = min(resolve(setup).least_count("substeps"), CHEAP_SUBSTEPS)
        base = [{"op": "add", "path": "/quality/substeps", "value": cheap}]  # a dial that is turned comes after it
        trials = [Trial(t.label, base + t.patch) for t in planned.trials]
        plan = {"labels": [r.label for r in ranges], "turned": planned.turned, "substeps": cheap}
        end = int(from_shown("last frame", last))
        sheet = create_sheet(session, shot_id, f"leverage of {len(ranges)} dials", trials, end, "leverage", plan)
        return _opened(sheet)


@router.post("/shots/{shot_id}/spacing-trials")
def spacings(request: Request, db: Db, places: Places, shot_id: Id, number: Whole) -> Response:
    """Queue a quick look at three spacings of a body's points, and open their sheet."""
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
        if not 0 <= number < len(setup.bodies):
            raise Problem("there is no such body.", "density", "Load the page again.")
        body = setup.bodies[number]
        now = spacing_of(placed_mesh(body, StoredAssets(places)))
        trials = []
        for factor in (2.0, 1.0, 0.5):
            spacing_m = float(f"{now * factor:.3g}") if factor != 1.0 else now
            changed = [] if factor == 1.0 else [
                {"op": "replace", "path": f"/bodies/{number}",
                 "value": respaced_body(session, places, body, spacing_m)}
            ]  # fmt: skip
            trials.append(Trial(f"{body.name} at {1e3 * spacing_m:.3g} mm", changed))
        last = min(setup.frames[1], setup.frames[0] + QUICK_FRAMES - 1)
        sheet = create_sheet(session, shot_id, f"spacing of {body.name}", trials, last)
        return _opened(sheet)


def _opened(sheet: TrialSheet) -> Response:
    return Response(status_code=204, headers={"HX-Redirect": f"/sheets/{sheet.id}"})


@router.get("/sheets/{sheet_id}")
def show(request: Request, db: Db, places: Places, sheet_id: Id) -> Response:
    """Show a sheet: all its trials moving by one clock, and what is told of each."""
    with db.session() as session:
        return templates.TemplateResponse(request, "trials.html", sheet_words(session, places, sheet_id))


@router.get("/sheets/{sheet_id}/table")
def table(request: Request, db: Db, places: Places, sheet_id: Id, busy: Asked = 1) -> Response:
    """Return the sheet's table alone; nothing where no run was busy on the page, and none is."""
    with db.session() as session:
        words = sheet_words(session, places, sheet_id)
        if not busy and not words["busy"]:
            return Response(status_code=204)
        return templates.TemplateResponse(request, "trial_table.html", words)


@router.post("/sheets/{sheet_id}/{what}")
def change(request: Request, db: Db, places: Places, sheet_id: Id, what: str, trial: Whole = 0) -> Response:
    """Mark a trial, hold the others against it, throw it away, adopt it; stop or throw away all."""
    try:
        with db.session() as session:
            sheet = get_sheet(session, sheet_id, lock=True)
            if what == "stop":
                stop_all(session, sheet_id)
            elif what == "throw-away":
                shot_id = throw_away(session, places, sheet_id)
                return Response(status_code=204, headers={"HX-Redirect": f"/shots/{shot_id}/quality"})
            else:
                one = trial_of(session, sheet_id, trial)
                if what == "mark":
                    one.marked = not one.marked
                elif what == "choose":
                    sheet.chosen_id = None if sheet.chosen_id == one.id else one.id
                elif what == "discard":
                    if one.adopted:
                        raise Problem("the trial was adopted: it is the shot's now.", "trials", "Discard it on Bake.")
                    discard(session, places, one.id)
                elif what == "adopt":
                    adopt(session, sheet_id, one.id)
                else:
                    raise Problem(f"there is nothing to do called '{what[:30]}'.", "trials", "Load the page again.")
            session.flush()
            return templates.TemplateResponse(request, "trial_table.html", sheet_words(session, places, sheet_id))
    except Conflict as conflict:
        raise Problem(
            f"{conflict.path} was changed since the sheet was made.", "trials", "Set it back, or run the trials again."
        ) from None
