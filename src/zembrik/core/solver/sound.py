"""Stopping before anything that is not a place gets into a cache."""

from __future__ import annotations

import numpy as np

from zembrik.core.problem import Problem
from zembrik.core.solver.world import World

FARTHEST_M = 1e6  # beyond this a point has not fallen, it has blown up


class BlewUp(Problem):
    """A simulation whose points left the world."""


def check_sound(world: World, frame: float) -> None:
    """Raise BlewUp, naming frame and body, when a point is not finite or out of the world."""
    frame = int(frame)
    place = world.solids.rigid.place
    lost = ~(np.abs(place).max(axis=1, initial=0.0) < FARTHEST_M)
    if lost.any():
        name = world.solids.parts[int(np.argmax(lost))].name
        raise BlewUp(
            f"the simulation blew up: {int(lost.sum())} rigid bodies left the world ('{name}' first).",
            f"frame {frame}",
            "More substeps, a start without overlaps or masses that differ less will hold it.",
        )
    if np.abs(world.x).max(initial=0.0) < FARTHEST_M:  # false for NaN too
        return
    for body in world.bodies:
        if body.rigid is not None:
            continue
        part = world.x[body.first : body.last]
        bad = ~(np.abs(part) < FARTHEST_M).all(axis=1)
        if bad.any():
            raise BlewUp(
                f"the simulation blew up: {int(bad.sum())} points of '{body.name}' left the world "
                f"(point {int(np.argmax(bad))} first).",
                f"frame {frame}",
                "More substeps, a lower stretch stiffness or a start without overlaps will hold it.",
            )
