"""Proxies that take long to find are kept on disk: each is found once a machine, whatever process asks for it."""

from __future__ import annotations

import hashlib
import io
import os
import zipfile
from pathlib import Path
from typing import Any

import numpy as np

from zembrik.core.cache.layout import write_whole
from zembrik.core.compiled import cache_home, source_hash
from zembrik.core.mesh.trimesh import TriMesh

HERE = Path(__file__).parent


def shelf_home() -> Path:
    """Return where found proxies are kept."""
    return Path(os.environ.get("ZEMBRIK_SHELF") or cache_home().parent / "proxies")


def _place(kind: str, mesh: TriMesh, dials: tuple[Any, ...]) -> Path:
    source = source_hash(HERE / f"{kind}.py")  # another way to find them finds others
    key = hashlib.sha256(repr((kind, source, mesh.content_hash, dials)).encode()).hexdigest()
    return shelf_home() / key[:2] / f"{key}.npz"


def is_there(kind: str, mesh: TriMesh, dials: tuple[Any, ...]) -> bool:
    """Tell whether a proxy of a mesh is kept; kind is "hulls" or "shell", with what it was asked to be like."""
    return _place(kind, mesh, dials).exists()


def take(kind: str, mesh: TriMesh, dials: tuple[Any, ...]) -> tuple[TriMesh, ...] | None:
    """Return the parts of a kept proxy; None where there is none, or it cannot be read."""
    try:
        with np.load(_place(kind, mesh, dials), allow_pickle=False) as kept:
            count = len(kept.files) // 2
            return tuple(TriMesh(kept[f"points{k}"], kept[f"faces{k}"]) for k in range(count))
    except (OSError, ValueError, KeyError, zipfile.BadZipFile):
        return None


def put(kind: str, mesh: TriMesh, dials: tuple[Any, ...], parts: tuple[TriMesh, ...]) -> None:
    """Keep a proxy; where the disk takes nothing more, it is found anew next time."""
    out = io.BytesIO()
    np.savez(out, **{f"{name}{k}": getattr(p, name) for k, p in enumerate(parts) for name in ("points", "faces")})
    place = _place(kind, mesh, dials)
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        write_whole(place, out.getvalue())
    except OSError:
        return
