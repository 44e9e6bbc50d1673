"""Seconds of what comes before the first bake: audit, hull, gap and overhang, all overlaps, taking a large file in.

usage: PYTHONPATH=src python bench/prepare.py
"""

import io
import resource
import time

import numpy as np
import yardstick

from zembrik.core.compiled import use_threads
from zembrik.core.exchange.obj import write_obj
from zembrik.core.exchange.read_any import read_contents
from zembrik.core.mesh import shapes
from zembrik.core.mesh.audit import audit
from zembrik.core.mesh.even import evened
from zembrik.core.proxy.fit import convex_hull, fit_proxy
from zembrik.core.proxy.hulls import several_hulls
from zembrik.core.proxy.measure import measure_fit
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.start.pairs import rigid_pairs
from zembrik.core.start.ways import ease_apart, probe, thin_out


def timed(words, run, aim):
    start = time.perf_counter()
    found = run()
    print(f"{words:58} {time.perf_counter() - start:8.2f} s   (aim {aim})", flush=True)
    return found


class OneFile:
    """Gives the same file under every name."""

    def __init__(self, data):
        self.data = data

    def read(self, file):
        """Return the file, whatever it is called."""
        return self.data


def crate(count: int = 1400) -> None:
    """Ease pears of random sizes apart that were thrown into a space of which they fill nine tenths."""
    rng = np.random.default_rng(4)
    pear = shapes.ball(0.04, 10)
    y = pear.points[:, 1]
    waist = np.where(y > 0, 1.0 - 8.0 * y, 1.0)[:, None]
    pear = pear.moved(pear.points * np.hstack([waist, np.ones_like(waist) * 1.3, waist]))
    out = io.BytesIO()
    write_obj(out, pear.points, pear.faces)
    side = (count * 6.0e-4) ** (1 / 3)  # their own volume is nine tenths of that: none could lie so
    bodies = []
    for n in range(count):
        place = {"translate": (rng.uniform(-0.5, 0.5, 3) * side).tolist()}
        place |= {"rotate": rng.uniform(-180, 180, 3).tolist(), "scale": float(rng.uniform(0.7, 1.6))}
        pears = {"name": f"pear {n}", "role": "rigid", "mesh": {"file": "pear.obj"}, "proxy": {"kind": "hull"}}
        bodies.append(pears | {"thickness": 0.0, "place": place})
    calm = {"ground": None, "gravity": [0, 0, 0], "air_density": 0}
    setup, assets = parse_setup({"bodies": bodies, "world": calm}), OneFile(out.getvalue())
    world = build_world(setup, assets)
    burst = probe(world, 20, 4)
    world = build_world(setup, assets)
    done = timed(f"easing {count:,} pears apart", lambda: ease_apart(world, 400), "–")
    size = float(np.linalg.norm(pear.size))
    moved = np.linalg.norm(done.shift, axis=1).mean() / size
    still = timed("24 frames without forces", lambda: probe(world, 20, 24), "–")
    left = f"deepest left {100 * done.deepest:.2f}% of its size, mean move {moved:.2f} pears"
    print(f"  before: {burst.fastest:.0f} m/s in 4 frames. {done.passes} passes, {left}")
    print(f"  then the farthest goes {1e3 * still.farthest:.3f} mm")


def main() -> None:
    use_threads(2)
    yardstick.say()
    small = shapes.ball(0.5, 12)
    audit(small)
    measure_fit([fit_proxy("hull", small)], small)
    ball = shapes.ball(0.5, 500)
    timed(f"audit of {len(ball.faces):,} faces", lambda: audit(ball), "6 s a million")
    timed("hull of 100,000 points", lambda: convex_hull(np.random.default_rng(1).normal(size=(100_000, 3))), "1 s")
    mesh = shapes.ball(0.5, 160)
    timed(f"gap and overhang of {len(mesh.faces):,} faces", lambda: measure_fit([fit_proxy("hull", mesh)], mesh), "3 s")
    rng = np.random.default_rng(1)
    bodies = [
        {"name": f"b{n}", "role": "rigid", "mesh": {"shape": "box", "size": [0.1, 0.1, 0.1]}, "proxy": {"kind": "hull"},
         "place": {"translate": rng.uniform(0, 1.2, 3).tolist(), "rotate": rng.uniform(-90, 90, 3).tolist(),
                   "scale": float(rng.uniform(0.7, 1.6))}}
        for n in range(2000)
    ]  # fmt: skip
    setup = parse_setup({"bodies": bodies, "world": {"ground": None}})
    world = timed("building the world of 2,000 bodies", lambda: build_world(setup, NoAssets()), "–")
    rigid_pairs(world)
    pairs = timed("all overlaps of 2,000 bodies", lambda: rigid_pairs(world), "2 s")
    timed(f"thinning out {len(pairs):,} pairs", lambda: thin_out(pairs, np.ones(2000, bool)), "–")
    crate()
    out, large = io.BytesIO(), shapes.ball(0.5, 480)
    write_obj(out, large.points, large.faces)
    data = out.getvalue()
    timed(f"reading {len(data) / 1e6:.0f} MB of OBJ", lambda: read_contents(data, "a.obj"), "40 s for 200 MB")
    heavy = shapes.ring(0.5, 0.15, 400, 125)
    timed("several hulls (8) of 100,000 faces", lambda: several_hulls(heavy, 8, 0.005), "60")
    timed("even triangles, 100,000 faces of 4 mm", lambda: evened(shapes.grid((1.0, 1.0), (224, 224)), 0.0048), "-")
    print(f"largest memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6:.2f} GB")


if __name__ == "__main__":
    main()
