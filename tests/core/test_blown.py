"""What the air does to soft and rigid bodies, against closed formulas."""

from itertools import pairwise

import numpy as np
import pytest
from stage import Stage, brick

G, AIR = 9.81, 1.2
STILL = {"ground": None, "air_density": AIR}


def ball(name, radius, role="rigid", **material):
    body = {"name": name, "role": role, "mesh": {"shape": "ball", "radius": radius}}
    return body | {"material": material} | ({"proxy": {"kind": "ball"}} if role == "rigid" else {})


def mass(stage, name):
    return float(1.0 / stage.rigid.w[stage.number(name)])


def test_a_ball_falls_as_its_drag_lets_it():
    """v = v_t tanh(g t / v_t) with v_t = √(2 m g / (ρ ½ π r²)): facets feel cos² of the angle they meet the air at."""
    stage = Stage({"world": STILL, "bodies": [ball("ball", 0.2, density=40.0, drag=1.0)]})
    area = 0.5 * np.pi * 0.2**2
    top = np.sqrt(2 * mass(stage, "ball") * G / (AIR * area))
    speeds = stage.run(96, lambda: -stage.rigid.speed[0, 1])
    expected = top * np.tanh(G * (np.arange(96) + 1) / 24 / top)
    assert np.abs(np.array(speeds) / expected - 1).max() < 0.02  # of 24 segments, whose area is smaller
    assert speeds[-1] > 0.95 * top


def test_a_box_is_blown_by_half_rho_v_squared():
    """It floats, and meets a wind of 6 m/s flat: m dv/dt = ½ ρ A (6 - v)², so 6 - v = 6 / (1 + 6 ½ρA t / m)."""
    box = brick("box", (0, 0, 0), (0.4, 0.3, 0.5), gravity=0, material={"density": 10.0, "drag": 0.8})
    wind = [{"kind": "wind", "velocity": [6, 0, 0]}]
    stage = Stage({"world": STILL, "bodies": [box], "forces": wind})
    rate = 0.5 * AIR * 0.8 * 0.3 * 0.5 / mass(stage, "box")
    stage.run(48)
    assert stage.rigid.speed[0, 0] == pytest.approx(6 - 6 / (1 + 6 * rate * 2), rel=0.005)
    assert np.abs(stage.rigid.speed[0, 3:]).max() < 1e-6  # met flat, it does not turn


def test_a_soft_ball_falls_as_a_rigid_one():
    """Of the same weight and size, after 1.5 s in the air, within 2%; without drag both fall g t."""
    for drag, rel in ((1.0, 0.02), (0.0, 1e-3)):
        stuff = {"density": 40.0, "drag": drag}
        soft = ball("soft", 0.2, "soft", young=1e5, **stuff) | {"cell": 0.08, "place": {"translate": [3, 0, 0]}}
        stage = Stage({"world": STILL, "bodies": [soft, ball("rigid", 0.2, **stuff)]})
        stage.run(36)
        world = stage.world
        down = -(world.v * world.mass[:, None]).sum(axis=0)[1] / world.mass.sum()
        assert down == pytest.approx(-stage.rigid.speed[0, 1], rel=rel)
        if not drag:
            assert down == pytest.approx(G * 1.5, rel=1e-3)


def test_a_spinning_plate_is_slowed_by_the_air():
    """I dω/dt = -½ ρ ω² ∫ |z|³ dA about its middle line: ω = ω₀ / (1 + ω₀ ρ L h⁴ t / 4 I), of half its width h."""
    plate = brick("plate", (0, 0, 0), (0.6, 0.02, 0.6), gravity=0, material={"density": 50.0, "drag": 1.0})
    plate["mesh"]["segments"] = 16
    stage = Stage({"world": STILL, "bodies": [plate]})
    stage.rigid.speed[0, 3:] = [4.0, 0.0, 0.0]
    spins = stage.run(48, lambda: float(np.linalg.norm(stage.rigid.speed[0, 3:])))
    assert all(b < a for a, b in pairwise(spins))
    inertia = mass(stage, "plate") * (0.6**2 + 0.02**2) / 12
    assert spins[-1] == pytest.approx(4.0 / (1 + 4.0 * AIR * 0.6 * 0.3**4 * 2 / (4 * inertia)), rel=0.03)


def test_a_gust_wakes_what_sleeps_and_keys_are_followed():
    """A light box rests; when the wind sets in it slides. With its drag keyed to nothing it stays."""
    gust = {"kind": "wind", "velocity": [14, 0, 0], "strength": {"keys": [[40, 0], [44, 1]], "ease": "hold"}}
    ground = {"ground": {"height": 0, "friction": 0.3}, "air_density": AIR}
    gone = []
    for drag in (1.0, {"keys": [[1, 1.0], [10, 0.0]], "ease": "hold"}):
        box = brick("box", (0, 0.152, 0), (0.3, 0.3, 0.3), material={"density": 12.0, "drag": drag, "friction": 0.3})
        stage = Stage({"world": ground, "bodies": [box], "forces": [gust]})
        stage.run(39)
        assert stage.rigid.asleep.all()
        begun = stage.rigid.place[0, 0]
        stage.run(24)
        gone.append(stage.rigid.place[0, 0] - begun)
    assert gone[0] > 0.5
    assert abs(gone[1]) < 1e-3


def test_nothing_turns_round_in_the_strongest_wind():
    """A crumb of 1 g/m³ in 200 m/s goes with the air, and never faster."""
    crumb = ball("crumb", 0.1, density=1e-3, drag=1.0) | {"gravity": 0}
    stage = Stage({"world": STILL, "bodies": [crumb], "forces": [{"kind": "wind", "velocity": [200, 0, 0]}]})
    speeds = stage.run(6, lambda: stage.rigid.speed[0, 0])
    assert max(speeds) <= 200.0 and speeds[-1] > 190.0
