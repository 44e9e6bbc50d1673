"""Caches that were handed in, and caches that play in other shots."""

import zipfile
from pathlib import Path

import numpy as np
import pytest
import zarr
from scipy.spatial.transform import Rotation

from zembrik.core.bake import bake, hash_of
from zembrik.core.cache.between import points_at
from zembrik.core.cache.content import body_hash
from zembrik.core.cache.layout import chunk_path
from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.delivery import Order, deliver
from zembrik.core.exchange.into_cache import cache_from, frames_of, rate_of
from zembrik.core.exchange.obj import write_obj
from zembrik.core.exchange.read_any import read_contents
from zembrik.core.exchange.read_sequence import is_sequence, read_sequence, unpacked
from zembrik.core.findings.check import check_setup
from zembrik.core.mesh import shapes
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import FolderAssets, mover_of_body, placed_mesh
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.solver.step import Stepper
from zembrik.core.telling import Stopped
from zembrik.core.units import turn_matrix

EXACT_M = 1e-5
FORMATS = ("glb", "usdc", "usda", "abc", "obj.zip", "ply.zip")


def taken(contents, path, fps=24.0, unit="m", up="y", first=1, **more):
    names = {p.path: p.path.rsplit("/", 1)[-1] or "body" for p in contents.parts}
    return cache_from(contents, path, "from elsewhere", "0" * 64, unit, up, "z", fps, first, names, **more)


def read_back(path, kind):
    data = path.read_bytes()
    if kind.endswith(".zip"):
        return read_sequence(unpacked(data, path.name), path.name)
    return read_contents(data, path.name)


@pytest.mark.parametrize("kind", FORMATS)
def test_what_is_delivered_comes_back_as_the_same_cache(baked, tmp_path, kind):
    """There and back, in centimetres with Z up where the format can say so."""
    unit, up = ("m", "y") if kind == "glb" else ("cm", "z")
    out = tmp_path / f"sheet.{kind}"
    deliver(baked, out, Order(kind, unit=unit, up_axis=up))
    contents = read_back(out, kind)
    assert rate_of(contents) == pytest.approx(24.0) and frames_of(contents, 24.0) == 12
    back = taken(contents, tmp_path / "back.zarr", unit=unit, up=up)
    assert (back.first, back.last, back.done, back.fps) == (1, 12, 12, 24.0)
    assert not back.damage() and back.foreign["file"] == "from elsewhere" and not len(back.figure("stats/contacts"))
    # Formats may cut and order points as they like: each of ours is held against where it was.
    order = [int(np.abs(back.points(0, 1) - p).sum(axis=1).argmin()) for p in baked.points(0, 1)]
    for frame in range(1, 13):
        assert np.abs(back.points(0, frame)[order] - baked.points(0, frame)).max() < 1e-6
    held = zarr.open_group(str(back.path), mode="r")["bodies/0/points"]
    assert np.array_equal(held[5], back.points(0, 6))


@pytest.mark.parametrize("kind", FORMATS)
def test_frame_rates_that_are_no_whole_numbers_and_frames_before_0(sheet, tmp_path, kind):
    """23.976 frames a second from frame -2 on: there and back as many frames, at their times, in their places."""
    setup = parse_setup({**sheet, "fps": 23.976, "frames": [-2, 3]})
    cache = bake(setup, FolderAssets(tmp_path), tmp_path / "slow.zarr")
    deliver(cache, tmp_path / f"slow.{kind}", Order(kind))
    contents = read_back(tmp_path / f"slow.{kind}", kind)
    if contents.first is None:
        assert rate_of(contents) == pytest.approx(23.976, abs=2e-3)
    else:
        assert contents.first == -2
    back = taken(contents, tmp_path / "back.zarr", fps=23.976, first=-2)
    assert (back.first, back.done) == (-2, 3)
    order = [int(np.abs(back.points(0, -2) - p).sum(axis=1).argmin()) for p in cache.points(0, -2)]
    for frame in range(-2, 4):
        assert np.abs(back.points(0, frame)[order] - cache.points(0, frame)).max() < EXACT_M


def test_a_rigid_part_is_kept_as_poses(tmp_path):
    """A box that tumbles in a glTF, and another that stands: poses, a few bytes a frame, in any unit and axes."""
    from zembrik.core.exchange.contents import Contents, FilePart

    times = np.arange(25) / 24.0
    poses = np.tile(np.eye(4), (25, 1, 1))
    poses[:, :3, :3] = Rotation.from_rotvec(np.outer(np.arange(25) * 0.2, [0.6, 0.0, 0.8])).as_matrix()
    poses[:, :3, 3] = np.outer(np.arange(25), [10.0, 4.0, -2.0])
    box = shapes.box((30.0, 20.0, 10.0))
    parts = [FilePart("yard/box", box, times_s=times, poses=poses), FilePart("yard/post", box)]
    cache = taken(Contents("glTF", parts), tmp_path / "a.zarr", unit="cm", up="z", first=-3)
    assert cache.names == ["box", "post"] and cache.is_rigid(0) and cache.is_rigid(1)
    for k in (0, 7, 24):
        inside = box.points @ poses[k, :3, :3].T + poses[k, :3, 3]
        expected = inside[:, [0, 2, 1]] * [0.01, 0.01, -0.01]
        assert np.abs(cache.points(0, -3 + k) - expected).max() < EXACT_M
        assert np.abs(cache.points(1, -3 + k) - cache.points(1, -3)).max() == 0.0


def obj(mesh):
    from io import BytesIO

    out = BytesIO()
    write_obj(out, mesh.points, mesh.faces, "m")
    return out.getvalue()


def test_a_sequence_with_gaps_and_one_whose_points_change(tmp_path):
    """Gaps are told and bridged; another mesh a frame is told, kept, and goes out again as it came in."""
    balls = {f: shapes.ball(0.5 + 0.01 * f, 6 + (f % 3)) for f in range(-2, 4)}
    files = [(f"grow.{f:04d}.obj", obj(m)) for f, m in balls.items()]
    ball = shapes.ball(1.0, 8)
    files += [(f"up_{f}.obj", obj(ball.moved(ball.points + np.array([0, f, 0])))) for f in (-2, 1, 2)]
    assert is_sequence([n for n, _ in files[:6]]) and not is_sequence(["pear.obj", "crate.obj"])
    assert not is_sequence(["bale1.obj", "bale2.obj"])  # two meshes, not two frames
    contents = read_sequence(files, "shelf.zip")
    assert [p.path for p in contents.parts] == ["grow", "up"] and contents.first == -2
    told = " ".join(contents.notes)
    assert "'up': frames -1 to 0 are not there" in told and "'grow' is another mesh from frame to frame" in told
    cache = taken(contents, tmp_path / "s.zarr", first=-2)
    assert cache.changes(0) and not cache.changes(1)
    for f, mesh in balls.items():
        assert np.abs(cache.points(0, f) - mesh.points).max() < 1e-6 and (cache.faces(0, f) == mesh.faces).all()
    assert cache.points(1, 0)[:, 1].mean() == pytest.approx(0.0, abs=1e-6)  # straight from -2 to 1
    assert (points_at(cache, 0, 0.7) == cache.points(0, 0)).all()
    assert not cache.damage()
    for kind in ("usdc", "abc", "obj.zip", "ply.zip"):
        deliver(cache, tmp_path / f"out.{kind}", Order(kind, bodies=("grow",)))
        again = taken(read_back(tmp_path / f"out.{kind}", kind), tmp_path / f"{kind}.zarr", first=-2)
        assert again.changes(0)
        for f, mesh in balls.items():
            assert again.points(0, f).shape == mesh.points.shape and len(again.faces(0, f)) == len(mesh.faces)
            assert np.abs(np.sort(again.points(0, f), axis=0) - np.sort(cache.points(0, f), axis=0)).max() < EXACT_M
    for kind in ("glb", "csv"):
        with pytest.raises(Problem, match="'grow' has other points from frame to frame"):
            deliver(cache, tmp_path / f"out.{kind}", Order(kind))


def test_what_cannot_be_a_cache_is_told_and_leaves_nothing(tmp_path):
    one = read_contents(obj(shapes.box((1, 1, 1))), "a.obj")
    with pytest.raises(Problem, match="no part was chosen"):
        cache_from(one, tmp_path / "n.zarr", "a.obj", "0" * 64, "m", "y", "z", 24.0, 1, {})
    with pytest.raises(Problem, match="between 1 and 1,000"):
        taken(one, tmp_path / "n.zarr", fps=0.5)
    with pytest.raises(Stopped):
        taken(one, tmp_path / "n.zarr", tell=lambda done, total: False)
    with pytest.raises(Problem, match="twice"):
        read_sequence([("a.0001.obj", b""), ("a.1.obj", b"")], "a.zip")
    with pytest.raises(Problem, match="no numbered OBJ or PLY"):
        with zipfile.ZipFile(tmp_path / "x.zip", "w") as archive:
            archive.writestr("note.txt", "pears")
        unpacked((tmp_path / "x.zip").read_bytes(), "x.zip")
    with pytest.raises(Problem, match="broken"):
        unpacked(b"PK\x03\x04 and nothing", "y.zip")
    assert not [p for p in tmp_path.iterdir() if "zarr" in p.name]


def playing(cache, body, **more):
    mesh = {"cache": cache.path.name, "body": body, **more}
    return {"name": "guest", "role": "collider", "mesh": mesh}


def test_a_cache_plays_in_another_shot_shifted_in_time_and_space(baked, tmp_path):
    """At frame f it is where it was in the cache at c(f), turned, scaled and moved; before and after it stands."""
    (tmp_path / "sheet.zarr").symlink_to(baked.path)
    place = {"translate": [3.0, 1.0, -2.0], "rotate": [10.0, 50.0, -20.0], "scale": 1.5}
    body = playing(baked, "sheet", starts=20.0, speed=0.5) | {"place": place}
    setup = parse_setup({"fps": 48, "frames": [1, 80], "bodies": [body]})
    assets = FolderAssets(tmp_path)
    mesh, mover = placed_mesh(setup.bodies[0], assets), mover_of_body(setup, 0, assets)
    for frame, at in ((5, 1.0), (20, 1.0), (24, 2.0), (30, 3.5), (200, 12.0)):
        inside = points_at(baked, 0, at).astype(float)
        expected = 1.5 * inside @ turn_matrix(place["rotate"]).T + place["translate"]
        assert np.abs(mover.points_at(mesh.points, frame) - expected).max() < EXACT_M


def test_a_rigid_body_of_a_cache_carries_with_any_proxy(tmp_path):
    """A slab that falls and turns in one cache is a collider with a hull in another setup: cloth on it goes along."""
    slab = {"name": "slab", "role": "rigid", "mesh": {"shape": "box", "size": [1.0, 0.1, 1.0]},
            "place": {"translate": [0, 1, 0], "rotate": [0, 30, 0]}}  # fmt: skip
    world = {"ground": None, "gravity": [1.0, 0.0, 0.0], "air_density": 0.0}
    first = bake(parse_setup({"frames": [1, 12], "world": world, "bodies": [slab]}), FolderAssets(tmp_path),
                 tmp_path / "slab.zarr")  # fmt: skip
    place = {"translate": [0.0, -1.0, 0.0], "rotate": [0.0, 90.0, 0.0]}  # what went along X goes along -Z
    body = playing(first, "slab", keeps_form=True) | {"place": place, "proxy": {"kind": "hull"}, "friction": 5.0}
    cloth = {"name": "rag", "role": "cloth", "mesh": {"shape": "grid", "size": [0.4, 0.4], "segments": [8, 8]},
             "place": {"translate": [0, 0.055, 0]}, "material": {"preset": "linen", "friction": 5.0}}  # fmt: skip
    setup = parse_setup({"frames": [1, 12], "world": {"ground": None, "air_density": 0.0}, "bodies": [cloth, body]})
    built = build_world(setup, FolderAssets(tmp_path))
    stepper = Stepper(built, 20, 1, 24.0)
    for frame in range(1, 12):
        stepper.advance(frame)
    gone = float(first.pose(0, 12)[0] - first.pose(0, 1)[0])
    assert gone == pytest.approx(0.5 * (11 / 24) ** 2, rel=0.05)
    assert -built.x[:, 2].mean() == pytest.approx(gone, rel=0.05)
    with pytest.raises(Problem, match="the role cloth cannot play a cache"):
        parse_setup({"bodies": [{**playing(first, "slab"), "role": "cloth"}]})


def test_a_cache_that_does_not_cover_the_shot_is_told(baked, tmp_path, sheet):
    """12 frames at 24 a second from frame 5 on: late by 4 frames; from 1 on in a shot of 40: it ends at 12."""
    (tmp_path / "sheet.zarr").symlink_to(baked.path)

    def told(frames, starts):
        guest = playing(baked, "sheet", starts=starts) | {"place": {"translate": [5, 0, 0]}}
        setup = parse_setup({**sheet, "frames": frames, "bodies": [*sheet["bodies"], guest]})
        return {f.code: f for f in check_setup(setup, FolderAssets(tmp_path)) if "cache" in f.code}

    late, short = told([1, 12], 5.0)["late_cache"], told([1, 40], 1.0)["short_cache"]
    assert "begins at frame 5, the shot at 1: for 4 frames" in late.text and "ends at frame 12" in short.text
    assert late.patch[0]["value"] == 1.0 and short.patch[0]["value"] == [1, 12]
    assert not told([1, 12], 1.0)

    def gone_m(frames, starts):
        """How far the guest's points went over the shot's last frames of these."""
        guest = playing(baked, "sheet", starts=starts)
        setup = parse_setup({**sheet, "frames": frames, "bodies": [guest]})
        mover = mover_of_body(setup, 0, FolderAssets(tmp_path))
        points = placed_mesh(setup.bodies[0], FolderAssets(tmp_path)).points
        there = [mover.points_at(points, float(f)) for f in frames]
        return float(np.abs(there[1] - there[0]).max())

    # What was told, and what the remedies make of it: no standing still at the start, none at the end.
    assert gone_m([1, 5], 5.0) == 0.0 < 0.001 < gone_m([1, 5], 1.0)
    assert gone_m([12, 40], 1.0) == 0.0 < gone_m([11, 12], 1.0)


def test_a_bake_depends_on_what_the_cache_holds(baked, tmp_path, sheet):
    """Other frames, another hash; the same frames in another place, the same."""
    import shutil

    def hashed(folder):
        sheet["bodies"][1] = playing(baked, "sheet")
        return hash_of(parse_setup(sheet), FolderAssets(folder))

    for name in ("one", "two"):
        shutil.copytree(baked.path, tmp_path / name / baked.path.name)
    assert hashed(tmp_path / "one") == hashed(tmp_path / "two")
    chunk = chunk_path(tmp_path / "two" / baked.path.name / "bodies/0/points", 3, 0, 0)
    shutil.copy(chunk_path(baked.path / "bodies/0/points", 4, 0, 0), chunk)
    (tmp_path / "two" / baked.path.name / "zarr.json").touch()
    assert hashed(tmp_path / "one") != hashed(tmp_path / "two")
    with pytest.raises(Problem, match="changes its form in the cache"):
        sheet["bodies"][1] = playing(baked, "sheet", keeps_form=True)
        hash_of(parse_setup(sheet), FolderAssets(tmp_path / "one"))
    assert len(body_hash(Cache(Path(baked.path)), 0)) == 64
