"""Proxies that take long to find, on the shelf."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any

from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.shelf import place_of, put_arrays, take_arrays
from zembrik.core.sources import source_hash

HERE = Path(__file__).parent


def _key(kind: str, mesh: TriMesh, dials: tuple[Any, ...]) -> str:
    source = source_hash(HERE / f"{kind}.py")  # another way to find them finds others
    return hashlib.sha256(repr((kind, source, mesh.content_hash, dials)).encode()).hexdigest()


def is_there(kind: str, mesh: TriMesh, dials: tuple[Any, ...]) -> bool:
    """Tell whether a proxy of a mesh is kept; kind is "hulls" or "shell", with what it was asked to be like."""
    return place_of(_key(kind, mesh, dials)).exists()


def take(kind: str, mesh: TriMesh, dials: tuple[Any, ...]) -> tuple[TriMesh, ...] | None:
    """Return the parts of a kept proxy; None where there is none, or it cannot be read."""
    kept = take_arrays(_key(kind, mesh, dials))
    if kept is None:
        return None
    return tuple(TriMesh(kept[f"points{k}"], kept[f"faces{k}"]) for k in range(len(kept) // 2))


def put(kind: str, mesh: TriMesh, dials: tuple[Any, ...], parts: tuple[TriMesh, ...]) -> None:
    """Keep a proxy."""
    arrays = {f"{name}{k}": getattr(p, name) for k, p in enumerate(parts) for name in ("points", "faces")}
    put_arrays(_key(kind, mesh, dials), arrays)
