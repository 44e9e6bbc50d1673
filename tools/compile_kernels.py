"""Compile the solver's kernels, a part of them in each of two processes at once, so that all tests find them compiled.

usage: PYTHONPATH=src python tools/compile_kernels.py

Test processes that start together would each compile all of them.
"""

import gc
import subprocess
import sys

from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver import step
from zembrik.core.solver.build import build_world
from zembrik.core.solver.stats import Meter

# Everything touches what is below it: kernels are compiled when they are first called.
SETUP = {
    "bodies": [
        {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [4, 4]},
         "place": {"translate": [0, 0.502, 0]}, "material": {"damping": 0.01}},
        {"name": "layer", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [5, 5]},
         "place": {"translate": [0, 0.504, 0]}},
        {"name": "lump", "role": "soft", "mesh": {"shape": "box", "size": [0.2, 0.2, 0.2]}, "cell": 0.1,
         "place": {"translate": [0, 0.605, 0]}, "material": {"damping": 0.01}},
        {"name": "box", "role": "rigid", "mesh": {"shape": "box", "size": [0.1, 0.1, 0.1]},
         "place": {"translate": [0.3, 0.555, 0]}},
        {"name": "brick", "role": "rigid", "mesh": {"shape": "box", "size": [0.1, 0.1, 0.1]},
         "place": {"translate": [2, 0.05, 0]}},
        {"name": "table", "role": "collider", "mesh": {"shape": "box", "size": [0.8, 0.5, 0.8]},
         "place": {"translate": [0, 0.25, 0]}, "proxy": {"kind": "box"}},
    ],
    "forces": [{"kind": "wind", "velocity": [1, 0, 0]}],
    "quality": {"substeps": 2, "iterations": 1, "self_collision": True},
}  # fmt: skip
# What either process leaves to the other, so that both take as long.
OTHERS: dict[str, list[str]] = {"touching": [], "solids": ["sweep_air", "solve_contacts"]}


def compile_part(part: str) -> None:
    """Compile what a frame of cloth and soft bodies takes ("touching"), or of rigid ones, and soft sweeps."""
    for name in OTHERS[part]:
        setattr(step, name, lambda *arguments: None)
    world = build_world(parse_setup(SETUP), NoAssets())
    stepper = step.Stepper(world, 2, 1, 24.0)
    if part == "touching":
        world.solids.any, world.solids.parts = False, []
    else:
        world.touching.any = False
    stepper.advance(1)
    if part == "touching":
        Meter(world).measure(stepper)


if __name__ == "__main__":
    if len(sys.argv) > 1:
        gc.disable()  # a tenth of the time; 1.3 GB instead of 0.7
        compile_part(sys.argv[1])
    else:
        parts = [subprocess.Popen([sys.executable, __file__, part]) for part in ("touching", "solids")]
        sys.exit(max(part.wait() for part in parts))
