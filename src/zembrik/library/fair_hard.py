"""Setups of "Windfall Fair" that are hard on a solver: examples for the command line, not part of the demo."""

from __future__ import annotations

from typing import Any

import numpy as np

from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.library.demo_shot import DemoShot, obj_bytes
from zembrik.library.fair_bodies import pears


def _sides(size_m: float, y_m: float) -> list[dict[str, Any]]:
    """Return pins along the four sides of a level square sheet around the Y axis."""
    half, found = size_m / 2, []
    for axis in (0, 2):
        for side in (-half, half):
            low, high = [-half - 0.01, y_m - 0.01, -half - 0.01], [half + 0.01, y_m + 0.01, half + 0.01]
            low[axis], high[axis] = side - 1e-4, side + 1e-4
            found.append({"points": {"box": [low, high]}})
    return found


def many_pears() -> DemoShot:
    """Five hundred pears poured down the terraces."""
    shot = pears(500, 300)
    setup = {**shot.setup, "title": "Five hundred pears"}
    return DemoShot("WF-950", "Five hundred pears", setup, shot.files)


def strapped_sheaf(frames: int = 48) -> DemoShot:
    """A strap that shrinks to 62% of its length around a sheaf of seven staves."""
    radius, apart = 0.03, 2.02 * 0.03
    sheet = shapes.grid((1.0, 0.05), (96, 4))
    angle = 2 * np.pi * (sheet.points[:, 0] + 0.5)
    points = np.stack([0.1465 * np.cos(angle), sheet.points[:, 2], 0.1465 * np.sin(angle)], axis=1)
    keep, numbers = np.unique(points.round(9), axis=0, return_inverse=True)
    strap = TriMesh(keep, numbers.reshape(-1)[sheet.faces].astype(np.int32))
    bodies: list[dict[str, Any]] = [
        {
            "name": "strap",
            "role": "cloth",
            "mesh": {"file": "strap.obj"},
            "place": {"translate": [0, 0.3, 0]},
            "material": {
                "preset": "canvas",
                "damping": 0.01,
                "friction": 0.1,
                "rest_length": {"keys": [[1, 1.0], [24, 0.62]], "ease": "smooth"},
            },
            "gravity": 0.0,
        }
    ]
    spots = [(0.0, 0.0)] + [(apart * np.cos(a), apart * np.sin(a)) for a in np.arange(6) * np.pi / 3]
    for k, (x, z) in enumerate(spots):
        bodies.append(
            {
                "name": f"stave {k + 1}",
                "role": "collider",
                "mesh": {"shape": "cylinder", "radius": radius, "height": 0.6},
                "place": {"translate": [round(float(x), 5), 0.3, round(float(z), 5)]},
                "friction": 0.1,
                "proxy": {"kind": "capsule"},
            }
        )
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Strap around a sheaf",
        "frames": [1, frames],
        "bodies": bodies,
        "quality": {"profile": "daily", "substeps": 40},
    }
    return DemoShot("WF-960", "Strap around a sheaf", setup, {"strap.obj": obj_bytes(strap, "strap")})


def fast_ball(frames: int = 24) -> DemoShot:
    """A wooden ball of 20 m/s into a sheet held at top and bottom, and another into two thin boards."""

    def ball(name: str, x: float, z: float) -> dict[str, Any]:
        return {
            "name": name,
            "role": "rigid",
            "mesh": {"shape": "ball", "radius": 0.08},
            "place": {"translate": [x, 1.2, z]},
            "material": {"preset": "oak"},
            "proxy": {"kind": "ball"},
            "motion": {"translate": {"keys": [[1, [0, 0, 0]], [3, [1.6667, 0, 0]]]}},
            "release": 2,
        }

    def board(name: str, x: float) -> dict[str, Any]:
        mesh = {"shape": "box", "size": [0.004, 1.2, 1.0]}
        return {"name": name, "role": "collider", "mesh": mesh, "place": {"translate": [x, 1.2, 1.8]},
                "proxy": {"kind": "box"}}  # fmt: skip

    sheet = {
        "name": "sheet",
        "role": "cloth",
        "mesh": {"shape": "grid", "size": [1.6, 1.6], "segments": [44, 44]},
        "place": {"translate": [0, 1.2, 0], "rotate": [0, 0, 90]},
        "material": {"preset": "canvas"},
        "pins": [{"points": {"box": [[-0.01, y - 0.001, -0.81], [0.01, y + 0.001, 0.81]]}} for y in (2.0, 0.4)],
    }
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Fast ball into sheet and boards",
        "frames": [1, frames],
        "bodies": [sheet, ball("ball at the sheet", -1.4, 0.0), ball("ball at the boards", -1.4, 1.8),
                   board("board", 0.0), board("second board", 0.1)],
        "quality": {"profile": "final", "substeps": 80},
    }  # fmt: skip
    return DemoShot("WF-970", "Fast ball into sheet and boards", setup)


def heavy_sack(frames: int = 48) -> DemoShot:
    """A sack of 100 kg on a stretched sheet of 1 kg."""
    radius = 0.2
    sheet = {
        "name": "sheet",
        "role": "cloth",
        "mesh": {"shape": "grid", "size": [1, 1], "segments": [24, 24]},
        "place": {"translate": [0, 1, 0]},
        "material": {"preset": "canvas", "area_density": 1.0},
        "pins": _sides(1.0, 1.0),
    }
    sack = {
        "name": "sack",
        "role": "rigid",
        "mesh": {"shape": "ball", "radius": radius},
        "place": {"translate": [0, 1.0 + radius + 0.02, 0]},
        "material": {"density": round(100 / (4 / 3 * np.pi * radius**3), 2), "bounce": 0},
        "proxy": {"kind": "ball"},
    }
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Heavy sack on a light sheet",
        "frames": [1, frames],
        "bodies": [sheet, sack],
        "quality": {"profile": "final"},
    }
    return DemoShot("WF-980", "Heavy sack on a light sheet", setup)


def rippling_ground(frames: int = 72) -> DemoShot:
    """A quilt on ground that ripples under it."""
    quilt = {
        "name": "quilt",
        "role": "cloth",
        "mesh": {"shape": "grid", "size": [1.2, 1.2], "segments": [40, 40]},
        "place": {"translate": [0, 0.12, 0], "rotate": [0, 20, 0]},
        "material": {"preset": "muslin"},
    }
    waves = {
        "height": 0.05, "length": 0.9, "rate": 0.8, "direction": [1, 0, 0.3],
        "strength": {"keys": [[1, 0], [24, 1]], "ease": "smooth"},
    }  # fmt: skip
    ground = {
        "name": "ground",
        "role": "collider",
        "mesh": {"shape": "grid", "size": [2.4, 2.4], "segments": [40, 40]},
        "friction": 0.6,
        "motion": {"ripple": waves},
    }
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Quilt on rippling ground",
        "frames": [1, frames],
        "world": {"ground": None},
        "bodies": [quilt, ground],
        "quality": {"profile": "daily"},
    }
    return DemoShot("WF-990", "Quilt on rippling ground", setup)


def hard_shots() -> list[DemoShot]:
    """Return all of them."""
    return [many_pears(), strapped_sheaf(), fast_ball(), heavy_sack(), rippling_ground()]
