"""Cloth whose rest length changes: it shrinks to it, and draws tight around things."""

import io

import numpy as np
import pytest

from zembrik.core.exchange.obj import write_obj
from zembrik.core.mesh import shapes
from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.solver.stats import Meter
from zembrik.core.solver.step import Stepper

STILL = {"ground": None, "gravity": [0, 0, 0], "air_density": 0.0}


class OneFile:
    """A mesh that is asked for by any name."""

    def __init__(self, mesh=None):
        out = io.BytesIO()
        if mesh is not None:
            write_obj(out, mesh.points, mesh.faces, "strap")
        self.data = out.getvalue()

    def read(self, file):
        return self.data


def run(document, frames, substeps=20, assets=None):
    world = build_world(parse_setup(document), assets or OneFile())
    stepper = Stepper(world, substeps, 1, 24.0)
    for frame in range(1, frames + 1):
        stepper.advance(frame)
    return world, stepper


def strip(rest_length):
    mesh = {"shape": "grid", "size": [0.6, 0.2], "segments": [18, 6]}
    material = {"preset": "linen", "rest_length": rest_length, "damping": 0.01}
    return {"world": STILL, "bodies": [{"name": "strip", "role": "cloth", "mesh": mesh, "material": material}]}


def test_a_free_strip_shrinks_to_its_rest_length():
    """Over 12 frames to 0.7 and at rest then: 0.7 of its length and of its width; and at frame 7 it is on its way."""
    keyed = {"keys": [[1, 1.0], [13, 0.7]], "ease": "straight"}
    world, _ = run(strip(keyed), 72, 40)
    assert np.ptp(world.x, axis=0)[[0, 2]] == pytest.approx([0.42, 0.14], rel=0.02)
    on_its_way, _ = run(strip(keyed), 6, 40)
    assert 0.42 < np.ptp(on_its_way.x[:, 0]) < 0.58
    plain, _ = run(strip(1.0), 6, 40)
    assert np.ptp(plain.x[:, 0]) == pytest.approx(0.6, rel=1e-9)


def open_tube(radius, width, around, rows):
    sheet = shapes.grid((1.0, width), (around, rows))
    angle = 2 * np.pi * (sheet.points[:, 0] + 0.5)
    points = np.stack([radius * np.cos(angle), sheet.points[:, 2], radius * np.sin(angle)], axis=1)
    keep, numbers = np.unique(points.round(9), axis=0, return_inverse=True)
    return sheet.moved(points).__class__(keep, numbers.reshape(-1)[sheet.faces].astype(np.int32))


def test_a_strap_draws_tight_around_a_sheaf_of_seven_staves():
    """Seven staves of radius r: a taut strap is 6·2r + 2π(r + room) long; at 62% of 0.92 m it is as good as that."""
    radius, thickness, middle = 0.03, 0.002, 0.1465
    strap = open_tube(middle, 0.05, 96, 4)
    centres = [(0.0, 0.0)] + [(2.02 * radius * np.cos(a), 2.02 * radius * np.sin(a)) for a in np.arange(6) * np.pi / 3]
    bodies = [
        {
            "name": f"stave {k}",
            "role": "collider",
            "mesh": {"shape": "cylinder", "radius": radius, "height": 0.5},
            "place": {"translate": [x, 0, z]},
            "proxy": {"kind": "capsule"},
            "thickness": 0.0,
            "friction": 0.1,
        }
        for k, (x, z) in enumerate(centres)
    ]
    bodies.append(
        {
            "name": "strap",
            "role": "cloth",
            "mesh": {"file": "strap.obj"},
            "material": {
                "preset": "canvas",
                "damping": 0.01,
                "friction": 0.1,
                "rest_length": {"keys": [[1, 1.0], [24, 0.62]], "ease": "smooth"},
            },
            "thickness": thickness,
        }
    )
    world, stepper = run({"world": STILL, "bodies": bodies}, 48, 40, OneFile(strap))
    ring = np.abs(world.x[:, 1]) < 0.004
    angle = np.arctan2(world.x[ring, 2], world.x[ring, 0])
    loop = world.x[ring][np.argsort(angle)][:, [0, 2]]
    length = np.linalg.norm(loop - np.roll(loop, 1, axis=0), axis=1).sum()
    taut = 6 * 2.02 * radius + 2 * np.pi * (radius + thickness)
    assert len(loop) == 96
    assert length == pytest.approx(taut, rel=0.02)
    assert Meter(world).measure(stepper)["worst_penetration"] < 0.001


def test_a_rest_length_of_nothing_is_refused():
    for wrong in (0.0, {"keys": [[1, 1.0], [9, -0.5]]}):
        with pytest.raises(Problem, match=r"at least 0\.05"):
            parse_setup(strip(wrong))
