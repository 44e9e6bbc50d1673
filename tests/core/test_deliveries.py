"""Deliveries, each read back by a reader that is not ours."""

import csv
import hashlib
import io
import json
import struct
import subprocess
import zipfile
from pathlib import Path

import jsonschema
import numpy as np
import pytest
import trimesh
from scipy.spatial.transform import Rotation

from zembrik.core.bake import bake
from zembrik.core.cache.reader import Cache
from zembrik.core.exchange import tracks
from zembrik.core.exchange.carried import carried_meshes
from zembrik.core.exchange.delivery import Order, deliver, expected_bytes, manifest_path, prepare
from zembrik.core.exchange.obj import read_obj
from zembrik.core.mesh import shapes
from zembrik.core.mesh.carry import bind, carry
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.motion.rigid import Mover
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import FolderAssets, NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.units import METRES_PER_UNIT, from_si, to_si, turn_matrix
from zembrik.library.demo_shot import obj_bytes

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
    width = {"SCALAR": 1, "VEC3": 3, "VEC4": 4}[entry["type"]]
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


UPRIGHT = (turn_matrix([15, 0, 25]).T @ [0, 1, 0]).tolist()
SPINNING = {
    "name": "drum", "role": "rigid", "mesh": {"shape": "cylinder", "radius": 0.2, "height": 0.3},
    "place": {"translate": [0.3, 1.0, 0.2], "rotate": [15, 0, 25]}, "proxy": {"kind": "hull"},  # its axis is upright:
    "motion": {"spin": {"axis": UPRIGHT, "angle": {"keys": [[1, 0], [49, 1350]], "ease": "smooth"}},
               "translate": {"keys": [[1, [0, 0, 0]], [49, [1, 0, 0]]]}},
}  # fmt: skip


@pytest.fixture(scope="module")
def drum(tmp_path_factory):
    """A drum that a motion turns by 1350 degrees, eased, as a cache."""
    folder = tmp_path_factory.mktemp("drum")
    setup = parse_setup(
        {"frames": [1, 49], "world": {"ground": None}, "bodies": [SPINNING], "quality": {"substeps": 4}}
    )
    return bake(setup, NoAssets(), folder / "drum.zarr")


@pytest.mark.parametrize("unit, up_axis", [("m", "y"), ("cm", "z"), ("in", "z")])
def test_tracks_arrive_at_1350_degrees_and_put_every_point_where_it_is(drum, out, unit, up_axis):
    """Angles do not flip and go all the way round; quaternions and shifts, read back by scipy, are the cache."""
    deliver(drum, out / "drum.csv", Order("csv", unit=unit, up_axis=up_axis))
    with (out / "drum.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert len(rows) == 49 and rows[-1]["seconds"] == "2.000000"
    angles = np.array([[float(r[f"r{a}_deg"]) for a in "xyz"] for r in rows])
    turned = angles[:, 1 if up_axis == "y" else 2]
    assert turned[-1] == pytest.approx(1350.0, abs=1e-3) and (np.diff(turned) >= -1e-6).all()
    start = from_si(drum.points(0, 1), unit, up_axis)
    for row in rows[::8]:
        turn = Rotation.from_quat([float(row[f"q{a}"]) for a in "xyzw"])
        there = turn.apply(start) + [float(row[a]) for a in "xyz"]
        back = to_si(there, unit, up_axis)
        assert np.abs(back - drum.points(0, int(row["frame"]))).max() < EXACT_M
        by_angles = Rotation.from_euler("xyz", [float(row[f"r{a}_deg"]) for a in "xyz"], degrees=True)
        assert (turn * by_angles.inv()).magnitude() < np.radians(0.01)


def test_tracks_as_json_fit_their_schema_and_tell_the_misfit_of_what_deforms(baked, drum, out):
    deliver(baked, out / "tracks.json", Order("json", (2, 11)))
    document = json.loads((out / "tracks.json").read_text())
    published = json.loads((Path(__file__).parents[2] / "docs" / "tracks.schema.json").read_text())
    assert published == tracks.schema()
    jsonschema.validate(document, published)
    (sheet,) = document["bodies"]
    assert document["frames"] == [2, 11] and len(sheet["turn"]) == 10 and sheet["misfit"][-1] > 0.01
    deliver(drum, out / "drum.json", Order("json"))
    assert max(json.loads((out / "drum.json").read_text())["bodies"][0]["misfit"]) < 1e-6


def test_ply_sequence_is_read_by_trimesh(baked, out):
    path = out / "sheet.ply.zip"
    deliver(baked, path, Order("ply.zip", (1, 4), unit="cm", up_axis="z"))
    with zipfile.ZipFile(path) as archive:
        assert archive.namelist() == [f"sheet/sheet.{n:04d}.ply" for n in range(1, 5)]
        mesh = trimesh.load(io.BytesIO(archive.read("sheet/sheet.0004.ply")), file_type="ply", process=False)
    assert np.abs(to_si(mesh.vertices, "cm", "z") - baked.points(0, 4)).max() < EXACT_M
    assert (mesh.faces == baked.faces(0)).all()


def test_another_frame_rate_goes_between_frames_by_velocities(drum, baked, out):
    """The drum at 30 frames a second: rigid to 1e-6 m, within 3 mm of where its eased motion is between frames."""
    path = out / "fast.ply.zip"
    manifest = deliver(drum, path, Order("ply.zip", fps=30.0))
    assert manifest["fps"] == 30.0 and manifest["frames"] == [1, 61] and manifest["cache_frames"] == [1, 49]
    motion = parse_setup({"bodies": [SPINNING]}).bodies[0].motion.model_dump(mode="json")
    motion["spin"]["axis"] = [0, 1, 0]  # as it stands in its place
    mover = Mover(motion, SPINNING["place"]["translate"])
    start = drum.points(0, 1).astype(float)
    lengths = np.linalg.norm(start[1:] - start[:-1], axis=1)
    with zipfile.ZipFile(path) as archive:
        names = archive.namelist()
        assert len(names) == 61
        for k in (1, 7, 30, 44, 60):
            mesh = trimesh.load(io.BytesIO(archive.read(names[k])), file_type="ply", process=False)
            there = np.asarray(mesh.vertices)
            assert np.abs(np.linalg.norm(there[1:] - there[:-1], axis=1) - lengths).max() < 1e-6
            turn, shift = mover.at(1.0 + k * 24.0 / 30.0)
            assert (
                np.linalg.norm(start @ turn.T + shift - there, axis=1).max() < 3e-3
            )  # its turn goes evenly from frame to frame
    deliver(baked, out / "slow.usda", Order("usda", (1, 11), fps=23.976))
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.Open(str(out / "slow.usda"))
    assert stage.GetTimeCodesPerSecond() == pytest.approx(23.976) and stage.GetEndTimeCode() == 10
    mesh = next(UsdGeom.Mesh(p) for p in stage.Traverse() if p.IsA(UsdGeom.Mesh))
    last = np.array(mesh.GetPointsAttr().Get(10.0))
    a, b = baked.points(0, 10), baked.points(0, 11)
    at = 1 + 9 * 24 / 23.976 - 10
    assert 0.0 < at < 0.02 and np.abs(last - (a + at * (b - a))).max() < 5e-4
    for wrong in (0.0, -5.0, 5000.0):
        with pytest.raises(Problem, match="frame rate"):
            deliver(baked, out / "no.csv", Order("csv", fps=wrong))


@pytest.mark.parametrize("kind", ["glb", "usdc", "usda", "obj.zip", "ply.zip", "csv", "json"])
def test_the_size_that_is_told_before_is_about_right(baked, out, kind):
    """Within a factor of two."""
    path = out / f"size.{kind}"
    deliver(baked, path, Order(kind))
    told = expected_bytes(prepare(baked, Order(kind)))
    assert 0.5 < told / path.stat().st_size < 2.0


@pytest.fixture(scope="module")
def copies(tmp_path_factory):
    """Three boxes of one mesh, one of them larger and two turned, thrown about; and a sheet."""
    box = {"role": "rigid", "mesh": {"shape": "box", "size": [0.1, 0.2, 0.3]}, "proxy": {"kind": "box"}}
    places = [([0, 1, 0], [0, 0, 0], 1.0), ([1, 1, 0.5], [20, 40, 60], 2.0), ([-1, 1, 0], [0, 170, 0], 1.0)]
    bodies = [
        {**box, "name": f"box {k}", "place": {"translate": shift, "rotate": turn, "scale": scale}}
        for k, (shift, turn, scale) in enumerate(places)
    ]
    sheet = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [3, 3]}}
    spin = {"axis": [1, 2, 3], "angle": {"keys": [[1, 0.0], [6, 300.0]]}}
    bodies[1] |= {"motion": {"spin": spin}, "release": 2}
    setup = parse_setup({"bodies": [*bodies, sheet], "frames": [1, 6], "world": {"ground": None}})
    path = tmp_path_factory.mktemp("copies") / "c.zarr"
    bake(setup, NoAssets(), path)
    return Cache(path)


@pytest.mark.parametrize(("unit", "up", "fps", "rounds"), [("m", "y", None, 0), ("cm", "z", 48.0, 1)])
def test_copies_in_usd_are_instances_of_one_mesh(copies, out, unit, up, fps, rounds):
    from pxr import Usd, UsdGeom

    order = Order("usdc", None, (), unit, up, fps, subdivided=rounds)
    deliver(copies, out / f"copies-{unit}.usdc", order)
    content = prepare(copies, order)
    stage = Usd.Stage.Open(str(out / f"copies-{unit}.usdc"))
    assert len([p for p in stage.TraverseAll() if p.IsInstance()]) == 3 and len(stage.GetPrototypes()) == 1
    prims = list(Usd.PrimRange(stage.GetDefaultPrim(), Usd.TraverseInstanceProxies()))
    for frame in content.frames:
        for part in content.parts:
            mesh = next(p for p in prims if p.IsA(UsdGeom.Mesh) and f"/{part.file_name}" in str(p.GetPath()))
            place = np.array(UsdGeom.XformCache(frame).GetLocalToWorldTransform(mesh))
            points = np.array(UsdGeom.Mesh(mesh).GetPointsAttr().Get(frame), np.float64)
            away = points @ place[:3, :3] + place[3, :3] - content.points(part, frame)
            assert np.abs(away).max() < EXACT_M / METRES_PER_UNIT[unit], (part.name, frame)


def test_copies_in_gltf_are_nodes_of_one_mesh(copies, out):
    path, order = out / "copies.glb", Order("glb", fps=30.0)
    deliver(copies, path, order)
    command = ["node", str(TOOLS / "validate_gltf.cjs"), str(path)]
    report = json.loads(subprocess.run(command, capture_output=True, text=True, check=True, cwd=TOOLS).stdout)
    assert report["numErrors"] == 0 and report["numWarnings"] == 0, report["messages"]
    head, binary = glb_parts(path.read_bytes())
    assert len(head["meshes"]) == 2 and len({node["mesh"] for node in head["nodes"][:3]}) == 1
    content, (animation,) = prepare(copies, order), head["animations"]
    primitive = head["meshes"][head["nodes"][0]["mesh"]]["primitives"][0]
    own = accessor(head, binary, primitive["attributes"]["POSITION"])
    played = {
        (c["target"]["node"], c["target"]["path"]): accessor(
            head, binary, animation["samplers"][c["sampler"]]["output"]
        )
        for c in animation["channels"]
    }
    for k, part in enumerate(content.parts[:3]):
        scale = head["nodes"][k].get("scale", [1.0])[0]
        for n, frame in enumerate(content.frames):
            turn = Rotation.from_quat(played[k, "rotation"][n]).as_matrix()
            away = (own * scale) @ turn.T + played[k, "translation"][n] - content.points(part, frame)
            assert np.abs(away).max() < EXACT_M, (part.name, frame)
    assert path.stat().st_size < 1.5 * expected_bytes(content) + 4000


@pytest.mark.parametrize("kind", ["usda", "glb", "abc"])
def test_a_body_is_seen_at_its_frames_in_what_is_delivered(copies, out, kind):
    """A rigid body and a sheet from frame 3 to 4: read by pxr, by the numbers of the glTF, by the abc library."""
    seen = {"box 1": [(2, False), (3, True), (5, False)], "sheet": [(2, False), (3, True), (5, False)]}
    path = out / f"seen.{kind}"
    manifest = deliver(copies, path, Order(kind, shown=seen))
    assert manifest["seen"]["sheet"] and manifest["visibility"] == "in the file"
    there = [False, False, True, True, False, False]
    if kind == "usda":
        from pxr import Usd, UsdGeom

        stage = Usd.Stage.Open(str(path))
        for name, right in (("box_1", there), ("sheet", there), ("box_0", [True] * 6)):
            prim = UsdGeom.Imageable(stage.GetPrimAtPath(f"/delivery/{name}"))
            assert [prim.ComputeVisibility(f) != "invisible" for f in range(1, 7)] == right
    elif kind == "glb":
        head, binary = glb_parts(path.read_bytes())
        command = ["node", str(TOOLS / "validate_gltf.cjs"), str(path)]
        report = json.loads(subprocess.run(command, capture_output=True, text=True, check=True, cwd=TOOLS).stdout)
        assert report["numErrors"] == 0 and report["numWarnings"] == 0, report["messages"]
        animation = head["animations"][0]
        sizes = {
            c["target"]["node"]: (animation["samplers"][c["sampler"]], head["nodes"][c["target"]["node"]]["name"])
            for c in animation["channels"]
            if c["target"]["path"] == "scale"
        }
        assert sorted(name for _, name in sizes.values()) == ["box 1", "sheet"]
        for sampler, name in sizes.values():
            assert sampler["interpolation"] == "STEP"
            size = 2.0 if name == "box 1" else 1.0
            assert (accessor(head, binary, sampler["output"])[:, 0] == np.where(there, size, 0.0)).all()
    else:
        from alembic3d import Abc, AbcGeom

        top = Abc.IArchive(str(path)).getTop()
        for number in range(top.getNumChildren()):
            child = top.getChild(number)
            visible = AbcGeom.GetVisibilityProperty(child)
            if child.getName() in ("box_1", "sheet"):
                values = [int(visible.getValue(Abc.ISampleSelector((n + 1) / 24.0 + 1e-6))) != 0 for n in range(6)]
                assert values == there
            else:
                assert not visible.valid()


@pytest.fixture(scope="module")
def carriers(tmp_path_factory):
    """A sheet that carries a finer one, and two boxes that carry the same ball, one of them larger; in a wind."""
    folder = tmp_path_factory.mktemp("carriers")
    for name, mesh in (("fine", shapes.grid((0.9, 0.9), (20, 20))), ("ball", shapes.ball(0.2, 16))):
        (folder / f"{name}.obj").write_bytes(obj_bytes(mesh, name))
    sheet = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [6, 6]},
             "place": {"translate": [0, 1, 0]}, "pins": [{"points": {"side": "left"}}],
             "render": {"mesh": {"file": "fine.obj"}, "place": {"translate": [0, 0.02, 0]}}}  # fmt: skip
    box = {"role": "rigid", "mesh": {"shape": "box", "size": [0.2, 0.2, 0.2]}, "proxy": {"kind": "box"},
           "render": {"mesh": {"file": "ball.obj"}, "place": {"rotate": [0, 0, 30]}}}  # fmt: skip
    places = [{"translate": [3, 1 + k, 0], "rotate": [0, 40 * k, 10], "scale": 1 + k} for k in (0, 1)]
    boxes = [{**box, "name": f"box {k}", "place": place} for k, place in enumerate(places)]
    document = {"bodies": [sheet, *boxes], "frames": [1, 5], "quality": {"profile": "rough"}}
    bake(parse_setup(document), FolderAssets(folder), folder / "c.zarr")
    document["bodies"][1]["place"] = {"translate": [9, 9, 9]}  # moved since: what was baked stands where it stood
    return folder, parse_setup(document), Cache(folder / "c.zarr")


@pytest.mark.parametrize("kind", ["usdc", "glb", "obj.zip"])
def test_what_bodies_carry_is_delivered_in_their_place(carriers, out, kind):
    folder, setup, cache = carriers
    held = carried_meshes(setup, cache, FolderAssets(folder))
    order, path = Order(kind), out / f"carried.{kind}"
    manifest = deliver(cache, path, order, carried=held)
    assert manifest["carried"] == ["sheet", "box 0", "box 1"]
    fine, ball = shapes.grid((0.9, 0.9), (20, 20)).points + np.array([0, 1.02, 0]), shapes.ball(0.2, 16).points
    want = {"sheet": carry(bind(fine, TriMesh(cache.points(0, 1).astype(float), cache.faces(0))), cache.points(0, 5))}
    for k in (0, 1):
        placed = ((1 + k) * ball @ turn_matrix([0, 0, 30]).T) @ turn_matrix([0, 40 * k, 10]).T + [3, 1 + k, 0]
        pose = cache.pose(1 + k, 5)
        want[f"box_{k}"] = placed @ Rotation.from_quat(pose[3:]).as_matrix().T + pose[:3]
    content = prepare(cache, order, held)
    for part in content.parts:
        assert np.abs(content.points(part, 5) - want[part.file_name]).max() < EXACT_M
    if kind == "obj.zip":
        with zipfile.ZipFile(path) as archive:
            mesh = read_obj(archive.read("box_1/box_1.0005.obj"))
            assert np.abs(mesh.points - want["box_1"]).max() < EXACT_M
    elif kind == "usdc":
        from pxr import Usd, UsdGeom

        stage = Usd.Stage.Open(str(path))
        prims = list(Usd.PrimRange(stage.GetDefaultPrim(), Usd.TraverseInstanceProxies()))
        for name, right in want.items():
            mesh = next(p for p in prims if p.IsA(UsdGeom.Mesh) and f"/{name}" in str(p.GetPath()))
            place = np.array(UsdGeom.XformCache(5).GetLocalToWorldTransform(mesh))
            points = np.array(UsdGeom.Mesh(mesh).GetPointsAttr().Get(5), np.float64)
            assert np.abs(points @ place[:3, :3] + place[3, :3] - right).max() < EXACT_M
    else:
        head, _ = glb_parts(path.read_bytes())
        counts = {
            m["name"]: head["accessors"][m["primitives"][0]["attributes"]["POSITION"]]["count"] for m in head["meshes"]
        }
        assert counts == {"box_0": len(ball), "sheet": 441}
    plain = prepare(cache, Order(kind, carried=False), held)
    assert len(plain.points(plain.parts[0], 1)) == 49


def test_what_is_carried_by_another_mesh_than_was_baked_is_told(carriers):
    folder, setup, cache = carriers
    document = setup.document()
    document["bodies"][0]["mesh"]["segments"] = [5, 5]
    with pytest.raises(Problem, match="another mesh than when it was baked"):
        carried_meshes(parse_setup(document), cache, FolderAssets(folder))


@pytest.mark.parametrize(("kind", "fps"), [("usdc", None), ("abc", None), ("usdc", 48.0)])
def test_velocities_are_delivered_for_motion_blur(baked, out, kind, fps):
    """How fast each point goes at each frame, in the file's unit a second, read by pxr and by the abc library."""
    path, order = out / f"fast-{fps}.{kind}", Order(kind, (2, 6), unit="cm", fps=fps)
    deliver(baked, path, order)
    content = prepare(baked, order)
    points = np.array([content.points(content.parts[0], f) for f in content.frames], np.float64)
    right = np.gradient(points, axis=0) * content.fps
    if kind == "usdc":
        from pxr import Usd, UsdGeom

        stage = Usd.Stage.Open(str(path))
        mesh = UsdGeom.Mesh(stage.GetDefaultPrim().GetChildren()[0])
        found = [np.array(mesh.GetVelocitiesAttr().Get(f)) for f in content.frames]
    else:
        from alembic3d import Abc, AbcGeom

        mesh = AbcGeom.IPolyMesh(Abc.IArchive(str(path)).getTop(), content.parts[0].file_name).getSchema()
        found = [np.array([list(v) for v in mesh.getValue(n).getVelocities()]) for n in range(len(points))]
    assert np.abs(np.array(found) - right).max() < 1e-3 * np.abs(right).max()
