"""The demo scenario "Windfall Fair": its shots as setups, its meshes made by code."""

from __future__ import annotations

from typing import Any

import numpy as np

from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.library.demo_shot import DemoShot, obj_bytes
from zembrik.library.fair_bodies import dough, pears, rings
from zembrik.library.fair_tosses import tossed_pears


def demo_shots() -> list[DemoShot]:
    """Return all shots of the demo."""
    return [awning(), quilt(), loaf(), wrung(), pears(), rings(), dough(), tossed_pears()]


def awning() -> DemoShot:
    """A canvas awning, tied along its rear rail and at its front corners, in two gusts."""
    poles = [("pole left", -1.46, 0.98), ("pole right", 1.46, 0.98)]
    bodies: list[dict[str, Any]] = [
        {
            "name": "awning",
            "role": "cloth",
            "mesh": {"shape": "grid", "size": [3.0, 2.1], "segments": [60, 42]},
            "place": {"translate": [0.0, 2.2, 0.0], "rotate": [16.0, 0.0, 0.0]},
            "material": {"preset": "canvas"},
            "pins": [
                {"points": {"box": [[-1.6, 2.4, -1.1], [1.6, 2.6, -0.98]]}},
                {"points": {"box": [[-1.6, 1.8, 0.9], [-1.4, 2.1, 1.1]]}},
                {"points": {"box": [[1.4, 1.8, 0.9], [1.6, 2.1, 1.1]]}},
            ],
        }
    ]
    for name, x, z in poles:
        mesh = {"shape": "cylinder", "radius": 0.03, "height": 1.88}
        place = {"translate": [x, 0.94, z]}
        bodies.append({"name": name, "role": "collider", "mesh": mesh, "place": place, "proxy": {"kind": "capsule"}})
    bodies += [
        {
            "name": "rear rail",
            "role": "left out",
            "mesh": {"shape": "capsule", "radius": 0.03, "height": 3.1},
            "place": {"translate": [0.0, 2.49, -1.03], "rotate": [0.0, 0.0, 90.0]},
        },
        {
            "name": "counter",
            "role": "collider",
            "mesh": {"shape": "box", "size": [2.4, 0.9, 0.6]},
            "place": {"translate": [0.0, 0.45, 0.3]},
            "proxy": {"kind": "box"},
        },
    ]
    gusts = [[1, 0.0], [14, 1.0], [34, 0.25], [54, 1.25], [78, 0.2], [96, 0.4]]
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Awning in gusts",
        "frames": [1, 96],
        "bodies": bodies,
        "forces": [
            {"kind": "wind", "velocity": [1.5, 2.6, -4.6], "strength": {"keys": gusts, "ease": "smooth"}},
            {
                "kind": "turbulence",
                "speed": 1.6,
                "size": 1.2,
                "rate": 0.6,
                "seed": 3,
                "strength": {"keys": [[1, 0.0], [14, 1.0]], "ease": "smooth"},
            },
        ],
        "quality": {"profile": "daily"},
    }
    return DemoShot("WF-010", "Awning in gusts", setup)


def quilt() -> DemoShot:
    """A felt quilt thrown over three hay bales."""
    sheet = shapes.grid((2.3, 2.0), (69, 60))
    bale = {"shape": "box", "size": [1.0, 0.45, 0.5], "segments": 4}
    places = [([-0.56, 0.225, 0.0], 3.0), ([0.56, 0.225, 0.05], -4.0), ([0.04, 0.676, 0.02], 12.0)]
    bodies: list[dict[str, Any]] = [
        {
            "name": "quilt",
            "role": "cloth",
            "mesh": {"file": "quilt.obj", "unit": "cm", "up_axis": "z"},
            "render": {"mesh": {"file": "quilt-padded.obj", "unit": "cm", "up_axis": "z"}},
            "place": {"translate": [0.1, 1.15, 0.1], "rotate": [5.0, 20.0, -4.0]},
            "material": {"preset": "wool felt"},
        }
    ]
    for number, (translate, turn) in enumerate(places, 1):
        bodies.append(
            {
                "name": f"bale {number}",
                "role": "collider",
                "mesh": bale,
                "place": {"translate": translate, "rotate": [0.0, turn, 0.0]},
                "friction": 0.8,
                "proxy": {"kind": "box"},
            }
        )
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Quilt over the bales",
        "frames": [1, 72],
        "bodies": bodies,
        "quality": {"profile": "daily", "substeps": 40},
    }
    # The quilt comes from an application that works in centimetres with Z up.
    meshes = {"quilt.obj": sheet, "quilt-padded.obj": _padded(2.3, 2.0, 10, 9)}
    files = {name: obj_bytes(_as_cm_z_up(mesh), name.split(".")[0]) for name, mesh in meshes.items()}
    return DemoShot("WF-020", "Quilt over the bales", setup, files)


def loaf() -> DemoShot:
    """A muslin cloth laid over a plaited loaf on the baker's board."""
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Muslin over the loaf",
        "frames": [1, 60],
        "bodies": [
            {
                "name": "muslin",
                "role": "cloth",
                "mesh": {"shape": "grid", "size": [0.8, 0.7], "segments": [64, 56]},
                "place": {"translate": [0.0, 0.24, 0.0], "rotate": [0.0, 35.0, 3.0]},
                "material": {"preset": "muslin"},
                "thickness": 0.001,
            },
            {
                "name": "loaf",
                "role": "collider",
                "mesh": {"file": "loaf.obj"},
                "place": {"translate": [0.0, 0.03, 0.0]},
                "proxy": {"kind": "surface"},
                "thickness": 0.001,
            },
            {
                "name": "board",
                "role": "collider",
                "mesh": {"shape": "box", "size": [0.6, 0.03, 0.36]},
                "place": {"translate": [0.0, 0.015, 0.0]},
                "proxy": {"kind": "box"},
                "thickness": 0.001,
            },
        ],
        "quality": {"profile": "daily"},
    }
    return DemoShot("WF-030", "Muslin over the loaf", setup, {"loaf.obj": obj_bytes(_loaf_mesh(), "loaf")})


def wrung() -> DemoShot:
    """A wet dish cloth, wrung out between two turning hands' bars."""
    frames = 48
    bodies: list[dict[str, Any]] = [
        {
            "name": "dish cloth",
            "role": "cloth",
            "mesh": {"shape": "grid", "size": [0.8, 0.5], "segments": [56, 35]},
            "place": {"translate": [0.0, 1.0, 0.0]},
            "material": {"preset": "linen", "area_density": 0.4},
            "thickness": 0.0015,
            "pins": [
                {"points": {"box": [[-0.41, 0.9, -0.061], [-0.39, 1.1, 0.061]]}, "follow": "left bar"},
                {"points": {"box": [[0.39, 0.9, -0.061], [0.41, 1.1, 0.061]]}, "follow": "right bar"},
            ],
        }
    ]
    for name, side in (("left bar", -1), ("right bar", 1)):
        bodies.append(
            {
                "name": name,
                "role": "left out",
                "mesh": {"shape": "capsule", "radius": 0.012, "height": 0.56},
                "place": {"translate": [0.4 * side, 1.0, 0.0], "rotate": [90.0, 0.0, 0.0]},
                "motion": {
                    "translate": {"keys": [[1, [0, 0, 0]], [frames, [-0.12 * side, 0, 0]]], "ease": "smooth"},
                    "rotate": {"keys": [[1, [0, 0, 0]], [frames, [210 * side, 0, 0]]], "ease": "smooth"},
                },
            }
        )
    setup = {
        "schema": "zembrik.setup/1",
        "title": "Dish cloth wrung out",
        "frames": [1, frames],
        "bodies": bodies,
        "quality": {"profile": "daily", "substeps": 30, "self_collision": True},
    }
    return DemoShot("WF-040", "Dish cloth wrung out", setup)


def _loaf_mesh() -> TriMesh:
    """Return a plaited loaf, 0.40 m long: a flattened ball with six bulges, resting on y = 0."""
    ball = shapes.ball(1.0, 40)
    x, y, z = ball.points.T
    bulge = 1.0 + 0.10 * np.cos(3 * np.pi * x + 1.2 * z) * (1 - x * x)
    points = np.stack([0.20 * x, 0.075 * np.where(y > 0, y * bulge, 0.4 * y), 0.085 * z * bulge], axis=1)
    points[:, 1] -= points[:, 1].min()
    return ball.moved(points)


def _padded(width_m: float, depth_m: float, across: int, along: int) -> TriMesh:
    """Return a closed quilt, stitched into across × along cushions that rise 24 mm over a sheet at y = 0."""
    sheet = shapes.grid((width_m, depth_m), (8 * across, 8 * along))
    x, _, z = sheet.points.T
    puff = np.abs(np.sin(np.pi * across * (x / width_m + 0.5)) * np.sin(np.pi * along * (z / depth_m + 0.5)))
    count = len(sheet.points)
    top = np.stack([x, 0.003 + 0.021 * np.sqrt(puff), z], axis=1)
    below = np.stack([x, np.full(count, -0.002), z], axis=1)
    rim = sheet.edges[sheet.edge_use == 1]
    # The faces along the rim go the other way than the sheet's, so that all look outwards.
    directed = sheet.faces[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2)
    keys = {(int(a), int(b)) for a, b in rim}
    border = np.array([(a, b) for a, b in directed.tolist() if (min(a, b), max(a, b)) in keys])
    a, b = border.T
    sides = np.concatenate([np.stack([b, a, a + count], 1), np.stack([b, a + count, b + count], 1)])
    faces = np.concatenate([sheet.faces, sheet.faces[:, ::-1] + count, sides]).astype(np.int32)
    return TriMesh(np.concatenate([top, below]), faces)


def _as_cm_z_up(mesh: TriMesh) -> TriMesh:
    x, y, z = (100.0 * mesh.points).T
    return mesh.moved(np.stack([x, -z, y], axis=1))
