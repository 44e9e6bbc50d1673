"""A file's meshes and their motion as a cache that stands alone: no setup, no figures, only what went where."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.body import BodyFrame, CacheBody
from zembrik.core.cache.reader import Cache
from zembrik.core.cache.writer import CacheWriter
from zembrik.core.exchange.contents import FRAMES_A_SECOND, Contents, FilePart
from zembrik.core.keys.smooth import turns_at, values_at
from zembrik.core.problem import Problem
from zembrik.core.telling import Tell, silent, step
from zembrik.core.units import to_si

Floats = NDArray[np.float64]
MOST_FRAMES = 100_000
EVEN = 1e-4  # share of a frame by which moments may be off and still count as frames


def rate_of(contents: Contents) -> float | None:
    """Return the frames a second at which a file's moments lie; None when nothing moves or they lie unevenly."""
    found: set[float] = set()
    for part in contents.parts:
        if len(part.times_s) > 1:
            steps = np.diff(part.times_s)
            if steps.min() <= 0.0 or np.ptp(steps) > EVEN * float(np.median(steps)):
                return None
            found.add(round(1.0 / float(np.median(steps)), 3))
    return found.pop() if len(found) == 1 else None


def frames_of(contents: Contents, fps: float) -> int:
    """Return how many frames, at a rate, a file's motion takes; 1 when nothing moves."""
    longest = max((float(p.times_s[-1]) for p in contents.parts if len(p.times_s)), default=0.0)
    return int(np.floor(longest * fps + EVEN)) + 1


def cache_from(
    contents: Contents, path: Path, file: str, sha256: str, unit: str, up_axis: str, forward: str, fps: float,
    first: int, names: dict[str, str], tell: Tell = silent,
) -> Cache:  # fmt: skip
    """Write a file's parts as a cache; it is there whole or not at all.

    Args:
        contents: what the file holds. path: the cache's folder. file, sha256: the file's name and hash, kept with it.
        unit, up_axis, forward: of the file. fps: of the cache: what lies between the file's moments goes in a line.
        first: the number of its first frame. names: what parts are called, by their paths; others are left out.
        tell: is told how far it is.

    Raises:
        Problem: when nothing is chosen, there are too many frames, or the disk does not take it. Stopped: by `tell`.
    """
    parts = [p for p in contents.parts if p.path in names]
    if not parts:
        raise Problem("no part was chosen.", file, "Tick at least one.")
    if not 1.0 <= fps <= 1000.0:
        raise Problem("a frame rate lies between 1 and 1,000 frames a second.", "frame rate", "23.976, 24 and 25 are.")
    count = frames_of(contents, fps if contents.first is None else FRAMES_A_SECOND)
    if count > MOST_FRAMES:
        raise Problem(f"it has {count:,} frames; the limit is {MOST_FRAMES:,}.", file, "Choose a lower frame rate.")

    def si(points: Floats) -> Floats:
        return to_si(points, unit, up_axis, forward)

    # The moments of a sequence are frames, whatever their rate.
    slower = FRAMES_A_SECOND / fps if contents.first is not None else 1.0
    moving = [_Moving(p, si, slower) for p in parts]
    bodies = [m.body(names[p.path]) for p, m in zip(parts, moving, strict=True)]
    setup = {"title": file, "fps": fps, "frames": [first, first + count - 1]}
    part = path.with_name(f".{path.name}.{os.getpid()}.part")
    shutil.rmtree(part, ignore_errors=True)
    try:
        told = {"file": file, "sha256": sha256, "unit": unit, "up_axis": up_axis, "notes": contents.notes}
        writer = CacheWriter.create(part, sha256, setup, {}, {file: sha256}, bodies, told)
        for k in range(count):
            step(tell, k, count)
            writer.commit(first + k, [m.at(k / fps) for m in moving], {}, 0.0, None)
        writer.finish()
        if path.exists():
            raise Problem("there is a cache already.", str(path), "Choose another name.")
        os.replace(part, path)
    except OSError as error:
        raise Problem(f"the cache cannot be written: {error.strerror}.", str(path)) from None
    finally:
        shutil.rmtree(part, ignore_errors=True)
    return Cache(path)


class _Moving:
    """A file's part at any moment, in metres with Y up: a pose where it keeps its form, or else its points."""

    def __init__(self, part: FilePart, si: Callable[[Floats], Floats], slower: float) -> None:
        self.part, self.si, self.times_s = part, si, part.times_s * slower
        self.rest: Floats = si(part.mesh.points)
        self.shift, self.turn = np.zeros((1, 3)), np.array([[0.0, 0.0, 0.0, 1.0]])
        if len(part.poses):
            from scipy.spatial.transform import Rotation  # brings more than pages wait for

            axes = si(np.eye(3)).T / np.linalg.norm(si(np.eye(3)[:1]))  # columns: where the file's axes lie here
            ways = part.poses @ np.linalg.inv(part.poses[0])
            self.turn = Rotation.from_matrix(axes @ ways[:, :3, :3] @ axes.T).as_quat()
            self.shift = si(ways[:, :3, 3])

    def body(self, name: str) -> CacheBody:
        part, faces = self.part, self.part.mesh.faces
        if len(part.sequence):
            most_points, most_faces = (int(n) for n in part.sequence.counts.max(axis=0))
            return CacheBody(name, faces, most_points, None, most_faces)
        return CacheBody(name, faces, len(self.rest), None if len(part.shapes) else self.rest)

    def at(self, seconds: float) -> BodyFrame:
        times = self.times_s
        k, share = 0, 0.0
        if len(times) > 1:
            k = int(np.clip(np.searchsorted(times, seconds, side="right") - 1, 0, len(times) - 2))
            share = float(np.clip((seconds - times[k]) / (times[k + 1] - times[k]), 0.0, 1.0))
            share = round(share) if abs(share - round(share)) < EVEN else share
        if len(self.part.sequence):
            points, faces = self.part.sequence.at(k + int(share))
            return self.si(points).astype(np.float32), faces.astype(np.int32)
        if len(self.part.shapes):
            one, two = self.part.shapes[k], self.part.shapes[min(k + 1, len(self.part.shapes) - 1)]
            return np.asarray(self.si(one if share == 0.0 else (1.0 - share) * one + share * two), dtype=np.float32)
        at = np.array([k + share])
        return np.concatenate([values_at(self.shift, at)[0], turns_at(self.turn, at)[0]])
