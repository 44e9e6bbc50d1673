"""Turbulent air against what it promises."""

import numpy as np
import pytest

from zembrik.core.motion.track import integral_of, track_values
from zembrik.core.motion.turbulence import Turbulence
from zembrik.core.motion.wind import wind_velocity
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.solver.step import Stepper


def velocity(turbulence, places, time=0.0):
    out = np.zeros((len(places), 3))
    turbulence.add(np.ascontiguousarray(places), time * 24.0, 24.0, 1.0, out)
    return out


def test_it_has_no_divergence_and_its_speed():
    """∂u/∂x + ∂v/∂y + ∂w/∂z = 0 to rounding; the root of the mean square over a large room is the asked speed."""
    air = Turbulence(2.0, 0.7, 0.5, 3)
    places = np.random.default_rng(1).uniform(-50, 50, (20_000, 3))
    step = 1e-4
    divergence = sum(
        (velocity(air, places + step * np.eye(3)[k])[:, k] - velocity(air, places - step * np.eye(3)[k])[:, k])
        / (2 * step)
        for k in range(3)
    )
    gradient = 2.0 * 2 * np.pi / 0.7
    assert np.abs(divergence).max() < 1e-5 * gradient
    assert np.sqrt((velocity(air, places) ** 2).sum(axis=1).mean()) == pytest.approx(2.0, rel=0.03)


def test_its_size_rate_and_seed():
    """Half a size away it has little to do with here; after a long time neither; equal seeds give equal air."""
    places = np.random.default_rng(2).uniform(-50, 50, (5_000, 3))
    air = Turbulence(1.0, 0.8, 0.5, 7)
    here = velocity(air, places)

    def alike(there):
        return (here * there).sum() / (here * here).sum()

    assert alike(velocity(air, places + np.array([0.02, 0, 0]))) > 0.98
    assert abs(alike(velocity(air, places + np.array([0.55, 0, 0])))) < 0.35
    assert alike(velocity(air, places, 0.01)) > 0.99
    assert abs(alike(velocity(air, places, 60.0))) < 0.35
    assert (velocity(Turbulence(1.0, 0.8, 0.5, 7), places) == here).all()
    assert abs(alike(velocity(Turbulence(1.0, 0.8, 0.5, 8), places))) < 0.1


def test_its_speed_size_and_rate_over_frames():
    """Until their keys as without; then twice as fast, half as wide, and standing where it had come to."""
    places = np.random.default_rng(3).uniform(-2, 2, (50, 3))
    plain = Turbulence(1.0, 0.8, 0.5, 7)

    def over(*values):
        return {"keys": [[1, values[0]], [25, values[1]]], "ease": "hold"}

    faster, finer = Turbulence(over(1.0, 2.0), 0.8, 0.5, 7), Turbulence(1.0, over(0.8, 0.4), 0.5, 7)
    stopped = Turbulence(1.0, 0.8, over(0.5, 0.0), 7)
    for one in (faster, finer, stopped):
        assert velocity(one, places, 0.5) == pytest.approx(velocity(plain, places, 0.5))
    assert velocity(faster, places, 2.0) == pytest.approx(2.0 * velocity(plain, places, 2.0))
    assert velocity(finer, places, 2.0) == pytest.approx(velocity(plain, 2.0 * places, 2.0))
    assert velocity(stopped, places, 3.0) == pytest.approx(velocity(plain, places, 25 / 24))


def test_a_track_is_summed_up_exactly():
    """Straight, smooth, held and with own handles, before, within and beyond its keys: as many small steps."""
    keys = [[-3, 1.0], [2, 4.0, "smooth"], [5, -1.0, "hold"], [9, 2.0, {"leave": 3.0, "arrive": -2.0}], [14, 0.5]]
    track = {"keys": keys, "ease": "straight"}
    for end in (-6.0, -1.5, 0.0, 3.3, 7.0, 12.0, 20.0):
        at = np.linspace(0.0, end, 40_001)
        at = 0.5 * (at[1:] + at[:-1])
        assert integral_of(track, end) == pytest.approx(track_values(keys, "straight", at).mean() * end, abs=2e-3)
    assert integral_of(3.0, 5.0) == 15.0


def test_it_moves_cloth_as_its_strength_says():
    def moved(strength):
        sheet = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [8, 8]}}
        swirls = {"kind": "turbulence", "speed": 3.0, "size": 0.5, "rate": 1.0, "seed": 4, "strength": strength}
        world = {"ground": None, "gravity": [0, 0, 0]}
        built = build_world(parse_setup({"bodies": [sheet], "world": world, "forces": [swirls]}), NoAssets())
        start, stepper = built.x.copy(), Stepper(built, 10, 1, 24.0)
        for frame in range(1, 9):
            stepper.advance(frame)
        return np.abs(built.x - start).max()

    assert moved(0.0) < 1e-9
    assert moved({"keys": [[1, 0], [100, 0]]}) < 1e-9
    assert moved(1.0) > 0.01


def test_a_wind_veers_about_the_vertical():
    """A wind along +X, turned by 90 degrees over 9 frames, blows along -Z; what rises goes on rising alike.

    Upright cloth that faces half way between both is carried that way.
    """
    veer = {"keys": [[1, 0], [10, 90]], "ease": "straight"}
    assert wind_velocity([4, 1, 0], 0.5, veer, 1.0) == pytest.approx([2, 0.5, 0])
    assert wind_velocity([4, 1, 0], 0.5, veer, 10.0) == pytest.approx([0, 0.5, -2], abs=1e-12)
    sheet = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [4, 4]}}
    sheet["place"] = {"rotate": [90, -45, 0]}
    world = {"ground": None, "gravity": [0, 0, 0]}
    document = {"bodies": [sheet], "world": world, "forces": [{"kind": "wind", "velocity": [4, 0, 0], "veer": veer}]}
    built = build_world(parse_setup(document), NoAssets())
    start, stepper = built.x.mean(axis=0), Stepper(built, 10, 1, 24.0)
    for frame in range(1, 11):
        stepper.advance(frame)
    x, y, z = built.x.mean(axis=0) - start
    assert x > 0.05 and abs(y) < 0.01 and z == pytest.approx(-x, rel=0.05)
