"""Milliseconds a frame of rigid bodies in a pile and of a soft body, at 20 substeps on 2 threads.

usage: PYTHONPATH=src python bench/bodies.py [rigid bodies ...]
"""

import sys
import time

import numpy as np
import yardstick

from zembrik.core.compiled import use_threads
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.solver.step import Stepper


def pile(count: int) -> dict:
    """Boxes in a loose block above the ground, each a hull of eight corners."""
    bodies = []
    side = int(np.ceil(count ** (1 / 3)))
    rng = np.random.default_rng(1)
    for n in range(count):
        place = np.array([n % side, n // side**2, n // side % side]) * 0.26 + [0, 0.2, 0] + rng.uniform(-0.02, 0.02, 3)
        mesh = {"shape": "box", "size": [0.2, 0.15, 0.2]}
        where = {"translate": place.round(4).tolist(), "rotate": rng.uniform(-20, 20, 3).round(1).tolist()}
        bodies.append({"name": f"b{n}", "role": "rigid", "mesh": mesh, "place": where, "proxy": {"kind": "hull"}})
    return {"bodies": bodies}


def lump() -> dict:
    """A soft block of about 10,000 tetrahedra that falls on the ground."""
    mesh = {"shape": "box", "size": [0.52, 0.52, 0.48], "segments": 12}
    block = {"name": "lump", "role": "soft", "mesh": mesh, "cell": 0.04, "place": {"translate": [0, 0.4, 0]}}
    return {"bodies": [block | {"material": {"preset": "sponge"}}]}


def frames(document: dict, count: int) -> tuple[np.ndarray, object]:
    """Return seconds of each frame, and the world."""
    world = build_world(parse_setup(document), NoAssets())
    stepper = Stepper(world, 20, 1, 24.0)
    seconds = []
    for frame in range(1, count + 1):
        start = time.perf_counter()
        stepper.advance(frame)
        seconds.append(time.perf_counter() - start)
    return np.array(seconds[3:]), world


def on_a_day(document: dict, count: int) -> tuple[np.ndarray, object, float]:
    """Return the same, and how long the yardstick took before and after, in the mean, ms."""
    before = yardstick.pass_ms()
    seconds, world = frames(document, count)
    return seconds, world, 0.5 * (before + yardstick.pass_ms())


def main() -> None:
    """Print the table."""
    use_threads(2)
    yardstick.say()
    frames(pile(8), 5)
    frames(lump(), 5)
    print("what                     ms a frame, median   worst   asleep at the end   yardstick")
    for count in [int(word) for word in sys.argv[1:]] or [100, 1000]:
        seconds, world, day = on_a_day(pile(count), 60)
        asleep = int(world.solids.rigid.asleep.sum())
        told = f"{1e3 * np.median(seconds):16.1f} {1e3 * seconds.max():9.1f} {asleep:12,} {day:17.2f}"
        print(f"{count:6,} boxes in a pile {told}")
    seconds, world, day = on_a_day(lump(), 40)
    told = f"{1e3 * np.median(seconds):16.1f} {1e3 * seconds.max():9.1f}            - {day:17.2f}"
    print(f"{len(world.tets.points):6,} tetrahedra      {told}")


if __name__ == "__main__":
    main()
