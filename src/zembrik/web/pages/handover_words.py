"""What the Motion and Review stations tell of handovers."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import numpy as np

from zembrik.core.cache.reader import Cache
from zembrik.core.problem import Problem
from zembrik.core.remember import Aside
from zembrik.core.setup.assets import mover_of_body, placed_mesh
from zembrik.core.setup.document import Setup, parse_setup
from zembrik.core.setup.materials import SIMULATED
from zembrik.core.setup.shown import seen_words
from zembrik.library.bakes import progress_of
from zembrik.library.models import Bake
from zembrik.library.settings import Settings
from zembrik.library.store import StoredAssets
from zembrik.web.render import Words

MOST_POINTS = 200_000  # of a mesh whose speed a page looks at


def handover_words(setup: Setup, number: int | None, places: Settings) -> Words:
    """Return what the Motion station tells of a body's handovers; nothing of a body that nothing moves."""
    if number is None:
        return {"handovers": None, "others": [], "seen": None}
    body = setup.bodies[number]
    words: Words = {"seen": seen_words(body.shown), "handovers": None}
    if body.motion is None and not body.moves_by_mesh:
        moving = [b.name for b in setup.bodies if b.motion is not None or b.moves_by_mesh]
        return words | {"others": moving if body.role in SIMULATED else []}
    rows = [
        {
            "at": int(spell.begin), "back": int(spell.end) if np.isfinite(spell.end) else None, "over": int(spell.over),
            "pace": pace_words(setup, number, spell.begin, places), "number": n,
        }
        for n, spell in enumerate(body.spells)
    ]  # fmt: skip
    roles = [] if body.role in SIMULATED else ["cloth", "soft"] if body.changes_form else list(SIMULATED)
    ended = bool(rows) and rows[-1]["back"] is None
    return words | {"handovers": rows, "hand_to": roles, "ended": ended, "others": []}


def pace_words(setup: Setup, number: int, frame: float, places: Settings) -> str:
    """Return in words how fast a body's motion goes where it is handed over: what physics begins with."""
    from zembrik.core.motion.rates import CAME, point_rates, pose_rates  # brings a library that takes a while to load

    assets = StoredAssets(places)
    try:
        mover, mesh = mover_of_body(setup, number, assets), placed_mesh(setup.bodies[number], assets)
    except Problem as problem:
        return problem.what
    if mover is None or len(mesh.points) > MOST_POINTS:
        return ""
    if mover.changes_form:
        rates = np.linalg.norm(point_rates(mover, mesh.points, frame, setup.fps, CAME), axis=1)
        return f"goes on with {rates.mean():.2f} m/s in the mean, {rates.max():.2f} at most"
    speed, spin = pose_rates(mover, mesh.points.mean(axis=0), frame, setup.fps, CAME)
    turning = np.degrees(np.linalg.norm(spin))
    return f"goes on with {np.linalg.norm(speed):.2f} m/s and {turning:.0f}°/s"


def pops_words(places: Settings, bake: Bake | None) -> list[Words]:
    """Return what the Review station tells of the handovers in a bake's frames."""
    if (
        bake is None
        or bake.handed_in
        or not any(b.get("handovers") or b.get("release") for b in bake.document["bodies"])
    ):
        return []
    _, cache = progress_of(places, bake)
    if cache is None or cache.done is None:
        return []
    return _pops(str(cache.path), cache.done, Aside((bake.document, places)))


@lru_cache(maxsize=64)
def _pops(path: str, done: int, aside: Aside[tuple[Words, Settings]]) -> list[Words]:
    from zembrik.core.review.pops import pops_of  # brings a library that takes a while to load

    document, places = aside.value
    found = pops_of(parse_setup(document), Cache(Path(path)), StoredAssets(places))
    return [{**pop.__dict__, "seen": pop.seen} for pop in found]
