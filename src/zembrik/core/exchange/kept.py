"""What large mesh files hold, on the shelf: a file is taken apart once a machine, and then only loaded."""

from __future__ import annotations

import hashlib
import json
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.exchange.contents import Contents, FilePart, Sequence
from zembrik.core.exchange.read_any import read_contents
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.sources import source_hash

if TYPE_CHECKING:
    from zembrik.core.shelf import Arrays

READ_AT_ONCE_BYTES = 2 * 1024 * 1024  # a file up to this size is read in a moment, wherever that is
MOST_LARGE = 2  # large files that are remembered
OF_MESH, OF_PART = ("points", "faces"), ("times_s", "poses", "shapes")  # arrays that every part has its own length of
OF_SEQUENCE = ("points", "faces", "counts")


@lru_cache(maxsize=16)
def _small(digest: bytes, data: bytes, name: str) -> Contents:
    return read_contents(data, name)


_large: dict[str, Contents] = {}  # by key, the newest last


def kept_contents(data: bytes, name: str) -> Contents:
    """Return what a mesh file holds; the last few are remembered, and large ones are on the shelf."""
    digest = hashlib.sha256(data).digest()
    if len(data) <= READ_AT_ONCE_BYTES:
        return _small(digest, data, name)
    # The name counts with its ending only: that is all that readers look at, but for what they say of errors.
    source = source_hash(Path(__file__).parent / "read_any.py")
    key = hashlib.sha256(repr(("contents", source, digest, name.rpartition(".")[2].lower())).encode()).hexdigest()
    contents = _large.get(key) or _from_shelf(key, data, name)
    _large[key] = contents
    for old in list(_large)[:-MOST_LARGE]:
        _large.pop(old, None)
    return contents


def _from_shelf(key: str, data: bytes, name: str) -> Contents:
    from zembrik.core.shelf import put_arrays, take_arrays

    arrays = take_arrays(key)
    if arrays is not None:
        return _from_arrays(arrays)
    contents = read_contents(data, name)
    put_arrays(key, _to_arrays(contents))
    return contents


def _to_arrays(contents: Contents) -> Arrays:
    parts = contents.parts
    words = {
        "kind": contents.kind, "unit_m": contents.unit_m, "up": contents.up, "notes": contents.notes,
        "first": contents.first, "begins": contents.begins, "paths": [p.path for p in parts],
        "groups": [list(p.mesh.groups) for p in parts],
    }  # fmt: skip
    arrays: Arrays = {
        "words": np.frombuffer(json.dumps(words).encode(), dtype=np.uint8),
        "transforms": np.array([p.transform for p in parts]).reshape(-1, 4, 4),
    }
    for what, each in _columns(parts).items():
        arrays[f"{what} shape"] = np.array([a.shape for a in each], dtype=np.int64)
        arrays[what] = np.concatenate([a.reshape(-1) for a in each])
    return arrays


def _columns(parts: list[FilePart]) -> dict[str, list[NDArray[Any]]]:
    found = {what: [getattr(p.mesh, what) for p in parts] for what in OF_MESH}
    found |= {what: [getattr(p, what) for p in parts] for what in OF_PART}
    return found | {f"sequence {what}": [getattr(p.sequence, what) for p in parts] for what in OF_SEQUENCE}


def _from_arrays(arrays: Arrays) -> Contents:
    words = json.loads(arrays["words"].tobytes())
    columns = []
    for what in [*OF_MESH, *OF_PART, *(f"sequence {w}" for w in OF_SEQUENCE)]:
        shapes = arrays[f"{what} shape"]
        ends = np.cumsum(shapes.prod(axis=1))[:-1]
        cut = np.split(arrays[what], ends)
        columns.append([a.reshape(shape) for a, shape in zip(cut, shapes, strict=True)])
    parts = [
        FilePart(path, TriMesh(points, faces, tuple(groups)), transform, times_s, poses, shapes, Sequence(*sequence))
        for path, groups, transform, points, faces, times_s, poses, shapes, *sequence in zip(
            words["paths"], words["groups"], arrays["transforms"], *columns, strict=True
        )
    ]
    return Contents(words["kind"], parts, words["unit_m"], words["up"], words["notes"], words["first"], words["begins"])
