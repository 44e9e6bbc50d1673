"""Friction at a blow, and what rolls: both are of the bodies, not of the substep or the facets of a mesh."""

import numpy as np
import pytest
from stage import Stage, brick

from zembrik.core.findings.check import check_setup
from zembrik.core.mesh import shapes
from zembrik.core.proxy.fit import convex_hull
from zembrik.core.setup.assets import FolderAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.samples import round_off
from zembrik.core.units import quaternion_turn
from zembrik.library.demo_shot import obj_bytes

G = 9.81


def ball(at, kind="ball", rings=48, **material):
    """Return a rigid ball of 0.1 m."""
    return {"name": "ball", "role": "rigid", "mesh": {"shape": "ball", "radius": 0.1, "rings": rings}, "thickness": 0,
            "place": {"translate": at}, "proxy": {"kind": kind}, "material": {"bounce": 0, **material}}  # fmt: skip


@pytest.mark.parametrize("bounce", [0.0, 0.5])
def test_friction_at_a_blow_does_not_depend_on_when_it_comes(bounce):
    """A ball that slips all through the blow: Δω = μ (1 + e) v / (2/5 r) within 3%, wherever in a substep it lands."""
    friction, found = 0.1, []
    for more in np.arange(8) * 0.0011:
        body = ball(
            [0, 1.1 + more, 0], bounce=bounce, friction=friction, sliding_friction=friction, rolling_resistance=0
        )
        stage = Stage(
            {"frames": [1, 60], "world": {"ground": {"friction": friction}, "air_density": 0}, "bodies": [body]}
        )
        stage.rigid.speed[0, 0] = 20.0
        while stage.rigid.speed[0, 5] == 0.0:
            stage.run(1)
        speed = np.sqrt(2 * G * (1.0 + more))
        found.append(stage.rigid.speed[0, 5] / (-friction * (1 + bounce) * speed * 0.1 / (0.4 * 0.01)))
    # Without bounce it lies, and goes on slipping for the rest of that frame.
    assert min(found) > 0.97
    assert max(found) < 1.03 + (G / 24 / 4.4 if bounce == 0.0 else 0.0)


@pytest.mark.parametrize(("kind", "rings"), [("ball", 32), ("hull", 16), ("hull", 32), ("surface", 32)])
def test_what_is_round_rolls_on_whatever_its_proxy(kind, rings):
    """v = 5/7 v₀ after slipping, and for ever; with a lever b it slows by 5/7 g b / r, within 2%."""
    speeds = {}
    for lever in (0.0, 0.005):
        body = ball([0, 0.1, 0], kind, rings, friction=0.5, rolling_resistance=lever)
        stage = Stage({"frames": [1, 200], "bodies": [body]})
        stage.rigid.speed[0, 0] = 2.0
        speeds[lever] = np.array(stage.run(96, lambda stage=stage: stage.rigid.speed[0, 0]))
    assert speeds[0.0][12:] == pytest.approx(2.0 * 5 / 7, rel=0.005)
    slowed = speeds[0.005]
    assert (slowed[24] - slowed[72]) / 2 == pytest.approx(5 / 7 * G * 0.005 / 0.1, rel=0.02)


def test_only_what_is_smooth_is_rounded_off():
    """A ball's points share its middle; a box keeps its corners; a tube's wall is round, its rims are sharp."""
    middles, radius = round_off(shapes.ball(0.2, 24))
    assert radius == pytest.approx(0.2, rel=1e-6)
    assert np.abs(middles).max() < 1e-6
    assert not round_off(shapes.box((1, 2, 3)))[1].any()


def test_a_box_is_held_by_rolling_resistance_no_more_than_by_friction():
    """It does not roll: a block slides to a stop as before, whatever its lever."""
    ways = []
    for lever in (0.0, 0.01):
        block = brick("block", (0, 0.201, 0), thickness=0.001,
                      material={"friction": 0.5, "sliding_friction": 0.3, "rolling_resistance": lever})  # fmt: skip
        stage = Stage({"world": {"ground": {"friction": 0.3}}, "bodies": [block]})
        stage.rigid.speed[0, 0] = 3.0
        stage.run(48)
        ways.append(stage.rigid.place[0, 0])
    assert ways[1] == pytest.approx(ways[0], rel=0.01)


def test_a_body_spins_about_an_axis_of_its_own():
    """Turned by 90° about Z, its own Y lies along -X."""
    spin = {"axis": [0, 1, 0], "angle": {"keys": [[1, 0], [25, 90]], "ease": "straight"}}
    body = brick("body", (0, 1, 0), place={"rotate": [0, 0, 90]}, motion={"spin": spin})
    stage = Stage({"world": {"ground": None}, "bodies": [body]})
    stage.run(3)
    assert stage.rigid.speed[0, 3:] == pytest.approx([-np.pi / 2, 0, 0], abs=1e-9)


@pytest.mark.parametrize("kind", ["hull", "surface"])
@pytest.mark.parametrize("turned", [0, 180])
def test_half_a_ball_lies_on_its_flat_side_and_on_its_round_one(tmp_path, kind, turned):
    """Balls that stand for its round side stand out of its flat one nowhere: it lies as near as its thickness says."""
    ball = shapes.ball(0.2, 24)
    dome = convex_hull(np.stack([ball.points[:, 0], np.maximum(ball.points[:, 1], 0.0), ball.points[:, 2]], axis=1))
    inside, radius = round_off(dome, convex=kind == "hull")
    assert (radius > 0).sum() > 400 and (inside[:, 1] - radius).min() > -1e-3 and radius.max() < 0.11
    (tmp_path / "dome.obj").write_bytes(obj_bytes(dome, "dome"))
    body = {"name": "dome", "role": "rigid", "mesh": {"file": "dome.obj"}, "proxy": {"kind": kind}, "thickness": 0.001,
            "place": {"translate": [0, 0.25, 0], "rotate": [turned, 0, 3]}}  # fmt: skip
    stage = Stage({"bodies": [body]}, assets=FolderAssets(tmp_path))
    stage.run(60)
    pose, rest = stage.world.solids.poses()[0], stage.world.bodies[0].rest
    lowest = (rest @ quaternion_turn(pose[3:]).T + pose[:3])[:, 1].min()
    assert lowest == pytest.approx(0.001, abs=2e-4) and np.abs(stage.rigid.speed).max() < 0.01


def test_a_thin_block_with_a_finely_bent_side_keeps_what_falls_on_its_flat_one(tmp_path):
    """A trough's hull: fine below, few large faces above. What is half a metre over it does not begin inside of it."""
    sheet = shapes.grid((2.0, 2.0), (30, 30))
    trough = sheet.moved(sheet.points + np.outer(0.1 * sheet.points[:, 0] ** 2, [0, 1, 0]))
    (tmp_path / "trough.obj").write_bytes(obj_bytes(trough, "trough"))
    ground = {"name": "trough", "role": "collider", "mesh": {"file": "trough.obj"}, "proxy": {"kind": "hull"}}
    box = brick("box", (0.1, 0.5, 0.1), (0.1, 0.1, 0.1))
    document = {"bodies": [ground, box], "world": {"ground": None}}
    assert not [f for f in check_setup(parse_setup(document), FolderAssets(tmp_path)) if f.severe]
    stage = Stage(document, assets=FolderAssets(tmp_path))
    stage.run(48)
    assert stage.rigid.place[0, 1] == pytest.approx(0.1 + 0.05, abs=0.006)
