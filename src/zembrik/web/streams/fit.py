"""A body's mesh coloured by how well its proxy fits, for the viewport."""

from __future__ import annotations

import numpy as np
from fastapi import APIRouter
from fastapi.responses import Response

from zembrik.core.problem import Problem
from zembrik.core.setup.assets import placed_mesh
from zembrik.core.setup.resolve import resolve
from zembrik.library.shots import get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.web.fields import Id
from zembrik.web.render import Db, Places
from zembrik.web.streams.pack import Pack

router = APIRouter()


@router.get("/shots/{shot_id}/fit.bin")
def fit(db: Db, places: Places, shot_id: Id, body: str) -> Response:
    """Return points, faces and, for each point, how far (m) the mesh is outside of the body's proxy."""
    from zembrik.core.proxy.deviation import deviations  # see `app._warm_up`
    from zembrik.core.solver.colliders import proxy_shapes

    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
    number = next((k for k, b in enumerate(setup.bodies) if b.name == body), None)
    if number is None or setup.bodies[number].role not in ("collider", "rigid"):
        raise Problem(f"there is no collider or rigid body '{body[:80]}'.", "proxy", "Load the page again.")
    one = setup.bodies[number]
    mesh = placed_mesh(one, StoredAssets(places))
    proxy = resolve(setup).document["bodies"][number]["proxy"]
    finer, off = deviations(proxy_shapes(one, proxy, mesh), mesh)
    pack = Pack()
    head = {
        "name": body,
        "points": pack.add(finer.points, "<f4"), "faces": pack.add(finer.faces, "<u4"), "off": pack.add(off, "<f4"),
        "gap_m": float(max(-off.min(), 0.0)), "overhang_m": float(max(off.max(), 0.0)),
        "gap_at": finer.points[int(np.argmin(off))].tolist(), "overhang_at": finer.points[int(np.argmax(off))].tolist(),
    }  # fmt: skip
    return Response(pack.bytes(head), media_type="application/octet-stream", headers={"Cache-Control": "no-cache"})
