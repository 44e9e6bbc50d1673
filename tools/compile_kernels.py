"""Compile the solver's kernels, half of them in each of two processes at once, so that all tests find them compiled.

usage: PYTHONPATH=src python tools/compile_kernels.py

Test processes that start together would each compile all of them.
"""

import subprocess
import sys

from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver import step
from zembrik.core.solver.build import build_world

SETUP = {
    "bodies": [
        {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [4, 4]}},
        {"name": "lump", "role": "soft", "mesh": {"shape": "box", "size": [0.2, 0.2, 0.2]}, "cell": 0.1,
         "place": {"translate": [0, 1, 0]}},
        {"name": "box", "role": "rigid", "mesh": {"shape": "box", "size": [0.1, 0.1, 0.1]},
         "place": {"translate": [0, 2, 0]}},
    ],
    "forces": [{"kind": "wind", "velocity": [1, 0, 0]}],
    "quality": {"substeps": 1, "self_collision": True},
}  # fmt: skip


def compile_half(elastic: bool) -> None:
    """Compile the sweep over all elastic constraints, or else everything that a step takes beside it."""
    if not elastic:
        step.sweep_elastic = lambda *arguments: None
    stepper = step.Stepper(build_world(parse_setup(SETUP), NoAssets()), 1, 1, 24.0)
    if elastic:
        stepper._left()
    else:
        stepper.advance(1)


if __name__ == "__main__":
    if len(sys.argv) > 1:
        compile_half(sys.argv[1] == "elastic")
    else:
        halves = [subprocess.Popen([sys.executable, __file__, half]) for half in ("elastic", "rest")]
        sys.exit(max(half.wait() for half in halves))
