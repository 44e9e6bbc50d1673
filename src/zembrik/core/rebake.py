"""Damaged frames of a cache baked again alone: all others stay as they are, to the byte."""

from __future__ import annotations

import shutil
from pathlib import Path

import numpy as np

from zembrik.core.bake import frame_of, hash_of
from zembrik.core.cache.body import BodyFrame
from zembrik.core.cache.layout import chunk_path, encode_chunk, write_whole
from zembrik.core.cache.lock import check_unlocked
from zembrik.core.cache.reader import Cache
from zembrik.core.cache.writer import write_array, write_body_frame
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets
from zembrik.core.setup.document import Setup
from zembrik.core.setup.resolve import resolve
from zembrik.core.solver.build import build_world
from zembrik.core.solver.sound import check_sound
from zembrik.core.solver.stats import Meter
from zembrik.core.solver.step import Stepper
from zembrik.core.telling import Tell, silent, step


def rebake(setup: Setup, assets: Assets, path: Path, tell: Tell = silent) -> list[int]:
    """Write anew what is missing or damaged in a cache; return the frames that were.

    A frame can only be computed from the one before it, so all are up to the last damaged one; but only what is damaged
    is written, and every sound frame on the way is held against what is computed now: nothing is mixed.

    Raises:
        Problem: when the cache is approved, handed in, or of another setup, or this program computes other frames.
        Stopped: when `tell` says so.
    """
    check_unlocked(path)
    cache = Cache(path)
    if cache.foreign is not None:
        raise Problem("the cache was handed in and cannot be baked.", str(path), "Hand its file in again.")
    if cache.attributes["setup_hash"] != hash_of(setup, assets):
        raise Problem("the cache belongs to another setup, or a mesh was changed.", str(path), "Bake it anew.")
    flaws = cache.flaws()
    if not flaws or cache.done is None:
        return []
    wanted = {(f.body, f.frame) for f in flaws if f.frame is not None}
    figures = any(f.body is None for f in flaws)
    last = cache.done if figures else max((frame for _, frame in wanted), default=cache.first)
    world, resolved = build_world(setup, assets), resolve(setup)
    try:
        for number in {f.body for f in flaws if f.body is not None and f.frame is None}:
            _write_mesh(path / "bodies" / str(number), world.bodies[number].faces, world.bodies[number].rest)
        quality = resolved.quality
        stepper = Stepper(world, quality("substeps"), quality("iterations"), setup.fps, quality("enough"))
        meter, values = (
            Meter(world),
            {name: np.full(last - cache.first + 1, np.nan, np.float32) for name in cache.measured},
        )
        for frame in range(cache.first - setup.preroll, cache.first):
            stepper.advance(frame)
            check_sound(world, frame + 1)
        for frame in range(cache.first, last + 1):
            step(tell, frame - cache.first, last - cache.first + 1)
            if frame > cache.first:
                stepper.advance(frame - 1)
            check_sound(world, frame)
            for name, value in meter.measure(stepper).items():
                if f"stats/{name}" in values:
                    values[f"stats/{name}"][frame - cache.first] = value
            for number, now in enumerate(frame_of(world)):
                if (number, frame) in wanted:
                    write_body_frame(path / "bodies" / str(number), frame - cache.first, now)
                elif not _same(cache, number, frame, now):
                    raise Problem(
                        f"frame {frame} of '{cache.names[number]}' comes out otherwise now than it is in the cache.",
                        str(path), "It was baked by another version or machine: bake it anew.",
                    )  # fmt: skip
        if figures:
            count = int(cache.last - cache.first + 1)
            for name, known in values.items():
                whole = np.full(count, np.nan, np.float32)
                whole[: len(known)] = 0.0 if name.startswith("timing") else known
                chunk_path(path / name, 0).parent.mkdir(parents=True, exist_ok=True)
                write_whole(chunk_path(path / name, 0), encode_chunk(whole))
    except OSError as error:
        raise Problem(f"the cache cannot be written: {error.strerror}.", str(path)) from None
    left = Cache(path).damage()
    if left:
        raise Problem(f"it is still damaged: {left[0]}", str(path), "Bake it anew.")
    return sorted({frame for _, frame in wanted})


def _write_mesh(folder: Path, faces: np.ndarray, rest: np.ndarray | None) -> None:
    for name, values in (("faces", faces.astype(np.int32)), ("rest", None if rest is None else rest.astype("f4"))):
        if values is not None:
            shutil.rmtree(folder / name, ignore_errors=True)
            write_array(folder / name, values)


def _same(cache: Cache, number: int, frame: int, now: BodyFrame) -> bool:
    assert isinstance(now, np.ndarray)
    held = cache.pose(number, frame) if now.ndim == 1 else cache.points(number, frame)
    return bool(np.array_equal(held, now.astype(held.dtype)))
