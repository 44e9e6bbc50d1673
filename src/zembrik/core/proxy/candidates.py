"""Every proxy that a body might have, each held against its mesh."""

from __future__ import annotations

from typing import Any

import numpy as np

from zembrik.core.problem import Problem
from zembrik.core.proxy.measure import Fit, measure_fit, recommend
from zembrik.core.setup.assets import Assets, placed_mesh
from zembrik.core.setup.document import Body, Place
from zembrik.core.solver.colliders import proxy_shapes
from zembrik.core.telling import Tell, silent, step

FINE = 100  # steps that one kind counts for when it is told how far it is


def measure_candidates(
    bare: dict[str, Any], kinds: list[str], proxy: dict[str, Any], assets: Assets, tell: Tell = silent
) -> dict[str, Fit | str]:
    """Return for each kind its fit, or why it cannot be; in the body's own axes, but for a plane.

    Args:
        bare: the body as JSON, not moved; a collider may be turned, which only a plane looks at.
        kinds: to be measured, see `words.kinds_for`. proxy: resolved, for its dials.
        assets: the meshes. tell: is told how far it is.

    Raises:
        Problem: when the mesh cannot be read.
        Stopped: when `tell` says so.
    """
    turned = Body.model_validate(bare)
    own = turned.model_copy(update={"place": Place(scale=turned.place.scale)})
    fits: dict[str, Fit | str] = {}
    for k, kind in enumerate(kinds):
        step(tell, k * FINE, len(kinds) * FINE)
        body = turned if kind == "plane" else own
        mesh = placed_mesh(body, assets)

        def within(done: int, total: int, k: int = k) -> bool:
            return tell(k * FINE + done * FINE // max(total, 1), len(kinds) * FINE)

        try:
            shapes = proxy_shapes(body, {**proxy, "kind": kind, "sides": "outside"}, mesh, within)
            fits[kind] = measure_fit(shapes, mesh)
        except Problem as problem:
            fits[kind] = problem.what
    return fits


def recommended(fits: dict[str, Fit | str], bare: dict[str, Any], role: str, chosen: str, assets: Assets):  # type: ignore[no-untyped-def]
    """Return (the kind to take, why), or None where none can be."""
    sound = {kind: fit for kind, fit in fits.items() if not isinstance(fit, str)}
    if not sound:
        return None
    size = float(np.linalg.norm(placed_mesh(Body.model_validate(bare), assets).size))
    return recommend(sound, role, size, chosen)
