"""Damaged frames are named, and baked again alone: to the byte as they were."""

import shutil

import numpy as np
import pytest

from zembrik.core.cache.layout import chunk_path
from zembrik.core.cache.lock import lock, unlock
from zembrik.core.cache.reader import Cache
from zembrik.core.problem import Problem
from zembrik.core.rebake import rebake
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.telling import Stopped


def files(path):
    """Return every file's bytes but for computing times, which differ from run to run."""
    every = {p.relative_to(path): p.read_bytes() for p in sorted(path.rglob("*")) if p.is_file()}
    return {name: data for name, data in every.items() if name.parts[0] != "timing"}


@pytest.fixture
def copy(baked, tmp_path):
    path = tmp_path / "sheet.zarr"
    shutil.copytree(baked.path, path)
    return path


def test_what_is_damaged_is_named_and_comes_back_to_the_byte(baked, copy, sheet):
    """A flipped byte at frame 4, a missing frame 9, the faces cut off, a table of figures gone: all told and mended."""
    points = copy / "bodies/0/points"
    damaged = chunk_path(points, 3, 0, 0)
    damaged.write_bytes(damaged.read_bytes()[:-1] + b"?")
    chunk_path(points, 8, 0, 0).unlink()
    faces = chunk_path(copy / "bodies/0/faces", 0, 0)
    faces.write_bytes(faces.read_bytes()[:30])
    chunk_path(copy / "stats/contacts", 0).unlink()
    told = Cache(copy).flaws()
    assert {(f.body, f.frame) for f in told} == {(0, 4), (0, 9), (0, None), (None, None)}
    assert any("frame 4 is damaged" in f.text for f in told) and any("frame 9 is missing" in f.text for f in told)
    seen = []
    assert rebake(parse_setup(sheet), NoAssets(), copy, lambda done, total: seen.append((done, total)) is None) == [
        4,
        9,
    ]
    assert files(copy) == files(baked.path) and seen[-1] == (11, 12)
    assert rebake(parse_setup(sheet), NoAssets(), copy) == []  # nothing to do


def test_only_up_to_the_last_damaged_frame_is_computed(copy, sheet):
    chunk_path(copy / "bodies/0/points", 2, 0, 0).unlink()
    seen = []
    rebake(parse_setup(sheet), NoAssets(), copy, lambda done, total: seen.append(total) is None)
    assert set(seen) == {3}


def test_what_cannot_be_mended_stays_as_it_is(baked, copy, sheet):
    chunk_path(copy / "bodies/0/points", 5, 0, 0).unlink()
    before = files(copy)
    lock(copy, "approved")
    with pytest.raises(Problem, match="approved"):
        rebake(parse_setup(sheet), NoAssets(), copy)
    unlock(copy)
    with pytest.raises(Problem, match="another setup"):
        rebake(parse_setup({**sheet, "quality": {"substeps": 11}}), NoAssets(), copy)
    with pytest.raises(Stopped):
        rebake(parse_setup(sheet), NoAssets(), copy, lambda done, total: done < 3)
    assert files(copy) == before
    shutil.copy(chunk_path(copy / "bodies/0/points", 1, 0, 0), chunk_path(copy / "bodies/0/points", 2, 0, 0))
    with pytest.raises(Problem, match="frame 3 of 'sheet' comes out otherwise"):
        rebake(parse_setup(sheet), NoAssets(), copy)
    assert np.array_equal(Cache(copy).points(0, 3), baked.points(0, 2))
