"""What a trial sheet tells: of each run, and what all of them together are there to tell."""

from __future__ import annotations

from functools import lru_cache

from sqlalchemy.orm import Session

from zembrik.core.cache.reader import Cache
from zembrik.core.remember import Aside
from zembrik.core.setup.document import parse_setup
from zembrik.core.trials.figures import Apart, Figures, apart, figures_of
from zembrik.core.trials.leverage import effects, in_words
from zembrik.core.trials.proof import Verdict, judge
from zembrik.library.bakes import ACTIVE, progress_of
from zembrik.library.models import Bake, TrialSheet
from zembrik.library.settings import Settings
from zembrik.library.shots import get_shot
from zembrik.library.trials import get_sheet, trials_on
from zembrik.web.render import Words


@lru_cache(maxsize=512)
def _figures(path: str, done: int, opened: Aside[Cache]) -> Figures | None:
    return figures_of(opened.value)


@lru_cache(maxsize=512)
def _apart(path: str, done: int, other: str, other_done: int, opened: Aside[tuple[Cache, Cache]]) -> Apart | None:
    return apart(*opened.value)


def rows_of(places: Settings, chosen_id: int | None, trials: list[Bake]) -> list[Words]:
    """Return what is told of each bake, and how far it is from the chosen one."""
    opened = {b.id: progress_of(places, b) for b in trials}
    chosen = opened.get(chosen_id or 0, (None, None))[1]
    rows = []
    for bake in trials:
        progress, cache = opened[bake.id]
        row: Words = {"bake": bake, "progress": progress, "figures": None, "apart": None}
        if cache is not None and cache.done is not None:
            row["figures"] = _figures(str(cache.path), cache.done, Aside(cache))
            if chosen is not None and chosen.done is not None and bake.id != chosen_id:
                pair = (str(cache.path), cache.done, str(chosen.path), chosen.done)
                row["apart"] = _apart(*pair, Aside((cache, chosen)))
        rows.append(row)
    return rows


@lru_cache(maxsize=64)
def _verdict(paths: tuple[str, ...], bound_m: float, opened: Aside[list[Cache]]) -> Verdict | None:
    return judge(opened.value, bound_m)


def _proof(sheet: TrialSheet, trials: list[Bake], places: Settings) -> Words:
    """Return what a proof's runs tell, once all are done."""
    caches = [progress_of(places, b)[1] for b in trials]
    done = [c for c in caches if c is not None and c.done is not None]
    finer, done = done[len(sheet.plan["substeps"]) :], done[: len(sheet.plan["substeps"])]
    if len(done) < len(sheet.plan["substeps"]) or any(b.state != "done" for b in trials):
        return {"verdict": None}
    verdict = _verdict(tuple(str(c.path) for c in done), sheet.plan["bound_m"], Aside(done))
    if verdict is None:
        return {"verdict": None}
    top = max(float(w.mean_m.max()) for w in verdict.ways) or 1e-12
    across = 300 / max(len(verdict.ways[0].frames) - 1, 1)
    lines = [
        " ".join(f"{k * across:.1f},{57 - 54 * v / top:.1f}" for k, v in enumerate(w.mean_m.tolist()))
        for w in verdict.ways
    ]  # fmt: skip
    seconds = [float(c.figure("timing/seconds").sum()) for c in done]
    spaced = None
    if finer:
        pair = (str(finer[0].path), finer[0].done or 0, str(done[0].path), done[0].done or 0)
        spaced = _apart(*pair, Aside((finer[0], done[0])))
    return {
        "verdict": verdict, "spaced": spaced, "lines": lines, "top_mm": 1e3 * top, "seconds": seconds,
        "bound_mm": 1e3 * sheet.plan["bound_m"], "substeps": sheet.plan["substeps"],
    }  # fmt: skip


def _leverage(sheet: TrialSheet, trials: list[Bake], places: Settings) -> Words:
    """Return what turning each dial did, as far as it is known."""
    by_order = {b.id: progress_of(places, b)[1] for b in trials if b.state == "done"}
    planned = _runs(sheet, trials)
    moved: list[float | None] = []
    seconds: list[float | None] = []
    before: Cache | None = None
    for number, turned in zip(planned, sheet.plan["turned"], strict=False):
        cache = by_order.get(number) if number else None
        seconds.append(float(cache.figure("timing/seconds")[1:].mean()) if cache else None)
        way = None
        if cache and before and turned >= 0 and cache.done is not None and before.done is not None:
            pair = (str(cache.path), cache.done, str(before.path), before.done)
            found = _apart(*pair, Aside((cache, before)))
            way = found.mean_m if found else None
        moved.append(way)
        before = cache
    found_effects = effects(sheet.plan["labels"], sheet.plan["turned"][: len(moved)], moved, seconds)
    top = max((e.moved_m for e in found_effects), default=0.0)
    dear = max((e.cost for e in found_effects), default=1.0)
    rows = [
        {"effect": e, "words": in_words(e, top), "x": 40 + 240 * (e.moved_m / top if top else 0.0),
         "y": 106 - 86 * (e.cost - 1.0) / max(dear - 1.0, 0.5)}
        for e in found_effects
    ]  # fmt: skip
    return {"effects": rows, "top_mm": 1e3 * top, "dear": max(dear, 1.5), "cheap": sheet.plan["substeps"]}


def _runs(sheet: TrialSheet, trials: list[Bake]) -> list[int]:
    """Return the numbers of a screening's runs in the order of its design; 0 for one that was thrown away."""
    there = {b.id for b in trials}
    return [n if n in there else 0 for n in sheet.plan["runs"]]


def sheet_words(session: Session, places: Settings, sheet_id: int) -> Words:
    """Return everything the sheet's templates tell."""
    sheet = get_sheet(session, sheet_id)
    shot = get_shot(session, sheet.shot_id)
    trials = trials_on(session, sheet_id)
    return {
        "sheet": sheet, "shot": shot, "head": shot.head, "rows": rows_of(places, sheet.chosen_id, trials),
        "busy": any(b.state in ACTIVE for b in trials),
        "frames": [min((b.first for b in trials), default=1), max((b.last for b in trials), default=1)],
        "fps": parse_setup(sheet.revision.document).fps,
    } | _told(sheet, trials, places)  # fmt: skip


def _told(sheet: TrialSheet, trials: list[Bake], places: Settings) -> Words:
    return {"proof": _proof, "leverage": _leverage}.get(sheet.kind, lambda *_: {})(sheet, trials, places)
