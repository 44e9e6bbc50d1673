"""Writing a cache, one whole frame at a time."""

from __future__ import annotations

import json
import shutil
import time
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.body import BodyFrame, CacheBody
from zembrik.core.cache.journal import NAME, append_record, read_checkpoint, write_checkpoint
from zembrik.core.cache.layout import (
    FIGURES,
    SCHEMA,
    array_json,
    attributes_sum,
    chunk_path,
    encode_chunk,
    group_json,
    write_whole,
)
from zembrik.core.cache.lock import check_unlocked
from zembrik.core.problem import Problem
from zembrik.core.sources import solver_edition

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
        bodies: list[CacheBody], foreign: dict[str, Any] | None = None,
    ) -> CacheWriter:  # fmt: skip
        """Make a new cache; a folder that is there already is an error.

        Args:
            path: its folder. setup_hash, setup, origins, assets: see `layout`. bodies: what it keeps.
            foreign: of a cache from elsewhere, what is told of its file.

        Raises:
            Problem: when the place is taken or cannot be written.
        """
        attributes = {
            "schema": SCHEMA,
            "solver": solver_edition(),
            "setup_hash": setup_hash,
            "setup": setup,
            "origins": origins,
            "assets": assets,
            "fps": setup["fps"],
            "frames": setup["frames"],
            "figures": FIGURES,
            "done": None,
            "length_unit": "m",
            "up_axis": "y",
        }
        if foreign is not None:
            attributes |= {"foreign": foreign, "solver": f"handed in: {foreign['file']}"}
        writer = cls(path, attributes)
        try:
            path.mkdir(parents=True)
            for group in ("bodies", "stats", "timing") if foreign is None else ("bodies",):
                (path / group).mkdir()
                write_whole(path / group / "zarr.json", group_json({}))
            for number, body in enumerate(bodies):
                writer._add_body(number, body)
            if foreign is None:
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
        packed = b'"blosc"' in (path / FIGURES[0] / "zarr.json").read_bytes()
        if not packed or attributes.get("figures") != FIGURES:
            raise Problem("the cache was begun by an earlier version.", str(path), "Discard it and bake it anew.")
        first, before = attributes["frames"]
        attributes["frames"] = attributes["setup"]["frames"] = [first, max(last, before)]
        writer = cls(path, attributes)
        from zembrik.core.cache.reader import Cache

        cache = Cache(path)
        done = attributes["done"] = cache.done  # with what a bake that died left in its journal
        if done is not None and cache.editions[-1][1] != solver_edition():
            attributes["continued"] = [*attributes.get("continued", []), [done + 1, solver_edition()]]
        for name in FIGURES:
            known = cache.figure(name)
            writer.figures[name][: len(known)] = known
        if attributes["frames"][1] > before:
            for number, count in enumerate(cache.point_counts):
                writer._shape_frames(number, count, cache.is_rigid(number), 0)
            writer._shape_figures()
        if done is not None:
            writer._write_figures()
        writer._write_attributes()
        (path / NAME).unlink(missing_ok=True)
        return writer

    def _add_body(self, number: int, body: CacheBody) -> None:
        folder = self.path / "bodies" / str(number)
        folder.mkdir()
        write_whole(folder / "zarr.json", group_json({"name": body.name}))
        if body.rest is not None:
            write_array(folder / "rest", body.rest.astype(np.float32))
        if not body.most_faces:
            write_array(folder / "faces", body.faces.astype(np.int32))
        self._shape_frames(number, body.points, body.rest is not None, body.most_faces)

    def _shape_frames(self, number: int, points: int, rigid: bool, most_faces: int) -> None:
        """Write the heads of a body's arrays over frames, for as many frames as there are to be."""
        folder = self.path / "bodies" / str(number)
        beyond = float("nan") if most_faces else 0.0
        shapes: dict[str, tuple[tuple[int, ...], str, float]] = {"points": ((points, 3), "float32", beyond)}
        if rigid:
            shapes = {"pose": ((7,), "float64", 0)}
        if most_faces:
            shapes |= {"faces": ((most_faces, 3), "int32", -1), "counts": ((2,), "int32", 0)}
        for name, (shape, dtype, fill) in shapes.items():
            (folder / name).mkdir(exist_ok=True)
            write_whole(folder / name / "zarr.json", array_json((self.count, *shape), (1, *shape), dtype, fill))

    def _shape_figures(self) -> None:
        for name in FIGURES:
            folder = self.path / name
            (folder / "c").mkdir(parents=True, exist_ok=True)
            write_whole(folder / "zarr.json", array_json((self.count,), (self.count,), "float32"))

    def _write_attributes(self) -> None:
        self.attributes["crc32c"] = attributes_sum(self.attributes)
        write_whole(self.path / "zarr.json", group_json(self.attributes))

    def _write_figures(self) -> None:
        for name, values in self.figures.items():
            write_whole(chunk_path(self.path / name, 0), encode_chunk(values))

    def commit(
        self, frame: int, bodies: list[BodyFrame], figures: dict[str, float], seconds: float,
        state: list[NDArray[Any]] | None,
    ) -> None:  # fmt: skip
        """Add a frame: what it has of each body, figures in SI units, and the solver's state, None of a foreign cache.

        Raises:
            Problem: when the disk does not take it; the frames before stay as they are.
        """
        index = frame - self.first
        try:
            for number, values in enumerate(bodies):
                write_body_frame(self.path / "bodies" / str(number), index, values)
            self.attributes["done"] = frame
            if state is None:
                return
            for name, value in figures.items():
                self.figures[f"stats/{name}"][index] = value
            self.figures["timing/seconds"][index] = seconds
            write_checkpoint(self.path / f"checkpoint-{frame % 2}", frame, state)
            append_record(self.path, frame, [float(self.figures[name][index]) for name in FIGURES])
            if time.monotonic() - self.flushed > FLUSH_EVERY_S:
                self._flush()
        except OSError as error:
            raise Problem(f"frame {frame} cannot be written: {error.strerror}.", str(self.path)) from None

    def _flush(self) -> None:
        """Bring the arrays of figures and the attributes up to the last committed frame."""
        if "foreign" not in self.attributes:
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


def write_body_frame(folder: Path, index: int, values: BodyFrame) -> None:
    """Write what a frame, counted from 0, has of the body in a folder, chunk by chunk; each whole or not at all."""
    chunks: dict[str, NDArray[Any]] = {}
    if isinstance(values, tuple):
        points, faces = values
        most = [json.loads((folder / name / "zarr.json").read_bytes())["shape"][1] for name in ("points", "faces")]
        chunks["points"] = np.full((most[0], 3), np.nan, np.float32)
        chunks["faces"] = np.full((most[1], 3), -1, np.int32)
        chunks["points"][: len(points)], chunks["faces"][: len(faces)] = points, faces
        chunks["counts"] = np.array([len(points), len(faces)], np.int32)
    elif values.ndim == 1:
        chunks["pose"] = values.astype(np.float64)
    else:
        chunks["points"] = values.astype(np.float32)
    for name, held in chunks.items():
        target = chunk_path(folder / name, index, *([0] * held.ndim))
        target.parent.mkdir(parents=True, exist_ok=True)
        write_whole(target, encode_chunk(held))


def write_array(folder: Path, values: NDArray[Any]) -> None:
    """Write a whole array of one chunk."""
    folder.mkdir()
    write_whole(folder / "zarr.json", array_json(values.shape, values.shape, str(values.dtype)))
    target = chunk_path(folder, *([0] * values.ndim))
    target.parent.mkdir(parents=True)
    write_whole(target, encode_chunk(values))
