"""How a cache lies on disk: a Zarr v3 group a bake, readable by anything that reads Zarr.

    NAME.zarr/
      attributes            schema, setup_hash, setup (resolved), origins, assets, solver,
                            fps, frames [first, last], done (last committed frame or null), …; continued, where
                            another edition of the solver went on: [[frame, edition], …]
      bodies/<n>/points     float32 (frames, points, 3), metres, Y up; body n's name is an attribute
      bodies/<n>/pose       float64 (frames, 7), of a rigid body instead: shift in metres and
                            quaternion x y z w, which take `rest` to where it is
      bodies/<n>/rest       float32 (points, 3), a rigid body's mesh in its place
      bodies/<n>/faces      int32 (faces, 3)
      bodies/<n>/counts     int32 (frames, 2), only of a body from elsewhere whose numbers of points and faces change:
                            how many of each a frame has; `points` then has room for the most of them, NaN beyond,
                            and `faces` is int32 (frames, faces, 3), -1 beyond
      stats/<figure>        float32 (frames,), SI units
      timing/seconds        float32 (frames,), computing time; the one thing that differs between runs
      checkpoint-0, -1      the solver's whole state after the last two frames, in turn
      frames.journal        while a bake runs: the newest frames' commits (see `journal`)

A chunk is a frame, compressed without loss, with a CRC-32C at its end: bytes of the same worth
are laid side by side, points with all x first, then all y, then all z, and then packed (Blosc
with Zstandard). Cloth takes 64 to 76% of its plain float32 so, instead of 83 to 91% by Zstandard
alone. Chunks are written whole and renamed into place; a frame counts once it is committed: its
number is in `done`, or while the bake runs in the journal. A cache that was handed in (`foreign`
says from what file) has no figures, checkpoints or journal.
"""

from __future__ import annotations

import json
import os
import struct
import threading
from pathlib import Path
from typing import Any

import google_crc32c
import numpy as np
import zstandard
from numcodecs import blosc
from numpy.typing import NDArray

from zembrik.core.solver.figures import STATS

FIGURES = [f"stats/{name}" for name in STATS] + ["timing/seconds"]


def attributes_sum(attributes: dict[str, Any]) -> int:
    """Return the CRC-32C of all attributes but the sum itself."""
    plain = {k: v for k, v in attributes.items() if k != "crc32c"}
    return int(google_crc32c.value(json.dumps(plain, sort_keys=True).encode()))


# What was measured before caches said what they measure.
FIRST_FIGURES = [
    *(f"stats/{name}" for name in (
        "worst_penetration", "mean_penetration", "worst_stretch", "mean_stretch", "residual", "passes", "top_speed",
        "kinetic_energy", "asleep", "contacts",
    )), "timing/seconds",
]  # fmt: skip
SCHEMA = "zembrik.cache/1"
_LEVEL = 3  # of compression: 5 gains 3%, and takes half as long again
_PLAIN_ZSTD = b"\x28\xb5\x2f\xfd"  # how chunks of the first version begin; they are still read
blosc.use_threads = False  # so that any thread may pack at any time


def write_whole(path: Path, data: bytes) -> None:
    """Write a file so that it is there whole or not at all."""
    part = path.with_name(f".{path.name}.{os.getpid()}-{threading.get_ident()}.part")
    try:
        part.write_bytes(data)
        os.replace(part, path)
    except OSError:
        part.unlink(missing_ok=True)
        raise


def encode_chunk(values: NDArray[Any]) -> bytes:
    """Return the bytes of one chunk: little-endian values, points (n, 3) axis by axis, packed, CRC-32C."""
    if values.dtype == np.float32 and values.ndim == 2:
        values = values.T
    raw = np.ascontiguousarray(values).astype(values.dtype.newbyteorder("<"), copy=False)
    packed = blosc.compress(raw, b"zstd", _LEVEL, blosc.SHUFFLE, 0)
    return packed + struct.pack("<I", google_crc32c.value(packed))


def decode_chunk(data: bytes, dtype: str, shape: tuple[int, ...]) -> NDArray[Any]:
    """Return a chunk's values; raises ValueError when the checksum or the size is wrong."""
    if len(data) < 20 or google_crc32c.value(data[:-4]) != struct.unpack("<I", data[-4:])[0]:
        raise ValueError("the checksum does not match")
    plain = data.startswith(_PLAIN_ZSTD)
    size = np.dtype(dtype).itemsize * int(np.prod(shape))
    try:
        raw = zstandard.ZstdDecompressor().decompress(data[:-4]) if plain else _unpacked(data[:-4], size)
    except (zstandard.ZstdError, RuntimeError) as error:
        raise ValueError(f"it cannot be unpacked ({error})") from None
    if len(raw) != size:
        raise ValueError("its size is wrong")
    values = np.frombuffer(raw, dtype=dtype)
    if not plain and values.dtype == np.float32 and len(shape) == 2:
        return np.ascontiguousarray(values.reshape(shape[::-1]).T)
    return values.reshape(shape)


def _unpacked(data: bytes, size: int) -> bytes:
    if struct.unpack_from("<I", data, 4)[0] != size:  # before anything of that size is asked for
        raise ValueError("its size is wrong")
    return blosc.decompress(data)


def array_json(shape: tuple[int, ...], chunk: tuple[int, ...], dtype: str, fill: float = 0) -> bytes:
    """Return the zarr.json of one array."""
    points = dtype == "float32" and len(shape) > 1
    order = [*range(len(shape) - 2), len(shape) - 1, len(shape) - 2]
    return _json(
        {
            "zarr_format": 3,
            "node_type": "array",
            "shape": list(shape),
            "data_type": dtype,
            "chunk_grid": {"name": "regular", "configuration": {"chunk_shape": list(chunk)}},
            "chunk_key_encoding": {"name": "default", "configuration": {"separator": "/"}},
            "fill_value": "NaN" if fill != fill else fill,  # the standard's word for it
            "codecs": [
                *([{"name": "transpose", "configuration": {"order": order}}] if points else []),
                {"name": "bytes", "configuration": {"endian": "little"}},
                {
                    "name": "blosc",
                    "configuration": {
                        "cname": "zstd",
                        "clevel": _LEVEL,
                        "shuffle": "shuffle",
                        "blocksize": 0,
                        "typesize": np.dtype(dtype).itemsize,
                    },
                },
                {"name": "crc32c"},
            ],
            "attributes": {},
        }
    )


def group_json(attributes: dict[str, Any]) -> bytes:
    """Return the zarr.json of a group."""
    return _json({"zarr_format": 3, "node_type": "group", "attributes": attributes})


def _json(value: dict[str, Any]) -> bytes:
    return json.dumps(value, indent=1, ensure_ascii=False, sort_keys=True, allow_nan=False).encode()


def chunk_path(array: Path, *index: int) -> Path:
    """Return where a chunk lies."""
    return array / "c" / "/".join(str(i) for i in index)
