"""Soft and rigid bodies against cloth and soft surfaces, face by face; colliders that change their form."""

import numpy as np
import pytest
from stage import Stage, brick

from zembrik.core.motion.ripple import mover_of
from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.library.fair_hard import fast_ball, heavy_sack, rippling_ground


def stage_of(shot, **quality):
    setup = dict(shot.setup)
    setup["quality"] = {**setup["quality"], **quality}
    return Stage({**setup, "world": setup.get("world", {})}, setup["quality"].get("substeps", 20))


def momentum(world):
    """Return the linear momentum (3,) of all free things, kg·m/s."""
    rigid = world.solids.rigid
    free = world.w > 0
    return (world.mass[free, None] * world.v[free]).sum(axis=0) + (rigid.speed[:, :3] / rigid.w[:, None]).sum(axis=0)


def test_a_ball_into_a_free_sheet_keeps_the_momentum_of_both():
    """No gravity, no air: Σ m v of ball and sheet is as before, within 1%, and the ball does not pass."""
    ball = brick("ball", (-0.35, 0.013, 0.021), material={"density": 60, "bounce": 0, "friction": 0})
    ball |= {"mesh": {"shape": "ball", "radius": 0.1}, "proxy": {"kind": "ball"}}
    ball |= {"motion": {"translate": {"keys": [[1, [0, 0, 0]], [3, [0.5, 0, 0]]]}}, "release": 2}
    sheet = {
        "name": "sheet", "role": "cloth", "place": {"rotate": [0, 0, 90]},
        "mesh": {"shape": "grid", "size": [0.8, 0.8], "segments": [20, 20]}, "material": {"preset": "canvas"},
    }  # fmt: skip
    stage = Stage({"world": {"ground": None, "gravity": [0, 0, 0], "air_density": 0}, "bodies": [sheet, ball]}, 40)
    stage.run(2)
    start = stage.world.solids.parts[0].mass.mass * 6.0
    stage.run(2)
    assert momentum(stage.world)[0] == pytest.approx(start, rel=0.01)
    place = stage.rigid.place[0, :3]
    near = np.linalg.norm((stage.world.x - place)[:, 1:], axis=1) < 0.05
    assert stage.world.x[near, 0].max() > place[0] + 0.09  # it pushes the sheet before it


def test_a_ball_of_20_metres_a_second_is_caught_by_a_hanging_sheet_and_by_boards():
    """Neither ball passes: the sheet's points by the ball stay before it, the other ends before its board."""
    stage = stage_of(fast_ball())
    sheet, boards = stage.number("ball at the sheet"), stage.number("ball at the boards")
    for _ in range(10):
        stage.run(1)
        place = stage.rigid.place[sheet, :3]
        beside = np.linalg.norm((stage.world.x - place)[:, 1:], axis=1) < 0.2  # the sheet is a funnel around it
        if place[0] > 0.0:
            assert stage.world.x[beside, 0].max() > place[0] + 0.07
        assert stage.rigid.place[boards, 0] < -0.08
    assert np.abs(stage.world.v).max() < 60.0
    assert stage.rigid.speed[sheet, 0] < 10.0


def test_a_sack_of_100_kilograms_is_held_by_a_sheet_of_one():
    """For a second the sack stays within the sheet's reach, and all of the sheet below it stays below."""
    stage = stage_of(heavy_sack())
    lowest = min(stage.run(24, lambda: stage.rigid.place[0, 1]))
    assert lowest > 0.5
    place = stage.rigid.place[0, :3]
    near = np.linalg.norm((stage.world.x - place)[:, [0, 2]], axis=1) < 0.05
    assert stage.world.x[near, 1].max() < place[1] - 0.19


def test_cloth_rests_on_a_soft_block_and_presses_it():
    """A sheet falls on a soft block: it rests on it at both thicknesses, and the block carries its weight."""
    block = {
        "name": "block", "role": "soft", "mesh": {"shape": "box", "size": [0.3, 0.2, 0.3]}, "cell": 0.05,
        "place": {"translate": [0, 0.1, 0]}, "thickness": 0.002, "material": {"young": 20000, "density": 200},
    }  # fmt: skip
    sheet = {
        "name": "sheet", "role": "cloth", "place": {"translate": [0.01, 0.23, 0.02]}, "thickness": 0.002,
        "mesh": {"shape": "grid", "size": [0.25, 0.25], "segments": [12, 12]},
        "material": {"preset": "wool felt", "area_density": 2.0},
    }  # fmt: skip
    stage = Stage({"bodies": [block, sheet]}, 20)
    stage.run(30)
    world = stage.world
    soft, cloth = (next(b for b in world.bodies if b.name == n) for n in ("block", "sheet"))
    top = soft.points(world.x)[:, 1].max()
    sheet_y = world.x[cloth.first : cloth.last, 1]
    assert sheet_y.mean() - top == pytest.approx(0.004, abs=0.001)
    assert sheet_y.min() > top - 0.001


def test_a_soft_ball_rests_on_another():
    def ball(name, y):
        return {
            "name": name, "role": "soft", "mesh": {"shape": "ball", "radius": 0.1}, "cell": 0.05,
            "place": {"translate": [0, y, 0]}, "material": {"young": 20000, "density": 200, "friction": 1.0},
        }  # fmt: skip

    # With 20 substeps a pole may pierce the other on impact: over a twentieth of the ball in a substep.
    stage = Stage({"bodies": [ball("under", 0.1), ball("over", 0.32)]}, 40)
    stage.run(12)
    under, over = (b.points(stage.world.x) for b in stage.world.bodies)
    assert over[:, 1].min() > under[:, 1].max() - 0.001
    assert np.isfinite(stage.world.x).all()


def test_cloth_stays_on_ground_that_ripples():
    """At every frame the quilt is above the wave under it; where the wave goes, the quilt goes."""
    shot = rippling_ground()
    stage = stage_of(shot)
    wave = mover_of(parse_setup(shot.setup).model_dump()["bodies"][1]["motion"], [0, 0, 0], 24.0)
    heights, least = [], []

    def look():
        at = wave.points_at(stage.world.x * [1, 0, 1], stage.frame)
        least.append(float((stage.world.x[:, 1] - at[:, 1]).min()))
        heights.append(float(np.ptp(stage.world.x[:, 1])))

    stage.run(42, look)
    assert min(least) > -0.002  # the faces between the wave's points are chords of it: 1.0 mm below its crest
    assert max(heights[30:]) > 0.08
    assert np.abs(stage.world.v).max() < 5.0


def test_a_rigid_box_rides_on_ground_that_ripples():
    setup = dict(rippling_ground().setup)
    box = brick("box", (0.0, 0.13, 0.0), (0.2, 0.2, 0.2), material={"density": 300, "bounce": 0})
    setup["bodies"] = [box, setup["bodies"][1]]
    stage = Stage(setup, 20)
    heights = stage.run(48, lambda: stage.rigid.place[0, 1])
    assert min(heights) > 0.03
    assert np.ptp(heights[24:]) > 0.02


@pytest.mark.parametrize(
    ("change", "words"),
    [({"role": "rigid"}, "no motion.ripple"), ({"proxy": {"kind": "hull"}}, "reduced, shell or surface")],
)
def test_only_surfaces_of_colliders_ripple(change, words):
    body = {"name": "g", "role": "collider", "mesh": {"shape": "box", "size": [1, 1, 1]}, "motion": {"ripple": {}}}
    with pytest.raises(Problem, match=words):
        parse_setup({"bodies": [{**body, **change}]})
