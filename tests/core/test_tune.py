"""Findings of motion, forces and quality: each fires with the right number, is silent where all is well, and cures."""

import copy

import jsonpatch
import numpy as np
import pytest

from zembrik.core.bake import bake
from zembrik.core.findings.check import check_setup
from zembrik.core.setup.assets import FolderAssets, NoAssets
from zembrik.core.setup.document import parse_setup


def told(document, code):
    return [f for f in check_setup(parse_setup(document), NoAssets()) if f.code == code]


def cured(document, finding):
    return jsonpatch.apply_patch(copy.deepcopy(document), finding.patch)


def baked(document, folder, name):
    return bake(parse_setup(document), FolderAssets(folder), folder / f"{name}.zarr")


BALL = {"name": "ball", "role": "rigid", "mesh": {"shape": "ball", "radius": 0.1}, "proxy": {"kind": "ball"},
        "place": {"translate": [0.0, 0.5, 0.0]}}  # fmt: skip
FLAG = {"name": "flag", "role": "cloth", "mesh": {"shape": "grid", "size": [0.6, 0.6], "segments": [10, 10]},
        "place": {"translate": [0.0, 2.0, 0.0], "rotate": [0.0, 0.0, 90.0]}, "material": {"preset": "linen"},
        "pins": [{"points": {"box": [[-0.01, 2.29, -0.31], [0.01, 2.31, 0.31]]}}]}  # fmt: skip


def test_wind_without_cloth_moves_nothing(tmp_path):
    wind = {"kind": "wind", "velocity": [9, 0, 0]}
    setup = {"frames": [1, 10], "bodies": [BALL], "forces": [wind, {"kind": "air damping", "rate": 1}, wind]}
    (finding,) = told(setup, "idle_forces")
    assert "2 forces" in finding.text
    after = cured(setup, finding)
    assert [f["kind"] for f in after["forces"]] == ["air damping"] and not told(after, "idle_forces")
    one, two = baked(setup, tmp_path, "with"), baked(after, tmp_path, "without")
    assert (one.points(0, 10) == two.points(0, 10)).all()  # it was true: the bake is the same
    assert not told({**setup, "bodies": [BALL, FLAG]}, "idle_forces")


def test_a_motion_that_begins_before_the_bake(tmp_path):
    """A plate that rises from frame -23 on kicks what lies on it at frame 1; with a preroll it carries it."""
    keys = [[-23, [0, 0, 0]], [1, [0, 1.0, 0]], [25, [0, 2.0, 0]]]
    plate = {"name": "plate", "role": "collider", "mesh": {"shape": "box", "size": [1, 0.1, 1]},
             "proxy": {"kind": "box"}, "motion": {"translate": {"keys": keys, "ease": "straight"}}}  # fmt: skip
    rider = {**BALL, "mesh": {"shape": "box", "size": [0.2, 0.2, 0.2]}, "proxy": {"kind": "box"}, "thickness": 0.0}
    rider["place"] = {"translate": [0.0, 1.152, 0.0]}  # where the plate is at frame 1
    setup = {"frames": [1, 12], "bodies": [rider, plate], "world": {"ground": None}}
    (finding,) = told(setup, "early_motion")
    assert finding.remedy == "Use a preroll of 24" and "from frame -23 on" in finding.text
    after = cured(setup, finding)
    after["bodies"][0]["place"]["translate"][1] = 0.152  # it lies on the plate where both begin
    assert not told(after, "early_motion")

    def gap(cache):  # above the plate, at its largest
        heights = [float(cache.points(0, f)[:, 1].min()) - (1.05 + (f - 1) / 24) for f in range(2, 13)]
        return max(heights)

    # The plate's own room is 2 mm: kicked off it, or carried all the way.
    assert gap(baked(setup, tmp_path, "before")) > 0.006 and gap(baked(after, tmp_path, "after")) < 0.0025
    late = copy.deepcopy(setup)
    late["bodies"][1]["motion"]["translate"]["keys"] = [[1, [0, 1, 0]], [25, [0, 2, 0]]]
    assert not told(late, "early_motion")


def test_wind_out_of_proportion_to_the_weight(tmp_path):
    """½ ρ v² over the weight: 0.3 m/s on linen is too weak to be seen; the remedy lifts it by more than 15°."""

    def leaning(document, name):
        points = baked(document, tmp_path, name).points(0, 48)
        low = points[points[:, 1] < np.median(points[:, 1])].mean(axis=0)
        return np.degrees(np.arctan2(abs(low[0]), 2.3 - low[1]))

    setup = {"frames": [1, 48], "bodies": [FLAG], "forces": [{"kind": "wind", "velocity": [0.3, 0, 0]}]}
    (finding,) = told(setup, "wind_proportion")
    ratio = 0.5 * 1.2 * 0.3**2 / (parse_resolved(setup) * 9.81)
    assert f"{ratio:.2g} times its weight" in finding.text and "too weak" in finding.title
    after = cured(setup, finding)
    assert not told(after, "wind_proportion")
    assert leaning(setup, "weak") < 3 and leaning(after, "sound") > 15
    gale = {**setup, "forces": [{"kind": "wind", "velocity": [60, 0, 0], "strength": {"keys": [[1, 0.1], [9, 2]]}}]}
    (finding,) = told(gale, "wind_proportion")
    assert "gale" in finding.title and "120.0 m/s" in finding.text and not told(cured(gale, finding), "wind_proportion")


def parse_resolved(document) -> float:
    """Return the first body's weight per area, kg/m²."""
    from zembrik.core.setup.resolve import resolve

    return resolve(parse_setup(document)).document["bodies"][0]["material"]["area_density"]


def test_a_sack_of_80_times_a_sheets_mass_is_caught_alike_with_20_and_60_substeps(tmp_path):
    """It sags as deep, and the sheet is stretched as far, give or take a tenth."""
    sheet = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1.2, 1.2], "segments": [16, 16]},
             "place": {"translate": [0, 1, 0]}, "material": {"preset": "canvas"}, "pins": [
                 {"points": {"box": [[x, 0.9, -0.61], [x + 0.02, 1.1, 0.61]]}} for x in (-0.61, 0.59)
             ]}  # fmt: skip
    sack = {**BALL, "name": "sack", "place": {"translate": [0, 1.15, 0]}, "material": {"density": 10000}}
    setup = {"frames": [1, 18], "bodies": [sheet, sack], "quality": {"substeps": 20}}
    few, many = (baked({**setup, "quality": {"substeps": n}}, tmp_path, str(n)) for n in (20, 60))
    lowest = [min(cache.points(1, f)[:, 1].mean() for f in range(1, 19)) for cache in (few, many)]
    worst = [cache.figure("stats/worst_stretch").max() for cache in (few, many)]
    assert lowest[0] == pytest.approx(lowest[1], abs=0.01) and worst[0] == pytest.approx(worst[1], rel=0.1)


def test_motions_of_pins_and_of_what_is_played_that_go_on_after_the_end(tmp_path):
    """A pin's track until frame 20, and a cache of 30 frames from frame 5 on: both are told, and cured."""
    flag = copy.deepcopy(FLAG)
    flag["pins"][0]["motion"] = {"translate": {"keys": [[1, [0, 0, 0]], [20, [1, 0, 0]]]}}
    setup = {"frames": [1, 10], "bodies": [flag]}
    (finding,) = told(setup, "cut_motion")
    assert "'flag' moves until frame 20" in finding.text and finding.remedy == "Bake until frame 20"
    assert not told(cured(setup, finding), "cut_motion")
    baked({"frames": [1, 30], "bodies": [BALL], "quality": {"substeps": 2}}, tmp_path, "held")
    played = {"name": "played", "role": "collider", "mesh": {"cache": "held.zarr", "body": "ball", "starts": 5}}
    setup = {"frames": [1, 24], "bodies": [BALL, played]}
    found = [f for f in check_setup(parse_setup(setup), FolderAssets(tmp_path)) if f.code == "cut_motion"]
    assert "plays goes on until frame 34" in found[0].text
    after = check_setup(parse_setup(cured(setup, found[0])), FolderAssets(tmp_path))
    assert not [f for f in after if f.code == "cut_motion"]
