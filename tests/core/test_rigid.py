"""Rigid bodies against closed formulas, and in company."""

import numpy as np
import pytest
from stage import Stage, brick

from zembrik.core.mesh import shapes
from zembrik.core.mesh.inertia import mass_of
from zembrik.core.problem import Problem
from zembrik.core.solver.arrays import ARM_A, ARM_B, GIVE, NORMAL, WEIGHT
from zembrik.core.units import quaternion_turn

G = 9.81
NO_GROUND = {"ground": None, "air_density": 0}


def slope(degrees, friction=0.5):
    """Return a plane through the origin that falls along +X."""
    return {"name": "slope", "role": "collider", "mesh": {"shape": "grid", "size": [9, 9], "segments": [1, 1]},
            "place": {"rotate": [0, 0, -degrees]}, "proxy": {"kind": "plane"}, "friction": friction}  # fmt: skip


def on_slope(degrees, height):
    """Return the place at a height over the slope."""
    t = np.radians(degrees)
    return [height * np.sin(t), height * np.cos(t), 0]


def test_mass_and_inertia_of_a_box_and_a_ball_are_their_formulas():
    """m = ρabc, I = m(b² + c²)/12; ball: 2/5 m r², here of 96 rings; the box off the origin, turned."""
    turn = quaternion_turn(np.array([0.1, 0.3, -0.2, 0.9]) / np.linalg.norm([0.1, 0.3, -0.2, 0.9]))
    mesh = shapes.box((0.2, 0.5, 0.8))
    found = mass_of(mesh.moved(mesh.points @ turn.T + [3, -2, 5]), 700)
    assert found.mass == pytest.approx(700 * 0.08, rel=1e-12)
    assert found.centre == pytest.approx([3, -2, 5], abs=1e-12)
    assert found.moments == pytest.approx(found.mass / 12 * np.array([0.29, 0.68, 0.89]), rel=1e-10)
    assert np.abs(found.axes.T @ turn).round(9).max(axis=1) == pytest.approx([1, 1, 1])
    ball = mass_of(shapes.ball(0.3, 96), 1000)
    assert ball.moments == pytest.approx(0.4 * ball.mass * 0.09, rel=2e-3)


def test_tumbling_about_the_middle_axis_keeps_momentum_and_energy():
    """Torque-free Euler equations: |L| and ½ω·Iω are constant, while the body flips over (10 s, 20 substeps)."""
    stage = Stage({"world": {"gravity": [0, 0, 0], **NO_GROUND}, "bodies": [brick("book", (0, 0, 0), (0.1, 0.3, 0.6))]})
    rigid, (part,) = stage.rigid, stage.world.solids.parts
    axes = quaternion_turn(rigid.place[0, 3:])
    rigid.speed[0, 3:] = axes @ [0.01, 6.0, 0.01]  # the moments rise: 1 is the middle one

    def look():
        turn = quaternion_turn(rigid.place[0, 3:])
        spin = turn.T @ rigid.speed[0, 3:]
        return np.append(turn @ (part.mass.moments * spin), [0.5 * spin @ (part.mass.moments * spin), spin[1]])

    start = look()
    found = np.array(stage.run(240, look))
    assert found[:, 4].min() < -5.0  # it did flip
    assert np.linalg.norm(found[:, :3] - start[:3], axis=1).max() < 0.005 * np.linalg.norm(start[:3])
    assert np.abs(found[:, 3] / start[3] - 1).max() < 0.02


@pytest.mark.parametrize("friction", [0.3, 0.7])
def test_a_block_slips_beyond_the_friction_angle(friction):
    """Rest up to atan μ (within 0.5°); beyond, a = g (sin θ - μ cos θ) within 3%."""
    limit = np.degrees(np.arctan(friction))
    for degrees in (limit - 0.5, limit + 0.5, limit + 8):
        block = brick("block", on_slope(degrees, 0.2025), material={"friction": friction, "sliding_friction": friction},
                      place={"rotate": [0, 0, -degrees]}, thickness=0.001)  # fmt: skip
        stage = Stage({"world": NO_GROUND, "bodies": [slope(degrees, friction), block]})
        stage.run(6)
        way = np.array(stage.run(36, lambda rigid=stage.rigid: rigid.place[0, :3].copy()))
        speed = np.linalg.norm(np.diff(way, axis=0), axis=1) * 24
        if degrees < limit:
            assert np.linalg.norm(way[-1] - way[0]) < 0.002
        else:
            t = np.radians(degrees)
            expected = G * (np.sin(t) - friction * np.cos(t))
            assert (speed[-1] - speed[0]) / (len(speed) - 1) * 24 == pytest.approx(expected, rel=0.03)


def test_sliding_to_a_stop():
    """Way = v² / (2 μ g), with the sliding friction, within 3%."""
    block = brick("block", (0, 0.201, 0), material={"friction": 0.5, "sliding_friction": 0.3}, thickness=0.001)
    stage = Stage({"world": {"ground": {"friction": 0.3}}, "bodies": [block]})
    stage.rigid.speed[0, 0] = 3.0
    stage.run(48)
    # Both grips count by their geometric mean.
    assert stage.rigid.place[0, 0] == pytest.approx(9 / (2 * 0.3 * G), rel=0.03)
    assert abs(stage.rigid.speed[0]).max() < 1e-6


def test_a_ball_rolls_down_a_slope():
    """A rolling full ball: a = 5/7 g sin θ within 3%, and its turning keeps up with its way."""
    ball = {"name": "ball", "role": "rigid", "mesh": {"shape": "ball", "radius": 0.2, "rings": 64},
            "place": {"translate": on_slope(20, 0.2015)}, "proxy": {"kind": "ball"}, "thickness": 0.001}  # fmt: skip
    stage = Stage({"world": NO_GROUND, "bodies": [slope(20), ball]})
    stage.run(6)
    speed = np.array(stage.run(24, lambda: np.linalg.norm(stage.rigid.speed[0, :3])))
    assert (speed[-1] - speed[0]) / (len(speed) - 1) * 24 == pytest.approx(5 / 7 * G * np.sin(np.radians(20)), rel=0.03)
    assert np.linalg.norm(stage.rigid.speed[0, 3:]) * 0.201 == pytest.approx(speed[-1], rel=0.02)


@pytest.mark.parametrize("bounce", [0.3, 0.7])
def test_a_bounce_gives_back_its_share(bounce):
    """The next height is e² times the last, within 3% (40 substeps)."""
    ball = {"name": "ball", "role": "rigid", "mesh": {"shape": "ball", "radius": 0.1}, "proxy": {"kind": "ball"},
            "place": {"translate": [0, 1.1, 0]}, "thickness": 0, "material": {"bounce": bounce}}  # fmt: skip
    stage = Stage({"fps": 240, "bodies": [ball]}, substeps=4)
    height = np.array(stage.run(360, lambda: stage.rigid.place[0, 1])) - 0.1
    low = int(np.argmax(height < 0.01))
    assert height[low : low + 240].max() == pytest.approx(bounce**2, rel=0.03)


def test_a_hinged_pendulum_keeps_its_time():
    """Small swing: T = 2π √(I / (m g d)) about the hinge, within 1%."""
    rod = brick("rod", (0.5 * np.sin(0.05), 2 - 0.5 * np.cos(0.05), 0), (0.05, 1.0, 0.08),
                place={"rotate": [0, 0, np.degrees(0.05)]})  # fmt: skip
    joint = {"kind": "hinge", "bodies": ["rod", None], "at": [0, 2, 0], "axis": [0, 0, 1]}
    stage = Stage({"bodies": [rod], "joints": [joint]})
    swing = np.array(stage.run(240, lambda: stage.rigid.place[0, 0]))
    cross = np.flatnonzero((swing[:-1] > 0) & (swing[1:] <= 0))
    at = cross + swing[cross] / (swing[cross] - swing[cross + 1])
    period = float(np.diff(at).mean()) / 24
    inertia = (1.0**2 + 0.05**2) / 12 + 0.25  # per mass, about the hinge
    assert period == pytest.approx(2 * np.pi * np.sqrt(inertia / (G * 0.5)), rel=0.01)
    assert abs(stage.rigid.place[0, 2]) < 1e-9


def test_a_fixed_joint_holds_and_a_driven_body_is_let_go_with_its_speed():
    motion = {"translate": {"keys": [[1, [0, 0, 0]], [25, [4, 0, 0]]]}}
    sled = brick("sled", (0, 3, 0), motion=motion, release=13)
    load = brick("load", (0, 3.6, 0), (0.2, 0.2, 0.2))
    fixed = {"kind": "fixed", "bodies": ["load", "sled"], "at": [0, 3.3, 0]}
    stage = Stage({"world": NO_GROUND, "bodies": [sled, load], "joints": [fixed]})
    first = quaternion_turn(stage.rigid.place[0, 3:]).T @ quaternion_turn(stage.rigid.place[1, 3:])

    def look():
        turns = [quaternion_turn(stage.rigid.place[r, 3:]) for r in range(2)]
        way = turns[0].T @ (stage.rigid.place[1, :3] - stage.rigid.place[0, :3])
        return np.abs(turns[0].T @ turns[1] - first).max(), abs(np.linalg.norm(way) - 0.6)

    off = stage.run(12, look)
    assert stage.rigid.place[0, :3] == pytest.approx([2, 3, 0], abs=1e-12)
    off += stage.run(12, look)
    assert np.array(off).max() < 0.05  # it is jerked from rest to 4 m/s at the first frame
    assert np.array(off)[20:].max() < 0.003
    # Let go with 4 m/s, it falls for half a second.
    assert stage.rigid.place[:, 0] == pytest.approx([4, 4], abs=0.06)
    assert stage.rigid.place[0, 1] == pytest.approx(3 - 0.5 * G * 0.25, abs=0.05)


def test_a_tower_of_ten_stands_and_sleeps():
    """10 s: no box drifts by 1% of its size, all sleep at the end."""
    tower = [brick(f"box {k}", (0, 0.2 + 0.4 * k + 0.001 * (2 * k + 1), 0)) for k in range(10)]
    stage = Stage({"bodies": tower})
    start = stage.rigid.place[:, :3].copy()
    stage.run(240)
    assert stage.rigid.asleep.all()
    off = stage.rigid.place[:, :3] - start
    assert np.abs(off).max() < 0.004
    assert np.abs(quaternion_turn(stage.rigid.place[9, 3:]) - quaternion_turn(stage.rigid.before[9, 3:])).max() < 1e-9


def test_a_push_wakes_what_sleeps():
    stage = Stage({"bodies": [brick("one", (0, 0.201, 0)), brick("two", (0.5, 0.201, 0)), brick("high", (0, 5, 0))]})
    stage.run(20)
    assert stage.rigid.asleep.tolist() == [True, True, False]
    stage.run(24)
    assert not stage.rigid.asleep[0] and stage.rigid.asleep[1]


def test_what_is_no_body_is_told():
    def refused(body, words):
        with pytest.raises(Problem, match=words):
            Stage({"bodies": [{"name": "it", "role": "rigid", **body}]})

    refused({"mesh": {"shape": "grid", "size": [1, 1], "segments": [2, 2]}}, "not closed .8 edges")
    refused({"mesh": {"shape": "box", "size": [1, 1, 1]}, "material": {"bend": 1}}, "rigid has no bend")
    refused(
        {"mesh": {"shape": "box", "size": [1, 1, 1]}, "material": {"preset": "linen"}}, "no preset for the role rigid"
    )
    refused({"mesh": {"shape": "box", "size": [1, 1, 1]}, "proxy": {"kind": "plane"}}, "endless plane")
    refused({"mesh": {"shape": "box", "size": [1, 1, 1]}, "release": 4}, "rigid has no release")
    with pytest.raises(Problem, match="no rigid body has that name"):
        Stage({"bodies": [], "joints": [{"kind": "socket", "bodies": ["a", None]}]})


def test_bodies_that_grow_thicker_are_pushed_apart():
    """Two bricks float 6 mm apart and never move; at frame 6 each keeps 8 mm free: they part to 16 mm."""
    grows = {"keys": [[1, 0.001], [6, 0.008]], "ease": "hold"}
    bricks = [brick(name, (x, 0, 0), gravity=0, thickness=grows) for name, x in (("left", -0.203), ("right", 0.203))]
    stage = Stage({"world": {"ground": None, "air_density": 0}, "bodies": bricks})
    gap = lambda: stage.rigid.place[1, 0] - stage.rigid.place[0, 0] - 0.4  # noqa: E731
    stage.run(5)
    assert gap() == pytest.approx(0.006, abs=1e-9)
    stage.run(3)
    assert gap() > 0.0155


def test_what_a_push_gives_at_a_contact_is_the_formula():
    """w p + I⁻¹(r × p) × r of both sides, and Σ share² w p of particles: a matrix of 3 × 3 in every contact's row."""
    turned = {"place": {"rotate": [20, 10, 30]}}
    cloth = {"name": "cloth", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [12, 12]},
             "place": {"translate": [0, 0.85, 0]}}  # fmt: skip
    bricks = [brick("low", (0, 0.3, 0)), brick("high", (0.1, 0.75, 0.05), (0.2, 0.3, 0.4), **turned)]
    stage = Stage({"bodies": [cloth, *bricks]})
    stage.run(8)
    solids, rigid = stage.world.solids, stage.rigid
    contacts, skin = solids.contacts, solids.skin
    assert (contacts.a < 0).any() and ((contacts.a >= 0) & (contacts.b >= 0)).any() and (contacts.b < 0).any()
    pushes = np.random.default_rng(4).normal(size=(3, 3))
    for c, row in enumerate(contacts.row):
        expected = np.zeros((3, 3))
        if contacts.a[c] < 0:
            masters, shares = skin.masters[contacts.point[c]], skin.shares[contacts.point[c]]
            expected += (shares**2 * stage.world.w[masters]).sum() * pushes
        for r, arm in ((contacts.a[c], row[ARM_A : ARM_A + 3]), (contacts.b[c], row[ARM_B : ARM_B + 3])):
            if r >= 0:
                turns = np.cross(arm, pushes) @ rigid.turning[r].reshape(3, 3).T
                expected += rigid.w[r] * pushes + np.cross(turns, arm)
        xx, xy, xz, yy, yz, zz = row[GIVE : GIVE + 6]
        give = np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]])
        assert pushes @ give == pytest.approx(expected, rel=1e-9, abs=1e-12)
        normal = row[NORMAL : NORMAL + 3]
        assert row[WEIGHT] == pytest.approx(normal @ give @ normal, rel=1e-12)


LIES_ON = {
    "a post": ({"shape": "box", "size": [0.1, 1.0, 0.1]}, "box", 0.5),
    "a post's surface": ({"shape": "box", "size": [0.1, 1.0, 0.1]}, "surface", 0.5),
    "a post's hull": ({"shape": "box", "size": [0.1, 1.0, 0.1]}, "hull", 0.5),
    "a ball": ({"shape": "ball", "radius": 0.2}, "ball", 0.2),
    "a capsule": ({"shape": "capsule", "radius": 0.1, "height": 0.6}, "capsule", 0.3),
    "a round surface": ({"shape": "ball", "radius": 0.2}, "surface", 0.2),
}


@pytest.mark.parametrize("what", LIES_ON)
def test_a_plank_lies_on_what_is_narrower_than_it(what):
    """Its corners and edges are all beside it: what is below has to ask it. Before, it fell through, silently."""
    mesh, proxy, half = LIES_ON[what]
    below = {"name": "below", "role": "collider", "mesh": mesh, "proxy": {"kind": proxy}}
    plank = brick("plank", (0.001, half + 0.045, 0.0), (2.0, 0.05, 1.0), material={"bounce": 0})
    stage = Stage({"world": {"ground": None}, "bodies": [below, plank]})
    stage.run(8)
    assert stage.rigid.place[0, 1] == pytest.approx(half + 0.025 + 0.003, abs=0.003)


def test_a_post_that_rises_lifts_a_plank_and_one_that_slides_carries_it():
    """Up by 0.3 m in half a second, then aside by 0.2 m: the plank goes along, by friction."""
    way = [[1, [0, 0, 0]], [13, [0, 0.3, 0]], [37, [0.2, 0.3, 0]]]
    post = {"name": "post", "role": "collider", "mesh": {"shape": "box", "size": [0.3, 1.0, 0.3]}, "friction": 1.0,
            "proxy": {"kind": "box"}, "motion": {"translate": {"keys": way, "ease": "smooth"}}}  # fmt: skip
    plank = brick("plank", (0.0, 0.528, 0.0), (2.0, 0.05, 1.0), material={"bounce": 0, "friction": 1.0})
    stage = Stage({"world": {"ground": None}, "bodies": [post, plank]})
    stage.run(40)
    assert stage.rigid.place[0, :3] == pytest.approx([0.2, 0.828, 0.0], abs=0.006)


@pytest.mark.parametrize("proxy", ["box", "hull", "surface"])
def test_a_slab_rests_on_a_large_ball_as_exactly_as_on_a_small_one(proxy):
    """The ball asks from its middle, three metres off: farther than a hull or a surface used to answer exactly."""
    below = {"name": "below", "role": "collider", "mesh": {"shape": "ball", "radius": 3.0}, "proxy": {"kind": "ball"}}
    slab = brick("slab", (0.0, 3.08, 0.0), (0.6, 0.1, 0.4), material={"bounce": 0})
    slab["proxy"] = {"kind": proxy}
    stage = Stage({"world": {"ground": None}, "bodies": [below, slab]})
    stage.run(10)
    assert stage.rigid.place[0, 1] == pytest.approx(3.05 + 0.003, abs=0.0006)
