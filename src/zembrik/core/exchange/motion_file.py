"""The motion that a file holds, whatever it moves: tables of tracks, animated nodes of glTF, transforms of OpenUSD."""

from __future__ import annotations

import csv
import io
import json
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from zembrik.core.exchange.contents import FARTHEST
from zembrik.core.exchange.read_any import MOST_BYTES, read_moving
from zembrik.core.exchange.read_gltf import keeps_size
from zembrik.core.problem import Problem
from zembrik.core.units import METRES_PER_UNIT

SCHEMA = "zembrik.tracks/1"  # of the JSON tables that `tracks.write_json` writes
MOST_TABLE_BYTES = 64 * 1024 * 1024
MOST_ROWS = 2_000_000
LATEST_S, LATEST_FRAME = 1e6, 1e7  # what comes later is a damaged number, not a moment
NEEDED = ("frame", "body", "x", "y", "z", "qx", "qy", "qz", "qw")

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class FileTrack:
    """What one thing in a file does.

    Attributes:
        name: of the body or node. times_s: float64 (k,), rising, seconds from the file's first moment.
        poses: float64 (k, 4, 4), in the file's unit and axes. Those of a node are where it is; those of a table take
            a point from where it was at the first moment to where it is.
        is_node: which of both.
    """

    name: str
    times_s: Floats
    poses: Floats
    is_node: bool


@dataclass(frozen=True)
class MotionFile:
    """A file's motion.

    Attributes:
        kind: of file. tracks: at least one. first: the frame at which the file begins, if it says so.
        unit_m, up: metres a unit and the axis that points up, where the file says so. notes: a sentence each.
    """

    kind: str
    tracks: list[FileTrack]
    first: float | None = None
    unit_m: float | None = None
    up: str | None = None
    notes: list[str] = field(default_factory=list)


def read_motion(data: bytes, name: str, fps: float) -> MotionFile:
    """Return the motion in a file.

    Args:
        data, name: the file. fps: frames a second of a table that does not say when its frames are.

    Raises:
        Problem: saying what is wrong with it, where, and what to do.
    """
    head = data[:4096].lstrip(b"\xef\xbb\xbf \t\r\n")
    is_json = head.startswith(b"{") and b'"zembrik.tracks/' in head
    if not is_json and not (b"body" in head.partition(b"\n")[0] and b"frame" in head.partition(b"\n")[0]):
        if len(data) > MOST_BYTES:
            raise Problem(f"the file has {len(data) / 1e6:.0f} MB, too many.", name, "Hand in fewer frames.")
        return _sound(_of_nodes(data, name), name)
    if len(data) > MOST_TABLE_BYTES:
        raise Problem(
            f"the table has {len(data) / 1e6:.0f} MB; the limit is {MOST_TABLE_BYTES / 1e6:.0f} MB.", name,
            "Hand in fewer bodies or frames.",
        )  # fmt: skip
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Problem("the table is no UTF-8 text.", name, "Save it as UTF-8.") from None
    found = _of_json(text, name) if is_json else _of_csv(text, name, fps)
    if not found.tracks:
        raise Problem("the table holds no row.", name, "Export it with its frames.")
    return _sound(found, name)


def _sound(file: MotionFile, name: str) -> MotionFile:
    """Return a file's motion; raises Problem for frames and moments that nothing can be at."""
    if file.first is not None and not abs(file.first) < LATEST_FRAME:
        raise Problem(f"it begins at frame {file.first:g}.", name, "Mend the numbers of its frames.")
    for track in file.tracks:
        times = track.times_s
        if len(times) != len(track.poses) or not (np.abs(times) < LATEST_S).all() or (np.diff(times) <= 0.0).any():
            raise Problem("its moments are no usable ones.", f"{name}, '{track.name[:80]}'", "Export it again.")
    return file


def _of_nodes(data: bytes, name: str) -> MotionFile:
    contents = read_moving(data, name)
    stems = [p.path.rsplit("/", 1)[-1] for p in contents.parts]
    names = [stem if stems.count(stem) == 1 else p.path for stem, p in zip(stems, contents.parts, strict=True)]
    tracks, resized = [], []
    for title, part in zip(names, contents.parts, strict=True):
        if not (np.abs(part.poses) < FARTHEST).all() or abs(np.linalg.det(part.poses[0, :3, :3])) < 1e-30:
            raise Problem("its transform is no usable one.", f"{name}, '{title[:80]}'", "Mend it where it was made.")
        if not keeps_size(part.poses):
            resized.append(title)
        tracks.append(FileTrack(title, part.times_s, part.poses, is_node=True))
    notes = list(contents.notes)
    if resized:
        notes.append(f"What changes its size keeps the one it has: {', '.join(resized[:4])[:200]}.")
    first = None if contents.begins is None else float(contents.begins)
    return MotionFile(contents.kind.removeprefix("motion of "), tracks, first, contents.unit_m, contents.up, notes)


def _of_csv(text: str, name: str, fps: float) -> MotionFile:
    rows = csv.reader(io.StringIO(text))
    titles = [title.strip() for title in next(rows)]
    missing = [title for title in NEEDED if title not in titles]
    if missing:
        raise Problem(f"the table has no column {', '.join(missing)}.", name, "Its first line names its columns.")
    at = [titles.index(t) for t in NEEDED if t != "body"] + ([titles.index("seconds")] if "seconds" in titles else [])
    who = titles.index("body")
    held: dict[str, list[list[float]]] = {}
    try:
        for count, row in enumerate(rows):
            if count >= MOST_ROWS:
                raise Problem(f"the table has more than {MOST_ROWS:,} rows.", name, "Hand in fewer bodies or frames.")
            if row:
                held.setdefault(row[who].strip()[:200], []).append([float(row[k]) for k in at])
    except (ValueError, IndexError, csv.Error):
        raise Problem(
            f"line {rows.line_num} is no row of {len(titles)} values with numbers.", name, "Mend that line."
        ) from None
    first = min((row[0] for values in held.values() for row in values), default=1.0)
    tracks = []
    for body, values in held.items():
        numbers = np.array(values)
        times = numbers[:, 8] if numbers.shape[1] > 8 else (numbers[:, 0] - first) / fps
        tracks.append(_track(body, times, numbers[:, 1:4], numbers[:, 4:8], name))
    return MotionFile("CSV", _from_one_moment(tracks), first, notes=[])


def _of_json(text: str, name: str) -> MotionFile:
    try:
        document: dict[str, Any] = json.loads(text)
        if document["schema"] != SCHEMA:
            raise Problem(f"the tracks are of the kind '{str(document['schema'])[:40]}'.", name, f"{SCHEMA} is read.")
        fps, first = float(document["fps"]), float(document["frames"][0])
        unit, up = document["length_unit"], document["up_axis"]
        if not 1.0 <= fps <= 1000.0 or unit not in METRES_PER_UNIT or up not in ("y", "z"):
            raise ValueError
        tracks = []
        for body in document["bodies"]:
            shift, turn = np.array(body["shift"], dtype=np.float64), np.array(body["turn"], dtype=np.float64)
            tracks.append(_track(str(body["name"])[:200], np.arange(len(shift)) / fps, shift, turn, name))
    except (ValueError, KeyError, TypeError, IndexError, AttributeError, RecursionError) as error:
        if isinstance(error, Problem):
            raise
        raise Problem("the tracks are not sound.", name, "docs/tracks.schema.json says what belongs there.") from None
    return MotionFile("JSON", tracks, first, METRES_PER_UNIT[unit], up)


def _track(body: str, times_s: Floats, shift: Floats, turn: Floats, name: str) -> FileTrack:
    """Return a table's track, in the order of time; raises Problem for numbers that are no motion."""
    where, order = f"{name}, '{body[:80]}'", np.argsort(times_s, kind="stable")
    times_s, shift, turn = times_s[order], shift.reshape(-1, 3)[order], turn.reshape(-1, 4)[order]
    if not (np.isfinite(times_s).all() and (np.abs(shift) < FARTHEST).all() and np.isfinite(turn).all()):
        raise Problem("a number is not usable.", where, "Mend it where it was made.")
    if (np.diff(times_s) <= 0.0).any():
        raise Problem("there are two rows for one moment.", where, "Keep one of them.")
    sizes = np.linalg.norm(turn, axis=1)
    worst = int(np.argmax(np.abs(sizes - 1.0)))
    if abs(sizes[worst] - 1.0) > 1e-3:
        raise Problem(
            f"row {worst + 1} has a quaternion of length {sizes[worst]:.3g}, not 1.", where, "Normalise it."
        )  # fmt: skip
    poses = np.tile(np.eye(4), (len(times_s), 1, 1))
    poses[:, :3, :3], poses[:, :3, 3] = Rotation.from_quat(turn).as_matrix(), shift
    return FileTrack(body, times_s, poses, is_node=False)


def _from_one_moment(tracks: list[FileTrack]) -> list[FileTrack]:
    begin = min((float(t.times_s[0]) for t in tracks), default=0.0)
    return [replace(t, times_s=t.times_s - begin) for t in tracks]
