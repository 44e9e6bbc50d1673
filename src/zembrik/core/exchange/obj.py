"""Wavefront OBJ, the text mesh format: read one, write one."""

from __future__ import annotations

import io
from typing import IO

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem

MOST_POINTS = 4_000_000
MOST_CORNERS = 2_000  # of one face
MOST_BYTES = 256 * 1024 * 1024
FARTHEST = 1e7  # file units; a coordinate beyond this is a damaged number, not a place
TOLD = 60  # bytes of a wrong line that a message shows


def read_obj(data: bytes, name: str = "OBJ") -> TriMesh:
    """Read points and faces of an OBJ file, in the file's own unit and axes.

    Polygons are cut into triangles; negative indices count back from the last point so
    far; group and object names are kept; normals, texture points, materials, curves and
    lines are passed over.

    Raises:
        Problem: with file name and line for anything that cannot be used.
    """
    from zembrik.core.exchange.obj_scan import count_lines, scan_faces  # kernels, which a page does not wait for
    from zembrik.core.mesh.polygons import cut_all

    if len(data) > MOST_BYTES:
        raise Problem(
            f"the file has {len(data) / 1e6:.0f} MB; the limit is {MOST_BYTES / 1e6:.0f} MB.",
            name,
            "Reduce the mesh or split it into parts.",
        )
    _refuse_other_text(data, name)
    for end in (b"\\\n", b"\\\r\n"):
        if end in data:
            data = data.replace(end, b" ")
    text = np.frombuffer(data, dtype=np.uint8)
    count, corners, polygons, names = count_lines(text)
    if not count:
        raise Problem("the file has no points (no line starts with 'v').", name, "Check that it is an OBJ mesh.")
    if count > MOST_POINTS:
        raise Problem(
            f"the mesh has {count:,} points; the limit is {MOST_POINTS:,}.", name, "Reduce it before taking it in."
        )
    points = _points(data, text, count, name)
    sizes, corner = np.zeros(polygons, np.int64), np.zeros(corners, np.int64)
    named = np.zeros((names, 2), np.int64)
    fault, line, begin, end = scan_faces(text, count, sizes, corner, named)
    if fault:
        raise _face_problem(fault, data[begin:end], count, f"{name}, line {line}")
    if len(sizes) and sizes.max() > MOST_CORNERS:
        raise Problem(
            f"a face has {int(sizes.max()):,} corners; the limit is {MOST_CORNERS:,}.", name,
            "Cut it into smaller faces before exporting.",
        )  # fmt: skip
    faces = cut_all(points, sizes, corner)
    groups = tuple(dict.fromkeys(" ".join(_word(data[a:b]).split())[:300] for a, b in named.tolist() if a < b))
    if not len(faces):
        raise Problem(
            "the file has points but no faces, so it has no surface.",
            name,
            "Export it with its faces; a file cut off half way looks like this too.",
        )
    used = np.zeros(len(points), dtype=bool)
    used[faces] = True
    if not used.all():  # Loose points would fall through everything: only the surface comes in.
        renumber = np.cumsum(used) - 1
        points, faces = points[used], renumber[faces]
    return TriMesh(np.ascontiguousarray(points), np.ascontiguousarray(faces, dtype=np.int32), groups)


def _word(data: bytes) -> str:
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def _refuse_other_text(data: bytes, name: str) -> None:
    if not data.strip():
        raise Problem("the file is empty.", name, "Export it again.")
    if b"\0" in data[:65536]:
        if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
            raise Problem("the file is UTF-16 text; an OBJ file is UTF-8 or ASCII.", name, "Save it as UTF-8.")
        raise Problem("the file is binary, not an OBJ text file.", name, "Export it as OBJ text.")
    if data.isascii():
        return
    try:
        data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        # Names and comments are the only place for letters: a Latin-1 name does no harm.
        first = data.rfind(b"\n", 0, error.start) + 1
        broken = data[first : first + 1000].split()[:1]
        if broken and broken[0] in (b"v", b"f"):
            raise Problem("this line is not UTF-8 text.", f"{name}, line {line}", "Save the file as UTF-8.") from None


def _points(data: bytes, text: NDArray[np.uint8], count: int, name: str) -> NDArray[np.float64]:
    from zembrik.core.exchange.obj_scan import scan_points

    values, line = np.empty((count, 3)), np.empty(count, np.int64)
    odd, span = np.zeros(count, np.bool_), np.empty((count, 2), np.int64)
    scan_points(text, values, line, odd, span)
    for row in np.flatnonzero(odd).tolist():  # numbers that need Python's own reading, or are none
        words = _word(data[span[row, 0] : span[row, 1]]).split()
        try:
            values[row] = float(words[1]), float(words[2]), float(words[3])
        except (IndexError, ValueError):
            raise Problem(
                f"a point needs three numbers, this line has '{' '.join(words)[:TOLD]}'.",
                f"{name}, line {line[row]}",
                "The file may be cut off; export it again.",
            ) from None
    bad = ~(np.abs(values) < FARTHEST).all(axis=1)
    if bad.any():
        row = int(np.argmax(bad))
        raise Problem(
            f"a coordinate is not a usable number: '{_word(data[span[row, 0] : span[row, 1]]).strip()[:TOLD]}'.",
            f"{name}, line {line[row]}",
            f"Coordinates must be finite and below {FARTHEST:.0e}; mend the mesh where it was made.",
        )
    return values


def _face_problem(fault: int, at: bytes, count: int, where: str) -> Problem:
    """Return what is wrong with a face; `at` is the word, or for too few points the whole line."""
    from zembrik.core.exchange.obj_scan import NO_NUMBER, NO_POINT, TOO_FEW

    if fault == NO_NUMBER:
        return Problem(f"'{_word(at)[:40]}' is not a point of a face.", where, "Export the mesh again.")
    if fault == NO_POINT:
        told = _word(at).partition("/")[0][:40]
        what = f"the face names point {told}, but the file has points 1 to {count}."
        if told.startswith("-"):
            what = f"the face counts {told[1:]} points back, but fewer than that stand before it."
        return Problem(what, where, "The file may be cut off; export it again.")
    assert fault == TOO_FEW
    return Problem(
        f"a face needs at least three points, this one has {len(_word(at).partition('#')[0].split()) - 1}.",
        where,
        "Delete loose edges before exporting.",
    )


def write_obj(out: IO[bytes], points: NDArray[np.floating], faces: NDArray[np.int32], name: str = "mesh") -> None:
    """Write points (n, 3) and faces (m, 3) as OBJ text; nine digits, so that float32 comes back exactly."""
    text = io.StringIO()
    text.write(f"o {' '.join(name.split())}\n")
    text.write(("v %.9g %.9g %.9g\n" * len(points)) % tuple(np.asarray(points, dtype=np.float64).ravel().tolist()))
    text.write(("f %d %d %d\n" * len(faces)) % tuple((faces.astype(np.int64) + 1).ravel().tolist()))
    out.write(text.getvalue().encode())
