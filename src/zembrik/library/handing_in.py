"""Files from elsewhere as caches: they stand beside our own, to be looked at, compared, played and delivered."""

from __future__ import annotations

import os
import shutil
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from zembrik.core.cache.content import body_hash
from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.into_cache import cache_from
from zembrik.core.exchange.kept import kept_contents
from zembrik.core.telling import Tell, silent
from zembrik.library.bakes import cache_path, new_bake
from zembrik.library.database import Database
from zembrik.library.intake import free_name
from zembrik.library.models import Bake
from zembrik.library.settings import Settings, refuse_missing
from zembrik.library.shots import get_shot
from zembrik.library.store import StoredAssets


def hand_in(database: Database, shot_id: int, order: dict[str, Any], tell: Tell = silent) -> Bake:
    """Make a cache of a shot from a stored file; return the bake that stands for it.

    Args:
        database, shot_id: whose. order: "reference" of the file, "parts" (paths), "unit", "up_axis", "forward", "fps",
            "first" (frame) and "label". tell: is told how far it is.

    Raises:
        Problem: when it cannot be a cache; nothing is left then.
    """
    settings = database.settings
    data = StoredAssets(settings).read(order["reference"])
    sha256, _, file = order["reference"].partition("/")
    contents = kept_contents(data, file)
    taken: set[str] = set()
    names: dict[str, str] = {}
    for path in order["parts"]:
        stem = contents.part(path, file).path.rsplit("/", 1)[-1] or file.rsplit(".", 1)[0]
        names[path] = free_name(stem, taken)
        taken.add(names[path])
    refuse_missing(settings)
    label = str(order.get("label") or file)[:200]
    with arriving_cache(settings) as arriving:
        cache_from(
            contents, arriving, file, sha256, order["unit"], order["up_axis"], order["forward"], float(order["fps"]),
            int(order["first"]), names, tell,
        )  # fmt: skip
        return keep_cache(database, shot_id, arriving, sha256, file, label)


@contextmanager
def arriving_cache(settings: Settings) -> Iterator[Path]:
    """Give a place to write a cache to; what is left there in the end goes away."""
    arriving = settings.caches / f"arriving-{uuid.uuid4().hex}.zarr"
    try:
        yield arriving
    finally:
        shutil.rmtree(arriving, ignore_errors=True)


def keep_cache(database: Database, shot_id: int, arriving: Path, sha256: str, file: str, label: str) -> Bake:
    """Put a cache that was written on record, as one of a shot that was not baked; return the bake it stands for."""
    cache = Cache(arriving)
    with database.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None and cache.done is not None
        bake = new_bake(
            session, shot_id, head.id, sha256, (cache.first, cache.last), state="done", handed_in=file, label=label
        )
        assert bake.cache is not None
        path = cache_path(database.settings, bake)
        bake.patch = [{"op": "replace", "path": "", "value": playing_setup(cache, bake.cache.folder)}]
        bake.cache.done, bake.cache.size_bytes = cache.done, cache.size_bytes()
        path.parent.mkdir(exist_ok=True)
        os.replace(arriving, path)
        session.flush()
        session.refresh(bake)
        session.expunge(bake)
    return bake


def playing_setup(cache: Cache, folder: str) -> dict[str, Any]:
    """Return a setup that plays a whole cache as it is: what stands for the setup of a cache that has none."""
    bodies = [
        {"name": name, "role": "left out", "mesh": playing_mesh(cache, number, folder)}
        for number, name in enumerate(cache.names)
    ]
    return {
        "title": cache.attributes["setup"]["title"], "fps": cache.fps, "frames": [cache.first, cache.last],
        "world": {"ground": None}, "bodies": bodies,
    }  # fmt: skip


def playing_mesh(cache: Cache, number: int, folder: str, starts: float | None = None) -> dict[str, Any]:
    """Return the "mesh" of a body that plays a body of a stored cache, from a frame on or from its own first."""
    mesh: dict[str, Any] = {
        "cache": f"{body_hash(cache, number)}/{folder}", "body": cache.names[number],
        "starts": float(cache.first if starts is None else starts),
    }  # fmt: skip
    return mesh | ({"keeps_form": True} if cache.is_rigid(number) else {})
