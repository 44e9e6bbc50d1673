"""Wavefront OBJ, the text mesh format: read one, write one."""

from __future__ import annotations

import io
from typing import IO

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.polygons import triangulate
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem

MOST_POINTS = 500_000
MOST_BYTES = 64 * 1024 * 1024
FARTHEST = 1e7  # file units; a coordinate beyond this is a damaged number, not a place


def read_obj(data: bytes, name: str = "OBJ") -> TriMesh:
    """Read points and faces of an OBJ file, in the file's own unit and axes.

    Polygons are cut into triangles; negative indices count back from the last point so
    far; group and object names are kept; normals, texture points, materials, curves and
    lines are passed over.

    Raises:
        Problem: with file name and line for anything that cannot be used.
    """
    if len(data) > MOST_BYTES:
        raise Problem(
            f"the file has {len(data) / 1e6:.0f} MB; the limit is {MOST_BYTES / 1e6:.0f} MB.",
            name,
            "Reduce the mesh or split it into parts.",
        )
    text = _decoded(data, name)
    lines = text.replace("\\\r\n", " ").replace("\\\n", " ").splitlines()
    points = _points(lines, name)
    faces, groups = _faces(lines, points, name)
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


def _decoded(data: bytes, name: str) -> str:
    if not data.strip():
        raise Problem("the file is empty.", name, "Export it again.")
    if b"\0" in data[:65536]:
        if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
            raise Problem("the file is UTF-16 text; an OBJ file is UTF-8 or ASCII.", name, "Save it as UTF-8.")
        raise Problem("the file is binary, not an OBJ text file.", name, "Export it as OBJ text.")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        # Names and comments are the only place for letters: a Latin-1 name does no harm.
        broken = data.split(b"\n")[line - 1].split()[:1]
        if broken and broken[0] in (b"v", b"f"):
            raise Problem("this line is not UTF-8 text.", f"{name}, line {line}", "Save the file as UTF-8.") from None
        return data.decode("latin-1")


def _points(lines: list[str], name: str) -> NDArray[np.float64]:
    found = [(number, line) for number, line in enumerate(lines, 1) if line.lstrip()[:2] in ("v ", "v\t")]
    if not found:
        raise Problem("the file has no points (no line starts with 'v').", name, "Check that it is an OBJ mesh.")
    if len(found) > MOST_POINTS:
        raise Problem(
            f"the mesh has {len(found):,} points; the limit is {MOST_POINTS:,}.", name, "Reduce it before taking it in."
        )
    values = np.empty((len(found), 3))
    for row, (number, line) in enumerate(found):
        words = line.split()
        try:
            values[row] = float(words[1]), float(words[2]), float(words[3])
        except (IndexError, ValueError):
            raise Problem(
                f"a point needs three numbers, this line has '{line.strip()[:60]}'.",
                f"{name}, line {number}",
                "The file may be cut off; export it again.",
            ) from None
    bad = ~(np.abs(values) < FARTHEST).all(axis=1)
    if bad.any():
        number, line = found[int(np.argmax(bad))]
        raise Problem(
            f"a coordinate is not a usable number: '{line.strip()[:60]}'.",
            f"{name}, line {number}",
            f"Coordinates must be finite and below {FARTHEST:.0e}; mend the mesh where it was made.",
        )
    return values


def _faces(lines: list[str], points: NDArray[np.float64], name: str) -> tuple[NDArray[np.int64], tuple[str, ...]]:
    triangles: list[tuple[int, int, int]] = []
    groups: dict[str, None] = {}
    seen = 0  # points so far: negative indices count back from here
    for number, line in enumerate(lines, 1):
        words = line.split()
        if not words:
            continue
        if words[0] == "v":
            seen += 1
        elif words[0] == "f":
            polygon = _polygon(words[1:], seen, len(points), f"{name}, line {number}")
            if len(polygon) == 3:
                triangles.append((polygon[0], polygon[1], polygon[2]))
            elif len(polygon) > 3:
                triangles += triangulate(points, polygon)
        elif words[0] in ("g", "o") and len(words) > 1:
            groups[" ".join(words[1:])[:300]] = None
    return np.array(triangles, dtype=np.int64).reshape(-1, 3), tuple(groups)


def _polygon(words: list[str], seen: int, count: int, where: str) -> list[int]:
    polygon: list[int] = []
    for word in words:
        if word.startswith("#"):
            break
        try:
            index = int(word.partition("/")[0])
        except ValueError:
            raise Problem(f"'{word[:40]}' is not a point of a face.", where, "Export the mesh again.") from None
        place = index - 1 if index > 0 else seen + index
        if index == 0 or not 0 <= place < count:
            raise Problem(
                f"the face names point {index}, but the file has points 1 to {count}.",
                where,
                "The file may be cut off; export it again.",
            )
        polygon.append(place)
    if len(polygon) < 3:
        raise Problem(
            f"a face needs at least three points, this one has {len(polygon)}.",
            where,
            "Delete loose edges before exporting.",
        )
    # A point named twice in a row adds no surface.
    return [p for k, p in enumerate(polygon) if p != polygon[k - 1]] if len(set(polygon)) < len(polygon) else polygon


def write_obj(out: IO[bytes], points: NDArray[np.floating], faces: NDArray[np.int32], name: str = "mesh") -> None:
    """Write points (n, 3) and faces (m, 3) as OBJ text; nine digits, so that float32 comes back exactly."""
    text = io.StringIO()
    text.write(f"o {' '.join(name.split())}\n")
    text.write(("v %.9g %.9g %.9g\n" * len(points)) % tuple(np.asarray(points, dtype=np.float64).ravel().tolist()))
    text.write(("f %d %d %d\n" * len(faces)) % tuple((faces.astype(np.int64) + 1).ravel().tolist()))
    out.write(text.getvalue().encode())
