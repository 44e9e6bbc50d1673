"""Every mesh format, from files that this project did not write."""

import io
import json
import os
import signal
import struct
import time
import zipfile
from pathlib import Path

import numpy as np
import pytest

from zembrik.core.exchange import apart, kept
from zembrik.core.exchange.read_any import read_contents
from zembrik.core.exchange.read_usd import read_usd
from zembrik.core.problem import Problem

QUADS = np.array([[0, 3, 2, 1], [4, 5, 6, 7], [0, 1, 5, 4], [1, 2, 6, 5], [2, 3, 7, 6], [3, 0, 4, 7]])
CUBE = np.array([[x, y, z] for z in (0.0, 1) for x, y in ((0, 0), (1, 0), (1, 1), (0, 1))])
# Three levels: moved and scaled, turned by 90 degrees about Z, moved again.
WANTED = np.stack([10 - 2 * (CUBE[:, 1] + 2), 2 * (CUBE[:, 0] + 1), 5 + 2 * CUBE[:, 2]], 1)


def signed_volume(mesh):
    a, b, c = (mesh.points[mesh.faces[:, k]] for k in range(3))
    return float((np.cross(a, b) * c).sum() / 6)


def check_cube(contents, wanted=WANTED, volume=8.0):
    (part,) = contents.parts
    order = np.lexsort(part.mesh.points.round(6).T)
    assert part.mesh.points[order] == pytest.approx(wanted[np.lexsort(wanted.round(6).T)], abs=1e-6)
    assert len(part.mesh.faces) == 12
    assert signed_volume(part.mesh) == pytest.approx(volume, rel=1e-6)
    return part


def usd_bytes(kind, moving=False):
    import tempfile

    from pxr import Gf, Usd, UsdGeom, UsdUtils

    with tempfile.TemporaryDirectory() as folder:
        path = f"{folder}/cube.{'usdc' if kind == 'usdz' else kind}"
        stage = Usd.Stage.CreateNew(path)
        UsdGeom.SetStageMetersPerUnit(stage, 0.01)
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
        stage.SetTimeCodesPerSecond(24)
        top = UsdGeom.Xform.Define(stage, "/yard")
        top.AddTranslateOp().Set(Gf.Vec3d(10, 0, 5))
        top.AddScaleOp().Set(Gf.Vec3f(2, 2, 2))
        middle = UsdGeom.Xform.Define(stage, "/yard/stall")
        turn = middle.AddRotateZOp()
        turn.Set(90.0)
        UsdGeom.Xform.Define(stage, "/yard/stall/shelf").AddTranslateOp().Set(Gf.Vec3d(1, 2, 0))
        mesh = UsdGeom.Mesh.Define(stage, "/yard/stall/shelf/crate")
        mesh.CreatePointsAttr([Gf.Vec3f(*map(float, p)) for p in CUBE])
        mesh.CreateFaceVertexCountsAttr([4] * 6)
        mesh.CreateFaceVertexIndicesAttr(QUADS.ravel().tolist())
        if moving:
            for frame in range(25):
                turn.Set(90.0 + 3 * frame, frame)
        stage.GetRootLayer().Save()
        if kind == "usdz":
            UsdUtils.CreateNewUsdzPackage(path, f"{folder}/cube.usdz")
            path = f"{folder}/cube.usdz"
        return Path(path).read_bytes()


def gltf_bytes(binary=True, animated=False):
    import trimesh
    from pygltflib import (
        GLTF2,
        Accessor,
        Animation,
        AnimationChannel,
        AnimationChannelTarget,
        AnimationSampler,
        BufferView,
    )

    scene = trimesh.Scene()
    scene.add_geometry(trimesh.Trimesh(CUBE, trimesh.geometry.triangulate_quads(QUADS), process=False),
                       node_name="crate", geom_name="crate")  # fmt: skip
    data = scene.export(file_type="glb")
    file = GLTF2().load_from_bytes(data)
    number = next(n for n, node in enumerate(file.nodes) if node.mesh is not None)
    file.nodes[number].translation, file.nodes[number].matrix = [1, 2, 0], None
    from pygltflib import Node

    half = float(np.sqrt(0.5))
    file.nodes += [Node(name="stall", children=[number], rotation=[0, 0, half, half]),
                   Node(name="yard", children=[len(file.nodes)], translation=[10, 0, 5], scale=[2, 2, 2])]  # fmt: skip
    file.scenes[0].nodes = [len(file.nodes) - 1]
    for node in file.nodes[:-2]:
        node.children = [c for c in node.children or [] if c != number]
    if animated:
        blob = file.binary_blob()
        times = np.array([0, 0.5, 1.0], "<f4").tobytes()
        moves = np.array([[1, 2, 0], [1, 3, 0], [1, 4, 0]], "<f4").tobytes()
        for extra, width, low, high in ((times, "SCALAR", [0.0], [1.0]), (moves, "VEC3", None, None)):
            file.bufferViews.append(BufferView(buffer=0, byteOffset=len(blob), byteLength=len(extra)))
            file.accessors.append(Accessor(bufferView=len(file.bufferViews) - 1, componentType=5126, count=3,
                                           type=width, min=low, max=high))  # fmt: skip
            blob += extra
        file.set_binary_blob(blob)
        file.buffers[0].byteLength = len(blob)
        many = len(file.accessors)
        file.animations = [Animation(
            samplers=[AnimationSampler(input=many - 2, output=many - 1)],
            channels=[AnimationChannel(sampler=0, target=AnimationChannelTarget(node=number, path="translation"))],
        )]  # fmt: skip
    if not binary:
        from pygltflib import BufferFormat

        file.convert_buffers(BufferFormat.DATAURI)
        return file.gltf_to_json().encode()
    return b"".join(file.save_to_bytes())


def abc_bytes(moving=False):
    import tempfile

    import imath
    from alembic3d import Abc, AbcCoreAbstract, AbcGeom

    with tempfile.TemporaryDirectory() as folder:
        path = f"{folder}/cube.abc"
        archive = Abc.OArchive(path)
        rate = archive.addTimeSampling(AbcCoreAbstract.TimeSampling(1 / 24, 0.0))

        def xform(parent, name, matrix):
            made, sample = AbcGeom.OXform(parent, name), AbcGeom.XformSample()
            sample.setMatrix(imath.M44d(*[float(v) for v in np.asarray(matrix).T.ravel()]))
            made.getSchema().set(sample)
            return made

        def moved(x, y, z, size=1.0):
            out = np.diag([size, size, size, 1.0])
            out[:3, 3] = x, y, z
            return out

        turned = np.array([[0, -1, 0, 0], [1, 0, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]])
        yard = xform(archive.getTop(), "yard", moved(10, 0, 5, 2.0))
        stall = xform(yard, "stall", turned)
        shelf = xform(stall, "shelf", moved(1, 2, 0))
        mesh = AbcGeom.OPolyMesh(shelf, "crate", rate).getSchema()
        counts, corners = imath.IntArray(6), imath.IntArray(24)
        for k in range(6):
            counts[k] = 4
        for k, c in enumerate(QUADS[:, ::-1].ravel()):
            corners[k] = int(c)
        for frame in range(5 if moving else 1):
            points = imath.V3fArray(8)
            for k, p in enumerate(CUBE):
                points[k] = imath.V3f(float(p[0]), float(p[1]), float(p[2]) * (1 + frame))
            mesh.set(AbcGeom.OPolyMeshSchemaSample(points, corners, counts))
        del mesh, shelf, stall, yard, archive
        return Path(path).read_bytes()


def ply_bytes(kind):
    import trimesh

    return trimesh.Trimesh(CUBE, trimesh.geometry.triangulate_quads(QUADS), process=False).export(
        file_type="ply", encoding=kind
    )


PLY_QUADS = (
    "ply\nformat ascii 1.0\nelement vertex 8\nproperty float x\nproperty float y\nproperty float z\n"
    "element face 6\nproperty list uchar int vertex_indices\nend_header\n"
    + "".join(f"{p[0]:g} {p[1]:g} {p[2]:g}\n" for p in CUBE)
    + "".join("4 " + " ".join(map(str, q)) + "\n" for q in QUADS)
).encode()


def stl_bytes(kind):
    import trimesh

    mesh = trimesh.Trimesh(CUBE, trimesh.geometry.triangulate_quads(QUADS), process=False)
    data = mesh.export(file_type=kind)
    return data if isinstance(data, bytes) else data.encode()


@pytest.mark.parametrize("kind", ["usda", "usdc", "usdz"])
def test_usd_with_transforms_three_deep(kind):
    contents = read_contents(usd_bytes(kind), f"cube.{kind}")
    part = check_cube(contents)
    assert (contents.unit_m, contents.up, part.path) == (0.01, "z", "yard/stall/shelf/crate")
    assert part.applied and not part.uneven and not part.mirrored
    assert part.scales == pytest.approx([2, 2, 2])


def test_usd_that_turns_gives_poses():
    """Turning by 3 degrees a frame at 24 a second about the stall: at frame 24 by 72 degrees more."""
    part = read_contents(usd_bytes("usdc", moving=True), "c.usdc").parts[0]
    assert part.times_s == pytest.approx(np.arange(25) / 24)
    turn = part.poses[24, :3, :3] @ np.linalg.inv(part.poses[0, :3, :3])
    assert np.degrees(np.arctan2(turn[1, 0], turn[0, 0])) == pytest.approx(72.0, abs=1e-4)


@pytest.mark.parametrize("binary", [True, False])
def test_gltf_with_transforms_three_deep(binary):
    contents = read_contents(gltf_bytes(binary), "cube.glb")
    part = check_cube(contents)
    assert (contents.unit_m, contents.up) == (1.0, "y")
    assert part.path.startswith("yard/stall/")


def test_gltf_that_moves_gives_poses():
    """The crate moves by 2 along its own Y in a second: along -X by 4, under the stall's turn and the yard's scale."""
    part = read_contents(gltf_bytes(animated=True), "cube.glb").parts[0]
    assert part.times_s[-1] == pytest.approx(1.0)
    way = part.poses[:, :3, 3] - part.poses[0, :3, 3]
    assert way[-1] == pytest.approx([-4, 0, 0], abs=1e-6)
    assert way[24] == pytest.approx([-2, 0, 0], abs=1e-6)


def test_point_cache_with_transforms_three_deep_and_moving_points():
    check_cube(read_contents(abc_bytes(), "cube.abc"))
    part = read_contents(abc_bytes(moving=True), "cube.abc").parts[0]
    assert part.shapes.shape == (5, 8, 3)
    assert part.times_s == pytest.approx(np.arange(5) / 24)
    assert np.ptp(part.shapes[4], axis=0) == pytest.approx([2, 2, 10])
    assert signed_volume(part.mesh) == pytest.approx(8.0)


@pytest.mark.parametrize(
    ("name", "data"),
    [("a.ply", ply_bytes("ascii")), ("b.ply", ply_bytes("binary")), ("c.ply", PLY_QUADS),
     ("a.stl", stl_bytes("stl")), ("b.stl", stl_bytes("stl_ascii"))],
)  # fmt: skip
def test_ply_and_stl(name, data):
    contents = read_contents(data, name)
    check_cube(contents, CUBE, 1.0)
    assert contents.unit_m is None


def test_a_mirrored_transform_keeps_faces_outwards_and_is_told():
    import trimesh

    from zembrik.core.exchange.contents import make_part

    part = make_part("m", CUBE, trimesh.geometry.triangulate_quads(QUADS), np.diag([-1.0, 1, 3, 1]), "f")
    assert part.mirrored and part.uneven
    assert signed_volume(part.mesh) == pytest.approx(3.0)


REAL = {
    "a.usda": usd_bytes("usda"), "a.usdc": usd_bytes("usdc"), "a.usdz": usd_bytes("usdz"), "a.glb": gltf_bytes(),
    "a.gltf": gltf_bytes(False), "a.ply": ply_bytes("binary"), "b.ply": PLY_QUADS, "a.stl": stl_bytes("stl"),
    "a.abc": abc_bytes(moving=True),
    "a.obj": b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 2 3\nf 1 3 4\nf 1 4 2\nf 4 3 2\n",
}  # fmt: skip


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("a.glb", gltf_bytes()[:200], "shorter than it says"),
        ("a.stl", b"\0" * 80 + struct.pack("<I", 1 << 30) + b"\0" * 50, "too short for them"),
        ("a.gltf", b'{"asset": {"version": "2.0"}, "nodes": [{"children": [1]}, {"children": [0]}], "scenes": '
                   b'[{"nodes": [0]}]}', "circle"),
        ("a.gltf", b'{"asset": {"version": "2.0"}, "buffers": [{"uri": "http://elsewhere/x.bin", "byteLength": 36}], '
                   b'"bufferViews": [{"buffer": 0, "byteLength": 36}],"accessors": [{"bufferView": 0, "componentType": '
                   b'5126, "count": 3, "type": "VEC3"}], "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],'
                   b' "nodes": [{"mesh": 0}], "scenes": [{"nodes": [0]}]}', "another file"),
        ("a.glb", b"", "empty"),
        ("a.usdc", b"PXR-USDC" + b"\0" * 100, "not sound USD"),
        ("a.usdz", b"PK\x03\x04nonsense", "broken"),
        ("a.abc", b"Ogawa\xff" + b"\1" * 40, "no sound point cache"),
        ("a.png", b"\x89PNG\r\n\x1a\n" + b"\0" * 90, "none of the mesh formats"),
        ("a.ply", b"solid nothing", "content is something else"),
        ("a.ply", PLY_QUADS.replace(b"1 1 1\n", b"1 nan 1\n"), "not a usable number"),
    ],
)  # fmt: skip
def test_bad_files_are_told(name, data, words):
    with pytest.raises(Problem, match=words):
        read_contents(data, name)


@pytest.mark.parametrize("name", REAL)
def test_mutated_files_are_read_or_refused(name, monkeypatch):
    """2,000 files, bytes changed, cut and doubled at random: each ends in meshes or in a sentence, never in a crash.

    What goes to a library that such files can hang (one binary USD in ten) is given up after 40 ms here; a sound one
    takes 3.
    """
    monkeypatch.setattr(apart, "PATIENCE_S", 0.04)
    data, rng = REAL[name], np.random.default_rng(5)
    for _ in range(2000):
        broken = bytearray(data)
        for _ in range(int(rng.integers(1, 6))):
            at, how = int(rng.integers(len(broken))), int(rng.integers(4))
            if how == 0:
                broken[at] = int(rng.integers(256))
            elif how == 1:
                del broken[at : at + int(rng.integers(1, 40))]
            elif how == 2:
                broken[at:at] = broken[at : at + int(rng.integers(1, 40))]
            else:
                broken[at : at + 4] = struct.pack("<I", int(rng.integers(2**32)))
            broken = broken or bytearray(b"x")
        try:
            for part in read_contents(bytes(broken), name).parts:
                assert np.isfinite(part.mesh.points).all()
                assert part.mesh.faces.max() < len(part.mesh.points)
        except Problem as problem:
            assert problem.what


def test_a_reader_that_dies_or_hangs_costs_only_its_file():
    reader = apart.Reader()
    sound = reader.read(REAL["a.usdc"], "a.usdc", "usdc")
    assert len(sound.parts) == len(read_usd(REAL["a.usdc"], "a.usdc", "usdc").parts)
    first = reader.pid
    os.kill(first, signal.SIGKILL)
    time.sleep(0.2)
    assert len(reader.read(REAL["a.abc"], "a.abc", "abc").parts)  # a new one took over
    assert reader.pid != first
    os.kill(reader.pid, signal.SIGSTOP)
    with pytest.raises(Problem, match="took longer than 1 s"):
        reader.read(REAL["a.abc"], "a.abc", "abc", patience_s=1.0)
    assert reader.stream is None
    assert len(reader.read(REAL["a.abc"], "a.abc", "abc").parts)
    assert reader.room is not None
    room = Path(reader.room.name)
    assert room.is_dir()
    os.kill(reader.pid, signal.SIGSTOP)
    reader.end()
    assert not room.exists()  # nothing of a reader that was killed is left lying about


def zipped(names_and_bytes, compressed):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED if compressed else zipfile.ZIP_STORED) as package:
        for name, data in names_and_bytes:
            package.writestr(name, data)
    return out.getvalue()


def test_hostile_files_are_refused_soon(monkeypatch):
    """A bomb of zeros, a circle of transforms, a hierarchy of ten thousand levels, a hundred thousand parts."""
    monkeypatch.setattr(apart, "PATIENCE_S", 120.0)  # counting the parts is what ends it, on a busy machine too
    bomb = zipped([("a.usda", b"\0" * 300_000_000)], True)
    with pytest.raises(Problem, match="compression"):
        read_contents(bomb, "a.usdz")
    deep = json.dumps({
        "asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}],
        "nodes": [{"children": [k + 1]} for k in range(10_000)] + [{}],
    })  # fmt: skip
    with pytest.raises(Problem):
        read_contents(deep.encode(), "a.gltf")
    mesh = (
        'def Mesh "m%d" {\n point3f[] points = [(0,0,0),(1,0,0),(0,1,0)]\n int[] faceVertexCounts = [3]\n '
        "int[] faceVertexIndices = [0,1,2]\n}"
    )
    many = "#usda 1.0\n" + "\n".join(mesh % k for k in range(20_050))
    with pytest.raises(Problem, match="20,050 parts; the limit is 20,000"):
        read_contents(many.encode(), "a.usda")
    outside = b'#usda 1.0\ndef "x" (references = @/etc/passwd@) {}\n'
    with pytest.raises(Problem):
        read_contents(outside, "a.usda")


LARGE = {
    "a.usdc": lambda: usd_bytes("usdc", moving=True), "a.abc": lambda: abc_bytes(moving=True),
    "a.glb": lambda: gltf_bytes(animated=True), "a.ply": lambda: PLY_QUADS,
}  # fmt: skip


@pytest.mark.parametrize("name", LARGE)
def test_a_large_file_comes_back_from_the_shelf_as_it_was_read(name, monkeypatch, tmp_path):
    """Read anew, from the shelf, and past a broken file on it: the same parts, bit by bit."""
    data = LARGE[name]()
    monkeypatch.setenv("ZEMBRIK_SHELF", str(tmp_path))
    monkeypatch.setattr(kept, "READ_AT_ONCE_BYTES", 10)
    reads = []
    monkeypatch.setattr(kept, "read_contents", lambda d, n: reads.append(n) or read_contents(d, n))

    def plain(contents):
        arrays = kept._to_arrays(contents)
        return {k: (v.dtype, v.shape, v.tobytes()) for k, v in arrays.items()}

    want = plain(read_contents(data, name))
    for count in (1, 1):
        kept._large.clear()
        assert plain(kept.kept_contents(data, name)) == want and len(reads) == count
    (place,) = tmp_path.rglob("*.npz")
    place.write_bytes(place.read_bytes()[:200])
    kept._large.clear()
    assert plain(kept.kept_contents(data, name)) == want and len(reads) == 2
