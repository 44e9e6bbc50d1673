"""Writing a cache, one whole frame at a time."""

from __future__ import annotations

import json
import shutil
import time
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.journal import NAME, append_record, read_checkpoint, write_checkpoint
from zembrik.core.cache.layout import (
    FIGURES,
    SCHEMA,
    SOLVER,
    array_json,
    chunk_path,
    encode_chunk,
    group_json,
    write_whole,
)
from zembrik.core.cache.lock import check_unlocked
from zembrik.core.problem import Problem
from zembrik.core.solver.world import SimBody

FLUSH_EVERY_S = 1.0


class CacheWriter:
    """Creates or continues a cache; `commit` adds the next frame."""

    def __init__(self, path: Path, attributes: dict[str, Any]) -> None:
        self.path = path
        self.attributes = attributes
        first, last = attributes["frames"]
        self.first, self.count = int(first), int(last - first + 1)
        self.flushed = time.monotonic()
        self.figures = {name: np.full(self.count, np.nan, np.float32) for name in FIGURES}

    @classmethod
    def create(
        cls, path: Path, setup_hash: str, setup: dict[str, Any], origins: dict[str, str], assets: dict[str, str],
        bodies: list[SimBody],
    ) -> CacheWriter:  # fmt: skip
        """Make a new cache; a folder that is there already is an error.

        Raises:
            Problem: when the place is taken or cannot be written.
        """
        attributes = {
            "schema": SCHEMA,
            "solver": SOLVER,
            "setup_hash": setup_hash,
            "setup": setup,
            "origins": origins,
            "assets": assets,
            "fps": setup["fps"],
            "frames": setup["frames"],
            "done": None,
            "length_unit": "m",
            "up_axis": "y",
        }
        writer = cls(path, attributes)
        try:
            path.mkdir(parents=True)
            for group in ("bodies", "stats", "timing"):
                (path / group).mkdir()
                write_whole(path / group / "zarr.json", group_json({}))
            for number, body in enumerate(bodies):
                writer._add_body(number, body)
            writer._shape_figures()
            writer._write_attributes()
        except FileExistsError:
            raise Problem(
                "there is a cache already.", str(path), "Continue it (--resume) or choose another name."
            ) from None
        except OSError as error:
            shutil.rmtree(path, ignore_errors=True)
            raise Problem(f"the cache cannot be written: {error.strerror}.", str(path)) from None
        return writer

    @classmethod
    def reopen(cls, path: Path, last: int) -> CacheWriter:
        """Open a cache to continue it, up to a last frame that may be later than before."""
        check_unlocked(path)
        attributes = json.loads((path / "zarr.json").read_bytes())["attributes"]
        if b'"blosc"' not in (path / FIGURES[0] / "zarr.json").read_bytes():
            raise Problem("the cache was begun by an earlier version.", str(path), "Discard it and bake it anew.")
        first, before = attributes["frames"]
        attributes["frames"] = attributes["setup"]["frames"] = [first, max(last, before)]
        writer = cls(path, attributes)
        from zembrik.core.cache.reader import Cache

        cache = Cache(path)
        done = attributes["done"] = cache.done  # with what a bake that died left in its journal
        for name in FIGURES:
            known = cache.figure(name)
            writer.figures[name][: len(known)] = known
        if attributes["frames"][1] > before:
            for number, count in enumerate(cache.point_counts):
                writer._shape_frames(number, count, cache.is_rigid(number))
            writer._shape_figures()
        if done is not None:
            writer._write_figures()
        writer._write_attributes()
        (path / NAME).unlink(missing_ok=True)
        return writer

    def _add_body(self, number: int, body: SimBody) -> None:
        folder = self.path / "bodies" / str(number)
        folder.mkdir()
        write_whole(folder / "zarr.json", group_json({"name": body.name}))
        if body.rest is not None:
            write_array(folder / "rest", body.rest.astype(np.float32))
        write_array(folder / "faces", body.faces.astype(np.int32))
        self._shape_frames(number, body.count, body.rest is not None)

    def _shape_frames(self, number: int, points: int, rigid: bool) -> None:
        """Write the head of a body's array over frames, for as many frames as there are to be."""
        folder = self.path / "bodies" / str(number) / ("pose" if rigid else "points")
        folder.mkdir(exist_ok=True)
        head = array_json((self.count, 7), (1, 7), "float64")
        if not rigid:
            head = array_json((self.count, points, 3), (1, points, 3), "float32")
        write_whole(folder / "zarr.json", head)

    def _shape_figures(self) -> None:
        for name in FIGURES:
            folder = self.path / name
            (folder / "c").mkdir(parents=True, exist_ok=True)
            write_whole(folder / "zarr.json", array_json((self.count,), (self.count,), "float32"))

    def _write_attributes(self) -> None:
        write_whole(self.path / "zarr.json", group_json(self.attributes))

    def _write_figures(self) -> None:
        for name, values in self.figures.items():
            write_whole(chunk_path(self.path / name, 0), encode_chunk(values))

    def commit(
        self, frame: int, bodies: list[SimBody], x: NDArray[np.float64], poses: NDArray[np.float64],
        state: list[NDArray[Any]], figures: dict[str, float], seconds: float,
    ) -> None:  # fmt: skip
        """Add a frame: places x (n, 3) of all points, poses (R, 7) of rigid bodies, state and figures in SI units.

        Raises:
            Problem: when the disk does not take it; the frames before stay as they are.
        """
        index = frame - self.first
        try:
            for number, body in enumerate(bodies):
                folder = self.path / "bodies" / str(number)
                if body.rigid is not None:
                    target, values = chunk_path(folder / "pose", index, 0), poses[body.rigid]
                else:
                    target = chunk_path(folder / "points", index, 0, 0)
                    values = body.points(x).astype(np.float32)
                target.parent.mkdir(parents=True, exist_ok=True)
                write_whole(target, encode_chunk(values))
            for name, value in figures.items():
                self.figures[f"stats/{name}"][index] = value
            self.figures["timing/seconds"][index] = seconds
            write_checkpoint(self.path / f"checkpoint-{frame % 2}", frame, state)
            append_record(self.path, frame, [float(self.figures[name][index]) for name in FIGURES])
            self.attributes["done"] = frame
            if time.monotonic() - self.flushed > FLUSH_EVERY_S:
                self._flush()
        except OSError as error:
            raise Problem(f"frame {frame} cannot be written: {error.strerror}.", str(self.path)) from None

    def _flush(self) -> None:
        """Bring the arrays of figures and the attributes up to the last committed frame."""
        self._write_figures()
        self._write_attributes()
        self.flushed = time.monotonic()

    def finish(self) -> None:
        """Bring everything up to date and take the journal away."""
        try:
            if self.attributes["done"] is not None:
                self._flush()
            (self.path / NAME).unlink(missing_ok=True)
        except OSError as error:
            raise Problem(f"the cache cannot be finished: {error.strerror}.", str(self.path)) from None


def checkpoint_of(path: Path, frame: int) -> list[NDArray[np.float64]]:
    """Return the solver's state after a committed frame, as flat arrays.

    Raises:
        Problem: when there is no sound checkpoint of that frame.
    """
    place = path / f"checkpoint-{frame % 2}"
    found = read_checkpoint(place, frame)
    if found is None:
        raise Problem(
            f"there is no sound checkpoint of frame {frame}.", str(place), "Bake it anew from the first frame."
        )
    return found


def write_array(folder: Path, values: NDArray[Any]) -> None:
    """Write a whole array of one chunk."""
    folder.mkdir()
    write_whole(folder / "zarr.json", array_json(values.shape, values.shape, str(values.dtype)))
    target = chunk_path(folder, *([0] * values.ndim))
    target.parent.mkdir(parents=True)
    write_whole(target, encode_chunk(values))
