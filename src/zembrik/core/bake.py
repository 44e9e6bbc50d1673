"""A bake is a pure function: setup and meshes in, cache out.

The same setup and meshes give the same bytes (but for `timing/seconds`), on any number of
threads, stopped and continued or in one go.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zembrik.core.cache.body import BodyFrame, CacheBody
from zembrik.core.cache.content import body_hash
from zembrik.core.cache.reader import Cache
from zembrik.core.cache.writer import CacheWriter, checkpoint_of
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, file_hash, played
from zembrik.core.setup.document import CacheMesh, FileMesh, Setup
from zembrik.core.setup.materials import SIMULATED
from zembrik.core.setup.resolve import resolve, setup_hash
from zembrik.core.solver.build import build_world
from zembrik.core.solver.sound import check_sound
from zembrik.core.solver.stats import Meter
from zembrik.core.solver.step import Stepper
from zembrik.core.solver.world import World


@dataclass(frozen=True)
class Progress:
    """What a bake tells after each frame: the frame, its seconds, and how many frames are done of how many."""

    frame: int
    seconds: float
    done: int
    total: int


def asset_hashes(setup: Setup, assets: Assets) -> dict[str, str]:
    """Return the hash of every mesh file, and of every cache, that the setup's bodies use."""
    bodies = [b for b in setup.bodies if b.role != "left out"]
    files = {m.file for b in bodies for m in (b.mesh, b.form) if isinstance(m, FileMesh)}
    hashes = {file: file_hash(assets.read(file)) for file in sorted(files)}
    placed = {(m.cache, m.body): m for b in bodies if isinstance(m := b.mesh, CacheMesh)}
    for (name, _), mesh in sorted(placed.items()):
        hashes[name] = hashes.get(name, "") + body_hash(*played(mesh, assets))
    return hashes


def hash_of(setup: Setup, assets: Assets) -> str:
    """Return the hash by which a bake of this setup is known."""
    hashes = asset_hashes(setup, assets)
    return setup_hash(setup, lambda file: hashes[file])


def bake(
    setup: Setup,
    assets: Assets,
    path: Path,
    resume: bool = False,
    tell: Callable[[Progress], bool] = lambda progress: True,
) -> Cache:
    """Compute every frame of a setup from the first one into a cache.

    Args:
        setup: what to bake.
        assets: gives its mesh files.
        path: the cache's folder.
        resume: continue the cache that is there, if it is of the same setup.
        tell: called after every frame; returning False stops there and keeps the frames.

    Raises:
        Problem: when the setup cannot be simulated, blows up, or the disk refuses.
    """
    if not any(body.role in SIMULATED for body in setup.bodies):
        raise Problem("no body is simulated.", "setup", "Give at least one body the role cloth, soft or rigid.")
    key = hash_of(setup, assets)
    world = build_world(setup, assets)
    resolved = resolve(setup)
    first, last = setup.frames
    if resume and path.exists():
        _check_same(path, key)
        writer = CacheWriter.reopen(path, last)
    else:
        writer = CacheWriter.create(
            path, key, resolved.document, resolved.origins, asset_hashes(setup, assets),
            [CacheBody(b.name, b.faces, b.count, b.rest) for b in world.bodies],
        )  # fmt: skip
    quality = resolved.quality
    stepper = Stepper(world, quality("substeps"), quality("iterations"), setup.fps, quality("enough"))
    meter = Meter(world)
    done = writer.attributes["done"]
    if done is None:
        for frame in range(first - setup.preroll, first):
            stepper.advance(frame)
            check_sound(world, frame + 1)
        begin = first
    else:
        for values, kept in zip(world.state(), checkpoint_of(path, done), strict=True):
            values[...] = kept.reshape(values.shape)
        begin = done + 1
    try:
        for frame in range(begin, last + 1):
            start = time.perf_counter()
            if frame > first:
                stepper.advance(frame - 1)
            check_sound(world, frame)
            figures = meter.measure(stepper)
            seconds = time.perf_counter() - start
            writer.commit(frame, frame_of(world), figures, seconds, world.state())
            if not tell(Progress(frame, seconds, frame - first + 1, last - first + 1)):
                break
    finally:
        writer.finish()
    return Cache(path)


def frame_of(world: World) -> list[BodyFrame]:
    """Return what a cache keeps of each body as a world stands: points float32 (n, 3), metres, or a pose (7,)."""
    poses = world.solids.poses()
    return [poses[b.rigid] if b.rigid is not None else b.points(world.x).astype(np.float32) for b in world.bodies]


def _check_same(path: Path, key: str) -> None:
    if Cache(path).attributes["setup_hash"] != key:
        raise Problem(
            "the cache belongs to another setup, so it cannot be continued.", str(path), "Bake into a new name."
        )
