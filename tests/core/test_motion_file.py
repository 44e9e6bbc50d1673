"""Motion from files as keys: what was delivered comes back, and what others wrote goes where they have it."""

import json

import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom
from scipy.spatial.transform import Rotation

from zembrik.core.bake import bake
from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.delivery import Order, deliver
from zembrik.core.exchange.motion_at_frames import at_frames
from zembrik.core.exchange.motion_file import read_motion
from zembrik.core.keys.from_cache import keyed
from zembrik.core.motion.rigid import Mover
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.units import METRES_PER_UNIT

PLACE = (0.4, 1.2, -0.3)


@pytest.fixture(scope="module")
def thrown(tmp_path_factory):
    """A crate on its way over a second, turning."""
    motion = {
        "translate": {"keys": [[1, [0, 0, 0]], [13, [0.6, 0.8, 0.2]], [25, [1.5, 0.1, 0.4]]], "ease": "smooth"},
        "rotate": {"keys": [[1, [0, 0, 0]], [25, [200, 90, 30]]], "ease": "smooth"},
    }
    crate = {
        "name": "crate", "role": "rigid", "mesh": {"shape": "box", "size": [0.3, 0.2, 0.4]},
        "place": {"translate": PLACE, "rotate": [10, 20, 30]}, "motion": motion,
    }  # fmt: skip
    setup = {"frames": [1, 25], "world": {"ground": None}, "bodies": [crate]}
    path = tmp_path_factory.mktemp("thrown") / "thrown.zarr"
    bake(parse_setup(setup), NoAssets(), path)
    return Cache(path)


def points_of(motion, frame, points):
    turn, shift = Mover(motion, PLACE).at(frame)
    return points @ np.asarray(turn).T + shift


@pytest.mark.parametrize(
    ("kind", "unit", "up", "fps"),
    [("csv", "cm", "z", 24), ("json", "in", "y", 24), ("glb", "m", "y", 24), ("usda", "cm", "z", 24),
     ("json", "m", "z", 30), ("usdc", "mm", "y", 60)],
)  # fmt: skip
def test_what_was_delivered_comes_back_as_keys(thrown, tmp_path, kind, unit, up, fps):
    file = tmp_path / f"thrown.{kind}"
    deliver(thrown, file, Order(kind, unit=unit, up_axis=up, fps=fps))
    found = read_motion(file.read_bytes(), file.name, fps)
    track = next(t for t in found.tracks if t.name == "crate")
    if kind != "csv":
        assert found.unit_m == pytest.approx(METRES_PER_UNIT[unit]) and found.up == up
    at = at_frames(track, 1.0, 24.0, METRES_PER_UNIT[unit], up, PLACE)
    assert at.resampled == (fps != 24) and at.poses.first == 1 and len(at.poses.shift) == 25
    # Taken between its moments, it is off by what a cubic is where the ease's acceleration jumps.
    assert (at.off_m < 1e-3 and at.off_deg < 0.3) if at.resampled else (at.off_m < 1e-6 and at.off_deg < 1e-3)
    exact, few = keyed(at.poses, PLACE, 0.0, 0.0), keyed(at.poses, PLACE, 2e-3, 1.0)
    start = thrown.points(0, 1).astype(np.float64)
    # What was resampled on its way out and again on its way in is off twice.
    off = 2e-3 if at.resampled else 1e-5
    for frame in range(1, 26):
        there = thrown.points(0, frame)
        assert np.abs(points_of(exact.motion, frame, start) - there).max() < off
        assert np.abs(points_of(few.motion, frame, start) - there).max() < off + 2e-3 + 0.27 * np.radians(1.0)
    assert few.keys_of_place <= 5


def test_a_table_in_another_order_and_without_seconds_is_the_same(thrown, tmp_path):
    deliver(thrown, tmp_path / "t.csv", Order("csv"))
    lines = (tmp_path / "t.csv").read_text().splitlines()
    cells = [line.split(",") for line in [lines[0], *reversed(lines[1:])]]
    again = "\n".join(",".join(c for k, c in enumerate(row) if k != 1) for row in cells).encode()
    one = read_motion((tmp_path / "t.csv").read_bytes(), "t.csv", 24.0)
    two = read_motion(again, "t.csv", 24.0)
    assert one.first == two.first == 1.0
    assert np.allclose(one.tracks[0].poses, two.tracks[0].poses) and np.allclose(
        one.tracks[0].times_s, two.tracks[0].times_s, atol=1e-6
    )


def test_a_node_without_a_mesh_below_one_that_turns(tmp_path):
    """A locator on the rim of a wheel that turns evenly: its way is the circle, whatever the rate it was written at."""
    stage = Usd.Stage.CreateNew(str(tmp_path / "wheel.usda"))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetTimeCodesPerSecond(48)
    stage.SetFramesPerSecond(48)
    stage.SetStartTimeCode(0)
    wheel = UsdGeom.Xform.Define(stage, "/wheel")
    turn = wheel.AddRotateXOp()
    for k in range(97):
        turn.Set(1.5 * k, k)
    rim = UsdGeom.Xform.Define(stage, "/wheel/rim")
    offset = rim.AddTranslateOp()
    for k in (0, 96):
        offset.Set(Gf.Vec3d(0.0, 50.0, 0.0), k)
    stage.GetRootLayer().Save()
    found = read_motion((tmp_path / "wheel.usda").read_bytes(), "wheel.usda", 24.0)
    assert {t.name for t in found.tracks} == {"wheel", "rim"} and found.first == 0.0
    track = next(t for t in found.tracks if t.name == "rim")
    at = at_frames(track, 5.0, 30.0, 0.01, "z")
    assert at.poses.first == 5 and len(at.poses.shift) == 61 and at.about == pytest.approx([0.0, 0.0, -0.5])
    for k in range(61):
        angle = np.radians(72.0 * k / 30.0)
        there = Rotation.from_quat(at.poses.turn[k]).apply(at.about) + at.poses.shift[k]
        # Z up, about X, from +Y: (0, cos, sin) in the file is (0, sin, -cos) here.
        assert there == pytest.approx(0.5 * np.array([0.0, np.sin(angle), -np.cos(angle)]), abs=2e-5)
    assert at.off_m < 2e-5 and at.off_deg < 1e-3


def table(*rows):
    return ("frame,body,x,y,z,qx,qy,qz,qw\n" + "\n".join(rows)).encode()


GLTF = {"asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [{"name": "still"}]}


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (table(), "no row"),
        (b"frame,body,x,y,z\n1,a,0,0,0", "no column qx, qy, qz, qw"),
        (table("1,a,0,0,0,0,0,0,1", "2,a,0,zero,0,0,0,0,1"), "line 3"),
        (table("1,a,0,0,0,0,0,0,1", "1,a,1,0,0,0,0,0,1"), "two rows for one moment"),
        (table("1,a,0,0,0,0,0,0,0"), "length 0, not 1"),
        (table("1,a,nan,0,0,0,0,0,1"), "not usable"),
        (table("1,a,1e30,0,0,0,0,0,1"), "not usable"),
        (table("nan,a,0,0,0,0,0,0,1"), "no usable|not usable|begins at frame"),
        (table("1e300,a,0,0,0,0,0,0,1"), "begins at frame 1e"),
        (b"frame,seconds,body,x,y,z,qx,qy,qz,qw\n1,0,a,0,0,0,0,0,0,1\n2,1e308,a,0,0,0,0,0,0,1", "no usable"),
        (b"frame,seconds,body,x,y,z,qx,qy,qz,qw\nnan,0,a,0,0,0,0,0,0,1", "begins at frame nan"),
        (b'{"schema": "zembrik.tracks/1", "fps": 24}', "not sound"),
        (b'{"schema": "zembrik.tracks/9", "fps": 24}', "zembrik.tracks/9"),
        (json.dumps(GLTF).encode(), "nothing moves"),
        (b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "nothing of motion"),
        (b"frame,body\xff\xfe", "UTF-8"),
    ],
)
def test_what_is_no_motion_is_told(data, words):
    with pytest.raises(Problem, match=words):
        read_motion(data, "file.csv", 24.0)


def test_a_motion_without_end_is_refused():
    found = read_motion(table("1,a,0,0,0,0,0,0,1", "900000,a,0,0,0,0,0,0,1"), "long.csv", 24.0)
    with pytest.raises(Problem, match="899,999 frames"):
        at_frames(found.tracks[0], 1.0, 24.0, 1.0, "y")
