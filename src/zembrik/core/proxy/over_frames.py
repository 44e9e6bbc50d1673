"""How a proxy that follows a changing mesh fits it, frame by frame."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.build import Shape
from zembrik.core.motion.carried import Carried
from zembrik.core.problem import Problem
from zembrik.core.proxy.deviation import deviations
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh
from zembrik.core.setup.document import Setup
from zembrik.core.solver.colliders import proxy_shapes
from zembrik.core.telling import Tell, silent, step

MOST_FRAMES = 240  # measured; of a longer shot, evenly picked ones


@dataclass(frozen=True)
class OverFrames:
    """Gap and overhang of a carried proxy over frames.

    Attributes:
        frames: int64 (k,). gap_m, overhang_m: float64 (k,), the largest of each frame, metres.
        worst: the frame with the largest of either. at: float64 (3,), where that is, metres.
    """

    frames: NDArray[np.int64]
    gap_m: NDArray[np.float64]
    overhang_m: NDArray[np.float64]
    worst: int
    at: NDArray[np.float64]


def fit_over_frames(
    setup: Setup, number: int, proxy: dict[str, Any], assets: Assets, tell: Tell = silent
) -> OverFrames:
    """Return how the proxy of a body that changes its form fits at every frame of a range.

    Args:
        setup, number: the document, and which of its bodies. proxy: resolved. assets: the meshes.
        tell: is told how far it is.

    Raises:
        Problem: when the body keeps its form.
        Stopped: when `tell` says so.
    """
    body, frames = setup.bodies[number], setup.frames
    if not body.changes_form:
        raise Problem("the body keeps its form, so its proxy fits alike at every frame.", body.name, "")
    mesh = placed_mesh(body, assets)
    mover = mover_of_body(setup, number, assets)
    shape = proxy_shapes(body, proxy, mesh)[0]
    assert shape.mesh is not None and mover is not None
    carried = Carried(mover, mesh, shape.mesh, body.name)
    count = min(frames[1] - frames[0] + 1, MOST_FRAMES)
    picked = np.unique(np.linspace(frames[0], frames[1], count).round().astype(np.int64))
    gaps, overhangs, places = np.zeros(len(picked)), np.zeros(len(picked)), np.zeros((len(picked), 3))
    for k, frame in enumerate(picked.tolist()):
        step(tell, k, len(picked))
        form = mesh.moved(mover.points_at(mesh.points, frame))
        now = form if shape.mesh is mesh else shape.mesh.moved(carried.points_at(shape.mesh.points, frame))
        finer, off = deviations([Shape("surface", mesh=now)], form)
        gaps[k], overhangs[k] = max(-float(off.min()), 0.0), max(float(off.max()), 0.0)
        places[k] = finer.points[int(np.argmax(np.abs(off)))]
    worst = int(np.argmax(np.maximum(gaps, overhangs)))
    return OverFrames(picked, gaps, overhangs, int(picked[worst]), places[worst])
