"""Joints against mechanics: what swings keeps its energy, and what is joined stays together."""

import numpy as np
import pytest
from stage import Stage, brick

from zembrik.core.solver.energy import height_energy, motion_energy
from zembrik.core.units import quaternion_turn

NO_GROUND = {"ground": None, "air_density": 0}
G = 9.81


def energy(stage):
    """Return the energy of motion and height, J."""
    return motion_energy(stage.world) + height_energy(stage.world, stage.stepper.dt)


def gap(stage):
    """Return how far apart (m) the worst joint's anchors are."""
    joints, place = stage.world.solids.joints, stage.rigid.place
    worst = 0.0
    for anchors, bodies in zip(joints.anchor, joints.bodies, strict=True):
        at = [
            a if r < 0 else place[r, :3] + quaternion_turn(place[r, 3:]) @ a
            for a, r in zip(anchors, bodies, strict=True)
        ]
        worst = max(worst, float(np.linalg.norm(at[0] - at[1])))
    return worst


def hinge(*bodies, at):
    return {"kind": "hinge", "bodies": list(bodies), "at": at, "axis": [0, 0, 1]}


def frames_of(substeps):
    """Ten seconds, or three where they take long."""
    return 240 if substeps <= 20 else 72


@pytest.mark.parametrize("substeps", [5, 20, 200])
def test_a_pendulum_keeps_its_energy(substeps):
    """Let go level, E = m g L / 2 above its lowest place stays within 1% (at 5 substeps 3%), see `frames_of`."""
    stage = Stage({"world": NO_GROUND, "bodies": [brick("rod", (0.5, 2, 0), (1.0, 0.05, 0.08))],
                   "joints": [hinge("rod", None, at=[0, 2, 0])]}, substeps=substeps)  # fmt: skip
    mass = stage.world.solids.parts[0].mass.mass
    begin, found = energy(stage), np.array(stage.run(frames_of(substeps), lambda: energy(stage)))
    assert np.abs(found - begin).max() < (0.03 if substeps == 5 else 0.01) * mass * G * 0.5


@pytest.mark.parametrize("substeps", [20, 200])
def test_a_double_pendulum_neither_gains_nor_loses(substeps):
    """Let go level (chaotic): energy within 0.5% of m g times the way down of both."""
    rods = [brick("one", (0.5, 2, 0), (1.0, 0.05, 0.08)), brick("two", (1.5, 2, 0), (1.0, 0.05, 0.08))]
    joints = [hinge("one", None, at=[0, 2, 0]), hinge("one", "two", at=[1, 2, 0])]
    stage = Stage({"world": NO_GROUND, "bodies": rods, "joints": joints}, substeps=substeps)
    mass = stage.world.solids.parts[0].mass.mass
    begin, found = energy(stage), np.array(stage.run(frames_of(substeps), lambda: (energy(stage), gap(stage))))
    assert np.abs(found[:, 0] - begin).max() < 0.005 * mass * G * (0.5 + 1.5)
    assert found[:, 1].max() < 1e-6


def test_a_chain_of_five_is_carried_through_seven_and_a_half_turns():
    """90 frames at up to 25 rad/s: no gap above 0.5 mm, and no link faster than four times a stiff chain's free end."""
    keys = {"keys": [[1, 0], [91, 2700]], "ease": "smooth"}
    bodies = [brick("hub", (0, 2, 0), (0.2, 0.2, 0.2), motion={"spin": {"axis": [0, 1, 0], "angle": keys}})]
    joints, x = [], 0.1
    for n in range(5):
        bodies.append(brick(f"link {n}", (x + 0.1, 2, 0), (0.18, 0.03, 0.03)))
        joints.append({"kind": "socket", "bodies": [bodies[-2]["name"], f"link {n}"], "at": [x, 2, 0]})
        x += 0.2
    stage = Stage({"world": NO_GROUND, "frames": [1, 120], "bodies": bodies, "joints": joints})
    found = np.array(stage.run(110, lambda: (gap(stage), np.abs(stage.rigid.speed[:, :3]).max())))
    assert found[:, 0].max() < 5e-4
    assert found[:, 1].max() < 4 * 25 * x


def test_two_hundred_links_hang_closed_while_their_top_sways():
    """Ten metres of chain: no gap above 0.5 mm, and at rest its end hangs as low as its links are long."""
    sway = {"translate": {"keys": [[1, [0, 0, 0]], [24, [0.3, 0, 0]], [60, [0, 0, 0]]], "ease": "smooth"}}
    bodies, joints = [brick("top", (0, 2, 0), (0.2, 0.2, 0.2), motion=sway)], []
    for n in range(200):
        y = 1.9 - 0.05 * n
        bodies.append(brick(f"link {n}", (0, y - 0.025, 0), (0.008, 0.045, 0.008)))
        joints.append({"kind": "socket", "bodies": [bodies[-2]["name"], f"link {n}"], "at": [0, y, 0]})
    stage = Stage({"world": NO_GROUND, "frames": [1, 120], "bodies": bodies, "joints": joints})
    assert max(stage.run(72, lambda: gap(stage))) < 5e-4


def test_a_fast_disc_on_a_socket_precesses_and_keeps_its_spin():
    """A steady top: Ω = m g l / (I ω) within 0.5%, its spin within 0.5% for six seconds."""
    stage = Stage({"world": NO_GROUND, "bodies": [brick("disc", (0.2, 1, 0), (0.04, 0.3, 0.3))],
                   "joints": [{"kind": "socket", "bodies": ["disc", None], "at": [0, 1, 0]}]})  # fmt: skip
    mass, spin, lever = stage.world.solids.parts[0].mass.mass, 42.0, 0.2
    turning = mass * G * lever / (mass * 0.3**2 / 6 * spin)
    stage.rigid.speed[0] = [0, 0, -turning * lever, spin, turning, 0]

    def look():
        arm = stage.rigid.place[0, :3] - [0, 1, 0]
        return np.arctan2(-arm[2], arm[0]), stage.rigid.speed[0, 3:] @ arm / np.linalg.norm(arm)

    found = np.array(stage.run(144, look))
    angle = np.unwrap(found[:, 0])
    assert (angle[-1] - angle[0]) / 143 * 24 == pytest.approx(turning, rel=0.005)
    assert found[:, 1] == pytest.approx(spin, rel=0.005)


def test_a_closed_loop_of_hinges_has_a_row_too_many_and_moves_all_the_same():
    """Four bars hinged into a parallelogram on two fixed places: it swings, closed, and keeps its energy."""
    bars = [brick("left", (0, 1.5, 0), (0.05, 1.0, 0.05)), brick("right", (1, 1.5, 0), (0.05, 1.0, 0.05)),
            brick("low", (0.5, 1, 0), (1.0, 0.05, 0.05))]  # fmt: skip
    joints = [hinge("left", None, at=[0, 2, 0]), hinge("right", None, at=[1, 2, 0]),
              hinge("left", "low", at=[0, 1, 0]), hinge("right", "low", at=[1, 1, 0])]  # fmt: skip
    stage = Stage({"world": {**NO_GROUND, "gravity": [3, -9.2, 0]}, "bodies": bars, "joints": joints})
    begin = energy(stage)
    found = np.array(stage.run(96, lambda: (gap(stage), energy(stage), stage.rigid.place[2, 0])))
    assert np.ptp(found[:, 2]) > 0.3
    assert found[:, 0].max() < 1e-6
    assert np.abs(found[:, 1] - begin).max() < 0.01 * np.ptp(found[:, 2]) * 30


def test_jointed_bodies_touch_each_other_only_when_asked_to():
    """A flap hinged to a post at its middle: it swings through it, or is stopped by it."""
    flap = brick("flap", (0.5, 1, 0), (0.9, 0.04, 0.1), thickness=0)
    post = brick("post", (0, 0.75, 0), (0.2, 0.5, 0.2), thickness=0,
                 motion={"translate": {"keys": [[1, [0, 0, 0]], [90, [0, 0, 0]]]}})  # fmt: skip
    lowest = []
    for touch in (False, True):
        joint = {**hinge("flap", "post", at=[0.12, 1, 0]), "touch": touch}
        stage = Stage({"world": NO_GROUND, "bodies": [flap, post], "joints": [joint]})
        way = np.array(stage.run(48, lambda stage=stage: stage.rigid.place[0, :2].copy()))
        lowest.append(way[:, 0].min())
    assert lowest[0] < 0.0 < lowest[1]
