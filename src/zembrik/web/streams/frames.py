"""Frames of a cache as bytes, a run of them at once, while the bake still goes on."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from fastapi import APIRouter
from fastapi.responses import Response

from zembrik.core.cache.reader import Cache
from zembrik.core.cache.shown import shown_count, shown_points
from zembrik.core.problem import Problem
from zembrik.library.bakes import cache_path, get_bake
from zembrik.library.render_meshes import binding_of, carried_bodies
from zembrik.library.shots import get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.web.fields import Asked, Id
from zembrik.web.render import Db, Places

if TYPE_CHECKING:
    from zembrik.core.mesh.carry import Binding

router = APIRouter()
MOST_BYTES = 24_000_000


@router.get("/bakes/{bake_id}/frames.bin")
def frames(db: Db, places: Places, bake_id: Id, first: Asked, count: Asked = 1, carried: bool = False) -> Response:
    """Return up to `count` frames from `first` on, float32: of each body its points, or the pose that moves it.

    If asked, the points of the render meshes that bodies carry come after them.

    The header X-Frames says how many came: as many as are committed and fit the answer.
    """
    if count < 1:
        raise Problem("at least one frame must be asked for.", "frames")
    with db.session() as session:
        bake = get_bake(session, bake_id)
        cache, setup = Cache(cache_path(places, bake)), head_setup(get_shot(session, bake.shot_id))
    if cache.done is None or not cache.first <= first <= cache.done:
        raise Problem(f"there is no frame {first} in the cache.", "frames", "It may not be baked yet.")
    bound = []
    for number, body in carried_bodies(cache, setup) if carried else []:
        binding = binding_of(body, StoredAssets(places))
        if binding.count != cache.point_counts[number]:
            raise Problem(f"'{body.name}' has another mesh than when it was baked.", "render mesh", "Bake it again.")
        bound.append((number, binding))
    numbers = range(len(cache.names))
    rigid = [cache.is_rigid(number) for number in numbers]
    size = sum(7 if rigid[number] else 3 * shown_count(cache, number) for number in numbers)
    size += sum(3 * len(b.off) for _, b in bound)
    last = min(first + min(count, max(1, MOST_BYTES // max(4 * size, 1))) - 1, cache.done)
    parts = []
    for frame in range(first, last + 1):
        shown = [cache.pose(n, frame) if rigid[n] else shown_points(cache, n, frame) for n in numbers]
        parts += [values.astype("<f4").tobytes() for values in shown]
        parts += [_carried(binding, shown[number]) for number, binding in bound]
    headers = {"X-Frames": str(last - first + 1), "Cache-Control": "private, max-age=3600"}
    return Response(b"".join(parts), media_type="application/octet-stream", headers=headers)


def _carried(binding: Binding, points: np.ndarray) -> bytes:
    from zembrik.core.mesh.carry import carry  # see `app._warm_up`

    return carry(binding, points).astype("<f4").tobytes()
