"""Soft bodies against formulas of elasticity, and what they keep of a dent."""

import numpy as np
import pytest
from stage import Stage, brick

from zembrik.core.solver.energy import stored_energy, volume

G = 9.81
RHO = 1000.0


def bar(name, size, young, cell, at=(0, 0, 0), **more):
    """Return a soft box whose lattice fits its sides."""
    stuff = {"density": RHO, "young": young, "poisson": 0.0, "damping": 0.0, "creep": 0.0}
    material = stuff | more.pop("material", {})
    mesh = {"shape": "box", "size": list(size), "segments": more.pop("segments", 4)}
    place = {"translate": list(at)}
    return {"name": name, "role": "soft", "mesh": mesh, "place": place, "material": material, "cell": cell, **more}


def at_rest(stage, frames, rate=4.0):
    """Run it with the air taking speed out, which changes no rest."""
    stage.run(frames)
    assert np.abs(stage.world.v).max() < 0.01
    return stage.world.bodies[0].points(stage.world.x)


def calm(*bodies, rate=4.0, **world):
    return {
        "world": {"ground": None, "air_density": 0, **world},
        "bodies": list(bodies),
        "forces": [{"kind": "air damping", "rate": rate}],
    }


@pytest.mark.parametrize(("poisson", "young"), [(0.0, 4e5), (0.3, 4e5), (0.3, 1.2e6)])
def test_a_hanging_column_stretches_by_its_weight_and_grows_thin(poisson, young):
    """Its end sinks by ρ g L²/(2 E); at half height its sides draw in by ν ρ g L/(2 E) of their width."""
    length, width = 1.0, 0.25
    column = bar("c", (width, length, width), young, 0.125, material={"poisson": poisson}, segments=8)
    column["pins"] = [{"points": {"box": [[-1, length / 2 - 1e-6, -1], [1, 1, 1]]}}]
    stage = Stage(calm(column), substeps=40 if young < 1e6 else 100)
    start = stage.world.bodies[0].points(stage.world.x).copy()
    points = at_rest(stage, 96)
    low = start[:, 1] < -length / 2 + 1e-6
    sunk = (start - points)[low, 1].mean()
    expected = RHO * G * length**2 / (2 * young)
    assert sunk == pytest.approx(expected, rel=0.05)
    side = (np.abs(start[:, 0] - width / 2) < 1e-6) & (np.abs(start[:, 1]) < 1e-6) & (np.abs(start[:, 2]) < 0.1)
    drawn = (start - points)[side, 0].mean()
    assert drawn == pytest.approx(poisson * RHO * G * length / (2 * young) * width / 2, rel=0.07, abs=4e-5)


def clamped(size, young, cells, poisson, **more):
    """Return a bar along x that is held at one end, so many cells across."""
    beam = bar("b", size, young, size[1] / cells, material={"poisson": poisson}, segments=8, **more)
    beam["pins"] = [{"points": {"box": [[-1, -1, -1], [-size[0] / 2 + 1e-6, 1, 1]]}}]
    return beam


def test_a_clamped_beam_bends_by_bending_and_shear_and_finer_cells_come_nearer_from_one_side():
    """Tip of a beam under its weight: ρ g A L⁴/(8 E I) + ρ g L²/(2 κ G), κ = 5/6 (Timoshenko 1921)."""
    length, height, young, poisson = 1.0, 0.25, 1e7, 0.2
    shear = young / (2 * (1 + poisson))
    expected = RHO * G * (12 * length**4 / (8 * young * height**2) + length**2 / (2 * 5 / 6 * shear))
    sunk = []
    for cells in (2, 4, 8):
        stage = Stage(calm(clamped((length, height, height), young, cells, poisson), rate=8.0))
        points = at_rest(stage, 36)
        end = np.isclose(points[:, 0], points[:, 0].max(), atol=0.02)
        sunk.append(-points[end, 1].mean() / expected)
    assert sunk[0] < sunk[1] < sunk[2] < 1.0, sunk
    assert sunk[1] > 0.95, sunk
    assert sunk[2] > 0.98, sunk


def test_a_beam_swings_as_fast_as_euler_and_bernoulli_say():
    """f₁ = 1.8751² / 2π √(E I / ρ A) / L² with four cells across; within 2%."""
    length, height, young = 1.0, 0.1, 1e6
    stage = Stage(
        {"world": {"ground": None}, "bodies": [clamped((length, height, height), young, 4, 0.3, gravity=0.02)]}
    )

    def tip():
        points = stage.world.bodies[0].points(stage.world.x)
        return points[points[:, 0] > points[:, 0].max() - 0.02, 1].mean()

    heights = np.array(stage.run(72, tip))
    off = heights - heights.mean()
    zero = np.flatnonzero(np.diff(np.sign(off)))
    times = (zero + off[zero] / (off[zero] - off[zero + 1])) / 24
    expected = 1.8751**2 / (2 * np.pi) * np.sqrt(young * height**2 / (12 * RHO)) / length**2
    assert 1 / (2 * np.diff(times).mean()) == pytest.approx(expected, rel=0.02)


def test_a_turned_bar_stores_what_st_venant_says():
    """½ G J θ² / L with J = 0.1406 a⁴ of a square: the energy of 0.8 m less that of 0.4 m, so that no end counts."""
    side, young, turn = 0.1, 1e6, 20.0
    stored = []
    for length in (0.4, 0.8):
        twisted = clamped((length, side, side), young, 4, 0.3, gravity=0.0)
        turned = {"rotate": {"keys": [[1, [0, 0, 0]], [13, [turn * length / 0.8, 0, 0]]]}}
        twisted["pins"].append({"points": {"box": [[length / 2 - 1e-6, -1, -1], [1, 1, 1]]}, "motion": turned})
        stage = Stage(calm(twisted, rate=8.0))
        stage.run(36)
        stored.append(stored_energy(stage.world))
    rate = np.radians(turn) / 0.8
    assert stored[1] - stored[0] == pytest.approx(0.5 * young / 2.6 * 0.1406 * side**4 * rate**2 * 0.4, rel=0.06)


def test_a_ball_pressed_flat_stores_what_hertz_says():
    """8/15 E* √R δ^2.5 on either side (Hertz 1881); 16 cells across are stiffer, by less than a quarter."""
    radius, young, poisson, press = 0.1, 2e5, 0.3, 0.008
    ball = {
        "name": "ball", "role": "soft", "mesh": {"shape": "ball", "radius": radius, "rings": 48}, "cell": radius / 8,
        "place": {"translate": [0, radius + 0.0005, 0]}, "gravity": 0.0, "thickness": 0.0005,
        "material": {"density": 200, "young": young, "poisson": poisson, "damping": 0.02, "creep": 0, "friction": 0},
    }  # fmt: skip
    down = {"translate": {"keys": [[1, [0, 0, 0]], [9, [0, -2 * press, 0]]]}}
    plate = {
        "name": "plate", "role": "collider", "mesh": {"shape": "box", "size": [0.4, 0.1, 0.4]}, "thickness": 0.0005,
        "place": {"translate": [0, 2 * radius + 0.0515, 0]}, "proxy": {"kind": "box"}, "motion": down,
    }  # fmt: skip
    stage = Stage(calm(ball, plate) | {"world": {}})
    stage.run(16)
    points = stage.world.bodies[0].points(stage.world.x)
    pressed = radius - np.ptp(points[:, 1]) / 2
    assert pressed == pytest.approx(press, abs=5e-4)
    expected = 2 * 8 / 15 * young / (1 - poisson**2) * np.sqrt(radius) * pressed**2.5
    assert 1.0 < stored_energy(stage.world) / expected < 1.25


@pytest.mark.parametrize("poisson", [0.3, 0.49])
def test_a_soft_box_on_the_floor_is_at_rest_and_keeps_its_volume(poisson):
    """Its weight takes (1 - 2 ν) ρ g h / (2 E) of its volume; then nothing moves."""
    young, size = 5e4, 0.3
    stage = Stage({"bodies": [bar("b", (size,) * 3, young, 0.05, (0, 0.152, 0), segments=6, material={
        "poisson": poisson, "damping": 0.02,
    })]})  # fmt: skip
    stage.run(72)
    loss = (1 - 2 * poisson) * RHO * G * size / (2 * young)
    assert volume(stage.world) / size**3 - 1 == pytest.approx(-loss, rel=0.2, abs=3e-4)
    assert np.abs(stage.world.v).max() < 1e-3


def test_a_lump_falls_freely_and_lands_without_sinking_in():
    """-g t²/2 as a whole; then it rests on the ground, no deeper than a tenth of a millimetre."""
    lump = bar("l", (0.2, 0.2, 0.2), 5e4, 0.1, (0, 0.5, 0), material={"damping": 0.02, "poisson": 0.3})
    stage = Stage({"bodies": [lump]})
    stage.run(4)
    t = 4 / 24
    mass = stage.world.mass[:, None]
    middle = (stage.world.x * mass).sum(axis=0) / mass.sum()
    assert middle == pytest.approx([0, 0.5 - 0.5 * G * t**2, 0], abs=1e-6)
    stage.run(60)
    low = stage.world.bodies[0].points(stage.world.x)[:, 1].min()
    assert -1e-4 < low < 0.003
    assert np.abs(stage.world.v).max() < 0.05


def test_dough_keeps_its_dent_and_sponge_does_not():
    """Pressed in by a third and let go: dough stays lower by more than a tenth, sponge springs back within 4%."""
    press = {"translate": {"keys": [[1, [0, 0, 0]], [9, [0, -0.035, 0]], [17, [0, -0.035, 0]], [21, [0, 0.05, 0]]]}}
    heights = {}
    for preset in ("dough", "sponge"):
        loaf = {
            "name": "loaf",
            "role": "soft",
            "mesh": {"shape": "box", "size": [0.16, 0.08, 0.12], "segments": 4},
            "place": {"translate": [0, 0.042, 0]},
            "material": {"preset": preset},
            "cell": 0.02,
        }
        pin = {
            "name": "pin",
            "role": "collider",
            "mesh": {"shape": "capsule", "radius": 0.02, "height": 0.3},
            "place": {"translate": [0, 0.105, 0], "rotate": [90, 0, 0]},
            "proxy": {"kind": "capsule"},
            "motion": press,
        }
        stage = Stage({"bodies": [loaf, pin]})
        points = stage.world.bodies[0].points
        top = (np.abs(points(stage.world.x)[:, 0]) < 1e-6) & (points(stage.world.x)[:, 1] > 0.08)
        start = points(stage.world.x)[top, 1].mean()
        stage.run(60)
        heights[preset] = points(stage.world.x)[top, 1].mean() / start
    assert heights["dough"] < 0.9, heights
    assert heights["sponge"] > 0.96, heights


def test_a_rigid_body_and_a_soft_one_carry_each_other():
    """A brick of oak comes to rest on a soft block, which gives way by about m g h/(E A)."""
    block = bar("block", (0.4, 0.2, 0.4), 5e4, 0.1, (0, 0.102, 0), material={"damping": 0.05})
    block["material"]["friction"] = 0.8
    oak = brick("oak", (0, 0.306, 0), (0.4, 0.2, 0.4), material={"density": 500})
    stage = Stage({"bodies": [block, oak]})
    start = stage.rigid.place[0, 1]
    stage.run(96)
    mass, area = 500 * 0.4 * 0.2 * 0.4, 0.16
    own = RHO * G * 0.2**2 / (2 * 5e4)
    assert start - stage.rigid.place[0, 1] == pytest.approx(mass * G * 0.2 / (5e4 * area) + own, abs=0.006)
    assert np.abs(stage.rigid.speed[0]).max() < 0.05


def test_same_bytes_on_one_thread_and_on_two():
    from zembrik.core.compiled import use_threads

    results = []
    for threads in (1, 2):
        use_threads(threads)
        stage = Stage({"bodies": [bar("l", (0.4, 0.4, 0.4), 5e4, 0.05, (0, 0.3, 0))]})
        stage.run(6)
        results.append(stage.world.x.tobytes())
    assert results[0] == results[1]
