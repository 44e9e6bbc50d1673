"""Reading a cache, and checking it."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.journal import read_journal
from zembrik.core.cache.layout import FIGURES, FIRST_FIGURES, SCHEMA, attributes_sum, chunk_path, decode_chunk
from zembrik.core.problem import Problem
from zembrik.core.units import quaternion_turn

MOST_FRAMES, MOST_LENGTH = 1_000_000, 1_000_000_000


def figures_of(attributes: dict[str, Any]) -> list[str]:
    """Return the names of the figures that a cache has for every frame."""
    names = attributes.get("figures", FIRST_FIGURES)
    return names if isinstance(names, list) and all(name in FIGURES for name in names) else FIRST_FIGURES


def _checked(attributes: dict[str, Any], path: Path) -> tuple[int, int, int | None, float]:
    """Return first and last frame, the last one done or None, and frames a second.

    Raises:
        Problem: when any of them is no such number.
    """
    where, remedy = f"{path}/zarr.json", "Bake it anew, or import it again."
    frames: Any = attributes.get("frames")
    done: Any = attributes.get("done")
    fps: Any = attributes.get("fps")
    whole = isinstance(frames, list) and len(frames) == 2 and all(type(f) is int for f in frames)
    if not whole or not 0 <= frames[1] - frames[0] < MOST_FRAMES:
        raise Problem("it does not say which frames it has.", where, remedy)
    if done is not None and not (type(done) is int and frames[0] <= done <= frames[1]):
        said = f"it says it is baked to frame {str(done)[:20]}, of {frames[0]} to {frames[1]}."
        raise Problem(said, where, remedy)
    if type(fps) not in (int, float) or not 0.0 < fps <= 1e6:
        raise Problem("it does not say how many frames go into a second.", where, remedy)
    return frames[0], frames[1], done, float(fps)


@dataclass(frozen=True)
class Flaw:
    """Something missing or damaged: of which body and frame (None: of none, or of all), in words."""

    body: int | None
    frame: int | None
    text: str


class Cache:
    """A cache on disk, whole or still being baked.

    Raises:
        Problem: when the folder is no cache of ours.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self.measured: list[str] = figures_of(self._group(path))
        self._journal = read_journal(path, len(self.measured))  # before the attributes, which are never older
        self.attributes = self._group(path)
        if self.attributes.get("schema") != SCHEMA:
            raise Problem(f"this is not a cache of the schema {SCHEMA}.", str(path))
        self.first, self.last, done, self.fps = _checked(self.attributes, path)
        frames = [*(f for f in self._journal if self.first <= f <= self.last), *([] if done is None else [done])]
        self.done: int | None = max(frames) if frames else None
        self._rests: dict[int, NDArray[np.float32]] = {}

    @staticmethod
    def _group(path: Path) -> dict[str, Any]:
        try:
            value = json.loads((path / "zarr.json").read_bytes())["attributes"]
            if isinstance(value, dict):
                return value
        except FileNotFoundError:
            raise Problem("there is no cache here.", str(path), "Name a folder that ends in .zarr.") from None
        except (OSError, ValueError, KeyError, TypeError, IndexError, RecursionError):
            pass
        raise Problem("the cache's zarr.json cannot be read.", str(path), "Bake it anew, or import it again.")

    @property
    def editions(self) -> list[tuple[int, str]]:
        """Which editions of the solver it was baked by, and from which frame on each; see `sources.solver_edition`."""
        went_on = [(int(frame), str(edition)) for frame, edition in self.attributes.get("continued", [])]
        return [(self.first, str(self.attributes["solver"])), *went_on]

    @property
    def foreign(self) -> dict[str, Any] | None:
        """What is told of the file that it was handed in as; None of a cache that was baked here. It has no figures."""
        return self.attributes.get("foreign")

    @property
    def frame_count(self) -> int:
        """How many frames are committed."""
        return 0 if self.done is None else self.done - self.first + 1

    @cached_property
    def names(self) -> list[str]:
        """The bodies' names, in order."""
        return [str(self._group(folder).get("name", folder.name)) for folder in self._folders]

    @cached_property
    def _folders(self) -> list[Path]:
        found = (
            [p for p in (self.path / "bodies").iterdir() if p.name.isdecimal()]
            if (self.path / "bodies").is_dir()
            else []
        )
        return sorted(found, key=lambda p: int(p.name))

    @cached_property
    def point_counts(self) -> list[int]:
        """How many points each body has; of one whose number changes, the most."""
        return [
            int(self._shape(folder / "rest")[0] if self.is_rigid(n) else self._shape(folder / "points")[1])
            for n, folder in enumerate(self._folders)
        ]

    def is_rigid(self, number: int) -> bool:
        """Tell whether a body is kept as a pose a frame, not as points."""
        return (self._folders[number] / "pose").is_dir()

    def changes(self, number: int) -> bool:
        """Tell whether a body's numbers of points and faces are others from frame to frame."""
        return (self._folders[number] / "counts").is_dir()

    def most_faces(self, number: int) -> int:
        """Return how many faces a body has; of one whose number changes, the most."""
        return int(self._shape(self._folders[number] / "faces")[1 if self.changes(number) else 0])

    def rest(self, number: int) -> NDArray[np.float32]:
        """Return a rigid body's placed mesh, float32 (points, 3), metres, which its poses move."""
        if number not in self._rests:
            array = self._folders[number] / "rest"
            self._rests[number] = self._chunk(array, (0, 0), "<f4", tuple(self._shape(array)), "the mesh")
        return self._rests[number]

    def pose(self, number: int, frame: int) -> NDArray[np.float64]:
        """Return a rigid body's pose at a frame, float64 (7,): shift in metres and quaternion x y z w.

        Raises:
            Problem: when the frame is not committed, or its chunk is missing or damaged.
        """
        self._check_committed(frame)
        return self._of_frame(number, "pose", frame, "<f8", (7,))

    @staticmethod
    def _shape(array: Path) -> list[int]:
        try:
            shape = json.loads((array / "zarr.json").read_bytes())["shape"]
            if isinstance(shape, list) and all(isinstance(n, int) and 0 <= n <= MOST_LENGTH for n in shape):
                return shape
        except (OSError, ValueError, KeyError, TypeError, IndexError, RecursionError):
            pass
        raise Problem("the array's zarr.json cannot be read.", str(array), "Bake it anew.")

    def body_number(self, name: str) -> int:
        """Return a body's number; raises Problem for a name that is not there."""
        if name not in self.names:
            raise Problem(f"the cache has no body '{name}'.", str(self.path), f"It has {', '.join(self.names)}.")
        return self.names.index(name)

    def faces(self, number: int, frame: int | None = None) -> NDArray[np.int32]:
        """Return a body's faces, int32 (faces, 3); where they change, those of a frame, or else of the first."""
        array = self._folders[number] / "faces"
        if self.changes(number):
            at = self.first if frame is None else frame
            held = self._of_frame(number, "faces", at, "<i4", tuple(self._shape(array)[1:]))
            return held[: self._counts(number, at)[1]]
        return self._chunk(array, (0, 0), "<i4", tuple(self._shape(array)), "faces")

    def points(self, number: int, frame: int) -> NDArray[np.float32]:
        """Return a body's points at a frame, float32 (points, 3), metres, Y up.

        Raises:
            Problem: when the frame is not committed, or its chunk is missing or damaged.
        """
        if self.is_rigid(number):
            pose = self.pose(number, frame)
            moved = self.rest(number).astype(np.float64) @ quaternion_turn(pose[3:]).T + pose[:3]
            return moved.astype(np.float32)
        self._check_committed(frame)
        held = self._of_frame(number, "points", frame, "<f4", (self.point_counts[number], 3))
        return held[: self._counts(number, frame)[0]] if self.changes(number) else held

    def _counts(self, number: int, frame: int) -> NDArray[np.int32]:
        return self._of_frame(number, "counts", frame, "<i4", (2,))

    def _of_frame(self, number: int, what: str, frame: int, dtype: str, shape: tuple[int, ...]) -> NDArray[Any]:
        index = (frame - self.first, *([0] * len(shape)))
        return self._chunk(self._folders[number] / what, index, dtype, shape, f"frame {frame}")

    def _check_committed(self, frame: int) -> None:
        if self.done is None or not self.first <= frame <= self.done:
            until = "no frame yet" if self.done is None else f"frames {self.first} to {self.done}"
            raise Problem(f"frame {frame} is not in the cache; it holds {until}.", str(self.path))

    def figure(self, name: str) -> NDArray[np.float32]:
        """Return "stats/<name>" or "timing/seconds" of the committed frames, float32 (frames,), SI units.

        Of a cache that was imported there are none, float32 (0,), and of an older one not all.
        """
        if self.done is None or self.foreign is not None or name not in self.measured:
            return np.zeros(0, np.float32)
        array = self.path / name
        values = np.full(self.frame_count, np.nan, np.float32)
        if chunk_path(array, 0).exists() or not self._journal:
            stored = self._chunk(array, (0,), "<f4", tuple(self._shape(array)), name)[: self.frame_count]
            values[: len(stored)] = stored
        which = self.measured.index(name)
        for frame, figures in self._journal.items():
            values[frame - self.first] = figures[which]
        return values

    def _chunk(
        self, array: Path, index: tuple[int, ...], dtype: str, shape: tuple[int, ...], what: str
    ) -> NDArray[Any]:
        place = chunk_path(array, *index)
        try:
            return decode_chunk(place.read_bytes(), dtype, shape)
        except FileNotFoundError:
            raise Problem(f"{what} is missing.", str(place), "Bake it again.") from None
        except (OSError, ValueError) as error:
            raise Problem(f"{what} is damaged: {error}.", str(place), "Bake it again.") from None

    def flaws(self) -> list[Flaw]:
        """Read every committed chunk; return what is missing or damaged."""
        found: list[Flaw] = []
        if (said := self.attributes.get("crc32c")) is not None and said != attributes_sum(self.attributes):
            found.append(Flaw(None, None, "what it says of itself (zarr.json) was changed after it was baked."))
        frames = [] if self.done is None else range(self.first, self.done + 1)
        for number, name in enumerate(self.names):
            reads: list[tuple[int | None, Callable[[], NDArray[Any]]]] = []
            if not self.changes(number):
                reads.append((None, lambda n=number: self.faces(n)))  # type: ignore[misc]
            if self.is_rigid(number):
                reads.append((None, lambda n=number: self.rest(n)))  # type: ignore[misc]
            for f in frames:
                reads.append((f, lambda n=number, f=f: self._all_of(n, f)))  # type: ignore[misc]
            for frame, read in reads:
                try:
                    if not np.isfinite(read()).all():
                        words = f"body '{name}', frame {frame}: it holds numbers that are not finite."
                        found.append(Flaw(number, frame, words))
                except Problem as problem:
                    found.append(Flaw(number, frame, f"body '{name}': {problem}"))
        for figure in self.measured if self.done is not None and self.foreign is None else ():
            try:
                self.figure(figure)
            except Problem as problem:
                found.append(Flaw(None, None, str(problem)))
        return found

    def _all_of(self, number: int, frame: int) -> NDArray[Any]:
        """Read everything that a frame has of a body; return what must be finite."""
        if self.is_rigid(number):
            return self.pose(number, frame)
        points = self.points(number, frame)
        if self.changes(number):
            self.faces(number, frame)
        return points

    def damage(self) -> list[str]:
        """Read every committed chunk; return one line for each that is missing or damaged."""
        return [flaw.text for flaw in self.flaws()]

    def size_bytes(self) -> int:
        """Return how much the cache takes on disk."""
        return sum(p.stat().st_size for p in self.path.rglob("*") if p.is_file())
