"""By what a body's frames in a cache are known: the hash of their content."""

from __future__ import annotations

import hashlib
import os
from functools import lru_cache
from pathlib import Path

from zembrik.core.cache.layout import chunk_path
from zembrik.core.cache.reader import Cache
from zembrik.core.problem import Problem

CHECKSUM_BYTES = 4


def body_hash(cache: Cache, number: int) -> str:
    """Return the hash of all that a body does in a cache, over the frames that are committed.

    Every chunk ends with a sum of its bytes, so these sums are hashed instead of gigabytes of points.

    Raises:
        Problem: when a frame is missing.
    """
    stamp = (cache.path / "zarr.json").stat().st_mtime_ns
    return _hashed(cache.path, number, cache.done, stamp)


@lru_cache(maxsize=4096)
def _hashed(path: Path, number: int, done: int | None, stamp: int) -> str:
    del stamp
    cache = Cache(path)
    folder = path / "bodies" / str(number)
    digest = hashlib.sha256(f"{cache.first} {done} {cache.fps:.17g}".encode())
    frames = range(0 if done is None else done - cache.first + 1)
    for name, deep in (("rest", 2), ("faces", 2), ("pose", 2), ("points", 3), ("faces", 3), ("counts", 2)):
        over_frames = name in ("pose", "points", "counts") or deep == 3
        if not (folder / name).is_dir() or (name == "faces" and over_frames != cache.changes(number)):
            continue
        for index in frames if over_frames else (0,):
            digest.update(_sum(chunk_path(folder / name, index, *([0] * (deep - 1)))))
    return digest.hexdigest()


def _sum(chunk: Path) -> bytes:
    try:
        with chunk.open("rb") as file:
            file.seek(-CHECKSUM_BYTES, os.SEEK_END)
            return file.read()
    except OSError:
        raise Problem("a frame of the cache is missing.", str(chunk), "Look it over on Caches.") from None
