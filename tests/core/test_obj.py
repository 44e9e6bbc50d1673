"""OBJ: what is read, what is refused, and that writing and reading agree."""

import contextlib
import io

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zembrik.core.exchange.obj import read_obj, write_obj
from zembrik.core.mesh.polygons import triangulate
from zembrik.core.problem import Problem

QUAD = b"v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\n"


def test_polygons_negative_indices_groups_and_both_line_ends():
    text = b"# a comment\r\no chest\r\nv 0 0 0\r\nv 2 0 0\r\nv 2 1 0\r\nv 0 1 0\r\n"
    text += b"vt 0 0\r\ng lid\r\nf -4/1 -3/1 -2/1 -1/1\r\n"
    mesh = read_obj(text)
    assert mesh.groups == ("chest", "lid")
    assert len(mesh.faces) == 2
    assert mesh.face_areas.sum() == pytest.approx(2.0)
    assert (mesh.face_normals[:, 2] > 0.99).all()


def test_a_concave_polygon_is_cut_inside_itself():
    arrow = np.array([[0, 0, 0], [2, 0, 0], [2, 2, 0], [1, 0.5, 0], [0, 2, 0]], dtype=float)
    for turned in (arrow, arrow[::-1]):
        triangles = np.array(triangulate(turned, list(range(5))))
        a, b, c = (turned[triangles[:, k]] for k in range(3))
        areas = np.cross(b - a, c - a)[:, 2] / 2
        assert abs(areas.sum()) == pytest.approx(2.5)
        assert (np.sign(areas) == np.sign(areas[0])).all()


def test_loose_points_stay_outside():
    mesh = read_obj(b"v 9 9 9\n" + QUAD + b"f 2 3 4 5\n")
    assert len(mesh.points) == 4 and mesh.bounds[1].max() == 1.0


@given(st.lists(st.tuples(*[st.floats(-1e6, 1e6, width=32)] * 3), min_size=3, max_size=30))
def test_what_is_written_comes_back_exactly_as_float32(points):
    points = np.array(points, dtype=np.float32)
    faces = np.array([[k, (k + 1) % len(points), (k + 2) % len(points)] for k in range(len(points))], dtype=np.int32)
    out = io.BytesIO()
    write_obj(out, points, faces)
    back = read_obj(out.getvalue())
    assert (back.points.astype(np.float32) == points).all()
    assert (back.faces == faces).all()


REFUSED = {
    "empty": (b"", "empty"),
    "blank": (b"\n\n", "empty"),
    "binary": (b"v 0 0 0\n\0\0\1", "binary"),
    "utf-16": ("v 0 0 0\nf 1 1 1".encode("utf-16"), "UTF-16"),
    "wrong encoding in a number": (b"v 0 \xff 0\n", "line 1: this line is not UTF-8"),
    "no points": (b"f 1 2 3\n", "no points"),
    "no faces": (QUAD, "no faces"),
    "cut off in a point": (QUAD + b"v 1 2", "line 5"),
    "cut off in a face": (QUAD + b"f 1 2", "line 5: a face needs at least three points"),
    "NaN": (b"v 0 nan 0\n" + QUAD + b"f 1 2 3\n", "line 1: a coordinate is not a usable number"),
    "infinite": (b"v 0 inf 0\n" + QUAD + b"f 1 2 3\n", "line 1"),
    "absurdly far": (b"v 0 1e30 0\n" + QUAD + b"f 1 2 3\n", "line 1"),
    "index too high": (QUAD + b"f 1 2 9\n", "line 5: the face names point 9, but the file has points 1 to 4"),
    "index zero": (QUAD + b"f 0 1 2\n", "line 5"),
    "index too far back": (QUAD + b"f -1 -2 -9\n", "line 5"),
    "letters in a face": (QUAD + b"f a b c\n", "line 5: 'a' is not a point"),
    "too many points": (b"v 0 0 0\n" * 4_000_001 + b"f 1 2 3\n", "4,000,001 points; the limit is 4,000,000"),
    "too many bytes": (b"#" * (256 * 1024 * 1024 + 1), "MB"),
}


@pytest.mark.parametrize("case", REFUSED)
def test_what_cannot_be_used_is_told_with_its_place(case):
    data, words = REFUSED[case]
    with pytest.raises(Problem) as told:
        read_obj(data, "chest.obj")
    assert words in str(told.value) and str(told.value).startswith("chest.obj")


def test_a_latin_1_name_does_no_harm():
    assert len(read_obj("o Käse\n".encode("latin-1") + QUAD + b"f 1 2 3\n").faces) == 1


@given(st.lists(st.floats(-9e6, 9e6), min_size=9, max_size=9), st.sampled_from(["%r", "%.17g", "%.6f", "%+.3e", "%g"]))
def test_numbers_are_read_as_python_reads_them(values, form):
    words = [form % v for v in values]
    lines = [f"v {' '.join(words[k : k + 3])}" for k in (0, 3, 6)]
    mesh = read_obj("\r\n".join([*lines, "f 1 2 3"]).encode())
    assert mesh.points.ravel().tolist() == [float(w) for w in words]


def test_a_lattice_of_quads_is_cut_both_ways_by_turns():
    side = 9
    points = "".join(f"v {i} {j} 0\n" for i in range(side) for j in range(side))
    faces = "".join(
        f"f {i * side + j + 1} {(i + 1) * side + j + 1} {(i + 1) * side + j + 2} {i * side + j + 2}\n"
        for i in range(side - 1) for j in range(side - 1)
    )  # fmt: skip
    mesh = read_obj((points + faces).encode())
    assert mesh.face_areas.sum() == pytest.approx((side - 1) ** 2)
    along = mesh.points[mesh.edges[:, 1]] - mesh.points[mesh.edges[:, 0]]
    lean = along[:, 0] * along[:, 1]
    assert (lean > 0).sum() == (lean < 0).sum() == (side - 1) ** 2 / 2


@given(st.binary(max_size=300))
def test_any_bytes_are_read_or_refused(data):
    with contextlib.suppress(Problem):
        read_obj(QUAD + data)
