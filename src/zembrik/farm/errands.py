"""What a worker does for a page: proxies measured, ways out of overlaps worked out, a start probed."""

from __future__ import annotations

import datetime
import logging
import threading
import time
import traceback
from collections.abc import Callable
from typing import Any

from sqlalchemy import null, select, update

from zembrik.core.problem import Problem
from zembrik.core.setup.assets import load_mesh
from zembrik.core.setup.document import Body, FileMesh, Setup, parse_setup
from zembrik.core.setup.resolve import resolve
from zembrik.core.telling import Stopped, Tell, step
from zembrik.farm.picture import make_picture
from zembrik.library.author import acting_as
from zembrik.library.database import Database
from zembrik.library.errands import fits_from, fits_order, key_of, remember, result_of
from zembrik.library.findings import compute_findings
from zembrik.library.mending import MOST_LIT
from zembrik.library.models import Errand, Revision, Shot
from zembrik.library.queue import ERRAND, REBAKE, enqueue
from zembrik.library.store import StoredAssets, take_in_held

Order = dict[str, Any]
Run = Callable[[Database, int, Order, Tell], Order]
TELL_EVERY_S = 0.2
log = logging.getLogger("zembrik.worker")


def run_errand(database: Database, number: int, leaving: threading.Event) -> None:
    """Do an errand and keep its result; where this worker leaves first, it goes back into the queue."""
    with database.session() as session:
        job = session.get(Errand, number, with_for_update=True)
        if job is None or job.state not in ("queued", "running"):
            return
        job.state = "running"
        kind, order, shot_id, who = job.kind, dict(job.order), job.shot_id, job.author
    told = [0.0]

    def tell(done: int, total: int) -> bool:
        if time.monotonic() - told[0] < TELL_EVERY_S:
            return not leaving.is_set()
        told[0] = time.monotonic()
        with database.session() as session:
            row = session.get(Errand, number)
            if row is None:
                return False
            row.done, row.total = done, total
            return not row.stop_asked and not leaving.is_set()

    state, error, result = "failed", "", None
    try:
        with acting_as(who):
            result = RUNS[kind](database, shot_id, order, tell)
        state = "done"
    except Stopped:
        state = "queued" if leaving.is_set() else "stopped"
    except Problem as problem:
        error = f"{problem.what[:1].upper()}{problem.what[1:]} {problem.remedy}".strip()
    except Exception as fault:  # a fault of ours must show on the page, not only in the log
        log.error("errand %s: %s", number, traceback.format_exc())
        error = f"A fault in the program: {type(fault).__name__}: {fault}"[:500]
    with database.session() as session:
        row = session.get(Errand, number, with_for_update=True)
        if row is not None:
            row.state, row.error, row.result = state, error, result
            row.ended = None if state == "queued" else datetime.datetime.now(datetime.UTC)
            if state == "queued":
                enqueue(session, REBAKE if kind == "rebake" else ERRAND, number)
        if kind == "fits" and state == "done":
            # What findings tell of a proxy may have waited for it.
            head = select(Shot.head_id).where(Shot.id == shot_id).scalar_subquery()
            session.execute(update(Revision).where(Revision.id == head).values(findings=null()))


def _setup_of(database: Database, order: Order) -> Setup:
    with database.session() as session:
        revision = session.get(Revision, order["revision"])
        if revision is None:
            raise Problem("the setup it was asked of is gone.", "errand", "Load the page again.")
        return parse_setup(revision.document)


def _findings(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Look a setup over."""
    step(tell, 0, 0)
    with database.session() as session:
        revision = session.get(Revision, order["revision"])
        if revision is None:
            raise Problem("the setup it was asked of is gone.", "errand", "Load the page again.")
        compute_findings(session, database.settings, revision, parse_setup(revision.document))
    return {"title": "Looked over", "patch": [], "words": "The setup was looked over."}


def _fits(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Hold every proxy that a body may have against its mesh."""
    from zembrik.core.proxy.candidates import measure_candidates

    fits = measure_candidates(order["body"], order["kinds"], order["proxy"], StoredAssets(database.settings), tell)
    return {"fits": {kind: fit if isinstance(fit, str) else fit.plain() for kind, fit in fits.items()}}


def _fit_all(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Find for every collider and rigid body the proxy that is recommended; copies are measured once."""
    from zembrik.core.proxy.candidates import recommended

    setup, assets = _setup_of(database, order), StoredAssets(database.settings)
    resolved = resolve(setup).document["bodies"]
    patch: list[Order] = []
    counts: dict[str, int] = {}
    wanted = [(number, body) for number, body in enumerate(setup.bodies) if body.role in ("collider", "rigid")]
    for k, (number, body) in enumerate(wanted):
        proxy = resolved[number]["proxy"]
        one = fits_order(body, proxy)
        with database.session() as session:
            result = result_of(session, "fits", one)
        if result is None:

            def within(done: int, total: int, k: int = k) -> bool:
                return tell(100 * k + 100 * done // total, 100 * len(wanted))

            result = _fits(database, shot_id, one, within)
            with database.session() as session:
                remember(session, shot_id, "fits", one, result)
        elif not tell(100 * k, 100 * len(wanted)):
            raise Stopped
        advice = recommended(fits_from(result), one["body"], body.role, proxy["kind"], assets)
        if advice and advice[0] != proxy["kind"]:
            patch.append({"op": "add", "path": f"/bodies/{number}/proxy/kind", "value": advice[0]})
            counts[advice[0]] = counts.get(advice[0], 0) + 1
    if not patch:
        return {"title": "All proxies", "patch": [], "words": "Every body has the proxy that is recommended for it."}
    told = ", ".join(f"{n} × {kind}" for kind, n in sorted(counts.items()))
    words = f"{len(patch)} of {len(wanted)} bodies get another proxy: {told}."
    return {"title": "All proxies", "patch": patch, "words": words}


def _way(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Work out a way to end the overlaps at the start."""
    from zembrik.core.start.propose import propose

    found = propose(
        _setup_of(database, order), StoredAssets(database.settings), order["way"], order.get("frames", 12), tell
    )
    return {"title": found.way, "patch": found.patch, "words": found.words}


def _probe(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Let the overlaps alone act for some frames."""
    from zembrik.core.start.propose import probe_start

    words = probe_start(_setup_of(database, order), StoredAssets(database.settings), tell)
    return {"title": "Probe", "patch": [], "words": words}


def _audit(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Look a mesh over."""
    from zembrik.core.mesh.audit import audit

    step(tell, 0, 0)
    return audit(load_mesh(Body.model_validate(order["body"]), StoredAssets(database.settings))).plain(MOST_LIT)


def _mend(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Take one kind of flaw out of a body's mesh; the file is kept, the old one too."""
    from zembrik.library.intake import mended_file
    from zembrik.library.mending import told_of_mend

    setup, assets = _setup_of(database, order), StoredAssets(database.settings)
    number = _number_of(setup, order)
    old, kind = setup.bodies[number], order["flaw"]
    step(tell, 0, 3)
    with database.session() as session:
        mesh = mended_file(session, database.settings, old, kind)
    new = old.model_copy(update={"mesh": FileMesh.model_validate(mesh)})
    step(tell, 1, 3)
    words = told_of_mend(kind, *(load_mesh(b, assets) for b in (old, new)))
    patch = [{"op": "add", "path": f"/bodies/{number}/mesh", "value": mesh}]
    return {"title": f"Mended {old.name}", "patch": patch, "words": f"{words[:1].upper()}{words[1:]}."}


def _spacing(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Make a body's mesh anew with another spacing, or of even triangles; the file is kept, the old one too."""
    from zembrik.library.intake import respaced_body

    setup, assets = _setup_of(database, order), StoredAssets(database.settings)
    number = _number_of(setup, order)
    step(tell, 0, 0)
    old, even = setup.bodies[number], bool(order.get("even"))
    with database.session() as session:
        body = respaced_body(session, database.settings, old, order["spacing_m"], even)
    before, after = (len(load_mesh(b, assets).faces) for b in (old, Body.model_validate(body)))
    spacing = f"{1e3 * order['spacing_m']:.4g} mm"
    words = f"{before:,} faces become {after:,}, their points about {spacing} apart."
    if even:
        words = f"{before:,} faces become {after:,} that are all about alike, {spacing} a side."
    patch = [{"op": "replace", "path": f"/bodies/{number}", "value": body}]
    title = f"Even triangles for {old.name}" if even else f"Another spacing for {old.name}"
    return {"title": title, "patch": patch, "words": words}


def _read(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Read a large file that was handed in."""
    step(tell, 0, 0)
    with database.session() as session:
        return {"reference": take_in_held(session, database.settings, order["sha256"], order["name"])}


def _keys(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Turn simulated bodies of a bake into keyed ones."""
    from zembrik.core.cache.reader import Cache
    from zembrik.library.bakes import cache_path, get_bake
    from zembrik.library.keying import key_bodies

    setup = _setup_of(database, order)
    with database.session() as session:
        cache = Cache(cache_path(database.settings, get_bake(session, order["bake"])))
    found = key_bodies(
        setup.document(), cache, order["bodies"], order["bound_m"], order["bound_deg"], order["angles"], tell
    )
    return {"title": "Keys instead of simulation", "patch": found.patch, "words": found.words, "plot": found.plot}


def _still(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Make a mesh of one frame of a baked body."""
    from zembrik.library.bakes import get_bake
    from zembrik.library.intake import still_body

    setup = _setup_of(database, order)
    step(tell, 0, 0)
    with database.session() as session:
        bake = get_bake(session, order["bake"])
        body = still_body(
            session, database.settings, setup, bake, order["body"], order["frame"], order["thickness_m"],
            order["rounds"],
        )  # fmt: skip
    mesh = load_mesh(Body.model_validate(body), StoredAssets(database.settings))
    words = (
        f"'{body['name']}' has {len(mesh.points):,} points and {len(mesh.faces):,} faces and is "
        f"{'closed' if mesh.is_closed else 'open, as the sheet is'}. It is left out until it is given a role."
    )
    patch = [{"op": "add", "path": "/bodies/-", "value": body}]
    return {"title": f"Still of {order['body']} at frame {order['frame']}", "patch": patch, "words": words}


def _take(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Keep what bodies of a bake did as a take."""
    from zembrik.library.takes import keep_take_of_bake

    with database.session() as session:
        take = keep_take_of_bake(
            session, database.settings, order["bake"], order["name"], order["bodies"], order["bound_m"],
            order["bound_deg"], order["angles"], tell,
        )  # fmt: skip
        keys = sum(len(track["motion"]["translate"]["keys"]) for track in take.tracks)
        count, number = len(take.tracks), take.id
    words = f"'{order['name']}' holds {count} bod{'ies' if count > 1 else 'y'} with {keys:,} keys of place."
    return {"title": "Kept as a take", "patch": [], "words": words, "take": number}


def _motion_in(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Keep the motion in a file as a take."""
    from zembrik.library.motion_in import take_from_file

    with database.session() as session:
        take, words = take_from_file(session, database.settings, shot_id, order, tell)
        return {"title": "Kept as a take", "patch": [], "words": words, "take": take.id}


def _hand_in(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Keep a file that was handed in as a cache."""
    from zembrik.core.cache.reader import Cache
    from zembrik.library.bakes import cache_path
    from zembrik.library.handing_in import hand_in

    bake = hand_in(database, shot_id, order, tell)
    with database.session() as session:
        cache = Cache(cache_path(database.settings, session.merge(bake, load=True)))
    make_picture(cache, cache.path / "picture.png")
    who = f"{len(cache.names)} bodies" if len(cache.names) > 1 else f"'{cache.names[0]}'"
    words = f"{order['label']}: {who}, frames {cache.first} to {cache.done} at {cache.fps:g} a second, kept as a cache."
    return {"title": "Handed in", "patch": [], "words": words, "bake": bake.id}


def _re_seat(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Lay a bake's bodies on another surface, as a cache of its own."""
    from zembrik.core.cache.reader import Cache
    from zembrik.library.bakes import cache_path
    from zembrik.library.reseating import re_seat_bake

    found = re_seat_bake(database, shot_id, order, tell)
    with database.session() as session:
        cache = Cache(cache_path(database.settings, session.merge(found.bake, load=True)))
    make_picture(cache, cache.path / "picture.png")
    return {"title": "Re-seated", "patch": [], "words": found.words, "bake": found.bake.id, "base": order["bake"],
            "first": cache.first, "last": cache.last}  # fmt: skip


def _verify(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Look a cache over, every frame of it."""
    from zembrik.library.caches import verify

    step(tell, 0, 0)
    with database.session() as session:
        found = verify(session, database.settings, order["bake"])
    words = "; ".join(found[:5]) or "Every frame is as it was written."
    return {"title": "Looked over", "patch": [], "words": words, "damage": found[:50]}


def _rebake(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Bake the damaged frames of a cache again, and nothing else of it."""
    from zembrik.core.rebake import rebake
    from zembrik.library.bakes import cache_path, get_bake, refuse_approved
    from zembrik.library.caches import verify

    with database.session() as session:
        bake = get_bake(session, order["bake"])
        refuse_approved(bake)
        path, document = cache_path(database.settings, bake), {**bake.document, "frames": [bake.first, bake.last]}
    frames = rebake(parse_setup(document), StoredAssets(database.settings), path, tell)
    with database.session() as session:
        left = verify(session, database.settings, order["bake"])
    told = f"frame{'s' if len(frames) > 1 else ''} {', '.join(map(str, frames[:12]))}" if frames else "its tables"
    return {"title": "Baked again", "patch": [], "words": f"Written anew: {told}.", "frames": frames, "damage": left}


def _over_frames(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Hold a proxy that follows a changing mesh against it at every frame."""
    from zembrik.core.proxy.over_frames import fit_over_frames

    setup = _setup_of(database, order)
    number = _number_of(setup, order)
    proxy = resolve(setup).document["bodies"][number]["proxy"]
    assets = StoredAssets(database.settings)
    found = fit_over_frames(setup, number, proxy, assets, tell)
    figures = {"frames": found.frames.tolist(), "gap_m": found.gap_m.tolist(), "overhang_m": found.overhang_m.tolist()}
    return {"title": "Over all frames", "patch": [], "worst": found.worst, "at": found.at.tolist(), **figures}


def _number_of(setup: Setup, order: Order) -> int:
    for number, body in enumerate(setup.bodies):
        if body.name == order["body"]:
            return number
    raise Problem(f"there is no body '{order['body'][:80]}'.", "errand", "Load the page again.")


def _let_down(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Let bodies down to what is below them."""
    from zembrik.core.layout.gesture import numbers_of
    from zembrik.core.layout.let_down import let_down

    setup = _setup_of(database, order)
    found = let_down(setup, numbers_of(setup, order["names"]), StoredAssets(database.settings), tell)
    words = f"{found.words[:1].upper()}{found.words[1:]}."
    for name, why in list(found.held.items())[:3]:
        words += f" '{name}' {why} and stays."
    return {"title": found.words, "patch": found.patch, "words": words}


def _drop(database: Database, shot_id: int, order: Order, tell: Tell) -> Order:
    """Let bodies fall and keep where they come to lie, as a revision: whoever asked may be gone by then."""
    from zembrik.core.layout.drop import drop_bodies
    from zembrik.library.layers import keep_drop

    setup, assets = _setup_of(database, order), StoredAssets(database.settings)
    found = drop_bodies(setup, order, assets, tell)
    if found.fall.asked and not _stop_asked(database, shot_id, order):
        raise Stopped  # the worker leaves: another one drops them
    with database.session() as session:
        keep_drop(session, shot_id, order, found)
    return {"title": "Dropped", "patch": [], "words": found.words}


def _stop_asked(database: Database, shot_id: int, order: Order) -> bool:
    with database.session() as session:
        query = select(Errand.stop_asked).where(Errand.shot_id == shot_id, Errand.key == key_of("drop", order))
        return any(session.scalars(query.order_by(Errand.id.desc()).limit(1)))


RUNS: dict[str, Run] = {
    "findings": _findings,
    "fits": _fits, "fit all": _fit_all, "over frames": _over_frames, "way": _way, "probe": _probe,
    "audit": _audit, "mend": _mend, "spacing": _spacing, "read": _read,
    "keys": _keys, "verify": _verify, "still": _still, "hand in": _hand_in, "take": _take, "motion in": _motion_in,
    "rebake": _rebake, "re-seat": _re_seat, "let down": _let_down, "drop": _drop,
}  # fmt: skip
