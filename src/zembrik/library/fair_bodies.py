"""Shots of "Windfall Fair" with bodies that roll, swing and give way."""

from __future__ import annotations

from typing import Any

import numpy as np

from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.library.demo_shot import DemoShot, obj_bytes

TERRACES, TREAD_M, RISE_M = 4, 0.8, 0.22


def pear_mesh() -> TriMesh:
    """Return a pear, 0.1 m high and a little bent, with its middle near the origin."""
    ball = shapes.ball(1.0, 10)
    x, y, z = ball.points.T
    wide = 0.036 * (0.78 - 0.42 * y + 0.1 * np.cos(2.6 * y))
    points = np.stack([wide * x + 0.006 * np.maximum(y, 0.0) ** 2, 0.05 * y, wide * z], axis=1)
    return ball.moved(points)


def terraces_mesh() -> TriMesh:
    """Return uneven ground that goes down in steps towards +Z, 3 m wide; its lowest edge lies on y = 0."""
    length = TERRACES * TREAD_M
    sheet = shapes.grid((3.0, length), (60, 64))
    x, _, z = sheet.points.T
    down = (z + length / 2) / TREAD_M  # terraces gone down so far
    step = np.floor(down) + np.clip((down - np.floor(down) - 0.85) / 0.15, 0.0, 1.0)
    uneven = 0.012 * np.sin(7 * x + 2 * z) * np.sin(5 * z - 3 * x) + 0.02 * np.cos(2.1 * x)
    level = (TERRACES - np.minimum(step, TERRACES)) * RISE_M
    return sheet.moved(np.stack([x, level + uneven * (level > 0.0), z], axis=1))


def pears(count: int = 60, frames: int = 120) -> DemoShot:
    """Pears poured out over the top terrace of the yard; they roll down and come to rest."""
    rng = np.random.default_rng(7)
    top = TERRACES * RISE_M
    bodies: list[dict[str, Any]] = [
        {
            "name": "terraces",
            "role": "collider",
            "mesh": {"file": "terraces.obj"},
            "friction": 0.7,
            "proxy": {"kind": "surface"},
        }
    ]
    across, deep = 8, 4
    for n in range(count):
        column, row, layer = n % across, n // across % deep, n // (across * deep)
        spot = np.array([(column - (across - 1) / 2) * 0.13, top + 0.2 + 0.13 * layer, -1.38 + 0.13 * row])
        spot += rng.uniform(-0.012, 0.012, 3)
        turn = rng.uniform(-180.0, 180.0, 3)
        bodies.append(
            {
                "name": f"pear {n + 1}",
                "role": "rigid",
                "mesh": {"file": "pear.obj"},
                "place": {
                    "translate": [round(float(v), 4) for v in spot],
                    "rotate": [round(float(v), 1) for v in turn],
                },
                "material": {"density": 1000, "friction": 0.6, "bounce": 0.15, "rolling_resistance": 0.004},
                "proxy": {"kind": "hulls", "most": 3, "hollow": 0.02},
            }
        )
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Pears down the terraces",
        "frames": [1, frames],
        "bodies": bodies,
        "quality": {"profile": "daily"},
    }
    files = {"pear.obj": obj_bytes(pear_mesh(), "pear"), "terraces.obj": obj_bytes(terraces_mesh(), "terraces")}
    return DemoShot("WF-050", "Pears down the terraces", setup, files)


def rings(columns: int = 5, links: int = 6, frames: int = 120) -> DemoShot:
    """A curtain of linked wooden rings on a bar that turns slowly, then fast."""
    radius, tube, gap = 0.06, 0.010, 0.004
    way = 2 * radius - 2 * tube - gap
    high = 2.0
    turning = {"rotate": {"keys": [[1, [0, 0, 0]], [48, [0, 60, 0]], [frames, [0, 420, 0]]], "ease": "smooth"}}
    bodies: list[dict[str, Any]] = [
        {
            "name": "bar",
            "role": "rigid",
            "mesh": {"shape": "cylinder", "radius": 0.02, "height": 0.22 * columns},
            "place": {"translate": [0, high, 0], "rotate": [0, 0, 90]},
            "proxy": {"kind": "capsule"},
            "motion": turning,
        }
    ]
    joints = []
    for column in range(columns):
        x = (column - (columns - 1) / 2) * 0.2
        for link in range(links):
            y = high - 0.027 - link * way  # the first ring goes around the bar
            bodies.append(
                {
                    "name": f"ring {column + 1}.{link + 1}",
                    "role": "rigid",
                    "mesh": {"shape": "ring", "radius": radius, "tube": tube, "sides": 24},
                    "place": {"translate": [x, round(y, 5), 0], "rotate": [90, 90 * (1 - link % 2), 0]},
                    "material": {"preset": "oak"},
                    "proxy": {"kind": "surface"},
                }
            )
        joints.append(
            {"kind": "hinge", "bodies": [f"ring {column + 1}.1", "bar"], "at": [x, high, 0], "axis": [1, 0, 0]}
        )
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Curtain of rings",
        "frames": [1, frames],
        "bodies": bodies,
        "joints": joints,
        "quality": {"profile": "daily", "substeps": 40},
    }
    return DemoShot("WF-060", "Curtain of rings", setup)


def dough(frames: int = 72) -> DemoShot:
    """A dough loaf on the baker's board; a rolling pin presses into it, lifts, and the dent stays."""
    ball = shapes.ball(1.0, 24)
    x, y, z = ball.points.T
    points = np.stack([0.16 * x, 0.06 * np.where(y > 0, y, 0.5 * y), 0.09 * z], axis=1)
    points[:, 1] -= points[:, 1].min()
    press = [[1, [0, 0, 0]], [10, [0, 0, 0]], [26, [0, -0.075, 0]], [34, [0, -0.075, 0]], [48, [0, 0.02, 0]]]
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Dent in the dough",
        "frames": [1, frames],
        "world": {"ground": None},
        "bodies": [
            {
                "name": "dough",
                "role": "soft",
                "mesh": {"file": "dough.obj"},
                "place": {"translate": [0, 0.0535, 0]},
                "material": {"preset": "dough"},
                "cell": 0.016,
            },
            {
                "name": "board",
                "role": "collider",
                "mesh": {"shape": "box", "size": [0.6, 0.05, 0.4]},
                "place": {"translate": [0, 0.025, 0]},
                "friction": 0.8,
                "proxy": {"kind": "box"},
            },
            {
                "name": "rolling pin",
                "role": "collider",
                "mesh": {"shape": "capsule", "radius": 0.022, "height": 0.34},
                "place": {"translate": [0, 0.182, 0], "rotate": [90, 0, 0]},
                "friction": 0.5,
                "proxy": {"kind": "capsule"},
                "motion": {"translate": {"keys": press, "ease": "smooth"}},
            },
        ],
        "quality": {"profile": "daily"},
    }
    return DemoShot("WF-070", "Dent in the dough", setup, {"dough.obj": obj_bytes(ball.moved(points), "dough")})
