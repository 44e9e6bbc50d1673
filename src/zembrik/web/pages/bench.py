"""The bench: one shot, one station's panel open at a time."""

from __future__ import annotations

import shutil
from functools import lru_cache
from types import SimpleNamespace
from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response
from sqlalchemy.orm import Session

from zembrik.core.exchange.delivery import FORMATS
from zembrik.core.exchange.read_any import ENDINGS, MOST_BYTES
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import placed_mesh
from zembrik.core.setup.document import Body, CacheMesh, FileMesh, Proxy, Setup, parse_setup
from zembrik.core.setup.materials import PRESETS, SIMULATED, filled_dials
from zembrik.core.setup.profiles import PROFILES
from zembrik.core.setup.resolve import Resolved, resolve
from zembrik.core.solver.figures import STATS
from zembrik.core.sources import solver_edition
from zembrik.core.units import UNIT_NAMES
from zembrik.library.advice import advice_for
from zembrik.library.bakes import ACTIVE, GONE, bakes_of, progress_of, shown_bake, stale_reasons
from zembrik.library.carrying import copies_without, is_carriable
from zembrik.library.deliveries import deliveries_of
from zembrik.library.errands import fits_order
from zembrik.library.findings import Looking, findings_of
from zembrik.library.layers import layers_of_show
from zembrik.library.models import Bake, Shot
from zembrik.library.proxies import kept_proxies
from zembrik.library.settings import Settings
from zembrik.library.shots import get_shot, head_setup, motions_of_show
from zembrik.library.store import StoredAssets
from zembrik.library.takes import takes_of_show
from zembrik.library.trials import sheets_of
from zembrik.web.dials import LABELS, Dial, dial
from zembrik.web.fields import Asked, Id
from zembrik.web.outcome import outcome_of
from zembrik.web.pages.fits import in_world, known_fits, rows_of
from zembrik.web.pages.handover_words import handover_words, pops_words
from zembrik.web.pages.layer_words import layer_words
from zembrik.web.pages.motion_words import held_words, motion_words
from zembrik.web.pages.profile import cost_words, set_by_hand
from zembrik.web.pages.trial_dials import turnable
from zembrik.web.render import Db, Places, Words, templates
from zembrik.web.stations import NAMES, stations
from zembrik.web.streams.status import work_of

router = APIRouter()


@router.get("/shots/{shot_id}")
def enter(shot_id: Id) -> Response:
    """Open the bench at its first station."""
    return RedirectResponse(f"/shots/{shot_id}/intake", 303)


@router.get("/shots/{shot_id}/{station}")
def bench(
    request: Request, db: Db, places: Places, shot_id: Id, station: str, body: str = "", takes: Asked = 0
) -> Response:
    """Show the bench with one station open; htmx gets only what changes."""
    if station not in NAMES:
        raise Problem(f"there is no station '{station}'.", "bench", f"The stations are {', '.join(NAMES)}.")
    with db.session() as session:
        return render_bench(request, session, places, shot_id, station, body, open_takes=bool(takes))


def render_bench(
    request: Request, session: Session, places: Settings, shot_id: int, station: str, body: str = "", **more: Any
) -> Response:
    """Return the whole bench, or for htmx its panel with the parts that go with it."""
    shot = get_shot(session, shot_id)
    words = bench_words(session, places, shot, station, body) | more
    session.commit()  # the connection is others' while this is rendered
    partial = bool(request.headers.get("hx-request"))
    name = "panel.html" if partial else "bench.html"
    response = templates.TemplateResponse(request, name, words | {"partial": partial})
    if partial:
        response.headers["HX-Trigger"] = f'{{"bench-changed": {{"revision": {shot.head.number if shot.head else 0}}}}}'
    return response


def bench_words(session: Session, places: Settings, shot: Shot, station: str, body: str) -> Words:
    """Return everything the bench's templates tell."""
    head = shot.head
    assert head is not None
    setup = head_setup(shot)
    resolved = resolve(setup)
    found = findings_of(session, places, head)
    findings = [] if isinstance(found, Looking) else found
    bakes = bakes_of(session, shot.id)
    shown = shown_bake(session, shot.id)
    deliveries = deliveries_of(session, shot.id)
    outcome = outcome_of(places, shown, findings)
    number = next((k for k, b in enumerate(setup.bodies) if b.name == body), None)
    if number is None:
        number = _usual_body(setup, station)
    words: Words = {
        "shot": shot,
        "head": head,
        "setup": setup,
        "resolved": resolved.document,
        "station": station,
        "stations": stations(setup, head, findings, shown, deliveries, outcome),
        "outcome": outcome,
        "looking": found.errand if isinstance(found, Looking) else 0,
        "findings": [dict(f, number=k) for k, f in enumerate(findings)],
        "bakes": bakes,
        "shown": shown,
        "stale": stale_reasons(shown, head) if shown else [],
        "number": number,
        "body": setup.bodies[number] if number is not None else None,
        "active": sum(b.state in ACTIVE for b in bakes),
        "figures": STATS,
        "main_figure": "worst_stretch" if any(b.role == "cloth" for b in setup.bodies) else "kinetic_energy",
        "can_undo": head.parent_id is not None,
        "can_redo": bool(shot.redo),
        "session": session,
        "away": not places.caches.is_dir(),
    }
    extra = {
        "intake": _intake, "proxies": _proxies, "start": _start, "motion": _motion, "quality": _quality,
        "bake": _bake, "review": _review, "deliver": _deliver,
    }[station]  # fmt: skip
    words |= {"deliveries": deliveries, "work": work_of(shown, deliveries)}
    return words | extra(setup, resolved, number, places, words)


def _usual_body(setup: Setup, station: str) -> int | None:
    """Return the body that a station is about when none is chosen."""
    wanted = {"proxies": ("collider", "rigid"), "quality": SIMULATED, "start": SIMULATED}.get(station)
    return next((k for k, b in enumerate(setup.bodies) if wanted is None or b.role in wanted), None)


def _mesh(body: Body, places: Settings) -> TriMesh | None:
    try:
        return placed_mesh(body, StoredAssets(places))
    except Problem:
        return None


@lru_cache(maxsize=256)
def _facts(document: str, places: Settings) -> Words | None:
    """Return what Intake tells of a body's placed mesh, remembered by the body's document."""
    mesh = _mesh(Body.model_validate_json(document), places)
    if mesh is None:
        return None
    return {
        "size": [float(v) for v in mesh.size],
        "points": len(mesh.points),
        "faces": len(mesh.faces),
        "spacing": float(np.median(mesh.edge_lengths)),
        "closed": mesh.is_closed,
    }


def _intake(setup: Setup, resolved: Resolved, number: int | None, places: Settings, words: Words) -> Words:
    taking = {"endings": ",".join(ENDINGS), "most_mb": round(MOST_BYTES / 1e6)}
    if number is None:
        return {"facts": None, **taking}
    body = setup.bodies[number]
    bare = Body(name=body.name, mesh=body.mesh, place=body.place).model_dump_json()
    facts = _facts(bare, places)
    if facts is not None:
        gravity = float(np.linalg.norm(setup.world.gravity)) or 9.81
        fall = (2 * facts["size"][1] / gravity) ** 0.5 * setup.fps
        facts = facts | {"people": max(facts["size"]) / 1.75, "fall": fall}
    place = [dial(resolved, f"/bodies/{number}/place/scale")]
    carriable = [b.name for b in setup.bodies if is_carriable(b) and b.name != body.name]
    alike = len(copies_without(setup, number)) if body.render is not None else 0
    return {
        "facts": facts, **taking, "dials": place, "is_file": isinstance(body.mesh, FileMesh),
        "plays": _plays(body, words["session"]),
        "carriable": carriable if body.role in SIMULATED else [], "alike": alike, "loose_meshes": len(carriable),
    }  # fmt: skip


def _plays(body: Body, session: Session) -> Words | None:
    """Return what is told of the cache that a body plays; None for one that plays none."""
    if not isinstance(body.mesh, CacheMesh):
        return None
    number = int(body.mesh.cache.rsplit("-", 1)[-1].removesuffix(".zarr"))
    bake = session.get(Bake, number)
    shot = session.get(Shot, bake.shot_id) if bake is not None and bake.state not in GONE else None
    return {"body": body.mesh.body, "number": number, "shot": shot and shot.id, "code": shot and shot.code}


def _proxies(setup: Setup, resolved: Resolved, number: int | None, places: Settings, words: Words) -> Words:
    rows = []
    chosen = ""
    dials: list[Dial] = []
    advice: tuple[str, str] | None = None
    sides, measured = "outside", True
    if number is not None and setup.bodies[number].role in ("collider", "rigid"):
        body, role = setup.bodies[number], setup.bodies[number].role
        proxy = Proxy.model_validate(resolved.document["bodies"][number]["proxy"])
        chosen, sides = proxy.kind, proxy.sides
        order = fits_order(body, resolved.document["bodies"][number]["proxy"])
        fits = known_fits(words["session"], order)
        rows, measured = rows_of(order, fits), fits is not None
        advice = advice_for(order, fits, places, chosen) if fits else None
        own = ("thickness", "friction", "bounce") if role == "collider" else ("thickness",)
        dials = [dial(resolved, f"/bodies/{number}/{name}") for name in own]
        if chosen == "hulls":
            dials = [dial(resolved, f"/bodies/{number}/proxy/{name}") for name in ("most", "hollow")] + dials
        if chosen == "shell":
            dials = [dial(resolved, f"/bodies/{number}/proxy/closes"), *dials]
        if chosen == "reduced":
            dials = [dial(resolved, f"/bodies/{number}/proxy/keep"), *dials]
    held = next((r["fit"] for r in rows if r["kind"] == chosen and not isinstance(r["fit"], str | None)), None)
    spots = []
    if held is not None and number is not None:
        spots = [in_world(setup.bodies[number], chosen, at) for at in (held.gap_at, held.overhang_at)]
    many = sum(b.role in ("collider", "rigid") for b in setup.bodies)
    kept = kept_proxies(words["session"], setup.bodies[number]) if number is not None else []
    return {
        "many": many,
        "measured": measured,
        "kept": kept,
        "spots": spots,
        "rows": rows,
        "chosen": chosen,
        "dials": dials,
        "sides": sides,
        "held": held,
        "advice": advice,
    }


def _start(setup: Setup, resolved: Resolved, number: int | None, places: Settings, words: Words) -> Words:
    dials = [dial(resolved, "/preroll")]
    if setup.world.ground is not None:
        dials += [dial(resolved, f"/world/ground/{name}") for name in ("height", "friction")]
    step = 0.1
    if number is not None and (mesh := _mesh(setup.bodies[number], places)) is not None:
        step = 1.1 * float(mesh.size.max())  # so that copies stand clear of each other
    return (
        {"dials": dials, "step": step}
        | layer_words(setup, number, places)
        | {"borrowable": layers_of_show(words["session"], words["shot"])}
    )


def _motion(setup: Setup, resolved: Resolved, number: int | None, places: Settings, words: Words) -> Words:
    shot: Shot = words["shot"]
    motions = motions_of_show(words["session"], shot, None if number is None else setup.bodies[number].name)
    takes = takes_of_show(words["session"], shot.show_id)
    baked = words["shown"] is not None and any(b.role == "rigid" for b in setup.bodies)
    in_hand = held_words(setup, number)
    told = motion_words(setup, resolved, number) | {"in_hand": in_hand} | handover_words(setup, number, places)
    return told | {"motions": motions, "takes": takes, "rigid_baked": baked}


def _quality(setup: Setup, resolved: Resolved, number: int | None, places: Settings, words: Words) -> Words:
    dials = [dial(resolved, f"/quality/{name}") for name in ("substeps", "iterations", "enough")]
    stuff: list[Dial] = []
    preset, presets = "", {}
    if number is not None and setup.bodies[number].role in SIMULATED:
        role = setup.bodies[number].role
        stuff = [dial(resolved, f"/bodies/{number}/material/{name}") for name in filled_dials(role)]
        stuff.insert(1, dial(resolved, f"/bodies/{number}/thickness"))
        if role == "soft":
            stuff.insert(1, dial(resolved, f"/bodies/{number}/cell"))
        preset, presets = resolved.document["bodies"][number]["material"]["preset"], PRESETS[role]
    return {
        "dials": dials,
        "contact": dial(resolved, "/quality/contact"),
        "itself": dial(resolved, "/quality/self_collision"),
        "stuff": stuff,
        "presets": presets,
        "preset": preset,
        "profiles": PROFILES,
        "profile": setup.quality.profile,
        "by_hand": [LABELS[name].lower() for name in set_by_hand(setup)],
        "cost": _against_daily(setup),
        "turnable": turnable(setup, resolved),
        "sheets": sheets_of(words["session"], words["shot"].id),
        "trials_last": min(setup.frames[1], setup.frames[0] + 47),
    }


def _against_daily(setup: Setup) -> str:
    """Return what the quality costs against plain daily, in words; nothing where it is that."""
    daily = setup.model_copy(update={"quality": type(setup.quality)(profile="daily")})
    words = cost_words(setup, daily)
    return "" if words == "as long as now" else words.replace("as now", "as daily")


def bake_rows(places: Settings, words: Words) -> list[Words]:
    """Return what the Bake station tells of each bake."""
    rows = []
    for bake in words["bakes"]:
        progress, _ = progress_of(places, bake)
        rows.append({"bake": bake, "progress": progress, "true": bake.setup_hash == words["head"].setup_hash})
    return rows


def _bake(setup: Setup, resolved: Resolved, number: int | None, places: Settings, words: Words) -> Words:
    rows = bake_rows(places, words)
    past = next((r for r in rows if r["progress"].done > 1 and not r["bake"].handed_in), None)
    guess = None
    if past:  # time grows in proportion to the passes over all frames
        before = resolve(parse_setup(past["bake"].document))
        a_pass = past["progress"].seconds / before.passes_of(past["progress"].done)
        guess = a_pass * resolved.passes_of(setup.frames[1] - setup.frames[0] + 1)
    shown: Bake | None = words["shown"]
    same = shown is not None and shown.setup_hash == words["head"].setup_hash
    held = shown.cache.done if same and shown and shown.cache else None
    return {
        "rows": rows,
        "dials": [dial(resolved, "/fps")],
        "guess_s": guess,
        "needs_bytes": expected_cache_bytes(setup, places),
        "free_bytes": shutil.disk_usage(places.home).free,
        "busy": same and shown is not None and shown.state in ACTIVE,
        "whole": held is not None and held >= setup.frames[1] and shown is not None and shown.state == "done",
        "carry_on": held is not None and held < setup.frames[1],
        "edition": _edition(places, shown) if same else "",
    }


BYTES_A_POINT, BYTES_A_POSE = 9.0, 90.0  # of a frame on disk: packed as the demo's shots are, and of a rigid body's


def expected_cache_bytes(setup: Setup, places: Settings) -> float:
    """Return about how much a bake of a setup takes on disk, from its points and frames."""
    points = 0.0
    for body in setup.bodies:
        if body.role in ("cloth", "soft"):
            bare = Body(name=body.name, mesh=body.mesh, place=body.place).model_dump_json()
            points += BYTES_A_POINT * float((_facts(bare, places) or {"points": 0})["points"])
        elif body.role == "rigid":
            points += BYTES_A_POSE
    return points * (setup.frames[1] - setup.frames[0] + 1)


def _edition(places: Settings, shown: Bake | None) -> str:
    """Return what is to be told of the solver that the bake shown is by; nothing where it is the one of now."""
    cache = progress_of(places, shown)[1] if shown is not None and not shown.handed_in else None
    editions = cache.editions if cache is not None else []
    if len(editions) > 1:
        return f"From frame {editions[-1][0]} on by another edition of the solver than before."
    if editions and editions[0][1] != solver_edition():
        return "Baked by another edition of the solver: baked anew, its frames may differ."
    return ""


def _review(setup: Setup, resolved: Resolved, number: int | None, places: Settings, words: Words) -> Words:
    shown = words["shown"]
    table, names = [], []
    outcome = words["outcome"]
    if shown is not None:
        _, cache = progress_of(places, shown)
        if cache is not None and cache.done is not None:
            names = cache.names
            for name, (unit, factor, text) in STATS.items():
                values = cache.figure(f"stats/{name}")
                worst = int(np.argmax(values))
                row = {"name": name, "unit": unit, "text": text, "peak": float(values[worst]) * factor}
                table.append(row | {"at": cache.first + worst, "end": float(values[-1]) * factor})
    comparable = [
        SimpleNamespace(id=b.id, label=b.label, revision=b.revision, created=b.created, frames=done)
        for b in words["bakes"] if (done := progress_of(places, b)[0].done)
    ]  # fmt: skip
    return {
        "table": table,
        "outcome": outcome,
        "comparable": comparable,
        "cached_bodies": names,
        "marks": words["shot"].marks or [],
        "pops": pops_words(places, shown),
        "seats_old": [b["name"] for b in shown.document["bodies"] if b.get("role") == "collider"] if table else [],
        "seats_new": [b.name for b in setup.bodies if b.role in ("collider", "left out")],
    }


def _deliver(setup: Setup, resolved: Resolved, number: int | None, places: Settings, words: Words) -> Words:
    shown = words["shown"]
    cache = progress_of(places, shown)[1] if shown is not None else None
    held = None if cache is None or cache.done is None else cache
    simulated = {b.name for b in setup.bodies if b.role in SIMULATED}
    keyable = [name for name in held.names if name in simulated] if held else []
    last = next(iter(deliveries_of(words["session"], words["shot"].id)), None)
    order = dict(last.order) if last is not None else {}
    return {"formats": FORMATS, "units": UNIT_NAMES, "cache": held, "keyable": keyable, "order": order,
            "carries": any(b.render is not None for b in setup.bodies)}  # fmt: skip
