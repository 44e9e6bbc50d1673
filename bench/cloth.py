"""Milliseconds a frame of cloth on a ball, and the share of a bake that writing takes.

usage: PYTHONPATH=src python bench/cloth.py [points on a side ...]
"""

import resource
import shutil
import sys
import tempfile
import time
from itertools import product
from pathlib import Path

import numpy as np
import yardstick

from zembrik.core.bake import bake
from zembrik.core.cache.writer import CacheWriter
from zembrik.core.compiled import use_threads
from zembrik.core.setup.assets import FolderAssets, NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.setup.resolve import resolve
from zembrik.core.solver.build import build_world
from zembrik.core.solver.step import Stepper

FRAMES = 48


LEVELS = (None, "points", "faces", "edges")  # without itself, and with itself, by the levels of contact


def setup_of(side: int, itself: bool, frames: int = FRAMES, contact: str = "edges"):
    cloth = {
        "name": "cloth",
        "role": "cloth",
        "mesh": {"shape": "grid", "size": [2, 2], "segments": [side - 1, side - 1]},
        "place": {"translate": [0, 1.05, 0]},
        "material": {"preset": "linen"},
    }
    ball = {
        "name": "ball",
        "role": "collider",
        "mesh": {"shape": "ball", "radius": 0.5},
        "place": {"translate": [0, 0.5, 0]},
        "proxy": {"kind": "ball"},
    }
    quality = {"substeps": 20, "self_collision": itself, "contact": contact if itself else "points"}
    winds = [{"kind": "wind", "velocity": [1, 0, 0.5]}]
    return parse_setup({"frames": [1, frames], "bodies": [cloth, ball], "forces": winds, "quality": quality})


def hanging_error(side: int) -> float:
    """Return how far off, as a share of its length, a cloth hangs at the daily profile, at rest.

    2 m × 2 m of 0.35 kg/m² and 1,000 N/m, pinned along its top, hangs lower by ρ g L² / 2k.
    """
    length, stiff, weight = 2.0, 1000.0, 0.35
    material = {"stretch": stiff, "compression": stiff, "shear": stiff, "area_density": weight, "bend": 1e-4}
    cloth = {
        "name": "cloth",
        "role": "cloth",
        "mesh": {"shape": "grid", "size": [length, length], "segments": [side - 1, side - 1]},
        "place": {"rotate": [0, 0, -90]},
        "material": material,
        "pins": [{"points": {"box": [[-2, length / 2 - 1e-6, -2], [2, 2, 2]]}}],
    }
    world = {"ground": None, "air_density": 0}
    forces = [{"kind": "air damping", "rate": 4.0}]
    setup = parse_setup({"world": world, "bodies": [cloth], "forces": forces, "quality": {"profile": "daily"}})
    world = build_world(setup, NoAssets())
    resolved = resolve(setup)
    stepper = Stepper(world, resolved.count_at("substeps", 1), resolved.count_at("iterations", 1), 24.0)
    start = world.x[:, 1].min()
    for frame in range(1, 73):
        stepper.advance(frame)
    sunk = start - world.x[:, 1].min()
    return float(sunk - weight * 9.81 * length**2 / (2 * stiff)) / length


def main() -> None:
    use_threads(2)
    yardstick.say()
    sides = [int(word) for word in sys.argv[1:]] or [41, 101, 201]
    folder = Path(tempfile.mkdtemp())
    writing = []
    commit = CacheWriter.commit

    def timed(self, *words):
        start = time.perf_counter()
        commit(self, *words)
        writing.append(time.perf_counter() - start)

    CacheWriter.commit = timed
    bake(setup_of(5, True, 3), FolderAssets(folder), folder / "warm.zarr")  # compiles or loads the kernels
    sizes: dict[str | None, list[tuple[int, float]]] = {level: [] for level in LEVELS}
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    print("points    with itself   ms a frame   worst   whole bake s   writing %   most kB a point so far   yardstick")
    for side, level in product(sides, LEVELS):
        writing.clear()
        day = yardstick.pass_ms()
        start = time.perf_counter()
        setup = setup_of(side, level is not None, contact=level or "points")
        cache = bake(setup, FolderAssets(folder), folder / f"{side}-{level}.zarr")
        whole = time.perf_counter() - start
        frames = cache.figure("timing/seconds")[1:]
        ms, share = frames * 1000, 100 * sum(writing) / whole
        used = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) * 1.024 / side**2
        day = 0.5 * (day + yardstick.pass_ms())
        sizes[level].append((side * side, float(np.median(ms))))
        told = f"{np.median(ms):12.1f} {ms.max():9.1f} {whole:13.2f} {share:11.1f} {used:13.2f} {day:22.2f}"
        print(f"{side * side:7,} {level or 'no':>10} {told}", flush=True)
    for level, found in sizes.items():
        if len(found) > 1:
            points, ms = np.log(np.array(found).T)
            power = np.polyfit(points, ms, 1)[0]
            print(f"with itself: {level or 'no'}: time grows with the points to the power {power:.2f}")
    shutil.rmtree(folder)
    print(f"a cloth of 10,201 points hangs off by {100 * hanging_error(101):+.2f}% of its length at the daily profile")


if __name__ == "__main__":
    main()
