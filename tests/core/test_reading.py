"""What mesh files say is taken as they say it, and what is too much or broken is told within seconds."""

import json
import resource
import struct
import subprocess
import sys
import tempfile
import time
import zipfile
from io import BytesIO
from pathlib import Path

import numpy as np
import pytest

from tests.core.test_intake import CUBE, QUADS, check_cube, gltf_bytes, usd_bytes, zipped
from zembrik.core.exchange.apart import Reader
from zembrik.core.exchange.read_any import read_contents
from zembrik.core.findings.check import check_setup
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import FolderAssets, placed_mesh
from zembrik.core.setup.document import parse_setup

DRACO = b'"extensionsRequired": ["KHR_draco_mesh_compression"]'
OBJ = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 2 3\nf 1 3 4\nf 1 4 2\nf 4 3 2\n"


def stage_bytes(make, kind="usda"):
    """Return a stage as a file; make(stage) fills it."""
    from pxr import Usd

    with tempfile.TemporaryDirectory() as folder:
        path = f"{folder}/a.{kind}"
        stage = Usd.Stage.CreateNew(path)
        make(stage)
        stage.GetRootLayer().Save()
        return Path(path).read_bytes()


def crate(stage, path="/crate"):
    from pxr import Gf, UsdGeom

    mesh = UsdGeom.Mesh.Define(stage, path)
    mesh.CreatePointsAttr([Gf.Vec3f(*map(float, p)) for p in CUBE])
    mesh.CreateFaceVertexCountsAttr([4] * 6)
    mesh.CreateFaceVertexIndicesAttr(QUADS.ravel().tolist())
    return mesh


def small_gltf(**accessor):
    return json.dumps({
        "asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "buffers": [{"uri": "data:;base64," + "AAAA" * 12, "byteLength": 36}],
        "bufferViews": [{"buffer": 0, "byteLength": 36}],
        "accessors": [{"componentType": 5126, "type": "VEC3", **accessor}],
    }).encode()  # fmt: skip


def shared_gltf():
    """Two thousand accessors over one data URI, a shape each."""
    blob = "AAAA" * 40_000
    targets = [{"POSITION": k} for k in range(1, 2000)]
    return json.dumps({
        "asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "targets": targets}]}],
        "buffers": [{"uri": "data:;base64," + blob, "byteLength": 120_000}],
        "bufferViews": [{"buffer": 0, "byteLength": 120_000}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "type": "VEC3", "count": 10_000}] * 2000,
    }).encode()  # fmt: skip


def wide_face():
    points = "".join(f"v {np.cos(a):.9f} {np.sin(a):.9f} 0\n" for a in np.linspace(0, 6.28, 200_000))
    return (points + "f " + " ".join(str(k + 1) for k in range(200_000)) + "\n").encode()


def slow_stage():
    def make(stage):
        stage.SetTimeCodesPerSecond(1e-9)
        turn = crate(stage).AddRotateZOp()
        turn.Set(0.0, 0)
        turn.Set(90.0, 48)

    return stage_bytes(make)


def many_frames():
    """A zip of 99,000 numbered meshes."""
    return zipped([(f"m.{k:06d}.obj", OBJ) for k in range(99_000)], True)


HOSTILE = {
    "no view": ("a.gltf", lambda: small_gltf(count=100_000_000), "too short for"),
    "long view": ("a.gltf", lambda: small_gltf(count=2**31 - 1, bufferView=0), "too short for"),
    "below nothing": ("a.gltf", lambda: small_gltf(count=-5, bufferView=0), "too short for"),
    "shared": ("a.gltf", shared_gltf, "too short for"),
    "bomb": ("a.zip", lambda: zipped([("m.0001.obj", b"v 0 0 0\n" * 40_000_000)], True), "would unpack to"),
    "many files": ("a.zip", many_frames, "99,000 files"),
    "wide face": ("a.obj", wide_face, "200,000 corners; the limit is 2,000"),
    "slow stage": ("a.usda", slow_stage, "time codes go by 1e-09 a second"),
    "long ply": ("a.ply", lambda: b"ply\nformat binary_little_endian 1.0\nelement vertex 900000000\nproperty float x\n"
                                  b"end_header\n", "too short for"),
}  # fmt: skip


@pytest.mark.parametrize("what", HOSTILE)
def test_what_takes_more_than_its_size_is_told_soon(what):
    """Each within five seconds once the readers run, and in bounded memory: they are in a process with a limit."""
    name, make, words = HOSTILE[what]
    data = make()
    read_contents(OBJ, "a.obj")
    start = time.monotonic()
    with pytest.raises(Problem, match=words):
        read_contents(data, name)
    assert time.monotonic() - start < 5.0


def test_a_reader_has_memory_for_its_file_and_not_more():
    """A gibibyte asked for by a file of 100 kB is refused; the reader goes on."""
    code = (
        "import sys, numpy as np\nfrom zembrik.core.exchange import apart, read_any\n"
        "def greedy(data, name, kind):\n    return np.ones(2**31 + len(data))\n"
        "apart.read_here = greedy\nimport socket\na, b = socket.socketpair()\nimport os\n"
        "pid = os.fork()\nif pid == 0:\n    a.close(); apart._read_from(b); os._exit(0)\n"
        "import time\nanswer = apart._asked(a, b'x' * 100_000, 'a.obj', 'obj', time.monotonic() + 30)\n"
        "print(answer)\n"
    )
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert "more memory than a file may" in told


def test_usd_is_read_where_the_process_may_take_little_memory():
    """A limit on the whole process is no damage of the file."""
    code = (
        "import resource, sys\nresource.setrlimit(resource.RLIMIT_AS, (6 * 1024**3, 6 * 1024**3))\n"
        "from zembrik.core.exchange.read_any import read_contents\n"
        "print(len(read_contents(sys.stdin.buffer.read(), 'a.usdc').parts))"
    )
    done = subprocess.run([sys.executable, "-c", code], input=usd_bytes("usdc"), capture_output=True, check=True)
    assert done.stdout.strip() == b"1"
    assert resource.getrlimit(resource.RLIMIT_AS)[1] == resource.RLIM_INFINITY


def test_broken_files_do_not_wait_for_one_another():
    """A reader that is busy with a file leaves others for the next one."""
    from zembrik.core.exchange import apart

    held = apart._idle.get()
    try:
        assert read_contents(OBJ, "a.obj").parts
    finally:
        apart._idle.put(held)
    assert isinstance(held, Reader)


def test_usd_takes_nothing_from_outside_of_itself(tmp_path):
    """References, payloads and sublayers by absolute and relative paths are left out and named, also in a package."""
    (tmp_path / "secret.usda").write_bytes(stage_bytes(lambda stage: crate(stage, "/secret")))
    outside = tmp_path / "secret.usda"

    def make(stage):
        from pxr import Sdf

        crate(stage)
        stage.DefinePrim("/taken").GetReferences().AddReference(str(outside), "/secret")
        stage.DefinePrim("/paid").GetPayloads().AddPayload(f"../../..{outside}", "/secret")
        stage.GetRootLayer().subLayerPaths.append(str(outside))
        assert isinstance(stage.GetRootLayer(), Sdf.Layer)

    for kind in ("usda", "usdc"):
        contents = read_contents(stage_bytes(make, kind), f"a.{kind}")
        assert [p.path for p in contents.parts] == ["crate"]
        assert any("secret.usda" in note for note in contents.notes)
    package = BytesIO()
    with zipfile.ZipFile(package, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr("root.usda", f'#usda 1.0\ndef "own" (references = @./parts/crate.usda@</crate>) {{}}\n'
                                      f'def "other" (references = @{outside}@</secret>) {{}}\n')  # fmt: skip
        archive.writestr("parts/crate.usda", stage_bytes(crate))
    contents = read_contents(package.getvalue(), "a.usdz")
    assert [p.path for p in contents.parts] == ["own"]
    assert any("secret.usda" in note for note in contents.notes)


def test_a_file_says_its_unit_and_axes_itself(tmp_path):
    """A stage in centimetres with Z up stands upright and as large as it is; a setup that says otherwise is told."""
    (tmp_path / "a.usda").write_bytes(usd_bytes("usda"))
    plain = {"bodies": [{"name": "crate", "role": "collider", "mesh": {"file": "a.usda"}}]}
    setup = parse_setup(plain)
    points = placed_mesh(setup.bodies[0], FolderAssets(tmp_path)).points
    assert np.ptp(points, axis=0) == pytest.approx([0.02, 0.02, 0.02])
    assert points[:, 1].min() == pytest.approx(0.05)  # its Z
    plain["bodies"][0]["mesh"] |= {"unit": "m", "up_axis": "y"}
    found = [f for f in check_setup(parse_setup(plain), FolderAssets(tmp_path)) if f.code == "against_its_file"]
    assert "in centimetres, and is read as metres; with Z up, and is read with Y up" in found[0].text
    import jsonpatch

    cured = parse_setup(jsonpatch.apply_patch(plain, found[0].patch))
    assert placed_mesh(cured.bodies[0], FolderAssets(tmp_path)).points == pytest.approx(points)


def test_usd_motion_between_two_samples_is_kept():
    """From 0 to 360 degrees in two keys, 24 frames apart, from frame 1001 on: it goes round, 15 degrees a frame."""

    def make(stage):
        stage.SetTimeCodesPerSecond(24)
        stage.SetFramesPerSecond(24)
        stage.SetStartTimeCode(1001)
        stage.SetEndTimeCode(1025)
        turn = crate(stage).AddRotateZOp()
        turn.Set(0.0, 1001)
        turn.Set(360.0, 1025)

    contents = read_contents(stage_bytes(make), "a.usda")
    (part,) = contents.parts
    assert contents.begins == 1001
    assert part.times_s == pytest.approx(np.arange(25) / 24)
    angle = np.degrees(np.unwrap(np.arctan2(part.poses[:, 1, 0], part.poses[:, 0, 0])))
    assert angle == pytest.approx(np.arange(25) * 15.0, abs=1e-3)


def test_a_fast_turn_has_moments_between_frames():
    """Ten times round in a second: 150 degrees a frame, read at least every 60."""

    def make(stage):
        stage.SetTimeCodesPerSecond(24)
        turn = crate(stage).AddRotateZOp()
        turn.Set(0.0, 0)
        turn.Set(3600.0, 24)

    (part,) = read_contents(stage_bytes(make), "a.usda").parts
    angle = np.degrees(np.unwrap(np.arctan2(part.poses[:, 1, 0], part.poses[:, 0, 0])))
    assert angle[-1] == pytest.approx(3600.0, abs=1e-2)


def test_what_usd_holds_besides_meshes_is_told_by_name():
    """Gprims, instancers, purposes and keyed visibility are told; the faces of holes are left out."""

    def make(stage):
        from pxr import Sdf, UsdGeom

        crate(stage).CreateHoleIndicesAttr([0])
        UsdGeom.Sphere.Define(stage, "/ball")
        UsdGeom.PointInstancer.Define(stage, "/many")
        crate(stage, "/stand_in").CreatePurposeAttr(UsdGeom.Tokens.proxy)
        crate(stage, "/unseen").CreateVisibilityAttr(UsdGeom.Tokens.invisible)
        blinks = crate(stage, "/blinks").CreateVisibilityAttr()
        blinks.Set(UsdGeom.Tokens.invisible, 1)
        blinks.Set(UsdGeom.Tokens.inherited, 10)
        assert Sdf

    contents = read_contents(stage_bytes(make), "a.usda")
    assert [p.path for p in contents.parts] == ["crate", "blinks"]
    assert len(contents.parts[0].mesh.faces) == 10
    words = " ".join(contents.notes)
    for told in ("Sphere: /ball", "PointInstancer: /many", "purpose proxy: /stand_in", "invisible: /unseen",
                 "'/blinks' is shown and hidden over time"):  # fmt: skip
        assert told in words


def test_a_point_cache_keeps_subdivision_surfaces_and_its_first_frame(tmp_path):
    """Control meshes come in, points are told by name, and what begins at frame 1001 says so."""
    import imath
    from alembic3d import Abc, AbcCoreAbstract, AbcGeom

    archive = Abc.OArchive(str(tmp_path / "a.abc"))
    rate = archive.addTimeSampling(AbcCoreAbstract.TimeSampling(1 / 24, 1001 / 24))
    mesh = AbcGeom.OSubD(archive.getTop(), "sub", rate).getSchema()
    counts, corners, points = imath.IntArray(6), imath.IntArray(24), imath.V3fArray(8)
    for k in range(6):
        counts[k] = 4
    for k, corner in enumerate(QUADS[:, ::-1].ravel()):
        corners[k] = int(corner)
    for frame in range(3):
        for k, (x, y, z) in enumerate(CUBE):
            points[k] = imath.V3f(float(x), float(y), float(z) + frame)
        mesh.set(AbcGeom.OSubDSchemaSample(points, corners, counts))
    dust = AbcGeom.OPoints(archive.getTop(), "dust").getSchema()
    del mesh, dust, archive
    contents = read_contents((tmp_path / "a.abc").read_bytes(), "a.abc")
    assert [p.path for p in contents.parts] == ["sub"] and contents.begins == 1001
    assert contents.parts[0].shapes.shape == (3, 8, 3)
    assert any("points: dust" in n for n in contents.notes) and any("control meshes: sub" in n for n in contents.notes)


def ply(order, mixed=True):
    """Return a cube of quads with its last one cut, in a byte order ("" for text)."""
    faces = [*map(list, QUADS[:5]), *([[3, 0, 4], [3, 4, 7]] if mixed else [list(QUADS[5])])]
    head = {"": "ascii", "<": "binary_little_endian", ">": "binary_big_endian"}[order]
    text = (
        f"ply\nformat {head} 1.0\ncomment made by hand\nelement vertex 8\nproperty float x\nproperty double y\n"
        f"property float z\nproperty uchar red\nelement face {len(faces)}\nproperty uchar flag\n"
        "property list uchar int vertex_indices\nend_header\n"
    ).encode()
    if order == "":
        rows = "".join(f"{x:g} {y:g} {z:g} 7\n" for x, y, z in CUBE)
        return text + (rows + "".join(f"1 {len(f)} {' '.join(map(str, f))}\n" for f in faces)).encode()
    rows = b"".join(struct.pack(f"{order}fdfB", *p, 7) for p in CUBE)
    return text + rows + b"".join(struct.pack(f"{order}BB{len(f)}i", 1, len(f), *f) for f in faces)


@pytest.mark.parametrize("order", ["", "<", ">"])
@pytest.mark.parametrize("mixed", [True, False])
def test_ply_of_triangles_and_quads(order, mixed):
    check_cube(read_contents(ply(order, mixed), "a.ply"), CUBE, 1.0)
    with pytest.raises(Problem, match="in the middle of its"):
        read_contents(ply(order, mixed)[:-9], "a.ply")


@pytest.mark.parametrize(
    ("name", "data", "words"),
    [
        ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 -7\n", "counts 7 points back, but fewer than that"),
        ("a.stl", b"solid a\n facet normal 0 0 1\n  outer loop\n   vertex 0 0\n", "three corners of three numbers"),
        ("a.stl", b"x" * 80 + b"\0" * 4, "no mesh with faces"),
        ("a.stl", b"x" * 30, "too short to hold any"),
        ("a.glb", gltf_bytes(False).replace(b'"asset"', DRACO + b', "asset"'), "packed by Draco compression"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_told_as_what_it_is(name, data, words):
    with pytest.raises(Problem, match=words):
        read_contents(data, name)


def test_meshes_packed_without_saying_so_are_told():
    """Optional compression without plain data: its accessors lie nowhere."""
    document = json.loads(small_gltf(count=3))
    document["extensionsUsed"] = ["KHR_draco_mesh_compression"]
    document["meshes"][0]["primitives"][0]["extensions"] = {"KHR_draco_mesh_compression": {"bufferView": 0}}
    with pytest.raises(Problem, match="packed by Draco compression"):
        read_contents(json.dumps(document).encode(), "a.gltf")


def test_notes_that_a_system_puts_into_a_zip_do_not_count():
    files = [("m.0001.obj", OBJ), ("m.0002.obj", OBJ), ("__MACOSX/._m.0001.obj", b"\0\5\x16\7"), ("._m.0002.obj", b"x")]
    (part,) = read_contents(zipped(files, True), "a.zip").parts
    assert len(part.times_s) == 2
