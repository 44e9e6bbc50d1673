"""A shot of "Windfall Fair" in which animation hands over to physics, and takes back."""

from __future__ import annotations

from typing import Any

from zembrik.library.demo_shot import DemoShot, obj_bytes
from zembrik.library.fair_bodies import pear_mesh

TABLE_M = 0.75  # how high it is


def tossed_pears(frames: int = 96) -> DemoShot:
    """Three pears tossed by an unseen hand: keyed until they leave it, then physics; one is caught, and keyed again."""
    bodies: list[dict[str, Any]] = [
        {
            "name": "table",
            "role": "collider",
            "mesh": {"shape": "box", "size": [1.6, 0.05, 0.8]},
            "place": {"translate": [0.35, TABLE_M - 0.025, 0]},
            "friction": 0.6,
            "proxy": {"kind": "box"},
        }
    ]
    # From the hand down, up again and out of it; the keys come to rest where the hand ends, the pear is gone by then.
    swings = [(12, 0.30, 0.34, -140.0), (18, 0.42, 0.46, 110.0), (24, 0.22, 0.60, -60.0)]
    for n, (leaves, along, high, turn) in enumerate(swings):
        begins = leaves - 9
        hand = [[1, [0, 0, 0]], [begins, [0, 0, 0]], [begins + 4, [-0.05, -0.12, 0]], [leaves + 3, [along, high, 0]]]
        body: dict[str, Any] = {
            "name": f"tossed pear {n + 1}",
            "role": "rigid",
            "mesh": {"file": "pear.obj"},
            "place": {"translate": [-0.5 + 0.02 * n, TABLE_M + 0.22, -0.22 + 0.22 * n]},
            "material": {"density": 1000, "friction": 0.6, "bounce": 0.2, "rolling_resistance": 0.004},
            "proxy": {"kind": "hulls", "most": 3, "hollow": 0.02},
            "motion": {
                "translate": {"keys": hand, "ease": "smooth"},
                "rotate": {"keys": [[begins, [0, 0, 0]], [leaves + 3, [0, 0, turn]]], "ease": "smooth"},
            },
            "handovers": [{"at": leaves}],
        }
        if n == 2:  # caught as it comes down, and carried off
            body["handovers"] = [{"at": leaves, "back": 34, "over": 14}]
            hand.extend([[40, [along + 0.15, high, 0]], [60, [0.5, 0.3, 0.35]], [84, [0.1, 0.5, 0.5]]])
        bodies.append(body)
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Pears tossed and caught",
        "frames": [1, frames],
        "bodies": bodies,
        "quality": {"profile": "daily"},
    }
    return DemoShot("WF-080", "Pears tossed and caught", setup, {"pear.obj": obj_bytes(pear_mesh(), "pear")})
