"""How proxies fit their bodies: measured once for all copies of a body."""

from __future__ import annotations

import json
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import numpy as np

from zembrik.core.problem import Problem
from zembrik.core.proxy.words import PROXY_WORDS
from zembrik.core.setup.assets import placed_mesh
from zembrik.core.setup.document import Body, Place, Proxy
from zembrik.core.units import turn_matrix
from zembrik.library.settings import Settings
from zembrik.library.store import StoredAssets
from zembrik.web.render import Words

if TYPE_CHECKING:
    from zembrik.core.proxy.measure import Fit


@lru_cache(maxsize=512)
def _fit(document: str, proxy: str, places: Settings) -> Fit | str:
    """Return a proxy held against its mesh, or why it cannot be, remembered by the body's and the proxy's documents."""
    from zembrik.core.proxy.measure import measure_fit  # see `app._warm_up`
    from zembrik.core.solver.colliders import proxy_shapes

    body = Body.model_validate_json(document)
    try:
        mesh = placed_mesh(body, StoredAssets(places))
        return measure_fit(proxy_shapes(body, json.loads(proxy), mesh), mesh)
    except Problem as problem:
        return problem.what


def fits_of(body: Body, role: str, proxy: Proxy, places: Settings) -> list[Words]:
    """Return a row for every kind of proxy that a body in that role may have, with its fit in the body's own axes."""
    rows = []
    for kind, text in PROXY_WORDS.items():
        if kind == "plane" and role != "collider":
            continue
        # Copies stand elsewhere, but are fitted alike; only a plane looks up, wherever that is.
        place = body.place if kind == "plane" else Place(scale=body.place.scale)
        bare = Body(name="body", mesh=body.mesh, place=place).model_dump_json()
        tried = proxy.model_copy(update={"kind": kind, "sides": "outside"})
        rows.append({"kind": kind, "text": text, "fit": _fit(bare, tried.model_dump_json(), places)})
    return rows


def in_world(body: Body, kind: str, at: Any) -> list[float]:
    """Return where a place (3,) of a fit is in the shot."""
    if kind == "plane":
        return [float(v) for v in at]
    moved = turn_matrix(body.place.rotate) @ np.asarray(at) + np.asarray(body.place.translate)
    return [float(v) for v in moved]


def advice_for(rows: list[Words], body: Body, role: str, places: Settings, chosen: str) -> tuple[str, str] | None:
    """Return the kind to take, and why."""
    from zembrik.core.proxy.measure import recommend  # see `app._warm_up`

    fits: dict[str, Any] = {str(r["kind"]): r["fit"] for r in rows if not isinstance(r["fit"], str)}
    try:
        mesh = placed_mesh(body, StoredAssets(places))
    except Problem:
        return None
    return recommend(fits, role, float(np.linalg.norm(mesh.size)), chosen) if fits else None
