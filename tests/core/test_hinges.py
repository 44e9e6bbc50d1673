"""Hinges with friction, a motor and limits, against mechanics."""

import numpy as np
import pytest
from stage import Stage, brick
from test_joints import NO_GROUND, G, energy, gap, hinge

from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.core.start.keep import _limits_from, _turned_deg
from zembrik.core.units import turn_matrix

STILL = {**NO_GROUND, "gravity": [0, 0, 0]}


def one(substeps=20, world=STILL, at=(0, 2, 0), size=(1.0, 0.05, 0.08), place=(0.5, 2, 0), **more):
    """Return a rod on a hinge of the world, its axis along Z, and its moment about it, kg·m²."""
    joint = {**hinge("rod", None, at=list(at)), **more}
    stage = Stage({"world": world, "bodies": [brick("rod", place, size)], "joints": [joint]}, substeps=substeps)
    mass = stage.world.solids.parts[0].mass.mass
    lever = place[0] - at[0]
    return stage, mass, mass * ((size[0] ** 2 + size[1] ** 2) / 12 + lever**2)


def angle(stage, r=0):
    """Return how far a body has turned about Z, rad."""
    z, w = stage.rigid.place[r, 5:]
    return 2 * np.arctan2(z, w)


def spins(stage, rate, lever=0.5):
    stage.rigid.speed[0] = [0, rate * lever, 0, 0, 0, rate]


@pytest.mark.parametrize("substeps", [8, 20, 60])
def test_friction_stops_what_turns_evenly_and_then_holds_it(substeps):
    """ω falls by M / I: from 3 rad/s to nothing after 3 I / M, 4.5 I / M rad further, and stays there."""
    _, _, moment = one(substeps)
    stage, *_ = one(substeps, friction=1.5 * moment)
    spins(stage, 3.0)
    found = np.array(stage.run(72, lambda: (angle(stage), stage.rigid.speed[0, 5])))
    assert found[23, 1] == pytest.approx(1.5, rel=0.01)
    assert found[47:, 0] == pytest.approx(3.0, rel=0.01)
    assert np.ptp(found[50:, 0]) < 1e-6 and gap(stage) < 1e-6


def test_friction_holds_a_rod_up_to_the_torque_of_its_weight():
    """Let go level: m g L / 2 is what it takes. A twentieth more holds for ten seconds, a twentieth less does not."""
    for share in (1.05, 0.95):
        stage, mass, _ = one(world=NO_GROUND)
        stage, *_ = one(world=NO_GROUND, friction=share * mass * G * 0.5)
        stage.run(240)
        assert (abs(angle(stage)) < 1e-4) == (share > 1)


@pytest.mark.parametrize("substeps", [8, 20])
def test_a_motor_speeds_up_by_its_torque_and_keeps_its_speed(substeps):
    """ω = M t / I up to 90°/s, then no more."""
    _, _, moment = one(substeps)
    stage, *_ = one(substeps, motor={"speed": 90, "torque": moment * np.pi / 2})
    found = np.array(stage.run(72, lambda: (angle(stage), stage.rigid.speed[0, 5])))
    assert found[11, 1] == pytest.approx(np.pi / 4, rel=0.01)
    assert found[30:, 1] == pytest.approx(np.pi / 2, rel=1e-4)
    assert found[71, 0] - found[47, 0] == pytest.approx(np.pi / 2, rel=1e-4)


def test_a_motor_between_two_free_bodies_turns_both_and_adds_no_spin():
    """A wheel on a frame in empty space: each turns the other way, in the ratio of what they resist."""
    bodies = [brick("wheel", (0, 2, 0), (0.4, 0.4, 0.1)), brick("frame", (0, 2, 0), (0.8, 0.8, 0.1))]
    joint = {**hinge("wheel", "frame", at=[0, 2, 0]), "motor": {"speed": 180, "torque": 1e4}}
    stage = Stage({"world": STILL, "bodies": bodies, "joints": [joint]})
    stage.run(24)
    wheel, frame = stage.rigid.speed[0, 5], stage.rigid.speed[1, 5]
    assert wheel - frame == pytest.approx(np.pi, rel=1e-3)
    assert -frame / wheel == pytest.approx(1 / 16, rel=1e-3)


@pytest.mark.parametrize("limits", [(-30, 0), (-30, 20), (0, 0), (-170, 170)])
def test_a_limit_stops_a_falling_rod_and_takes_its_energy(limits):
    """Let go level it falls to the limit and stays, closed; nothing is gained, and it does not stick above."""
    stage, mass, _ = one(world=NO_GROUND, limits=limits)
    begin = energy(stage)
    found = np.array(stage.run(96, lambda: (np.degrees(angle(stage)), energy(stage), gap(stage))))
    assert found[:, 0].min() > limits[0] - 1e-3 and found[:, 2].max() < 1e-6
    assert (np.diff(found[:, 1]) < 1e-3 * mass * G).all() and found[:, 1].max() < begin + 1e-3 * mass * G
    if limits[0] > -90:
        assert found[-1, 0] == pytest.approx(limits[0], abs=1e-3)
    else:  # it swings by its lowest place and back
        assert found[:, 0].min() < -169 and found[-24:, 0].max() > -80


def test_what_presses_on_a_limit_lets_go_when_it_turns_back():
    """A rod against its limit, gravity turned over: it leaves at once, as fast as one that never was there."""
    stages = [one(world=NO_GROUND, limits=limits)[0] for limits in ([0, 170], [-170, 170])]
    stages[0].run(12)
    for stage in stages:
        stage.world.gravity[:] = [0, G, 0]
        stage.world.solids.wake_all()
        stage.run(6)
    assert angle(stages[0]) == pytest.approx(angle(stages[1]), abs=2e-3) and angle(stages[1]) > 0.3


def test_a_limit_counts_from_the_second_body_which_may_move():
    """A door on a driven post is taken along at its limit, and no farther."""
    keys = {"keys": [[1, 0], [49, 180]], "ease": "straight"}
    post = brick("post", (0, 1, 0), (0.1, 2, 0.1), motion={"spin": {"axis": [0, 0, 1], "angle": keys}})
    door = brick("door", (0.5, 1, 0), (0.9, 0.04, 0.5))
    joint = {**hinge("door", "post", at=[0, 1, 0]), "limits": [-20, 20]}
    stage = Stage({"world": STILL, "frames": [1, 60], "bodies": [post, door], "joints": [joint]})
    began = angle(stage, 0) - angle(stage, 1)  # of their axes of inertia
    found = np.degrees(stage.run(48, lambda: angle(stage, 0) - angle(stage, 1) - began))
    assert np.abs((found + 180) % 360 - 180).max() == pytest.approx(20.0, abs=1e-2)


def test_a_kept_start_keeps_where_its_limits_are():
    """From a hinge turned by 100° its limits [-100, 120] are [-200, 20], and hold there too: half a turn is no end."""
    assert _limits_from((-100, 120), 100.0) == [-200.0, 20.0]
    assert _limits_from((-200, 20), -170.0) == [-30.0, 190.0]
    turn = turn_matrix([0.0, 100.0, 0.0])
    assert _turned_deg(np.array([0.0, 2.0, 0.0]), turn, np.eye(3)) == pytest.approx(100.0)
    assert _turned_deg(np.array([0.0, -1.0, 0.0]), np.eye(3), turn) == pytest.approx(100.0)
    for speed, end in [(-300, -200.0), (300, 20.0)]:
        stage, *_ = one(motor={"speed": speed, "torque": 1e3}, limits=[-200, 20])
        turned = np.unwrap(stage.run(30, lambda stage=stage: angle(stage)), period=4 * np.pi)
        assert np.degrees(turned[-1]) == pytest.approx(end, abs=1e-3)


def test_the_same_bytes_after_a_motor_ran():
    places = []
    for _ in range(2):
        stage, *_ = one(world=NO_GROUND, motor={"speed": -200, "torque": 400}, limits=[-100, 100])
        stage.run(30)
        places.append(stage.rigid.place.tobytes())
    assert places[0] == places[1]


@pytest.mark.parametrize(
    "wrong, told",
    [
        ({"limits": [10, 20]}, "limits"),
        ({"limits": [-200, 150]}, "340"),
        ({"kind": "socket", "friction": 1}, "only a hinge"),
        ({"friction": 1, "motor": {}}, "friction or a motor"),
        ({"motor": {"torque": 0}}, "torque"),
    ],
)
def test_what_makes_no_sense_is_told(wrong, told):
    joint = {**hinge("rod", None, at=[0, 2, 0]), **wrong}
    with pytest.raises(Problem, match=told):
        parse_setup({"bodies": [brick("rod", (0.5, 2, 0))], "joints": [joint]})
