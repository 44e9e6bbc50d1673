"""The open point-cache interchange format (.abc), through alembic3d: meshes and their motion."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.exchange.contents import (
    Contents,
    FilePart,
    check_size,
    cut_polygons,
    make_part,
    sequence_part,
)
from zembrik.core.exchange.read_gltf import keeps_size
from zembrik.core.problem import Problem

Floats = NDArray[np.float64]
DEEPEST = 200
MOST_MOMENTS = 20_000


def read_abc(data: bytes, name: str) -> Contents:
    """Return the contents of a point cache; it says neither unit nor axes (usually Y is up).

    Raises:
        Problem: for what is broken.
    """
    from alembic3d import Abc

    with tempfile.TemporaryDirectory(prefix="zembrik-") as folder:
        path = Path(folder) / "taken.abc"
        path.write_bytes(data)
        try:
            archive = Abc.IArchive(str(path))
            parts: list[FilePart] = []
            _walk(archive.getTop(), [], "", parts, name)
        except Problem:
            raise
        except Exception as error:  # the library's own exceptions share no class
            text = (str(error).strip().splitlines() or [""])[-1][:120]
            raise Problem(f"the file is no sound point cache: {text}", name, "Export it again.") from None
    check_size(parts, name)
    return Contents("point cache", parts)


def _walk(node: Any, chain: list[Any], path: str, parts: list[FilePart], name: str) -> None:
    from alembic3d import AbcGeom

    if len(chain) > DEEPEST:
        raise Problem("its hierarchy is too deep.", name, "Flatten it before exporting.")
    for number in range(node.getNumChildren()):
        child = node.getChild(number)
        own = f"{path}/{child.getName()}" if path else child.getName()
        header = child.getHeader()
        if AbcGeom.IXform.matches(header):
            _walk(child, [*chain, AbcGeom.IXform(node, child.getName()).getSchema()], own, parts, name)
        elif AbcGeom.IPolyMesh.matches(header):
            schema = AbcGeom.IPolyMesh(node, child.getName()).getSchema()
            if part := _part(schema, chain, own, name):
                parts.append(part)
            _walk(child, chain, own, parts, name)
        else:
            _walk(child, chain, own, parts, name)


def _times(schema: Any) -> list[float]:
    sampling, count = schema.getTimeSampling(), schema.getNumSamples()
    if count > MOST_MOMENTS:
        raise Problem(f"it has {count:,} moments of time.", "", "Hand in fewer frames.")
    return [float(sampling.getSampleTime(k)) for k in range(count)]


def _part(schema: Any, chain: list[Any], path: str, name: str) -> FilePart | None:
    where = f"{name}, part '{path}'"
    moments = set()
    for moving in [schema, *chain]:
        if not moving.isConstant():
            moments |= set(_times(moving))
    times = sorted(moments)
    first = times[0] if times else 0.0
    points, faces = _raw(schema, first, where)
    transform = _world(chain, first)
    if len(times) < 2:
        return make_part(path, points, faces, transform, name)
    poses = np.array([_world(chain, t) for t in times])
    from_start = np.array(times) - times[0]
    if schema.isConstant() and keeps_size(poses):
        return make_part(path, points, faces, transform, name, from_start, poses)
    if not (schema.getFaceCountsProperty().isConstant() and schema.getFaceIndicesProperty().isConstant()):
        forms = [make_part("", *_raw(schema, t, where), m, where) for t, m in zip(times, poses, strict=True)]
        return sequence_part(path, forms, from_start, transform)
    shapes = []
    for t, m in zip(times, poses, strict=True):
        moved = _points(schema, t)
        if moved.shape != points.shape:
            raise Problem(
                f"its number of points changes at {t:g} s, but its faces do not.", where, "Export the file again."
            )
        shapes.append(moved @ m[:3, :3].T + m[:3, 3])
    return make_part(path, points, faces, transform, name, from_start, None, np.array(shapes))


def _raw(schema: Any, seconds: float, where: str) -> tuple[Floats, NDArray[np.int64]]:
    """Return points (n, 3) and triangles (m, 3) at a moment, before any transform."""
    points = _points(schema, seconds)
    counts = _numbers(schema.getFaceCountsProperty().getValue(_at(seconds)))
    corners = _numbers(schema.getFaceIndicesProperty().getValue(_at(seconds)))
    faces = cut_polygons(counts, corners, points, where).astype(np.int64)
    return points, faces[:, ::-1]  # its faces turn the other way


def _at(seconds: float) -> Any:
    from alembic3d import Abc

    return Abc.ISampleSelector(seconds)


def _points(schema: Any, seconds: float) -> Floats:
    return np.array(memoryview(schema.getPositionsProperty().getValue(_at(seconds))), dtype=np.float64).reshape(-1, 3)


def _numbers(array: Any) -> NDArray[np.int64]:
    return np.array(memoryview(array), dtype=np.int64).reshape(-1)


def _world(chain: list[Any], seconds: float) -> Floats:
    out = np.eye(4)
    for schema in chain:  # from the top down
        sample = schema.getValue(_at(seconds))
        matrix = sample.getMatrix()
        # The library multiplies rows from the left.
        local = np.array([[matrix[i][j] for j in range(4)] for i in range(4)], dtype=np.float64).T
        out = out @ local if sample.getInheritsXforms() else local
    return out
