"""Pins by rule, held firmly or softly, moved, and let go; gravity over frames; all against formulas."""

import numpy as np
import pytest

from tests.core.stage import Stage, brick
from tests.core.test_intake import abc_bytes
from zembrik.core.bake import bake
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import FolderAssets, NoAssets, mover_of_body, placed_mesh
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.solver.handles import HALF_RATE

G = 9.81


def sheet(pins, height=2.0, **more):
    return {
        "name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1.0, 1.0], "segments": [10, 10]},
        "place": {"translate": [0, height, 0]}, "material": {"preset": "linen", "drag": 0.0, "lift": 0.0},
        "pins": pins, **more,
    }  # fmt: skip


def held(pin, *others):
    world = build_world(parse_setup({"bodies": [sheet([pin]), *others]}), NoAssets())
    return np.flatnonzero(world.w == 0.0), world.x


def test_points_by_a_side_a_height_and_nearness():
    """A sheet of 11 × 11 points 0.1 m apart: its left side is 11 points; a ball's nearest ones lie within reach."""
    numbers, x = held({"points": {"side": "left"}})
    assert len(numbers) == 11 and np.abs(x[numbers, 0] + 0.5).max() < 1e-9
    tilted = sheet([{"points": {"above": 2.2}}])
    tilted["place"]["rotate"] = [90, 0, 0]
    world = build_world(parse_setup({"bodies": [tilted]}), NoAssets())
    assert set(np.flatnonzero(world.w == 0)) == set(np.flatnonzero(world.x[:, 1] > 2.2)) and (world.w == 0).sum() == 33
    ball = {"name": "ball", "role": "left out", "mesh": {"shape": "ball", "radius": 0.2, "rings": 48},
            "place": {"translate": [0.5, 2, 0.5]}}  # fmt: skip
    numbers, x = held({"points": {"near": {"body": "ball", "distance": 0.101}}}, ball)
    off = np.linalg.norm(x - [0.5, 2, 0.5], axis=1) - 0.2
    assert set(numbers) == set(np.flatnonzero(off <= 0.1005))
    for pin, words in (({"side": "left", "above": 1.0}, "give one of"), ({"above": 9.0}, "takes no point"),
                       ({"near": {"body": "gone"}}, "no other body")):  # fmt: skip
        with pytest.raises(Problem, match=words):
            held({"points": pin})


def grain(strength, **more):
    """A sheet so limp and small that each of its points is a weight on its own pin."""
    points = {"numbers": list(range(121))}
    body = sheet([{"points": points, "strength": strength, **more}])
    return Stage({"world": {"ground": None, "air_density": 0}, "bodies": [body]}, substeps=40)


@pytest.mark.parametrize("strength", [0.5, 0.8])
def test_a_soft_pin_sags_by_weight_over_stiffness(strength):
    """At rest a point hangs g / ω² below its place, ω = 30 s / (1 - s) 1/s."""
    stage = grain(strength)
    stage.run(48)
    rate = HALF_RATE * strength / (1 - strength)
    assert (2.0 - stage.world.x[:, 1]).mean() == pytest.approx(G / rate**2, rel=0.01)


def test_a_soft_pin_comes_to_rest_as_a_critically_damped_spring():
    """From its place at rest the way down is g/ω² (1 - (1 + ωt) e^(-ωt))."""
    rate, strength = HALF_RATE, 0.5
    off = []
    for substeps in (40, 160):
        stage = grain(strength)
        stage.stepper.__init__(stage.world, substeps, 1, 24.0)
        down = np.array(stage.run(8, lambda: 2.0 - stage.world.x[:, 1].mean()))  # noqa: B023
        t = np.arange(1, 9) / 24.0
        off.append(np.abs(down - G / rate**2 * (1 - (1 + rate * t) * np.exp(-rate * t))).max() / (G / rate**2))
    assert max(off) < 0.01


def test_a_pin_moves_by_its_own_motion_and_is_let_go_with_its_speed():
    """Carried along X at 2 m/s and let go at frame 13: from there it flies on at 2 m/s and falls freely."""
    motion = {"translate": {"keys": [[1, [0, 0, 0]], [25, [2.0, 0, 0]]]}}
    stage = grain(1.0, motion=motion, release=13)
    stage.run(12)
    assert np.abs(stage.world.x[:, 0].mean() - 1.0) < 1e-9 and np.abs(stage.world.x[:, 1] - 2.0).max() < 1e-9
    stage.run(12)
    assert stage.world.x[:, 0].mean() == pytest.approx(2.0, abs=1e-6)
    assert stage.world.x[:, 1].mean() == pytest.approx(2.0 - G * 0.5**2 / 2, abs=0.01)


def test_a_pin_with_a_turn_goes_about_its_middle_on_top_of_what_it_follows():
    pole = {"name": "pole", "role": "left out", "mesh": {"shape": "box", "size": [1, 1, 1]},
            "motion": {"translate": {"keys": [[1, [0, 0, 0]], [11, [0, 0, 1]]]}}}  # fmt: skip
    turning = {"rotate": {"keys": [[1, [0, 0, 0]], [11, [0, 90, 0]]]}}
    pin = {"points": {"side": "left"}, "follow": "pole", "motion": turning}
    stage = Stage({"world": {"ground": None}, "bodies": [sheet([pin]), pole]})
    begin = stage.world.x.copy()
    stage.run(10)
    left = np.flatnonzero(stage.world.w == 0)
    middle = begin[left].mean(axis=0)
    arm = begin[left] - middle
    want = middle + np.column_stack([arm[:, 2], arm[:, 1], -arm[:, 0]]) + [0, 0, 1]
    assert np.abs(stage.world.x[left] - want).max() < 1e-9


def test_falloff_draws_the_points_around_less_and_less():
    """The middle lifted by 0.4 m takes its neighbours along: what is within the falloff rises, less the farther off."""
    motion = {"translate": {"keys": [[1, [0, 0, 0]], [25, [0, 0.4, 0]]], "ease": "smooth"}}
    pin = {"points": {"numbers": [60], "falloff": 0.45}, "motion": motion}
    stage = Stage({"world": {"gravity": [0, 0, 0], "ground": None, "air_density": 0}, "bodies": [sheet([pin])]})
    stage.run(48)
    off = np.hypot(stage.world.x[:, 0], stage.world.x[:, 2])
    rise = stage.world.x[:, 1] - 2.0
    assert rise[60] == pytest.approx(0.4) and (rise[off < 0.25] > 0.3).all()
    weak = Stage({"world": {"gravity": [0, 0, 0], "ground": None, "air_density": 0},
                  "bodies": [sheet([pin | {"points": {"numbers": [60]}}])]})  # fmt: skip
    weak.run(48)
    ring = np.abs(np.hypot(*np.mgrid[-5:6, -5:6]).ravel() - 2) < 0.1
    assert rise[ring].mean() > (weak.world.x[:, 1] - 2.0)[ring].mean() + 0.02


def test_strength_over_frames_lets_go_and_takes_hold_again(tmp_path):
    """Held, let go for half a second, then drawn back softly; the same bytes from a bake that was stopped between."""
    strength = {"keys": [[1, 1.0, "hold"], [7, 0.0, "hold"], [13, 0.7, "hold"], [30, 0.7]]}
    body = sheet([{"points": {"side": "left"}, "strength": strength}])
    body["material"]["rest_length"] = {"keys": [[1, 1.0], [30, 0.8]]}
    document = {"frames": [1, 30], "world": {"ground": None, "air_density": 0}, "bodies": [body]}
    document["quality"] = {"substeps": 10}
    setup = parse_setup(document)
    whole = bake(setup, NoAssets(), tmp_path / "whole.zarr")
    left = np.flatnonzero(np.abs(whole.points(0, 1)[:, 0] + 0.5) < 1e-6)
    height = [float(whole.points(0, f)[left, 1].mean()) for f in (7, 13, 30)]
    assert height[0] == pytest.approx(2.0) and height[1] < 1.9 and height[2] == pytest.approx(2.0, abs=0.05)
    for stop in (9, 20):
        bake(setup, NoAssets(), tmp_path / "parts.zarr", tell=lambda p: p.frame < stop)  # noqa: B023
        parts = bake(setup, NoAssets(), tmp_path / "parts.zarr", resume=True)
        assert all(np.array_equal(parts.points(0, f), whole.points(0, f)) for f in (10, 21, 30))
        import shutil

        shutil.rmtree(tmp_path / "parts.zarr")


def test_gravity_that_sets_in_wakes_what_rests():
    """Without gravity a brick hangs asleep; once it sets in the brick falls: g t²/2. Another floats on, at share 0."""
    gravity = {"keys": [[1, 0.0, "hold"], [49, 1.0]]}
    still = {"keys": [[1, 0.0]]}
    bodies = [brick("falls", (0, 50, 0)), brick("floats", (3, 50, 0), gravity=still)]
    stage = Stage({"world": {"ground": None, "gravity_strength": gravity}, "bodies": bodies})
    stage.run(48)
    assert stage.rigid.asleep.all() and np.abs(stage.rigid.place[:, 1] - 50).max() == 0
    stage.run(24)
    assert stage.rigid.place[0, 1] == pytest.approx(50 - G / 2, rel=2e-3) and stage.rigid.place[1, 1] == 50


def test_drag_over_frames_is_felt_when_it_is_there():
    """In wind of 5 m/s a sheet without drag stays; when its drag sets in it is blown along."""
    drag = {"keys": [[1, 0.0, "hold"], [13, 1.0]]}
    body = sheet([])
    body["material"] |= {"drag": drag}
    body["place"]["rotate"] = [0, 0, 90]
    wind = [{"kind": "wind", "velocity": [5, 0, 0]}]
    stage = Stage(
        {"world": {"ground": None, "gravity": [0, 0, 0], "air_density": 1.2}, "bodies": [body], "forces": wind}
    )
    stage.run(12)
    assert np.abs(stage.world.v).max() < 1e-9
    stage.run(12)
    assert stage.world.v[:, 0].mean() > 2.0


def test_points_held_by_what_changes_its_form_keep_to_its_surface(tmp_path):
    """A sheet's side held by a rippling file of forms: each held point rises with the place of the surface below it."""
    (tmp_path / "wave.abc").write_bytes(abc_bytes(moving=True))
    mesh = {"file": "wave.abc", "part": "yard/stall/shelf/crate", "animated": True}
    wave = {"name": "wave", "role": "collider", "mesh": mesh, "proxy": {"kind": "surface"}}
    assets = FolderAssets(tmp_path)
    probe = parse_setup({"bodies": [wave]})
    mover, form = mover_of_body(probe, 0, assets), placed_mesh(probe.bodies[0], assets)
    top = form.points.max(axis=0)
    place = {"translate": [float(form.points[:, 0].mean()), float(top[1]) + 0.3, float(form.points[:, 2].mean())]}
    body = sheet([{"points": {"side": "left"}, "follow": "wave"}]) | {"place": place}
    world = build_world(parse_setup({"world": {"ground": None}, "bodies": [body, wave]}), assets)
    (handle,) = world.handles.every
    begin = handle.places(1.0)
    assert np.abs(begin - handle.rest).max() < 1e-9
    moved = handle.places(20.0) - begin
    # Half of the form's points stay and half go: what lies between goes a share of that, each along the same way.
    whole = mover.points_at(form.points, 20.0) - form.points
    way = whole[np.argmax(np.linalg.norm(whole, axis=1))]
    share = moved @ way / (way @ way)
    assert np.linalg.norm(way) > 0.1 and 0.05 < share.min() <= share.max() < 0.95
