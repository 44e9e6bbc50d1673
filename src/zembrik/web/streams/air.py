"""The moving air of a setup, at places around its bodies and at every frame, for the viewport's arrows."""

from __future__ import annotations

import numpy as np
from fastapi import APIRouter
from fastapi.responses import Response
from numpy.typing import NDArray

from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, start_mesh
from zembrik.core.setup.document import Setup
from zembrik.core.setup.resolve import resolve
from zembrik.library.shots import get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.web.fields import Id
from zembrik.web.render import Db, Places
from zembrik.web.streams.pack import Pack

router = APIRouter()
ACROSS = (6, 4, 6)  # places along each axis
MOST_FRAMES = 400  # moments; of longer shots every few frames


@router.get("/shots/{shot_id}/air.bin")
def air(db: Db, places: Places, shot_id: Id) -> Response:
    """Return places (k, 3) in metres and the air's velocity there (moments, k, 3) in m/s, with the moments' frames."""
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
    where, frames = _places(setup, StoredAssets(places)), _moments(setup)
    velocity = np.stack([air_at(setup, where, float(frame)) for frame in frames])
    pack = Pack()
    head = {"places": pack.add(where, "<f4"), "velocity": pack.add(velocity.reshape(-1, 3), "<f4")}
    return Response(pack.bytes({**head, "frames": frames}), media_type="application/octet-stream")


def air_at(setup: Setup, places: NDArray[np.float64], frame: float) -> NDArray[np.float64]:
    """Return the air's velocity (k, 3), m/s, at places (k, 3) in metres and a frame: as cloth there would feel it."""
    from zembrik.core.motion.track import value_at  # see `app._warm_up`
    from zembrik.core.motion.turbulence import Turbulence
    from zembrik.core.motion.wind import wind_velocity

    velocity = np.zeros_like(places)
    for force in resolve(setup).document["forces"]:
        if force["kind"] == "wind":
            velocity += wind_velocity(force["velocity"], force["strength"], force["veer"], frame)
        elif force["kind"] == "turbulence":
            swirls = Turbulence(force["speed"], force["size"], force["rate"], force["seed"])
            swirls.add(places, frame, setup.fps, value_at(force["strength"], frame), velocity)
    return velocity


def _moments(setup: Setup) -> list[int]:
    first, last = setup.frames
    return list(range(first, last + 1, -(-(last - first + 1) // MOST_FRAMES)))


def _places(setup: Setup, assets: Assets) -> NDArray[np.float64]:
    """Return places around all bodies where they begin."""
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    for body in setup.bodies:
        try:
            points = start_mesh(body, assets).points
        except Problem:
            continue
        low, high = np.minimum(low, points.min(axis=0)), np.maximum(high, points.max(axis=0))
    if not np.isfinite(low).all():
        low, high = np.array([-1.0, 0.0, -1.0]), np.array([1.0, 2.0, 1.0])
    room = 0.15 * float((high - low).max())
    axes = [np.linspace(a - room, b + room, n) for a, b, n in zip(low, high, ACROSS, strict=True)]
    return np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
