"""Trials: what typed values mean, how many runs they make, and what is told of a run."""

import contextlib
import copy

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zembrik.core.bake import bake
from zembrik.core.cache.reader import Cache
from zembrik.core.mesh import shapes
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import FolderAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.trials.figures import apart, bending_m, figures_of
from zembrik.core.trials.leverage import Range, design, effects, in_words
from zembrik.core.trials.plan import DialValues, count_of, trials_of, typed_values
from zembrik.core.trials.proof import _settles, judge, way_between


@pytest.mark.parametrize(
    ("text", "values"),
    [
        ("10, 20, 40", [10, 20, 40]),
        ("10 20 10", [10, 20]),
        ("1e-6; 2e-6", [1e-6, 2e-6]),
        ("10 to 40 in 4", [10, 20, 30, 40]),
        ("-1 to 1", [-1, 0, 1]),
        ("±30%", [7, 10, 13]),
        ("+-50 %", [5, 10, 15]),
        ("\u22122, 3", [-2, 3]),
    ],
)
def test_typed_values(text, values):
    assert typed_values(text, 10.0) == pytest.approx(values)


@pytest.mark.parametrize(
    "text", ["", "a, b", "1, nan", "1e999", "10 to x", "5 to 9 in 1", "±100%", "±0%", "5 to 9 in 99999999"]
)
def test_what_is_no_list_of_values_is_told(text):
    with pytest.raises(Problem):
        typed_values(text, 10.0)


def test_choices_are_words():
    assert typed_values("on, off, on", None, ("on", "off")) == ["on", "off"]
    with pytest.raises(Problem, match="no choice"):
        typed_values("on, maybe", None, ("on", "off"))


@given(st.text(max_size=40))
def test_no_text_breaks_it(text):
    with contextlib.suppress(Problem):
        assert all(np.isfinite(v) for v in typed_values(text, 3.0))


def dial(name: str, *values: float) -> DialValues:
    return DialValues(name, "", (f"/quality/{name}",), values, tuple(str(v) for v in values))


def test_a_plan_is_every_value_with_every_other_and_not_too_many():
    two = [dial("substeps", 10, 20), dial("iterations", 1, 2, 3)]
    trials = trials_of(two)
    assert count_of(two) == len(trials) == 6 and len({t.label for t in trials}) == 6
    assert trials[4].patch == [
        {"op": "add", "path": "/quality/substeps", "value": 20},
        {"op": "add", "path": "/quality/iterations", "value": 2},
    ]
    million = [dial("substeps", *range(1000)), dial("iterations", *range(1000))]
    assert count_of(million) == 1_000_000
    with pytest.raises(Problem, match="1,000,000 runs"):
        trials_of(million)
    with pytest.raises(Problem, match="compares nothing"):
        trials_of([dial("substeps", 10)])


def test_bending_of_a_cylinder_is_pi_times_its_length():
    """Mean curvature 1 / (2 r) over an area of 2π r l is π l, whatever the radius."""
    for radius in (0.2, 1.0):
        sheet = shapes.grid((2 * np.pi * radius, 0.7), (120, 6))
        angle = sheet.points[:, 0] / radius
        rolled = np.stack([radius * np.sin(angle), radius * np.cos(angle), sheet.points[:, 2]], axis=1)
        # All hinges but the two half cells at the open seam.
        assert bending_m(sheet.moved(rolled)) == pytest.approx(np.pi * 0.7 * 119 / 120, rel=0.002)
    assert bending_m(sheet) == pytest.approx(0.0, abs=1e-9)


def test_figures_and_distances_of_real_caches(baked, sheet, tmp_path):
    """A cache is no way from itself; one lifted by 30 mm is 30 mm away; a finer mesh is measured to its surface."""
    cache = Cache(baked.path)
    told = figures_of(cache)
    assert told.frame_s > 0 and told.whole_s >= told.frame_s and told.stretch > 0 and told.wrinkle_per_m > 0.1
    assert told.moving_m_per_s > 0.1  # it still falls
    same = apart(cache, cache)
    assert (same.mean_m, same.most_m, same.pointwise) == (0.0, 0.0, True)
    lifted = copy.deepcopy(sheet)
    lifted["frames"] = [1, 4]
    for body in lifted["bodies"]:
        body["place"]["translate"][1] += 0.03
    lifted["world"] = {"ground": None}
    sheet["world"], sheet["frames"] = {"ground": None}, [1, 4]
    one, two = (
        bake(parse_setup(s), FolderAssets(tmp_path), tmp_path / f"{k}.zarr") for k, s in enumerate((sheet, lifted))
    )
    far = apart(one, two)
    assert far.mean_m == pytest.approx(0.03, abs=1e-5) and far.most_m == pytest.approx(0.03, abs=1e-4)
    lifted["bodies"][0]["mesh"]["segments"] = [32, 32]
    finer = bake(parse_setup(lifted), FolderAssets(tmp_path), tmp_path / "finer.zarr")
    surface = apart(one, finer)
    assert not surface.pointwise and 0.02 < surface.mean_m < 0.031


SWING = {
    "world": {"ground": None},
    "bodies": [
        {
            "name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1.0, 1.0], "segments": [12, 12]},
            "place": {"translate": [0.0, 1.5, 0.0]}, "material": {"preset": "linen"},
            "pins": [{"points": {"box": [[-0.51, 1.4, -0.51], [-0.49, 1.6, 0.51]]}}],
        }
    ],
}  # fmt: skip


def run(folder, setup, substeps, frames):
    setup = {**copy.deepcopy(setup), "frames": [1, frames], "quality": {"substeps": substeps}}
    return bake(parse_setup(setup), FolderAssets(folder), folder / f"{substeps}.zarr")


def test_a_proof_holds_its_bound_against_a_run_four_times_finer(tmp_path):
    """A sheet that swings down: what is said of each run is what a run of 160 substeps shows, and the bound holds."""
    runs = {n: run(tmp_path, SWING, n, 16) for n in (10, 20, 40, 160)}
    verdict = judge([runs[n] for n in (10, 20, 40)], 0.001)
    assert verdict.ratio > 1.7 and verdict.enough == 1 and verdict.alike == []
    for n, said in zip((10, 20, 40), verdict.errors_m, strict=True):
        assert 0.4 < said / way_between(runs[n], runs[160]).mean < 2.5
    assert way_between(runs[20], run(tmp_path, SWING, 80, 16)).mean <= 0.001
    assert judge([runs[n] for n in (10, 20, 40)], 1e-7).enough is None
    assert judge([runs[10], runs[20]], 0.001) is None


def test_folds_on_a_ball_are_called_chaotic(sheet, tmp_path):
    """Twice the substeps, and twice again, nearly as far away: folds fall another way. Size and movement are alike."""
    runs = [run(tmp_path, sheet, n, 14) for n in (10, 20, 40)]
    verdict = judge(runs, 0.004)
    assert verdict.errors_m is None and verdict.enough is None and verdict.ratio < 1.7
    assert all(0.9 < a["size"] < 1.1 and 0.8 < a["movement"] < 1.25 for a in verdict.alike)


RANGES = [Range(name, (f"/{name}",), 1.0, 2.0, False) for name in "abcd"] + [Range("n", ("/n",), 2.0, 40.0, True)]


@given(seed=st.integers(0, 10**6))
def test_a_screening_turns_every_dial_once_a_walk(seed):
    planned = design(RANGES, 3, seed)
    assert len(planned.trials) == 18 and sorted(planned.turned) == sorted([-1] * 3 + [0, 1, 2, 3, 4] * 3)
    values = [[p["value"] for p in t.patch] for t in planned.trials]
    for k, which in enumerate(planned.turned):
        if which >= 0:  # just that dial is another one than before
            assert [i for i in range(5) if values[k][i] != values[k - 1][i]] == [which]
    for one, column in zip(RANGES, zip(*values, strict=True), strict=True):
        assert all(one.low <= v <= one.high for v in column)
    assert all(isinstance(v[4], int) for v in values)
    assert planned == design(RANGES, 3, seed)


def test_the_effects_of_a_known_model_are_its_coefficients():
    """Motion 3 a + b away at a turn of half a range (2/3 of a step), time growing with n alone."""
    planned = design(RANGES, 4, 7)
    values = np.array([[p["value"] for p in t.patch] for t in planned.trials])
    result = values @ np.array([3.0, 1.0, 0.0, 0.0, 0.0])
    moved = [None if k == 0 else abs(float(result[k] - result[k - 1])) for k in range(len(result))]
    moved = [None if t < 0 else m for t, m in zip(planned.turned, moved, strict=True)]
    seconds = [0.01 * v for v in values[:, 4]]
    found = effects([r.label for r in RANGES], planned.turned, moved, seconds)
    assert [e.label for e in found][:2] == ["a", "b"]
    by = {e.label: e for e in found}
    assert by["a"].moved_m == pytest.approx(2.0, rel=1e-4) and by["b"].moved_m == pytest.approx(2 / 3, rel=1e-4)
    assert by["n"].moved_m == 0.0 and by["n"].cost > 2 and by["a"].cost == pytest.approx(1.0)
    assert in_words(by["n"], 2.0).startswith("changes nothing you can see, and changes the time")
    assert in_words(by["a"], 2.0) == "changes the motion most, and costs nothing"
    with pytest.raises(Problem, match="wider range"):
        design([Range("flat", ("/f",), 1.0, 1.0, False), RANGES[0]], 2, 1)
    with pytest.raises(Problem, match="6 walks would be"):
        design([*RANGES, *RANGES], 6, 1)


def test_runs_whose_figures_still_come_nearer_are_too_coarse_and_not_chaotic():
    """Size and movement off by 40, then 12%: settling; by 10 then 11%: not; all within 3% from the first: alike."""
    assert _settles([{"size": 1.4, "movement": 0.7}, {"size": 1.12, "movement": 0.95}])
    assert not _settles([{"size": 1.1, "movement": 0.7}, {"size": 1.11, "movement": 0.95}])
    assert not _settles([{"size": 1.02, "movement": 0.99}, {"size": 1.01, "movement": 1.0}])
