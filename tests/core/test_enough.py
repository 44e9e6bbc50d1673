"""Thickness, substeps, ranges, idle dials: each finding fires with the right number, is silent elsewhere, and cures."""

import numpy as np
import pytest

from tests.core.test_intake import abc_bytes
from tests.core.test_tune import cured
from zembrik.core.bake import bake
from zembrik.core.findings.check import check_setup
from zembrik.core.setup.assets import FolderAssets, NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.solver.stats import Meter
from zembrik.core.solver.step import Stepper


def told(document, code, assets=None):
    return [f for f in check_setup(parse_setup(document), assets or NoAssets()) if f.code == code]


def figures(document, frames):
    """Return the statistics of every frame of a bake, by name."""
    setup = parse_setup(document)
    world = build_world(setup, NoAssets())
    stepper, meter = Stepper(world, document["quality"]["substeps"], 1, 24.0), Meter(world)
    rows = []
    for frame in range(1, frames + 1):
        stepper.advance(frame)
        rows.append(meter.measure(stepper))
    return {name: np.array([row[name] for row in rows]) for name in rows[0]}


def sheet(segments, thickness, **more):
    mesh = {"shape": "grid", "size": [1.0, 1.0], "segments": [segments, segments]}
    return {"name": "sheet", "role": "cloth", "mesh": mesh, "material": {"preset": "linen"}, "thickness": thickness,
            **more}  # fmt: skip


BALL = {"name": "ball", "role": "collider", "mesh": {"shape": "ball", "radius": 0.25},
        "place": {"translate": [0.0, 0.35, 0.0]}, "proxy": {"kind": "ball"}}  # fmt: skip


def test_a_bar_that_is_too_fast_for_its_thickness():
    """A bar of 20 mm at 12 m/s into a held sheet: 25 mm a substep of 20, and both keep 2 mm free between them.

    It goes 3.5 mm into it; with the remedy 0.
    """
    bar = {"name": "bar", "role": "collider", "mesh": {"shape": "box", "size": [0.4, 0.02, 0.02]}, "thickness": 0.001,
           "place": {"translate": [0, 0, -0.5]}, "proxy": {"kind": "box"},
           "motion": {"translate": {"keys": [[1, [0, 0, 0]], [2.4, [0, 0, 0.7]]]}}}  # fmt: skip
    held = {"pins": [{"points": {"side": "top"}}, {"points": {"side": "bottom"}}], "place": {"rotate": [90, 0, 0]}}
    setup = {"frames": [1, 10], "world": {"ground": None}, "bodies": [sheet(24, 0.001, **held), bar]}
    setup["quality"] = {"substeps": 20}
    (finding,) = told(setup, "fast_for_thickness")
    assert "up to 12 m/s" in finding.text and "25 mm in a substep" in finding.text and finding.at is not None
    assert finding.remedy == "Use 126 substeps"
    after = cured(setup, finding)
    assert not told(after, "fast_for_thickness")
    one, two = figures(setup, 9), figures(after, 9)
    assert one["worst_penetration"].max() > 0.002 and two["worst_penetration"].max() < 0.0005
    bar["motion"]["translate"]["keys"][1][0] = 49
    assert not told(setup, "fast_for_thickness")
    bar["place"]["translate"] = [30, 0, 0]  # fast, but nowhere near
    bar["motion"]["translate"]["keys"][1][0] = 2.4
    assert not told(setup, "fast_for_thickness")


def pressed(document, frames):
    """Return the largest share of triangles that are shorter along warp or weft by more than a tenth, of all frames."""
    world = build_world(parse_setup(document), NoAssets())
    stepper, most = Stepper(world, document["quality"]["substeps"], 1, 24.0), 0.0
    gj, gk = world.membrane.rest[:, :2], world.membrane.rest[:, 2:4]
    for frame in range(1, frames + 1):
        stepper.advance(frame)
        a, b, c = (world.x[world.membrane.points[:, n]] for n in range(3))
        along = gj[:, :, None] * (b - a)[:, None] + gk[:, :, None] * (c - a)[:, None]
        most = max(most, float((np.linalg.norm(along, axis=2).min(axis=1) < 0.9).mean()))
    return most


@pytest.mark.parametrize("substeps", (4, 20))
@pytest.mark.parametrize("young", (1e5, 1e7))
def test_a_hanging_column_grows_by_its_weight_whatever_its_stiffness_and_the_substeps(young, substeps):
    """By ρ g L² / 2E, for cells of 50 mm and 500 kg/m³: a push crosses up to 30 of them in a substep."""
    column = {"name": "column", "role": "soft", "mesh": {"shape": "box", "size": [0.1, 0.4, 0.1], "segments": 8},
              "material": {"preset": "cork", "young": young, "poisson": 0.0, "density": 500, "damping": 0.01},
              "cell": 0.05, "place": {"translate": [0, 0.2, 0]}, "pins": [{"points": {"side": "top"}}]}  # fmt: skip
    setup = {"world": {"ground": None}, "bodies": [column], "forces": [{"kind": "air damping", "rate": 6}]}
    world = build_world(parse_setup(setup), NoAssets())
    stepper, body = Stepper(world, substeps, 1, 24.0), world.bodies[0]
    low = body.points(world.x)[:, 1].min()
    for frame in range(1, 60):
        stepper.advance(frame)
    grown = low - body.points(world.x)[:, 1].min()
    assert grown == pytest.approx(500 * 9.81 * 0.4**2 / (2 * young), rel=0.03)


def test_cloth_without_room_between_two_boards():
    """Two boards 3 mm apart, and thicknesses that take 8 mm: between them it trembles, with less it lies still."""
    boards = [
        {"name": name, "role": "collider", "mesh": {"shape": "box", "size": [1.2, 0.1, 1.2]}, "thickness": 0.002,
         "proxy": {"kind": "box"}, "place": {"translate": [0, y, 0]}}
        for name, y in (("lower", 0.9485), ("upper", 1.0515))
    ]  # fmt: skip
    setup = {"world": {"ground": None}, "bodies": [sheet(16, 0.002, place={"translate": [0, 1, 0]}), *boards]}
    setup["quality"] = {"substeps": 20}
    (finding,) = told(setup, "squeezed")
    assert "3 mm apart" in finding.text and "takes 8 mm" in finding.text and finding.at is not None
    after = cured(setup, finding)
    assert not told(after, "squeezed")
    one, two = figures(setup, 12), figures(after, 12)
    assert one["worst_penetration"].max() > 0.002 > 5.0 * two["worst_penetration"].max()
    third = {**boards[1], "name": "third", "place": {"translate": [0, 1.0505, 0]}}  # of several, the least room is told
    setup["bodies"].append(third)
    assert "'lower' and 'third', which are 2 mm apart" in told(setup, "squeezed")[0].text
    setup["bodies"].remove(third)
    boards[1]["place"]["translate"][1] = 1.2
    assert not told(setup, "squeezed")


def test_a_stiff_body_bounces_from_what_is_below_it_not_from_what_is_beside_it():
    """A box of 0.4 m above a table: a blow goes through it and back in 2 · 0.4 √(200 / 2e6) = 8 ms."""
    box = {
        "name": "box", "role": "soft", "mesh": {"shape": "box", "size": [0.4] * 3, "segments": 4}, "cell": 0.1,
        "material": {"density": 200, "young": 2e6, "poisson": 0.2}, "place": {"translate": [0, 1.2, 0]},
    }  # fmt: skip
    table = {"name": "table", "role": "collider", "mesh": {"shape": "box", "size": [1, 0.2, 1]},
             "place": {"translate": [0, -0.1, 0]}, "proxy": {"kind": "box"}}  # fmt: skip
    setup = {"world": {"ground": None}, "bodies": [box, table], "quality": {"substeps": 20}}
    (finding,) = told(setup, "quick_to_bounce")
    assert "in 8 ms, or 3.8 substeps" in finding.text and finding.patch[0]["value"] == 53  # 10 / (8 ms · 24)
    table["place"]["translate"][0] = 0.65  # half a metre wide, 5 cm below its edge: it still meets the box
    assert told(setup, "quick_to_bounce")
    for off in ([0.75, -0.1, 0], [0, -0.1, 0.75], [0, 0.895, 0]):  # beside it either way, or right below it
        table["place"]["translate"] = off
        assert not told(setup, "quick_to_bounce")


def test_a_motion_that_goes_on_after_the_shot(tmp_path):
    setup = {"frames": [1, 6], "bodies": [sheet(8, 0.002, place={"translate": [0, 1, 0]}), dict(BALL)]}
    setup["bodies"][1]["motion"] = {"translate": {"keys": [[1, [0, 0, 0]], [9, [0.4, 0, 0]], [40, [0.4, 0, 0]]]}}
    (finding,) = told(setup, "cut_motion")
    assert "until frame 9" in finding.text and "3 frames of it" in finding.text  # to frame 40 it only stands
    after = cured(setup, finding)
    assert after["frames"] == [1, 9] and not told(after, "cut_motion")
    lengths = [bake(parse_setup(one), NoAssets(), tmp_path / f"{n}.zarr").done for n, one in enumerate((setup, after))]
    assert lengths == [6, 9]


def test_a_collider_whose_file_moves_and_that_does_not(tmp_path):
    """The file's forms are told; followed, the collider moves what lies on it; a file that ends early is told too."""
    (tmp_path / "wave.abc").write_bytes(abc_bytes(moving=True))
    mesh = {"file": "wave.abc", "part": "yard/stall/shelf/crate"}
    assets = FolderAssets(tmp_path)
    wave = {"name": "wave", "role": "collider", "mesh": mesh, "proxy": {"kind": "box"}}
    over = {"translate": [9.0, 6.3, 6.0]}
    setup = {"frames": [1, 40], "world": {"ground": None}, "bodies": [sheet(8, 0.002, place=over), wave]}
    (finding,) = told(setup, "still_file", assets)
    assert "forms, the last up to" in finding.text
    after = cured(setup, finding)
    assert after["bodies"][1]["mesh"]["animated"] and after["bodies"][1]["proxy"] == {"kind": "surface"}
    assert not told(after, "still_file", assets)
    worlds = [build_world(parse_setup(one), assets) for one in (setup, after)]
    assert [len(w.colliders.forms) for w in worlds] == [0, 1]
    (short,) = told(after, "short_file", assets)
    ended = cured(after, short)
    assert ended["frames"][1] < 40 and not told(ended, "short_file", assets)


def test_dials_without_effect_are_told_and_given_back_without_a_trace(tmp_path):
    """All of them: the bake without them has the same bytes."""
    stone = {"name": "stone", "role": "rigid", "mesh": {"shape": "ball", "radius": 0.1}, "proxy": {"kind": "ball"},
             "place": {"translate": [0, 0.5, 0]}, "material": {"preset": "granite"}}  # fmt: skip
    setup = {"frames": [1, 8], "bodies": [stone], "world": {"air_density": 2.0},
             "quality": {"substeps": 10, "self_collision": True, "contact": "edges", "enough": 0.001}}  # fmt: skip
    (finding,) = told(setup, "idle_dials")
    assert finding.title == "4 dials without effect"
    assert "air density: there is no cloth, and no air drag on others" in finding.text
    limp = sheet(8, 0.002, place={"translate": [0, 0.3, 0]})
    limp["material"] |= {"tack_distance": 0.01, "yield_angle": 30, "drag": 2.0}
    other = {"frames": [1, 8], "bodies": [limp], "world": {"air_density": 0.0}, "quality": {"substeps": 10}}
    (second,) = told(other, "idle_dials")
    assert {step["path"].rsplit("/", 1)[1] for step in second.patch} == {"tack_distance", "yield_angle", "drag"}
    for n, (document, one) in enumerate(((setup, finding), (other, second))):
        after = cured(document, one)
        assert not told(after, "idle_dials")
        caches = [bake(parse_setup(d), NoAssets(), tmp_path / f"{n}{k}.zarr") for k, d in enumerate((document, after))]
        assert all(np.array_equal(caches[0].points(0, f), caches[1].points(0, f)) for f in range(1, 9))
    limp["material"] |= {"tack": 5.0, "creep": 1.0}
    other["world"]["air_density"] = 1.2
    assert not told(other, "idle_dials")
