"""The solver against formulas."""

import copy

import numpy as np
import pytest

from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.solver.step import Stepper

GRAVITY = 9.81


def run(document, frames, substeps, watch=lambda world: None, iterations=1):
    world = build_world(parse_setup(document), NoAssets())
    stepper = Stepper(world, substeps, iterations, 24.0)
    for frame in range(frames):
        stepper.advance(frame + 1)
        watch(world)
    return world


def strip(size, segments, **material):
    return {
        "world": {"ground": None, "air_density": 0.0},
        "bodies": [
            {
                "name": "strip",
                "role": "cloth",
                "mesh": {"shape": "grid", "size": size, "segments": segments},
                "material": {"preset": "linen", **material},
            }
        ],
    }


def test_free_fall():
    """y = -g t² / 2 and v = -g t: the step is of second order, so both are exact."""
    world = run(strip([1, 1], [4, 4]), 24, 20)
    assert world.x[:, 1] == pytest.approx(-0.5 * GRAVITY, rel=1e-9)
    assert world.v[:, 1] == pytest.approx(-GRAVITY, rel=1e-9)


def test_hanging_strip_stretches_by_its_weight():
    """At s below its top a strip of length L hangs lower by (ρ g / k)(L s - s²/2): weight below over stiffness."""
    length, stiffness, weight = 0.5, 60.0, 0.5
    document = strip(
        [length, 0.1],
        [10, 2],
        stretch=stiffness,
        compression=stiffness,
        shear=stiffness,
        area_density=weight,
        damping=0.02,
    )
    body = document["bodies"][0]
    body["place"] = {"rotate": [0, 0, -90]}
    body["pins"] = [{"points": {"box": [[-1, length / 2 - 1e-6, -1], [1, length / 2 + 1e-6, 1]]}}]
    start = build_world(parse_setup(document), NoAssets()).x[:, 1]
    world = run(document, 48, 200)
    below = length / 2 - start
    lower = start - world.x[:, 1]
    exact = weight * GRAVITY / stiffness * (length * below - below**2 / 2)
    assert np.abs(world.v[:, 1]).max() < 1e-3
    assert np.abs(lower - exact).max() < 0.05 * exact.max()


def test_cloth_on_a_ball_never_deeper_than_an_eighth_of_its_thickness():
    """Points and face centres against the analytic ball of radius R: |x| >= R + both thicknesses - thickness / 8."""
    thickness, radius = 0.004, 0.5
    document = {
        "world": {"ground": None},
        "bodies": [
            {
                "name": "sheet",
                "role": "cloth",
                "mesh": {"shape": "grid", "size": [1.0, 1.0], "segments": [56, 56]},
                "place": {"translate": [0, radius + 0.02, 0]},
                "material": {"preset": "wool felt"},
                "thickness": thickness,
            },
            {
                "name": "ball",
                "role": "collider",
                "mesh": {"shape": "ball", "radius": radius},
                "proxy": {"kind": "ball"},
            },
        ],
    }
    worst = []

    def watch(world):
        points = world.x
        middles = points[world.membrane.points].mean(axis=1)
        kept = radius + thickness + 0.002
        worst.append(kept - np.linalg.norm(np.concatenate([points, middles]), axis=1).min())

    run(document, 36, 20, watch)
    assert max(worst) < thickness / 8
    assert max(worst) > -0.01  # it does rest on the ball


def test_block_of_cloth_on_a_slope_slips_only_beyond_the_angle_of_friction():
    """A sheet lying on a plane tilted by a slips when tan a exceeds friction; then at g (sin a - µ cos a)."""
    friction = 0.5

    def slide(tilt_deg):
        tilt = np.radians(tilt_deg)
        document = strip([0.4, 0.4], [4, 4], friction=friction)
        document["world"] = {
            "ground": {"height": 0.0, "friction": friction},
            "air_density": 0.0,
            "gravity": [GRAVITY * np.sin(tilt), -GRAVITY * np.cos(tilt), 0.0],
        }
        document["bodies"][0]["place"] = {"translate": [0, 0.002, 0]}
        return run(document, 24, 20).x[:, 0].mean()

    angle = np.degrees(np.arctan(friction))
    assert abs(slide(angle - 1.0)) < 2e-4
    tilt = np.radians(angle + 8)
    expected = 0.5 * GRAVITY * (np.sin(tilt) - friction * np.cos(tilt))
    assert slide(angle + 8) == pytest.approx(expected, rel=0.03)


def test_a_falling_sheet_reaches_its_final_speed_in_air():
    """Flat fall ends at v with ρ c v² / 2 = weight per area."""
    document = strip([1, 1], [4, 4], area_density=0.1, drag=1.0)
    document["world"]["air_density"] = 1.2
    world = run(document, 48, 20)
    expected = np.sqrt(2 * 0.1 * GRAVITY / 1.2)
    assert -world.v[:, 1].mean() == pytest.approx(expected, rel=0.01)


def test_clamped_strip_bends_like_a_beam():
    """Small deflection of a clamped strip under its weight: tip = w L⁴ / (8 B)."""
    length, bend, weight = 0.05, 3e-4, 0.4
    document = strip([length, 0.0125], [12, 3], bend=bend, area_density=weight, stretch=4000, damping=0.002)
    document["bodies"][0]["pins"] = [{"points": {"box": [[-1, -1, -1], [-length / 2 + length / 12 + 1e-6, 1, 1]]}}]
    document["forces"] = [{"kind": "air damping", "rate": 20.0}]
    world = run(document, 24, 60)
    # Two rows are held; the hinge at the second stands for half a cell on both sides, so the clamp is at its middle.
    free = length - length / 12 / 2
    expected = weight * GRAVITY * free**4 / (8 * bend)
    assert -world.x[:, 1].min() == pytest.approx(expected, rel=0.05)


def test_same_bytes_on_one_thread_and_on_two(sheet):
    from zembrik.core.compiled import use_threads

    results = []
    for threads in (1, 2, 2):
        use_threads(threads)
        world = run(copy.deepcopy(sheet), 6, 10)
        results.append(world.x.tobytes() + world.v.tobytes())
    assert results[0] == results[1] == results[2]


def test_wind_pushes_the_way_it_goes_and_its_strength_is_keyed():
    document = strip([1, 1], [8, 8])
    document["world"] |= {"air_density": 1.2, "gravity": [0, 0, 0]}
    document["bodies"][0]["place"] = {"rotate": [90, 0, 0]}
    document["forces"] = [{"kind": "wind", "velocity": [0, 0, 5], "strength": {"keys": [[1, 0], [7, 0], [8, 1]]}}]
    moved = []
    run(document, 12, 10, lambda world: moved.append(world.x[:, 2].mean()))
    assert abs(moved[5]) < 1e-9 < 1e-3 < moved[-1]
