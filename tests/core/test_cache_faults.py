"""Whatever stands in a cache's folder: it is read, or told in a sentence; nothing endless, nothing lost."""

import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from tests.core.test_intake import usd_bytes
from zembrik.core.bake import bake
from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.delivery import Order, prepare
from zembrik.core.problem import Problem
from zembrik.core.rebake import rebake
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup

ROOT = Path(__file__).resolve().parents[2]


@pytest.fixture
def copy(baked, tmp_path):
    shutil.copytree(baked.path, tmp_path / "copy.zarr")
    return tmp_path / "copy.zarr"


def edit(folder, change):
    """Change a cache's attributes, without telling its sum."""
    document = json.loads((folder / "zarr.json").read_bytes())
    document["attributes"] = change(document["attributes"])
    (folder / "zarr.json").write_text(json.dumps(document))


@pytest.mark.parametrize(
    "change",
    [
        lambda a: [a], lambda a: None, lambda a: {}, lambda a: {**a, "frames": "many"}, lambda a: {**a, "frames": [1]},
        lambda a: {**a, "frames": [1, 10**9]}, lambda a: {**a, "frames": [12, 1]}, lambda a: {**a, "fps": 0},
        lambda a: {**a, "fps": "24"}, lambda a: {**a, "done": 9_999_999}, lambda a: {**a, "done": "all"},
        lambda a: {**a, "done": True},
    ],
)  # fmt: skip
def test_attributes_that_are_none_are_told(copy, change):
    start = time.monotonic()
    edit(copy, change)
    with pytest.raises(Problem):
        Cache(copy).damage()
    assert time.monotonic() - start < 2.0


@pytest.mark.parametrize("text", ["[1, 2]", "{}", "3", "", "[" * 100_000])
def test_a_description_that_is_none_is_told(copy, text):
    (copy / "zarr.json").write_text(text)
    with pytest.raises(Problem, match="cannot be read"):
        Cache(copy)


def test_strange_folders_do_no_harm_and_changed_words_are_found(copy):
    (copy / "bodies" / "notes").mkdir()
    (copy / "bodies" / "notes" / "zarr.json").write_text("[]")
    assert Cache(copy).names == ["sheet"] and Cache(copy).damage() == []
    edit(copy, lambda a: {**a, "fps": 25})
    (told,) = Cache(copy).damage()
    assert "was changed after it was baked" in told
    points = copy / "bodies" / "0" / "points" / "zarr.json"
    points.write_text(points.read_text().replace('"shape"', '"form"'))
    with pytest.raises(Problem, match=r"the array's zarr\.json"):
        Cache(copy).points(0, 1)


def mended(folder, sheet, tmp_path):
    (tmp_path / "setup.json").write_text(json.dumps(sheet))
    done = subprocess.run(
        [sys.executable, "-m", "zembrik.cli", "mend", str(tmp_path / "setup.json"), str(folder)],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return done.stdout


def test_mending_says_what_it_mended(baked, copy, sheet, tmp_path):
    """Faces, one figure, and a folder of figures that is gone; the same bytes come back."""
    shutil.rmtree(copy / "bodies" / "0" / "faces")
    assert "1 mesh written anew" in mended(copy, sheet, tmp_path)
    (copy / "stats" / "top_speed" / "c" / "0").unlink()
    shutil.rmtree(copy / "stats" / "passes" / "c")
    assert "2 figures written anew" in mended(copy, sheet, tmp_path)
    for name in ("top_speed", "passes", "energy_balance"):
        assert np.array_equal(Cache(copy).figure(f"stats/{name}"), baked.figure(f"stats/{name}"))
    assert "nothing to mend" in mended(copy, sheet, tmp_path)
    assert rebake(parse_setup(sheet), NoAssets(), copy) == []


def test_a_cache_of_an_earlier_edition_has_the_figures_it_has(copy):
    """Without the list of its figures it has the first ten; others are not measured, and it cannot be gone on with."""
    edit(copy, lambda a: {k: v for k, v in a.items() if k not in ("figures", "crc32c")})
    held = Cache(copy)
    assert len(held.figure("stats/top_speed")) == held.frame_count and len(held.figure("stats/volume")) == 0
    assert held.damage() == []
    with pytest.raises(Problem, match="begun by an earlier version"):
        bake(parse_setup({**held.attributes["setup"], "frames": [1, 14]}), NoAssets(), copy, resume=True)


def test_bodies_whose_names_become_alike_are_all_delivered(tmp_path):
    """Five bodies, one name once it is fit for files; also where small letters and capitals are the same."""
    names = ["a b", "a.b", "A_b", "a_b_2", "a_b"]
    bodies = [{"name": n, "role": "rigid", "mesh": {"shape": "box", "size": [0.1, 0.1, 0.1]}, "proxy": {"kind": "box"},
               "place": {"translate": [k, 1, 0]}} for k, n in enumerate(names)]  # fmt: skip
    cache = bake(parse_setup({"frames": [1, 2], "bodies": bodies}), NoAssets(), tmp_path / "c.zarr")
    parts = prepare(cache, Order("usda")).parts
    assert [p.name for p in parts] == names
    assert len({p.file_name.lower() for p in parts}) == 5


def test_import_takes_the_unit_and_axis_that_a_file_says(tmp_path):
    """A stage in centimetres with Z up, turning from frame 0 on; what is asked otherwise is done, and said."""
    (tmp_path / "a.usda").write_bytes(usd_bytes("usda", moving=True))

    def taken(*more):
        return subprocess.run(
            [sys.executable, "-m", "zembrik.cli", "import", "a.usda", f"{len(more)}.zarr", *more], cwd=tmp_path,
            capture_output=True, text=True, check=False, env={**os.environ, "PYTHONPATH": str(ROOT / "src")},
        )  # fmt: skip

    assert taken().returncode == 0
    held = Cache(tmp_path / "0.zarr")
    assert np.ptp(held.points(0, held.first), axis=0).max() == pytest.approx(0.02, rel=1e-3)
    told = taken("--unit", "m")
    assert "The file says its unit is cm; it is read as m, as asked." in told.stderr
    assert np.ptp(Cache(tmp_path / "2.zarr").points(0, held.first), axis=0).max() == pytest.approx(2.0, rel=1e-3)


def test_paths_on_the_command_line_are_seen_from_where_it_is_called(tmp_path, sheet):
    (tmp_path / "mine.json").write_text(json.dumps(sheet))
    done = subprocess.run(
        [ROOT / "zembrik", "check", "mine.json"], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert "no such" not in done.stderr.lower() and done.returncode in (0, 1)
