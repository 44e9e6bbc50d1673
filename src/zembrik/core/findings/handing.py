"""Checks of handovers before a bake: what would jump there."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.findings.finding import Finding, set_value
from zembrik.core.motion.rigid import Mover
from zembrik.core.setup.document import Body, Setup
from zembrik.core.setup.resolve import resolve
from zembrik.core.solver.world import SimBody, World
from zembrik.core.start.overlap import A_TOUCH_M, collider_depths, places_of

Floats = NDArray[np.float64]
EARLIER = 48  # frames, as far back as a better one is looked for


def handover_findings(setup: Setup, world: World) -> list[Finding]:
    """Handovers that the shot never comes to, and those inside of a collider, with the kick that would give.

    The world's colliders are moved, and put back.
    """
    found, first = [], setup.frames[0]
    bodies = {body.name: body for body in world.bodies}
    for k, body in enumerate(setup.bodies):
        for n, spell in enumerate(body.spells if body.name in bodies else ()):
            at = f"/bodies/{k}/handovers/{n}/at" if body.handovers else f"/bodies/{k}/release"
            if spell.begin > setup.frames[1]:
                text = f"'{body.name}' is handed over at frame {spell.begin:g}, but the shot ends at {setup.frames[1]}."
                found.append(Finding("never_handed", "Motion", False, "A handover after the end", text, body.name))
            elif spell.begin >= first and (kick := _kick(setup, world, bodies[body.name], body, spell.begin, at)):
                found.append(kick)
    if any(body.spells for body in setup.bodies):
        world.colliders.move_to(first - setup.preroll)
    return found


def _kick(setup: Setup, world: World, sim: SimBody, body: Body, frame: float, path: str) -> Finding | None:
    """Return the finding that a body is inside a collider when it is handed over; None where it is not."""
    depth, name, at = _deepest(world, sim, frame)
    if depth < A_TOUCH_M:
        return None
    speed = depth * setup.fps * resolve(setup).count_at("substeps", frame)
    text = (
        f"At frame {frame:g} '{body.name}' is {1e3 * depth:.1f} mm inside '{name}': handed over there, it would be "
        f"kicked out at up to {speed:.1f} m/s."
    )
    earlier = (f for f in np.arange(frame - 1, max(frame - EARLIER, setup.frames[0]) - 1, -1))
    better = next((f for f in earlier if _deepest(world, sim, float(f))[0] < A_TOUCH_M), None)
    label, patch = "", []
    if better is not None:
        label, patch = f"Hand it over at frame {better:g}", [set_value(path, int(better))]
    else:
        text += " It is inside at all frames before, too: move its motion, or give the collider less thickness."
    title = "Handed over inside a collider"
    return Finding("handed_inside", "Motion", depth > 0.0005, title, text, body.name, at, label, patch)


def _deepest(world: World, sim: SimBody, frame: float) -> tuple[float, str, tuple[float, float, float]]:
    """Return how deep (m) a led body is in a collider at a frame, in which, and where."""
    world.colliders.move_to(frame)
    places, room = places_of(world, sim)
    mover = _leader(world, sim)
    if sim.rigid is not None and mover is not None:
        places = mover.points_at(places, frame)
    elif sim.rigid is None:
        handle = next(h for h in world.handles.every if h.spells and h.numbers[0] == sim.first)
        moved = world.x.copy()
        moved[handle.numbers] = handle.places(frame)
        places = sim.points(moved)
    best, whose, at = 0.0, "", places[0]
    for c, name in enumerate(world.colliders.names):
        depth, _ = collider_depths(world, c, places, room)
        if float(depth.max()) > best:
            best, whose, at = float(depth.max()), name, places[int(np.argmax(depth))]
    return best, whose, (round(float(at[0]), 5), round(float(at[1]), 5), round(float(at[2]), 5))


def _leader(world: World, sim: SimBody) -> Mover | None:
    return None if sim.rigid is None else world.solids.parts[sim.rigid].mover
