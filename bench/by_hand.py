"""What is done by hand: frames a second of live runs, and how long layers take to fall.

python bench/by_hand.py [live|drop]
"""

import sys
import time
from pathlib import Path

import numpy as np

from zembrik.core.layout.drop import drop_bodies
from zembrik.core.layout.let_down import let_down
from zembrik.core.live.run import Held, LiveRun
from zembrik.core.setup.assets import FolderAssets, NoAssets
from zembrik.core.setup.document import parse_setup, read_setup

EXAMPLES = Path(__file__).parents[1] / "examples"


def live() -> None:
    """Cloth of 2,500 points on a ball, and 60 boxes that a ball is pushed into."""
    sheet = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [49, 49]},
             "place": {"translate": [0, 0.56, 0]},
             "pins": [{"points": {"box": [[-0.51, 0, -0.51], [-0.45, 1, -0.45]]}}]}  # fmt: skip
    ball = {"name": "ball", "role": "collider", "mesh": {"shape": "ball", "radius": 0.25}, "proxy": {"kind": "ball"},
            "place": {"translate": [0, 0.3, 0]}}  # fmt: skip
    boxes = [
        {"name": f"box {n}", "role": "rigid", "mesh": {"shape": "box", "size": [0.1, 0.1, 0.1]},
         "proxy": {"kind": "box"},
         "place": {"translate": [(n % 4) * 0.12, 0.06 + (n // 16) * 0.12, (n // 4 % 4) * 0.12]}}
        for n in range(60)
    ]  # fmt: skip
    fist = {
        **ball,
        "name": "fist",
        "mesh": {"shape": "ball", "radius": 0.1},
        "place": {"translate": [-0.3, 0.15, 0.18]},
    }
    cases = {
        "2,500 points, self-collision": (parse_setup({"bodies": [sheet, ball], "quality": {"self_collision": True}}),
                                         Held("sheet", 0), 1),
        "the same, half the rows": (parse_setup({"bodies": [sheet, ball]}), Held("sheet", 0), 2),
        "60 rigid bodies": (parse_setup({"bodies": [*boxes, fist]}), Held("fist"), 1),
    }  # fmt: skip
    for name, (setup, held, coarser) in cases.items():
        run, times = LiveRun(setup, held, NoAssets(), coarser=coarser), []
        for n in range(40):
            begun = time.perf_counter()
            run.step([0.012 * n, 0.004 * n, 0.05 * np.sin(n / 4)])
            times.append(time.perf_counter() - begun)
        each = 1e3 * np.array(times[4:])
        print(f"{name}: {np.median(each):.0f} ms a frame, 95th {np.percentile(each, 95):.0f}, "
              f"{1e3 / np.median(each):.1f} a second")  # fmt: skip


def drop() -> None:
    """Pears onto the terraces, in layers."""
    setup, assets = read_setup((EXAMPLES / "pears-down-the-terraces.json").read_bytes()), FolderAssets(EXAMPLES)
    bodies = setup.document()["bodies"]
    ground, pear = bodies[0], {**bodies[1], "role": "left out", "place": {"translate": [5, 5, 5]}}
    for count, layers in ((60, 1), (100, 3), (300, 1)):
        document = {"bodies": [ground, pear]}
        for n in range(layers):
            layer = {"sources": [{"body": pear["name"]}], "count": count, "across": [-0.6, 0.6], "along": [-0.6, 0.6],
                     "size": [0.9, 1.1], "seed": n + 1}  # fmt: skip
            begun = time.perf_counter()
            found = drop_bodies(
                parse_setup(document), {"name": f"layer {n}", "drop": layer, "role": "collider"}, assets
            )  # fmt: skip
            print(f"{count} pears, layer {n + 1}: {time.perf_counter() - begun:.1f} s; {found.words}", flush=True)
            document = {"bodies": [*document["bodies"], *found.bodies]}
        begun, numbers = time.perf_counter(), list(range(2, len(document["bodies"])))
        lifted = [
            {**b, "place": {**b["place"], "translate": np.add(b["place"]["translate"], [0, 1, 0]).tolist()}}
            if n > 1 else b for n, b in enumerate(document["bodies"])
        ]  # fmt: skip
        let_down(parse_setup({"bodies": lifted}), numbers, assets)
        print(f"{len(numbers)} pears let down: {time.perf_counter() - begun:.1f} s")


if __name__ == "__main__":
    for what in sys.argv[1:] or ["live", "drop"]:
        {"live": live, "drop": drop}[what]()
