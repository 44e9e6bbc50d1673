"""Checks of whether thickness and substeps are enough for what the setup is to do."""

from __future__ import annotations

from itertools import combinations
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.field import distances
from zembrik.core.findings.finding import Finding, set_value
from zembrik.core.findings.outcome import MOST_SUBSTEPS
from zembrik.core.motion.track import extremes_of, scaled
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh
from zembrik.core.setup.document import Setup
from zembrik.core.setup.resolve import Resolved
from zembrik.core.solver.world import World
from zembrik.core.start.overlap import A_TOUCH_M, collider_depths, places_of

MOST_ROOMS = 2.0  # thicknesses of both sides that something may go in a substep
A_BOUNCE = 10.0  # substeps that a soft body's bounce takes at least, to come off as fast as it should
LEAST_FALL = 0.03  # of its size: what falls less bounces less than anyone sees
FACING = -0.3  # cosine of two ways out that point against each other
PER_FRAME = 4  # times a frame that a track's speed is read

Floats = NDArray[np.float64]


def _least(resolved: Resolved, number: int) -> float:
    """Return how thin (m) a body gets."""
    return extremes_of(resolved.document["bodies"][number]["thickness"])[0]


def _substeps(needed: int, otherwise: str) -> tuple[str, str, list[dict[str, Any]]]:
    """Return the remedy of so many substeps, as its label and patch; where they are too many, what to do otherwise."""
    if needed > MOST_SUBSTEPS:
        return f" Even {MOST_SUBSTEPS} substeps are too few: {otherwise}.", "", []
    return "", f"Use {needed} substeps", [set_value("/quality/substeps", needed)]


def fast_for_thickness(setup: Setup, resolved: Resolved, assets: Assets) -> list[Finding]:
    """A collider that goes farther in a substep than the room kept free: the cloth sinks in."""
    begin = setup.frames[0] - setup.preroll
    sheets = []
    for k, body in enumerate(setup.bodies):
        if body.role == "cloth":
            mesh = placed_mesh(body, assets)
            reach = 0.5 * float(mesh.size.max())  # it hangs and swings
            sheets.append((body.name, _least(resolved, k), mesh.bounds, reach))
    found = []
    for k, body in enumerate(setup.bodies):
        mover = mover_of_body(setup, k, assets) if body.role == "collider" and sheets else None
        if mover is None or mover.changes_form:
            continue
        low, high = placed_mesh(body, assets).bounds
        corners = np.array([[(low, high)[i >> n & 1][n] for n in range(3)] for i in range(8)])
        frames = np.arange(begin, setup.frames[1] + 0.5 / PER_FRAME, 1.0 / PER_FRAME)
        way = np.array([mover.points_at(corners, float(f)) for f in frames])
        steps = np.linalg.norm(np.diff(way, axis=0), axis=2).max(axis=1) * PER_FRAME  # metres a frame
        if not len(steps) or steps.max() == 0.0:
            continue
        counts = np.array([resolved.count_at("substeps", float(np.floor(f))) for f in frames[:-1]])
        worst = int(np.argmax(steps / counts))
        room = _least(resolved, k)
        least, most = way.reshape(-1, 3).min(axis=0), way.reshape(-1, 3).max(axis=0)
        met = [
            (room + thickness, name) for name, thickness, (floor, top), reach in sheets
            if (least <= top + reach).all() and (most >= floor - reach).all()
        ]  # fmt: skip
        if not met:
            continue
        rooms, name = min(met)
        step = float(steps[worst]) / int(counts[worst])
        if step <= MOST_ROOMS * rooms:
            continue
        needed = int(np.ceil(float(steps[worst]) / (MOST_ROOMS * rooms))) if rooms > 0.0 else MOST_SUBSTEPS + 1
        text = (
            f"'{body.name}' goes up to {steps[worst] * setup.fps:.3g} m/s, at frame {frames[worst]:.0f}: "
            f"{1e3 * step:.3g} mm in a substep. It and '{name}' are kept {1e3 * rooms:.3g} mm apart; beyond "
            f"{MOST_ROOMS * 1e3 * rooms:.3g} mm a substep the cloth sinks in."
        )
        more, label, patch = _substeps(needed, "give both more thickness, or slow it down")
        at = (float(v) for v in way[worst].mean(axis=0))
        found.append(
            Finding("fast_for_thickness", "Quality", False, "Too fast for its thickness", text + more, body.name,
                    (next(at), next(at), next(at)), label, patch)
        )  # fmt: skip
    return found


def squeezed(setup: Setup, resolved: Resolved, world: World) -> list[Finding]:
    """Points between two colliders whose gap is less than what all three thicknesses take: they cannot come to rest."""
    found, numbers = [], {body.name: k for k, body in enumerate(setup.bodies)}
    for body in world.bodies:
        if body.rigid is not None:
            continue
        x, room = places_of(world, body)
        touched = []
        for c, name in enumerate(world.colliders.names):
            depth, normal = collider_depths(world, c, x, room)
            if (depth > A_TOUCH_M).any():
                touched.append((name, float(world.colliders.touch.room[c]), depth, normal))
        worst: tuple[float, float, str, str, int] | None = None
        for (one, a, deep, way), (two, b, deeper, back) in combinations(touched, 2):
            between = (deep > A_TOUCH_M) & (deeper > A_TOUCH_M) & (np.einsum("ij,ij->i", way, back) < FACING)
            if not between.any() or one == two:
                continue
            wanted = a + b + 2.0 * room
            gap = np.where(between, wanted - deep - deeper, np.inf)
            k = int(np.argmin(gap))
            if worst is None or gap[k] < worst[0]:
                worst = float(gap[k]), float(wanted[k]), one, two, k
        if worst is None:
            continue
        gap_m, wanted_m, one, two, k = worst
        text = (
            f"'{body.name}' lies between '{one}' and '{two}', which are {1e3 * gap_m:.3g} mm apart; with the "
            f"thicknesses of all three it takes {1e3 * wanted_m:.3g} mm."
        )
        label, patch = "", []
        if gap_m > 0.0:
            share = 0.9 * gap_m / wanted_m
            label = f"Make all three {share:.2g} times as thick"
            for name in (body.name, one, two):
                if name in numbers:
                    held = resolved.document["bodies"][numbers[name]]["thickness"]
                    patch.append(set_value(f"/bodies/{numbers[name]}/thickness", scaled(held, float(f"{share:.3g}"))))
        at = (float(x[k, 0]), float(x[k, 1]), float(x[k, 2]))
        found.append(
            Finding("squeezed", "Quality", False, "No room between two colliders", text, body.name, at, label, patch)
        )
    return found


def quick_to_bounce(setup: Setup, resolved: Resolved, world: World) -> list[Finding]:
    """A soft body that falls, and springs back within fewer substeps than it takes to follow that.

    A blow goes through it and comes back in 2 L √(ρ / E): so long it touches (St Venant 1867, of bars). Boxes
    and balls that fall are within 3% of their size with 7 substeps in it, 1% with 14
    (docs/notes/2026-12-01-soft-hexahedra.md).
    """
    found = []
    for k, body in enumerate(setup.bodies):
        if body.role != "soft" or body.pins or body.motion is not None:
            continue
        mine = next(b for b in world.bodies if b.name == body.name)
        x = places_of(world, mine)[0]
        size = float(np.ptp(x, axis=0).max())
        if _fall_m(world, mine.name, x) <= LEAST_FALL * size:
            continue
        material = resolved.document["bodies"][k]["material"]
        young, density = extremes_of(material["young"])[1], extremes_of(material["density"])[0]
        seconds = 2.0 * size * float(np.sqrt(density / young))
        substeps = resolved.least_count("substeps")
        needed = int(np.ceil(A_BOUNCE / (seconds * setup.fps)))
        if needed <= substeps:
            continue
        text = (
            f"'{body.name}' is so stiff and light that a blow goes through it and back in {1e3 * seconds:.3g} ms, or "
            f"{seconds * setup.fps * substeps:.2g} substeps: it will land, but not bounce and roll off as it should."
        )
        more, label, patch = _substeps(needed, "let it be a rigid body")
        at = (float(v) for v in x.mean(axis=0))
        found.append(
            Finding("quick_to_bounce", "Quality", False, "Bounces too quickly for its substeps", text + more, body.name,
                    (next(at), next(at), next(at)), label, patch)
        )  # fmt: skip
    return found


def _fall_m(world: World, name: str, x: Floats) -> float:
    """Return how far a body at x (k, 3) falls, in metres, before anything below it can be in its way."""
    strength = float(np.linalg.norm(world.gravity))
    if strength == 0.0:
        return 0.0
    # Axes along gravity and across it: what lies beside it is not below it.
    axes = np.linalg.qr(np.column_stack([world.gravity / strength, np.eye(3)]))[0]
    axes[:, 0] = world.gravity / strength
    mine, falls = x @ axes, []
    places = [places_of(world, b)[0] for b in world.bodies if b.name != name]
    for c in range(len(world.colliders.names)):
        low, high = world.colliders.fields.low[c], world.colliders.fields.high[c]
        if np.isfinite(low).all():
            places.append(np.array([[(low, high)[k >> n & 1][n] for n in range(3)] for k in range(8)]))
        else:  # it has no end
            falls.append(float(distances(world.colliders.fields, c, x)[0].min()))
    for place in places:
        theirs = place @ axes
        beside = (mine.max(axis=0) < theirs.min(axis=0)) | (mine.min(axis=0) > theirs.max(axis=0))
        if not beside[1:].any() and theirs[:, 0].max() > mine[:, 0].min():
            falls.append(float(theirs[:, 0].min() - mine[:, 0].max()))
    return max(0.0, min(falls, default=0.0))
