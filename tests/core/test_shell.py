"""Wrapped shells, smallest boxes, distances as colours; what a recommendation lets through."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zembrik.core.bake import bake
from zembrik.core.distance.build import Shape, build_fields
from zembrik.core.distance.field import distances
from zembrik.core.exchange.obj import write_obj
from zembrik.core.mesh import shapes
from zembrik.core.mesh.audit import audit
from zembrik.core.mesh.trimesh import TriMesh, volume_m3
from zembrik.core.problem import Problem
from zembrik.core.proxy.deviation import deviations
from zembrik.core.proxy.fit import fit_proxy, smallest_box
from zembrik.core.proxy.measure import measure_fit, recommend, sample_surface
from zembrik.core.proxy.shell import shell_around
from zembrik.core.setup.assets import FolderAssets
from zembrik.core.setup.document import parse_setup

BALL = shapes.ball(0.5, 24)


def torn(mesh, seed, share):
    """Return a mesh with a share of its faces gone, some turned, and all corners apart: the worst that comes in."""
    rng = np.random.default_rng(seed)
    faces = mesh.faces[rng.random(len(mesh.faces)) > share]
    points = mesh.points[faces].reshape(-1, 3)
    faces = np.arange(len(points), dtype=np.int32).reshape(-1, 3)
    turned = rng.random(len(faces)) < 0.2
    faces[turned] = faces[turned][:, ::-1]
    return TriMesh(points, faces)


@settings(max_examples=8, deadline=None)
@given(st.integers(0, 10**6), st.floats(0.0, 0.1))
def test_a_shell_is_closed_whatever_it_wraps(seed, share):
    """A ball in shreds: the shell is closed, faces out, and has the ball's volume within 3%."""
    mesh = torn(BALL, seed, share)
    shell = shell_around(mesh, 0.3)
    kinds = {flaw.kind for flaw in audit(shell).flaws}
    assert shell.is_closed and not kinds & {"holes", "crowded edges", "turned faces", "inside out"}
    assert volume_m3(shell) == pytest.approx(volume_m3(BALL), rel=0.03)


def test_a_shell_holds_its_mesh_and_closes_only_narrow_holes():
    sheet = shapes.grid((1.0, 1.0), (20, 20))
    closes = 0.05
    shell = shell_around(sheet, closes)
    inside = distances(build_fields([Shape("surface", mesh=shell)]), 0, sample_surface(sheet, 2000))[0]
    assert inside.max() < 0.001 and shell.is_closed
    middle = BALL.points[BALL.faces].mean(axis=1)
    bowl = TriMesh(BALL.points, BALL.faces[middle[:, 1] < 0.3])
    hole_m = 2 * np.sqrt(0.25 - 0.3**2)
    inner = np.array([[0.0, 0.0, 0.0]])
    for width, filled in ((0.5 * hole_m, False), (1.3 * hole_m, True)):
        wrapped = Shape("surface", mesh=shell_around(bowl, width))
        assert (distances(build_fields([wrapped]), 0, inner)[0][0] < 0) == filled


def test_a_mesh_without_surface_has_no_shell():
    with pytest.raises(Problem, match="no surface to wrap"):
        shell_around(TriMesh(np.zeros((3, 3)), np.array([[0, 1, 2]], dtype=np.int32)), 0.1, "dot")


@given(st.integers(0, 10**6))
def test_the_smallest_box_around_a_turned_box_is_that_box(seed):
    turn = np.linalg.qr(np.random.default_rng(seed).normal(size=(3, 3)))[0]
    brick = shapes.box((1.0, 0.5, 0.3), 3)
    found = smallest_box(brick.points @ turn.T)
    assert sorted(2 * found.half_m) == pytest.approx([0.3, 0.5, 1.0], abs=1e-4)


def test_distances_on_the_mesh_are_those_of_a_ball():
    """A box of half side h in a ball of radius √3 h: corners touch it, face middles are √3 h - h inside."""
    brick = shapes.box((1.0, 1.0, 1.0), 4)
    finer, off = deviations([fit_proxy("ball", brick)], brick)
    assert off.max() == pytest.approx(0.0, abs=2e-3) and off.min() == pytest.approx(-(np.sqrt(3) - 1) / 2, abs=2e-3)
    assert len(finer.points) > 10 * len(brick.points)
    away = np.linalg.norm(finer.points, axis=1) - np.sqrt(3) / 2
    assert np.abs(off - away).max() < 2e-3


def terrain():
    """A valley 2 m long along z between two banks: y = 0.5 x², 4 m wide, sloping by 0.1 along z."""
    sheet = shapes.grid((4.0, 2.0), (48, 24))
    points = sheet.points.copy()
    points[:, 1] = 0.5 * points[:, 0] ** 2 - 0.1 * points[:, 2]
    return sheet.moved(points)


def test_the_recommended_proxy_of_a_valley_lets_a_ball_roll_through(tmp_path):
    """The hull's gap is the valley's depth under its lid, sampled independently; the surface is recommended."""
    valley = terrain()
    fits = {"hull": measure_fit([fit_proxy("hull", valley)], valley),
            "surface": measure_fit([fit_proxy("surface", valley)], valley)}  # fmt: skip
    # Independently: the lid is the plane through both banks' tops; the farthest of it from the mesh.
    lid = np.stack(np.meshgrid(np.linspace(-2, 2, 81), np.linspace(-1, 1, 9), indexing="ij"), -1).reshape(-1, 2)
    lid = np.column_stack([lid[:, 0], 2.0 - 0.1 * lid[:, 1], lid[:, 1]])
    dense = sample_surface(valley, 60_000, seed=7)
    away = max(np.linalg.norm(dense - p, axis=1).min() for p in lid)
    assert fits["hull"].gap_m == pytest.approx(away, rel=0.02)
    kind, _ = recommend(fits, "collider", float(np.linalg.norm(valley.size)))
    assert kind == "surface"

    with (tmp_path / "valley.obj").open("wb") as out:
        write_obj(out, valley.points, valley.faces)

    def rolled(proxy):
        document = {
            "frames": [1, 72], "fps": 24, "world": {"ground": None},
            "bodies": [
                {"name": "valley", "role": "collider", "mesh": {"file": "valley.obj"}, "proxy": {"kind": proxy}},
                {"name": "ball", "role": "rigid", "mesh": {"shape": "ball", "radius": 0.15}, "proxy": {"kind": "ball"},
                 "place": {"translate": [0.0, 0.24, -0.8]}},
            ],
        }  # fmt: skip
        setup = parse_setup(document)
        cache = bake(setup, FolderAssets(tmp_path), tmp_path / f"{proxy}.zarr")
        return cache.points(0, 72).mean(axis=0)

    # 5/7 g sin θ over 3 s is more than the valley is long: it has left at its lower end, still in the middle.
    through = rolled("surface")
    assert through[2] > 0.9 and abs(through[0]) < 0.05
    assert abs(rolled("hull")[1] - through[1]) > 1.0  # inside the hull, it is thrown out
