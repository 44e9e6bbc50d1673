"""What cloth does beyond stretch and bend, against formulas: pressure, air, friction, tack, creep, passes."""

import numpy as np
import pytest
from stage import Stage

G = 9.81


def sheet(size=(0.2, 0.2), segments=(8, 8), at=(0, 0, 0), turn=(0, 0, 0), **more):
    material = {"preset": "linen", **more.pop("material", {})}
    mesh = {"shape": "grid", "size": list(size), "segments": list(segments)}
    place = {"translate": list(at), "rotate": list(turn)}
    return {"name": "sheet", "role": "cloth", "mesh": mesh, "place": place, "material": material, **more}


def test_a_balloon_stretches_by_p_r_over_2_k():
    """Thin wall (Laplace): tension p r/2 in both directions, so its radius grows by the share p r/(2 k)."""
    radius, stiff, pressure = 0.2, 500.0, 100.0
    material = {"stretch": stiff, "compression": stiff, "shear": 50, "pressure": pressure, "bend": 1e-6}
    ball = {
        "name": "balloon",
        "role": "cloth",
        "mesh": {"shape": "ball", "radius": radius, "rings": 16},
        "material": {"preset": "linen", **material},
    }
    calm = [{"kind": "air damping", "rate": 6.0}]
    stage = Stage(
        {"world": {"ground": None, "air_density": 0, "gravity": [0, 0, 0]}, "bodies": [ball], "forces": calm},
        substeps=10,
    )
    start = np.linalg.norm(stage.world.x, axis=1).mean()
    stage.run(24)
    grown = np.linalg.norm(stage.world.x, axis=1).mean() / start - 1
    share = pressure * radius / (2 * stiff)
    assert grown == pytest.approx(share / (1 - share), rel=0.05)  # the radius is the stretched one


def test_an_open_sheet_holds_no_pressure():
    from zembrik.core.problem import Problem

    with pytest.raises(Problem, match="open"):
        Stage({"bodies": [sheet(material={"pressure": 10})]})


@pytest.mark.parametrize("angle", [20.0, 45.0, 70.0])
def test_lift_pushes_across_the_wind(angle):
    """A plate at the angle a in wind U: force across the wind ½ ρ A c_l U² sin(a) cos(a)... over its mass."""
    rho, speed, weight = 1.2, 3.0, 0.2
    plate = sheet(turn=(0, 0, angle), material={"drag": 0.0, "lift": 1.0, "area_density": weight})
    wind = [{"kind": "wind", "velocity": [speed, 0, 0]}]
    world = {"ground": None, "gravity": [0, 0, 0], "air_density": rho}
    stage = Stage({"world": world, "bodies": [plate], "forces": wind}, substeps=100)
    stage.stepper._substep(1.0, 1.01, False)
    gained = (stage.world.v * stage.world.mass[:, None]).sum(axis=0) / stage.world.mass.sum() / stage.stepper.dt
    a = np.radians(angle)
    expected = 0.5 * rho * speed**2 * np.sin(a) * np.cos(a) / weight
    assert abs(gained[1]) == pytest.approx(expected, rel=0.02)
    assert abs(gained[0]) < 0.02 * expected and gained[1] < 0.0  # the air goes up along the rising plate


def test_gravity_has_a_factor_for_each_body():
    stage = Stage({"world": {"ground": None, "air_density": 0}, "bodies": [sheet(gravity=-0.5)]})
    stage.run(12)
    assert stage.world.v[:, 1] == pytest.approx(0.5 * G * 0.5, rel=1e-6)


def test_air_damping_takes_speed_away_exponentially():
    """dv/dt = -c v: after a second of c = 2, e⁻² of it is left."""
    fall = [{"kind": "air damping", "rate": 2.0, "strength": {"keys": [[1, 0], [13, 0], [13.001, 1]]}}]
    stage = Stage(
        {"world": {"ground": None, "air_density": 0, "gravity": [0, 0, 0]}, "bodies": [sheet()], "forces": fall}
    )
    stage.world.v[:] = [1.0, 0, 0]
    stage.run(12)
    assert stage.world.v[:, 0] == pytest.approx(1.0, abs=1e-9)
    stage.run(24)
    assert stage.world.v[:, 0] == pytest.approx(np.exp(-2.0), rel=0.01)


def test_cloth_grips_until_it_slides():
    """Static friction tan(a) < 0.6 holds; once pushed to slide, 0.3 lets it go with g (sin a - 0.3 cos a)."""
    angle = np.radians(25.0)
    gravity = [float(G * np.sin(angle)), float(-G * np.cos(angle)), 0.0]
    world = {"gravity": gravity, "air_density": 0, "ground": {"height": 0, "friction": 1.0}}
    lain = sheet(at=(0, 0.002 - 1e-9, 0), material={"friction": 0.36, "sliding_friction": 0.09}, thickness=0.002)
    stage = Stage({"world": world, "bodies": [lain]})
    stage.run(24)
    held = stage.world.x[:, 0].mean()
    stage.run(12)
    assert abs(stage.world.x[:, 0].mean() - held) < 2e-4  # √(0.36 · 1) = 0.6 > tan 25° = 0.466
    stage.world.v[:, 0] += 0.5
    speeds = stage.run(12, lambda: stage.world.v[:, 0].mean())
    gained = (speeds[-1] - speeds[0]) / 11 * 24
    assert gained == pytest.approx(G * (np.sin(angle) - 0.3 * np.cos(angle)), rel=0.03)


@pytest.mark.parametrize(("tack", "stays"), [(4.0, True), (1.0, False)])
def test_tack_holds_a_sheet_under_a_ceiling_while_it_is_stronger_than_its_weight(tack, stays):
    """Linen of 0.2 kg/m² weighs 1.96 Pa: a tack of 4 Pa carries it, 1 Pa does not."""
    ceiling = {
        "name": "ceiling",
        "role": "collider",
        "mesh": {"shape": "box", "size": [1, 0.1, 1]},
        "place": {"translate": [0, 0.05, 0]},
        "proxy": {"kind": "box"},
    }
    under = sheet(at=(0, -0.004, 0), material={"tack": tack, "tack_distance": 0.01}, thickness=0.002)
    stage = Stage({"world": {"ground": None, "air_density": 0}, "bodies": [under, ceiling]})
    stage.run(24)
    low = stage.world.x[:, 1].min()
    assert (low > -0.01) if stays else (low < -1.0)


def test_a_fold_creeps_by_what_is_beyond_its_yield():
    """Held at the angle a beyond a yield y for a second at the rate r: its rest is (a - y)(1 - e⁻ʳ)."""
    stuff = {"yield_angle": 20, "creep": 1.5, "yield_strain": 0.5}
    strip = sheet((0.2, 0.1), (2, 1), material=stuff)
    strip["pins"] = [{"points": {"numbers": list(range(6))}}]
    stage = Stage({"world": {"ground": None, "air_density": 0, "gravity": [0, 0, 0]}, "bodies": [strip]})
    angle = np.radians(50.0)
    x = stage.world.x
    right = x[:, 0] > 0.01
    x[right, 1] = x[right, 0] * np.sin(angle)
    x[right, 0] *= np.cos(angle)
    stage.run(24)
    rest = 2 * np.arctan(stage.world.bend.rest[:, 0] / 2)
    expected = (angle - np.radians(20.0)) * (1 - np.exp(-1.5))
    # Frame by frame the excess itself shrinks, exactly as e⁻ʳᵗ of what is beyond.
    assert np.abs(rest).max() == pytest.approx(expected, rel=1e-6)


def test_a_hanging_strip_sinks_by_its_weight_whatever_the_substeps():
    """By ρ g L²/(2 k), and what is left of its forces at rest would move it by micrometres."""
    length, stiff, weight = 0.5, 40.0, 0.5
    for substeps in (10, 20, 80):
        material = {"stretch": stiff, "compression": stiff, "shear": stiff, "area_density": weight, "bend": 1e-6}
        strip = sheet((length, 0.1), (10, 2), turn=(0, 0, -90), material=material)
        strip["pins"] = [{"points": {"box": [[-1, length / 2 - 1e-6, -1], [1, 1, 1]]}}]
        document = {
            "world": {"ground": None, "air_density": 0},
            "bodies": [strip],
            "forces": [{"kind": "air damping", "rate": 4.0}],
        }
        stage = Stage(document, substeps)
        start = stage.world.x[:, 1].min()
        stage.run(72)
        assert start - stage.world.x[:, 1].min() == pytest.approx(weight * G * length**2 / (2 * stiff), rel=0.03)
        assert stage.stepper.residual_m < 1e-5


def test_a_fine_cloth_hangs_no_lower_than_a_coarse_one():
    """2 m of 1,000 N/m and 0.35 kg/m² at 20 substeps: within 0.2% of its length."""
    length, stiff, weight = 2.0, 1000.0, 0.35
    material = {"stretch": stiff, "compression": stiff, "shear": stiff, "area_density": weight, "bend": 1e-4}
    cloth = sheet((length, length), (40, 40), turn=(0, 0, -90), material=material)
    cloth["pins"] = [{"points": {"box": [[-1, length / 2 - 1e-6, -2], [1, 2, 2]]}}]
    calm = [{"kind": "air damping", "rate": 4.0}]
    stage = Stage({"world": {"ground": None, "air_density": 0}, "bodies": [cloth], "forces": calm})
    start = stage.world.x[:, 1].min()
    stage.run(48)
    off = start - stage.world.x[:, 1].min() - weight * G * length**2 / (2 * stiff)
    assert abs(off) < 0.002 * length


def test_more_substeps_come_nearer_to_the_finest_run():
    """A cloth draped over a rod at 10, 20, 40 and 80 substeps: its distance to 320 falls every time."""
    places = []
    for substeps in (10, 20, 40, 80, 320):
        rod = {
            "name": "rod",
            "role": "collider",
            "mesh": {"shape": "capsule", "radius": 0.1, "height": 2.0},
            "place": {"translate": [0, -0.105, 0], "rotate": [90, 0, 0]},
            "proxy": {"kind": "capsule"},
            "friction": 1.0,
        }
        cloth = sheet((0.5, 0.3), (12, 6), material={"stretch": 400, "compression": 400, "friction": 1.0})
        stage = Stage({"world": {"ground": None, "air_density": 1.2}, "bodies": [cloth, rod]}, substeps=substeps)
        stage.run(8)
        places.append(stage.world.x.copy())
    off = [np.sqrt(((p - places[-1]) ** 2).sum(axis=1).mean()) for p in places[:-1]]
    assert off[0] > off[1] > off[2] > off[3], off
    assert off[3] < 0.3 * off[0], off


def test_light_cloth_that_has_fallen_comes_to_rest_with_many_substeps():
    """Muslin dropped over a board lies there: it may not draw together and jump about."""
    sheet = {
        "name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [0.8, 0.7], "segments": [52, 46]},
        "place": {"translate": [0.0, 0.24, 0.0], "rotate": [0.0, 35.0, 3.0]},
        "material": {"preset": "muslin"}, "thickness": 0.001,
    }  # fmt: skip
    board = {
        "name": "board", "role": "collider", "mesh": {"shape": "box", "size": [0.6, 0.03, 0.36]},
        "place": {"translate": [0.0, 0.015, 0.0]}, "proxy": {"kind": "box"}, "thickness": 0.001,
    }  # fmt: skip
    stage = Stage({"frames": [1, 20], "bodies": [sheet, board]}, 40)
    stage.run(16)
    world = stage.world
    energy = 0.5 * float((world.mass[:, None] * world.v**2).sum())
    fall = float(world.mass.sum()) * 9.81 * 0.24
    assert energy < 0.01 * fall
    assert np.ptp(world.x, axis=0)[[0, 2]].min() > 0.9 and world.x[:, 1].max() < 0.07
