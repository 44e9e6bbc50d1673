"""Deliveries, each read back by a reader that is not ours."""

import hashlib
import json
import struct
import subprocess
import zipfile
from pathlib import Path

import numpy as np
import pytest

from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.delivery import Order, deliver, manifest_path
from zembrik.core.exchange.obj import read_obj
from zembrik.core.problem import Problem
from zembrik.core.units import METRES_PER_UNIT, from_si, to_si

TOOLS = Path(__file__).parents[1] / "tools"
EXACT_M = 1e-5


@pytest.fixture(scope="module")
def out(tmp_path_factory):
    return tmp_path_factory.mktemp("deliveries")


def test_glb_passes_the_khronos_validator_and_holds_every_frame(baked, out):
    path = out / "sheet.glb"
    deliver(baked, path, Order("glb"))
    command = ["node", str(TOOLS / "validate_gltf.cjs"), str(path)]
    report = json.loads(subprocess.run(command, capture_output=True, text=True, check=True, cwd=TOOLS).stdout)
    assert report["numErrors"] == 0 and report["numWarnings"] == 0, report["messages"]
    head, binary = glb_parts(path.read_bytes())
    primitive = head["meshes"][0]["primitives"][0]
    base = accessor(head, binary, primitive["attributes"]["POSITION"])
    animation = head["animations"][0]
    times = accessor(head, binary, animation["samplers"][0]["input"])
    weights = accessor(head, binary, animation["samplers"][0]["output"]).reshape(len(times), -1)
    targets = [accessor(head, binary, t["POSITION"]) for t in primitive["targets"]]
    assert times == pytest.approx(np.arange(12) / 24)
    for k, frame in enumerate(range(1, 13)):
        points = base + sum(w * t for w, t in zip(weights[k], targets, strict=True) if w)
        assert np.abs(points - baked.points(0, frame)).max() < EXACT_M
    faces = accessor(head, binary, primitive["indices"]).reshape(-1, 3)
    assert (faces == baked.faces(0)).all()


def glb_parts(data):
    length = struct.unpack("<I", data[12:16])[0]
    return json.loads(data[20 : 20 + length]), data[20 + length + 8 :]


def accessor(head, binary, number):
    entry = head["accessors"][number]
    view = head["bufferViews"][entry["bufferView"]]
    width = {"SCALAR": 1, "VEC3": 3}[entry["type"]]
    values = np.frombuffer(
        binary, {5126: "<f4", 5125: "<u4"}[entry["componentType"]], entry["count"] * width, view["byteOffset"]
    )
    return values.reshape(-1, width) if width > 1 else values


@pytest.mark.parametrize("kind", ["usdc", "usda"])
@pytest.mark.parametrize(("unit", "up"), [("m", "y"), ("cm", "z"), ("in", "y")])
def test_usd_is_read_by_pxr(baked, out, kind, unit, up):
    from pxr import Usd, UsdGeom

    path = out / f"sheet-{unit}.{kind}"
    deliver(baked, path, Order(kind, (3, 9), (), unit, up))
    stage = Usd.Stage.Open(str(path))
    assert UsdGeom.GetStageMetersPerUnit(stage) == METRES_PER_UNIT[unit]
    assert UsdGeom.GetStageUpAxis(stage) == up.upper()
    assert (stage.GetStartTimeCode(), stage.GetEndTimeCode(), stage.GetTimeCodesPerSecond()) == (3, 9, 24)
    mesh = UsdGeom.Mesh(stage.GetDefaultPrim().GetChildren()[0])
    assert mesh.GetPointsAttr().GetTimeSamples() == [float(f) for f in range(3, 10)]
    assert (np.array(mesh.GetFaceVertexIndicesAttr().Get()).reshape(-1, 3) == baked.faces(0)).all()
    for frame in range(3, 10):
        points = to_si(np.array(mesh.GetPointsAttr().Get(frame), dtype=np.float64), unit, up)
        assert np.abs(points - baked.points(0, frame)).max() < EXACT_M


def test_obj_sequence(baked, out):
    path = out / "sheet.obj.zip"
    deliver(baked, path, Order("obj.zip", (1, 4)))
    with zipfile.ZipFile(path) as archive:
        assert archive.testzip() is None
        assert archive.namelist() == [f"sheet/sheet.{frame:04d}.obj" for frame in range(1, 5)]
        mesh = read_obj(archive.read("sheet/sheet.0003.obj"))
    assert (mesh.points.astype(np.float32) == baked.points(0, 3)).all()
    assert (mesh.faces == baked.faces(0)).all()


def test_manifest_tells_where_the_file_comes_from(baked, out):
    path = out / "told.usdc"
    manifest = deliver(baked, path, Order("usdc", unit="cm", up_axis="z"))
    assert json.loads(manifest_path(path).read_text()) == manifest
    assert manifest["sha256"] == hashlib.sha256(path.read_bytes()).hexdigest()
    assert manifest["setup_hash"] == baked.attributes["setup_hash"]
    assert (manifest["length_unit"], manifest["up_axis"], manifest["frames"]) == ("cm", "z", [1, 12])


def test_equal_orders_are_equal_bytes(baked, out):
    for kind in ("glb", "obj.zip"):
        files = [out / f"{n}.{kind}" for n in (1, 2)]
        for file in files:
            deliver(baked, file, Order(kind))
        assert files[0].read_bytes() == files[1].read_bytes()


@pytest.mark.parametrize(
    ("order", "words"),
    [
        (Order("fbx"), "no format 'fbx'"),
        (Order("glb", unit="cm"), "always in metres"),
        (Order("usdc", (0, 5)), "not all in the cache"),
        (Order("usdc", (5, 99)), "not all in the cache"),
        (Order("usdc", bodies=("nobody",)), "no body 'nobody'"),
        (Order("usdc", unit="mile"), "'mile'"),
    ],
)
def test_wrong_orders_are_told_and_leave_nothing(baked, tmp_path, order, words):
    with pytest.raises(Problem, match=words):
        deliver(baked, tmp_path / "x.bin", order)
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize("kind", ["glb", "usdc", "obj.zip"])
def test_a_stop_or_a_damaged_frame_leaves_no_half_file(baked, tmp_path, kind):
    import shutil

    with pytest.raises(Problem, match="stopped"):
        deliver(baked, tmp_path / f"x.{kind}", Order(kind), tell=lambda done, total: done < 4)
    shutil.copytree(baked.path, tmp_path / "harmed.zarr")
    (tmp_path / "harmed.zarr/bodies/0/points/c/7/0/0").unlink()
    with pytest.raises(Problem, match="frame 8 is missing"):
        deliver(Cache(tmp_path / "harmed.zarr"), tmp_path / f"x.{kind}", Order(kind))
    assert [p.name for p in tmp_path.iterdir()] == ["harmed.zarr"]


def test_units_and_axes_go_there_and_back():
    points = np.random.default_rng(5).normal(size=(100, 3))
    for unit in METRES_PER_UNIT:
        for up in ("y", "z"):
            assert to_si(from_si(points, unit, up), unit, up) == pytest.approx(points, rel=1e-15)
    up = to_si(np.array([[0.0, 0.0, 100.0]]), "cm", "z")
    assert up == pytest.approx(np.array([[0.0, 1.0, 0.0]]))
