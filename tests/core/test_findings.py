"""Findings: each fires with the right number, is silent elsewhere, and its remedy cures it."""

import json
from pathlib import Path

import jsonpatch
import numpy as np
import pytest
from stage import Stage

from zembrik.core.bake import bake
from zembrik.core.exchange.obj import write_obj
from zembrik.core.findings.check import _width_m, check_setup
from zembrik.core.findings.outcome import MOST_SUBSTEPS, check_outcome
from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.setup.assets import FolderAssets, NoAssets, placed_mesh
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.energy import motion_energy, stored_energy, volume

EXAMPLES = Path(__file__).resolve().parents[2] / "examples"


def found(document, tmp_path):
    """Return all findings by their codes, but what the fixture's few substeps are told for (see test_enough)."""
    every = check_setup(parse_setup(document), FolderAssets(tmp_path))
    return {f.code: f for f in every}


def cured(document, finding):
    return jsonpatch.apply_patch(document, finding.patch)


def test_nothing_to_say_of_a_sound_setup(sheet, tmp_path):
    sheet["quality"]["substeps"] = 90
    assert check_setup(parse_setup(sheet), FolderAssets(tmp_path)) == []
    assert found(sheet, tmp_path) == {}


def test_too_few_points_to_bend(sheet, tmp_path):
    """The harm: four cells cannot follow a ball; the share of face centres far off the ball falls with the remedy."""
    sheet["bodies"][0]["mesh"]["segments"] = [4, 4]
    finding = found(sheet, tmp_path)["few_points"]
    assert "25 points, 25.0 cm apart" in finding.text and not finding.severe
    after = cured(sheet, finding)
    assert found(after, tmp_path) == {}

    def mean_gap(document, name):
        cache = bake(parse_setup({**document, "frames": [1, 24]}), FolderAssets(tmp_path), tmp_path / name)
        points, faces = cache.points(0, 24).astype(float), cache.faces(0)
        middles = points[faces].mean(axis=1)
        top = middles[np.linalg.norm(middles[:, [0, 2]], axis=1) < 0.3]
        return np.abs(np.linalg.norm(top - [0, 0.5, 0], axis=1) - 0.504).mean()

    assert mean_gap(sheet, "before.zarr") > 2 * mean_gap(after, "after.zarr")


def test_falls_for_ever(sheet, tmp_path):
    sheet["world"] = {"ground": None, "air_density": 0}
    sheet["bodies"][0]["place"]["translate"] = [3.0, 1.0, 0.0]
    finding = found(sheet, tmp_path)["endless_fall"]
    seconds = 11 / 24
    assert finding.severe and f"{0.5 * 9.81 * seconds**2:.0f} m" in finding.text
    after = cured(sheet, finding)
    assert found(after, tmp_path) == {} and after["world"]["air_density"] == 0
    fallen = bake(parse_setup({**after, "frames": [1, 30]}), FolderAssets(tmp_path), tmp_path / "a.zarr")
    assert fallen.points(0, 30)[:, 1].min() > -1e-6
    for change in ({"world": {}}, {"world": {"ground": None, "gravity": [0, 0, 0]}}):
        assert "endless_fall" not in found({**sheet, **change}, tmp_path)
    sheet["bodies"][0]["pins"] = [{"points": {"numbers": [0]}}]
    assert "endless_fall" not in found(sheet, tmp_path)
    sheet["bodies"][0] |= {"pins": [], "place": {"translate": [0.4, 2.0, 0.0]}}
    assert "endless_fall" not in found(sheet, tmp_path)


def test_overlap_at_the_start(sheet, tmp_path):
    """A flat sheet at height h over a ball whose top is at 1 m is 1 - h deep at its middle, plus both thicknesses."""
    sheet["bodies"][0]["place"]["translate"] = [0.0, 0.98, 0.0]
    finding = found(sheet, tmp_path)["start_overlap"]
    depth_mm = (1.0 - 0.98 + 0.002 + 0.002) * 1000
    assert f"the deepest by {depth_mm:.1f} mm" in finding.text and finding.severe
    assert finding.at == pytest.approx([0, 0.98, 0])
    after = cured(sheet, finding)
    assert found(after, tmp_path) == {}

    def first_speed(document, name):
        cache = bake(parse_setup({**document, "frames": [1, 2]}), FolderAssets(tmp_path), tmp_path / name)
        return float(np.abs(cache.points(0, 2) - cache.points(0, 1)).max()) * 24

    assert first_speed(sheet, "before.zarr") > 0.65  # it is thrown off
    assert first_speed(after, "after.zarr") < 0.6  # it only falls


def test_a_body_is_moved_out_the_short_way(sheet, tmp_path):
    """A sheet 0.2 m below a box's top is nearest to its side in places, but up is the way out for all of it."""
    box = {"shape": "box", "size": [0.4, 1.0, 0.4]}
    sheet["bodies"][1] |= {"mesh": box, "place": {"translate": [0, 0.5, 0]}, "proxy": {"kind": "box"}}
    sheet["bodies"][0]["place"]["translate"] = [0.0, 0.8, 0.0]
    finding = found(sheet, tmp_path)["start_overlap"]
    assert finding.remedy == "Move it 204.0 mm out"
    assert found(cured(sheet, finding), tmp_path) == {}


def test_a_collider_that_moves_may_catch_what_falls(sheet, tmp_path):
    sheet["world"] = {"ground": None}
    sheet["bodies"][1]["place"]["translate"] = [30.0, 0.5, 0.0]
    assert "endless_fall" in found(sheet, tmp_path)
    sheet["bodies"][1]["motion"] = {"translate": {"keys": [[1, [0, 0, 0]], [6, [-30, 0, 0]]]}}
    assert set(found(sheet, tmp_path)) == {"fast_for_thickness"}


def test_a_setup_that_cannot_be_simulated_is_one_finding(sheet, tmp_path):
    sheet["bodies"][0]["mesh"] = {"file": "gone.obj"}
    finding = found(sheet, tmp_path)["unusable"]
    assert finding.severe and "gone.obj" in finding.text


def test_an_unlikely_size(sheet, tmp_path):
    sheet["bodies"][0]["place"]["scale"] = 100.0
    finding = found(sheet, tmp_path)["wrong_size"]
    assert "100 m long" in finding.text and finding.remedy == "Make it 1 m long"
    assert cured(sheet, finding)["bodies"][0]["place"]["scale"] == 1.0
    assert "wrong_size" not in found(cured(sheet, finding), tmp_path)


def test_a_scale_that_stands_for_a_unit(sheet, tmp_path):
    """A box of 30 cm whose file is in centimetres, read as metres and scaled down by hand: saying so moves nothing."""
    box = shapes.box((30.0, 30.0, 30.0), 1)
    with (tmp_path / "box.obj").open("wb") as out:
        write_obj(out, box.points, box.faces, "box")
    place = {"translate": [2.0, 0.2, 0.0], "scale": 0.01}
    sheet["bodies"].append({"name": "box", "role": "collider", "mesh": {"file": "box.obj"}, "place": place})
    finding = found(sheet, tmp_path)["scale_for_a_unit"]
    assert "in metres and is scaled by 0.01: its numbers are centimetres" in finding.text
    told = cured(sheet, finding)
    assert "scale_for_a_unit" not in found(told, tmp_path)
    before, after = (placed_mesh(parse_setup(s).bodies[2], FolderAssets(tmp_path)).points for s in (sheet, told))
    assert np.abs(before - after).max() < 1e-12
    place["scale"] = 0.7  # a size of its own
    assert "scale_for_a_unit" not in found(sheet, tmp_path)


def test_needles_in_a_cloth(sheet, tmp_path):
    sheet["bodies"][0]["mesh"] |= {"size": [1.0, 1.0], "segments": [500, 12]}
    finding = found(sheet, tmp_path)["needle_faces"]
    assert "12000 of the 12,000 faces" in finding.text and finding.at is not None


def test_too_coarse_for_a_pole(sheet, tmp_path):
    pole = {"name": "pole", "role": "collider", "mesh": {"shape": "cylinder", "radius": 0.02, "height": 2.0},
            "place": {"translate": [0.0, 0.3, 0.0], "rotate": [90.0, 0.0, 0.0]}}  # fmt: skip
    sheet["bodies"].append(pole)
    finding = found(sheet, tmp_path)["coarse_for_curves"]
    assert "a radius of 2 cm" in finding.text
    assert "coarse_for_curves" not in found(cured(sheet, finding), tmp_path)
    pole["place"]["rotate"] = [0.0, 0.0, 0.0]  # upright: the cloth lies on its end
    assert "coarse_for_curves" not in found(sheet, tmp_path)


def test_a_proxy_that_stands_off(sheet, tmp_path):
    """A box of 0.4 m in a ball: the ball stands (√3 - 1) · 0.2 m off the middles of its sides."""
    for name, x in (("crate 1", 2.0), ("crate 2", 3.0)):
        sheet["bodies"].append(
            {"name": name, "role": "collider", "mesh": {"shape": "box", "size": [0.4, 0.4, 0.4]},
             "place": {"translate": [x, 0.2, 0.0], "rotate": [0.0, 30.0, 0.0]}, "proxy": {"kind": "ball"}}
        )  # fmt: skip
    finding = found(sheet, tmp_path)["wide_gap"]
    assert f"{(np.sqrt(3) - 1) * 20:.1f} cm" in finding.text and "1 more like it" in finding.text
    assert f"{50 * (np.sqrt(3) - 1) / np.sqrt(3):.0f}% of its size" in finding.text  # of the diagonal
    assert len(finding.patch) == 2
    middle = np.array(finding.at) - [2.0, 0.2, 0.0]
    assert np.linalg.norm(middle) == pytest.approx(0.2, abs=0.01)  # the middle of a side, turned with the crate
    assert "wide_gap" not in found(cured(sheet, finding), tmp_path)


def test_a_collider_that_faces_away(sheet, tmp_path):
    """Turned over, an open sheet has its back up: what falls on it is pulled through, unless both sides count."""
    board = {"name": "board", "role": "collider", "mesh": {"shape": "grid", "size": [3.0, 3.0], "segments": [4, 4]},
             "place": {"translate": [0.0, 0.02, 0.0], "rotate": [180.0, 0.0, 0.0]}}  # fmt: skip
    sheet["bodies"][1:] = [board]
    sheet["world"] = {"ground": None}
    finding = found(sheet, tmp_path)["facing_away"]
    assert finding.body == "board"
    after = cured(sheet, finding)
    assert "facing_away" not in found(after, tmp_path)
    fallen = bake(parse_setup({**after, "frames": [1, 30]}), FolderAssets(tmp_path), tmp_path / "a.zarr")
    assert fallen.points(0, 30)[:, 1].min() > 0.015
    board["place"]["rotate"] = [0.0, 0.0, 0.0]
    assert "facing_away" not in found(sheet, tmp_path)


def test_a_torn_cloth_is_told_with_its_frame_and_what_helps(tmp_path):
    """100 kg on a sheet of 1 kg that is ten times too soft for it; the example's is not."""
    document = json.loads((EXAMPLES / "heavy-sack-on-a-light-sheet.json").read_text()) | {"frames": [1, 14]}
    document["quality"] = document["quality"] | {"substeps": 20}
    whole = parse_setup(document)
    assert check_outcome(whole, bake(whole, FolderAssets(EXAMPLES), tmp_path / "whole.zarr")) == []
    sheet = next(body for body in document["bodies"] if body["name"] == "sheet")
    sheet["material"] = sheet["material"] | {"stretch": 300, "compression": 300}
    setup = parse_setup(document)
    cache = bake(setup, FolderAssets(EXAMPLES), tmp_path / "torn.zarr")
    (finding,) = check_outcome(setup, cache)
    first = int(np.flatnonzero(cache.figure("stats/worst_stretch") > 0.6)[0]) + 1
    assert finding.code == "torn" and f"From frame {first} on" in finding.text and finding.body == "sheet"
    assert f"up to {100 * cache.figure('stats/worst_stretch').max():.0f}%" in finding.text
    assert cured(document, finding)["quality"]["substeps"] == 40
    document["quality"]["substeps"] = MOST_SUBSTEPS  # there is no more to be had
    (finding,) = check_outcome(parse_setup(document), cache)
    assert finding.remedy == "" and finding.patch == []


class Figures:
    """A cache whose figures are other ones."""

    def __init__(self, cache, **changed):
        self.cache, self.changed = cache, {f"stats/{name}": np.array(v, dtype=float) for name, v in changed.items()}

    def __getattr__(self, name):
        return getattr(self.cache, name)

    def figure(self, name):
        return self.changed[name] if name in self.changed else self.cache.figure(name)


def test_a_tenth_of_all_energy_may_come_from_nowhere_and_no_more(sheet, baked):
    """Of 2 J, 0.19 J that nothing put in are let go; 0.21 J are told from the frame they begin at."""
    count, flat = len(baked.figure("stats/energy_balance")), {}
    flat |= {"kinetic_energy": np.full(count, 2.0), "height_energy": np.zeros(count)}
    for gain, is_told in ((0.19, False), (0.21, True)):
        balance = np.zeros(count)
        balance[4] = gain
        told = check_outcome(parse_setup(sheet), Figures(baked, energy_balance=balance, **flat))
        assert [f.code for f in told] == ["energy"] * is_told
    assert f"From frame {baked.first + 4} on there is 0.21 J" in told[0].text and told[0].frame == baked.first + 4


def test_what_sinks_is_told_with_the_bound(sheet, baked):
    """A thickness of 2 mm: three frames are deeper than three of it, the deepest 30 mm at the sixth."""
    depth = np.zeros(len(baked.figure("stats/worst_penetration")))
    depth[[3, 4, 5]] = 0.02, 0.025, 0.03
    (finding,) = check_outcome(parse_setup(sheet), Figures(baked, worst_penetration=depth))
    assert finding.code == "sunk" and "3 frames have places deeper than 6 mm" in finding.text
    assert f"the worst 30.0 mm at frame {baked.first + 5}" in finding.text and finding.frame == baked.first + 3


def test_a_sound_bake_has_nothing_to_tell_and_one_with_energy_from_nowhere_says_so(sheet, baked):
    """The sheet's energy is accounted for; half as much again, written into its figures, is told with its frame."""
    assert check_outcome(parse_setup(sheet), baked) == []

    balance = baked.figure("stats/energy_balance").copy()
    balance[5:] = 0.5 * baked.figure("stats/kinetic_energy").max()
    gaining = Figures(baked, energy_balance=balance)
    (finding,) = check_outcome(parse_setup(sheet), gaining)
    assert finding.code == "energy" and finding.severe and "J more than what falls" in finding.text
    assert f"From frame {baked.first + 5} on" in finding.text


def test_balances_tell_what_changes_and_what_does_not(tmp_path):
    """Two balls meet in empty space: no frame gains energy, momentum stays, and figures are formulas."""
    ball = {"role": "rigid", "mesh": {"shape": "ball", "radius": 0.1, "rings": 24}, "proxy": {"kind": "ball"},
            "material": {"bounce": 1.0, "friction": 0.0, "sliding_friction": 0.0}}  # fmt: skip
    stage = Stage({"world": {"gravity": [0, 0, 0], "ground": None}, "bodies": [
        {**ball, "name": "a"}, {**ball, "name": "b", "place": {"translate": [0.5, 0, 0]}}]})  # fmt: skip
    stage.rigid.speed[0, 0] = 1.0
    stage.run(1)
    begin, found = motion_energy(stage.world), []
    for _ in range(20):
        stage.run(1)
        found.append((stage.stepper.balance.gained_J, stage.stepper.balance.drifted_m_per_s))
    assert stage.rigid.speed[:, 0] == pytest.approx([0.0, 1.0], abs=1e-6)
    assert motion_energy(stage.world) == pytest.approx(begin, rel=1e-6)
    assert np.abs(found).max() < 1e-6 * begin


def test_volume_and_stored_energy_are_their_formulas():
    """A soft block drawn longer by 1%, aside free: V/2 E ε² and abc (1 + ε); a sheet likewise ½ k ε² A."""
    block = {"name": "it", "role": "soft", "mesh": {"shape": "box", "size": [0.4, 0.2, 0.2], "segments": 2},
             "material": {"young": 1e5, "poisson": 0.0}, "cell": 0.1}  # fmt: skip
    world = Stage({"bodies": [block]}).world
    assert volume(world) == pytest.approx(0.016, rel=1e-6) and abs(stored_energy(world)) < 1e-9
    world.x[:, 0] *= 1.01
    filled = float(world.cells.rest[:, 9].sum())  # the lattice reaches beyond the block where its cells do
    assert volume(world) == pytest.approx(0.016 * 1.01, rel=1e-6)
    assert stored_energy(world) == pytest.approx(0.5 * 1e5 * 1e-4 * filled, rel=0.02)
    sheet = {"name": "it", "role": "cloth", "mesh": {"shape": "grid", "size": [0.5, 0.3], "segments": [5, 3]},
             "material": {"stretch": 1000.0}}  # fmt: skip
    world = Stage({"bodies": [sheet]}).world
    world.x[:, 0] *= 1.01
    assert stored_energy(world) == pytest.approx(0.5 * 1000 * 1e-4 * 0.15, rel=1e-6)


def test_cloth_that_begins_in_cloth(sheet, tmp_path):
    """Two sheets 1 mm apart that keep 2 mm each: 3 mm deep; parted by 5 mm nothing is said, and neither bake leaps."""
    second = {**sheet["bodies"][0], "name": "second", "place": {"translate": [0.0, 1.021, 0.0]}, "thickness": 0.002}
    sheet["bodies"][0]["thickness"] = 0.002
    sheet["bodies"].append(second)

    def told():
        found = check_setup(parse_setup(sheet), FolderAssets(tmp_path))
        return [f for f in found if f.code == "begin_in_one_another"]

    (finding,) = told()
    assert finding.severe and "'sheet' and 'second' by 3.0 mm" in finding.text
    second["place"]["translate"][1] = 1.025
    assert told() == []


def test_a_tilted_open_collider_that_faces_away(sheet, tmp_path):
    """A sheet of 20° whose faces look down, 0.3 m under a cloth: told, and cured by touching it from both sides."""
    sheet["bodies"][1] = {
        "name": "roof", "role": "collider", "mesh": {"shape": "grid", "size": [0.8, 0.8], "segments": [8, 8]},
        "place": {"translate": [0.0, 0.7, 0.0], "rotate": [160, 0, 0]},
    }  # fmt: skip
    told = found(sheet, tmp_path)["facing_away"]
    assert "'sheet' comes onto the back of 'roof'" in told.text
    assert "facing_away" not in found(cured(sheet, told), tmp_path)
    sheet["bodies"][1]["place"]["rotate"] = [20, 0, 0]
    assert "facing_away" not in found(sheet, tmp_path)
    sheet["bodies"][1]["place"] = {"translate": [3.0, 0.7, 0.0], "rotate": [160, 0, 0]}  # nothing falls onto it
    assert "facing_away" not in found(sheet, tmp_path)


def test_that_nothing_is_simulated_is_told_before_a_bake(sheet, tmp_path):
    for body in sheet["bodies"]:
        body |= {"role": "left out"}
        body.pop("proxy", None)
    told = found(sheet, tmp_path)["nothing_simulated"]
    assert told.severe and told.remedy == "Make 'sheet' cloth"
    assert "nothing_simulated" not in found(cured(sheet, told), tmp_path)
    assert found({"bodies": []}, tmp_path) == {}


def test_a_bands_width_is_not_its_area_over_its_box():
    """A belt of 0.04 m around a drum, a rectangle and a square: their shorter sides, within 2%."""
    drum = shapes.cylinder(0.3, 0.04, 64)
    around = drum.faces[np.abs(drum.face_normals[:, 1]) < 0.5]
    used, faces = np.unique(around, return_inverse=True)
    belt = TriMesh(drum.points[used], faces.reshape(-1, 3).astype(np.int32))
    assert _width_m(belt) == pytest.approx(0.04, rel=0.02)
    assert _width_m(shapes.grid((2.0, 0.3), (20, 3))) == pytest.approx(0.3, rel=1e-6)
    assert _width_m(shapes.grid((1.0, 1.0), (4, 4))) == pytest.approx(1.0, rel=1e-6)


def test_findings_that_ask_for_substeps_ask_for_one_count(sheet, tmp_path):
    """Two fast colliders: both name the larger count, and it ends both."""
    sheet["bodies"][0]["thickness"] = sheet["bodies"][1]["thickness"] = 0.0005
    sheet["bodies"][1]["motion"] = {"translate": {"keys": [[1, [0, 0, 0]], [5, [0, 0.5, 0]]]}}
    faster = {"translate": {"keys": [[1, [0, 0, 0]], [5, [0, 0.7, 0]]]}}
    sheet["bodies"].append({**sheet["bodies"][1], "name": "other", "motion": faster})
    every = check_setup(parse_setup(sheet), FolderAssets(tmp_path))
    asking = [f for f in every if f.code == "fast_for_thickness"]
    assert len(asking) == 2 and len({f.remedy for f in asking}) == 1
    left = check_setup(parse_setup(cured(sheet, asking[0])), FolderAssets(tmp_path))
    assert "fast_for_thickness" not in {f.code for f in left}


def test_a_plank_that_begins_in_a_post_is_told_and_its_remedy_ends_it():
    """None of the plank's own corners is in the post: the post's are in the plank."""
    post = {"name": "post", "role": "collider", "mesh": {"shape": "box", "size": [0.1, 1.0, 0.1]},
            "proxy": {"kind": "box"}, "place": {"translate": [0, 0.5, 0]}}  # fmt: skip
    plank = {"name": "plank", "role": "rigid", "mesh": {"shape": "box", "size": [2, 0.05, 1]}, "proxy": {"kind": "box"},
             "place": {"translate": [0.003, 0.99, 0]}}  # fmt: skip
    document = {"bodies": [post, plank]}
    (found,) = check_setup(parse_setup(document), NoAssets())
    assert found.code == "start_overlap" and "begin inside 'post', the deepest by 18.0 mm" in found.text
    mended = jsonpatch.apply_patch(document, found.patch)
    assert mended["bodies"][1]["place"]["translate"][1] == pytest.approx(1.0281, abs=2e-4)  # it lies on it then
    assert check_setup(parse_setup(mended), NoAssets()) == []
