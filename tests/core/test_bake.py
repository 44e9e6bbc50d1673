"""Bake and cache: readable by plain Zarr, whole frames only, same bytes however it came about."""

import json
import multiprocessing
import shutil
import time
from pathlib import Path

import numpy as np
import pytest
import zarr
from click.testing import CliRunner

from zembrik.cli import main
from zembrik.core.bake import bake
from zembrik.core.cache import writer
from zembrik.core.cache.layout import chunk_path
from zembrik.core.cache.reader import Cache
from zembrik.core.cache.writer import CacheWriter
from zembrik.core.compiled import use_threads
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import FolderAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.sound import BlewUp
from zembrik.core.sources import solver_edition


def files(path):
    """Every file's bytes but the timing, which is the one thing that may differ."""
    return {
        p.relative_to(path): p.read_bytes() for p in sorted(path.rglob("*")) if p.is_file() and "timing" not in p.parts
    }


def test_plain_zarr_reads_it(baked):
    group = zarr.open_group(baked.path, mode="r")
    points = group["bodies/0/points"][:]
    assert group["bodies/0"].attrs["name"] == "sheet"
    assert points.shape == (12, 289, 3) and points.dtype == np.float32
    for frame in range(1, 13):
        assert (points[frame - 1] == baked.points(0, frame)).all()
    assert (group["bodies/0/faces"][:] == baked.faces(0)).all()
    assert group["stats/worst_stretch"][:] == pytest.approx(baked.figure("stats/worst_stretch"))
    assert group.attrs["schema"] == "zembrik.cache/1" and group.attrs["done"] == 12
    assert group.attrs["setup"]["bodies"][0]["material"]["stretch"] == 8000
    assert group.attrs["origins"]["bodies[0].material.stretch"] == "preset linen"


def test_stopped_and_continued_and_lengthened_gives_the_same_bytes(baked, sheet, tmp_path):
    path, assets = tmp_path / "again.zarr", FolderAssets(tmp_path)
    first = parse_setup({**sheet, "frames": [1, 8]})
    part = bake(first, assets, path, tell=lambda progress: progress.frame < 5)
    assert part.done == 5
    use_threads(1)
    bake(first, assets, path, resume=True)
    use_threads(2)
    whole = bake(parse_setup(sheet), assets, path, resume=True)
    assert whole.done == 12
    assert files(path) == files(baked.path)


def test_killed_ten_times_at_random_a_bake_ends_in_the_same_bytes(baked, sheet, tmp_path):
    """Killed (kill -9) at ten random moments; after each, what can be read is whole and right."""
    sheet["frames"] = [1, 160]
    setup, assets = parse_setup(sheet), FolderAssets(tmp_path)
    whole, path = bake(setup, assets, tmp_path / "whole.zarr"), tmp_path / "killed.zarr"
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["zembrik.core.bake"])
    rng, kills, held = np.random.default_rng(7), 0, 0
    while kills < 10:
        process = context.Process(target=_bake_slowly, args=(sheet, str(tmp_path), str(path)))
        process.start()
        until = time.monotonic() + 60
        while process.is_alive() and time.monotonic() < until and (not path.exists() or _done(path) <= held):
            time.sleep(0.01)  # it is at work again
        time.sleep(float(rng.uniform(0.0, 0.06)))
        assert process.is_alive(), "the bake ended before it was killed ten times"
        process.kill()
        process.join()
        kills += 1
        held = _done(path)
        cache = Cache(path)
        assert cache.damage() == []
        for frame in (1, max(1, held // 2), max(1, held)):
            assert cache.points(0, frame).tobytes() == whole.points(0, frame).tobytes()
    done = bake(setup, assets, path, resume=True)
    assert done.done == 160
    for frame in range(1, 161):
        assert done.points(0, frame).tobytes() == whole.points(0, frame).tobytes()


def _bake_slowly(sheet, folder, path):
    """Bake with a rest after each frame, so that there is time to be killed in."""
    bake(
        parse_setup(sheet),
        FolderAssets(Path(folder)),
        Path(path),
        resume=True,
        tell=lambda p: time.sleep(0.015) or True,
    )


def _done(path):
    try:
        return Cache(path).done or 0
    except (Problem, OSError, ValueError, KeyError):
        return 0


def test_a_bake_killed_between_frame_and_commit_goes_on(baked, sheet, tmp_path, monkeypatch):
    """The frame's chunk and checkpoint are there but not committed: it is computed again, to the same bytes."""
    path, assets = tmp_path / "killed.zarr", FolderAssets(tmp_path)
    setup = parse_setup(sheet)

    class Killed(BaseException):
        pass

    def die(progress):
        if progress.frame == 6:
            raise Killed
        return True

    monkeypatch.setattr(CacheWriter, "finish", lambda self: None)  # a killed process finishes nothing
    with pytest.raises(Killed):
        bake(setup, assets, path, tell=die)
    monkeypatch.undo()
    assert (path / "frames.journal").exists() and Cache(path).done == 6
    with (path / "frames.journal").open("ab") as journal:
        journal.write(b"half a record")
    assert Cache(path).figure("stats/contacts")[5] == baked.figure("stats/contacts")[5]
    chunk_path(path / "bodies" / "0" / "points", 6, 0, 0).parent.mkdir(parents=True)
    chunk_path(path / "bodies" / "0" / "points", 6, 0, 0).write_bytes(b"half a fra")
    (path / "checkpoint-1").write_bytes(b"cut off")
    with pytest.raises(Problem, match="frame 7 is not in the cache"):
        Cache(path).points(0, 7)
    bake(setup, assets, path, resume=True)
    assert files(path) == files(baked.path)


def test_another_setup_does_not_continue_it(sheet, tmp_path):
    path, assets = tmp_path / "other.zarr", FolderAssets(tmp_path)
    bake(parse_setup({**sheet, "frames": [1, 2]}), assets, path)
    with pytest.raises(Problem, match="another setup"):
        bake(parse_setup({**sheet, "quality": {"substeps": 11}}), assets, path, resume=True)
    with pytest.raises(Problem, match="a cache already"):
        bake(parse_setup(sheet), assets, path)


def test_a_cache_tells_by_which_editions_of_the_solver_it_is(sheet, tmp_path, monkeypatch):
    """Begun by one edition and carried on by another, it says from which frame on; the frames are all there."""
    path, assets, setup = tmp_path / "a.zarr", FolderAssets(tmp_path), parse_setup(sheet)
    bake(setup, assets, path, tell=lambda p: p.frame < 3)
    first, last = setup.frames
    assert Cache(path).editions == [(first, solver_edition())]
    monkeypatch.setattr(writer, "solver_edition", lambda: "a later one")
    bake(setup, assets, path, resume=True, tell=lambda p: p.frame < 5)
    whole = bake(setup, assets, path, resume=True)
    assert whole.editions == [(first, solver_edition()), (4, "a later one")] and whole.done == last
    told = CliRunner().invoke(main, ["info", str(path)]).output
    assert f"{solver_edition()}; from frame 4 on a later one" in told
    facts = json.loads(CliRunner().invoke(main, ["info", str(path), "--json"]).output)
    assert facts["solver"] == solver_edition() and facts["continued"] == [[4, "a later one"]]


def test_preroll_is_computed_and_not_kept(sheet, tmp_path):
    late = bake(parse_setup({**sheet, "frames": [1, 3], "preroll": 4}), FolderAssets(tmp_path), tmp_path / "late.zarr")
    plain = bake(parse_setup({**sheet, "frames": [1, 7]}), FolderAssets(tmp_path), tmp_path / "plain.zarr")
    assert (late.points(0, 1) == plain.points(0, 5)).all()


@pytest.mark.parametrize("harm", ["missing", "flipped", "short"])
def test_damage_is_found_and_named(baked, tmp_path, harm):
    path = tmp_path / "harmed.zarr"
    shutil.copytree(baked.path, path)
    chunk = chunk_path(path / "bodies" / "0" / "points", 6, 0, 0)
    data = bytearray(chunk.read_bytes())
    if harm == "missing":
        chunk.unlink()
    elif harm == "flipped":
        data[len(data) // 2] ^= 1
        chunk.write_bytes(data)
    else:
        chunk.write_bytes(data[:20])
    damage = Cache(path).damage()
    assert len(damage) == 1 and "'sheet'" in damage[0] and "frame 7" in damage[0]
    assert baked.damage() == []
    with pytest.raises(Problem, match="frame 7"):
        Cache(path).points(0, 7)


def test_a_blow_up_stops_before_it_is_written(sheet, tmp_path, monkeypatch):
    from zembrik.core.solver.step import Stepper

    advance = Stepper.advance

    def burst(self, frame):
        advance(self, frame)
        if frame == 4:
            self.world.x[17] = np.nan

    monkeypatch.setattr(Stepper, "advance", burst)
    with pytest.raises(BlewUp, match=r"frame 5: .*'sheet'.*point 17"):
        bake(parse_setup(sheet), FolderAssets(tmp_path), tmp_path / "burst.zarr")
    held = Cache(tmp_path / "burst.zarr")
    assert held.done == 4 and held.damage() == []


def test_pins_on_nothing_and_flat_faces_are_told(sheet, tmp_path):
    body = sheet["bodies"][0]
    body["pins"] = [{"points": {"box": [[5, 5, 5], [6, 6, 6]]}}]
    with pytest.raises(Problem, match="takes no point"):
        bake(parse_setup(sheet), FolderAssets(tmp_path), tmp_path / "x.zarr")
    del body["pins"]
    (tmp_path / "flat.obj").write_text("v 0 0 0\nv 1 0 0\nv 2 0 0\nv 0 1 0\nf 1 2 4\nf 1 2 3\n")
    body["mesh"] = {"file": "flat.obj"}
    with pytest.raises(Problem, match="1 faces have no area \\(face 1"):
        bake(parse_setup(sheet), FolderAssets(tmp_path), tmp_path / "x.zarr")
    assert not (tmp_path / "x.zarr").exists()
