"""The journal of a bake that is going on: one record a frame, appended as its commit.

Rewriting arrays and attributes on every frame costs more than many a frame itself. So while
a bake runs, a frame is committed by appending its number and figures here, and the arrays
and the attribute `done` follow about once a second and at the end, when the journal goes.
A record that was cut off fails its sum and does not count.
"""

from __future__ import annotations

import os
import struct
from pathlib import Path

import google_crc32c
import numpy as np

NAME = "frames.journal"


def append_record(folder: Path, frame: int, figures: list[float]) -> None:
    """Commit a frame: append its number and its figures."""
    record = struct.pack(f"<q{len(figures)}f", frame, *figures)
    record += struct.pack("<I", google_crc32c.value(record))
    with (folder / NAME).open("ab") as file:
        file.write(record)


def read_journal(folder: Path, figure_count: int) -> dict[int, list[float]]:
    """Return the figures of every frame in the journal; empty when there is none."""
    try:
        data = (folder / NAME).read_bytes()
    except OSError:
        return {}
    size = 8 + 4 * figure_count + 4
    found = {}
    for start in range(0, len(data) - size + 1, size):
        record = data[start : start + size]
        if google_crc32c.value(record[:-4]) != struct.unpack("<I", record[-4:])[0]:
            break
        frame, *figures = struct.unpack(f"<q{figure_count}f", record[:-4])
        found[frame] = figures
    return found


def write_checkpoint(path: Path, frame: int, arrays: list[np.ndarray]) -> None:
    """Overwrite a checkpoint of a frame, the solver's whole state as arrays, in place.

    The caller keeps two in turn: a write that is cut off spoils the older one's place only,
    and the sum at its end tells.
    """
    parts = [struct.pack("<qq", frame, len(arrays))]
    for values in arrays:
        data = np.ascontiguousarray(values, dtype="<f8").tobytes()
        parts += [struct.pack("<q", len(data)), data]
    body = b"".join(parts)
    handle = os.open(path, os.O_RDWR | os.O_CREAT, 0o644)
    try:
        for part in (body, struct.pack("<I", google_crc32c.value(body))):
            while part:
                part = part[os.write(handle, part) :]
        os.truncate(handle, len(body) + 4)
    finally:
        os.close(handle)


def read_checkpoint(path: Path, frame: int) -> list[np.ndarray] | None:
    """Return the state's arrays, float64 and flat, if the file is a sound checkpoint of that frame."""
    try:
        data = path.read_bytes()
    except OSError:
        return None
    if len(data) < 20 or google_crc32c.value(data[:-4]) != struct.unpack("<I", data[-4:])[0]:
        return None
    held, count = struct.unpack("<qq", data[:16])
    if held != frame:
        return None
    arrays, at = [], 16
    for _ in range(count):
        (size,) = struct.unpack("<q", data[at : at + 8])
        arrays.append(np.frombuffer(data, "<f8", size // 8, at + 8).copy())
        at += 8 + size
    return arrays
