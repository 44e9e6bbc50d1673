"""The open point-cache interchange format (.abc), through alembic3d: meshes and their motion."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any, NamedTuple

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
NO_MESHES = {"Points": "points", "Curve": "curves", "NuPatch": "patches"}  # by what their kind is called in the file


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
            found = _Found([], {}, [])
            _walk(archive.getTop(), [], "", parts, name, found)
        except Problem:
            raise
        except Exception as error:  # the library's own exceptions share no class
            text = (str(error).strip().splitlines() or [""])[-1][:120]
            raise Problem(f"the file is no sound point cache: {text}", name, "Export it again.") from None
    notes = [f"Left out as {kind}: {', '.join(paths[:3])[:200]}." for kind, paths in found.left.items()]
    if found.subdivided:
        notes.append(f"Subdivision surfaces come in as their control meshes: {', '.join(found.subdivided[:3])[:200]}.")
    check_size(parts, name)
    moving = [p.times_s for p in parts if len(p.times_s) > 1]
    step = float(np.median(np.diff(moving[0]))) if moving else 0.0
    begins = round(min(found.starts) / step) if step > 0.0 and found.starts else None
    return Contents("point cache", parts, notes=notes, begins=begins)


class _Found(NamedTuple):
    """What is noted on the way: when moving parts begin (s), what is left out by its kind, and subdivision surfaces."""

    starts: list[float]
    left: dict[str, list[str]]
    subdivided: list[str]


def _walk(node: Any, chain: list[Any], path: str, parts: list[FilePart], name: str, found: _Found) -> None:
    from alembic3d import AbcGeom

    if len(chain) > DEEPEST:
        raise Problem("its hierarchy is too deep.", name, "Flatten it before exporting.")
    for number in range(node.getNumChildren()):
        child = node.getChild(number)
        own = f"{path}/{child.getName()}" if path else child.getName()
        header = child.getHeader()
        if AbcGeom.IXform.matches(header):
            _walk(child, [*chain, AbcGeom.IXform(node, child.getName()).getSchema()], own, parts, name, found)
            continue
        kind = next((k for k in (AbcGeom.IPolyMesh, AbcGeom.ISubD) if k.matches(header)), None)
        if kind is not None:
            if part := _part(kind(node, child.getName()).getSchema(), chain, own, name, found.starts):
                parts.append(part)
            if kind is AbcGeom.ISubD:
                found.subdivided.append(own)
        elif (what := str(child.getMetaData().get("schema")).split("_")[-2:-1]) and what[0] in NO_MESHES:
            found.left.setdefault(NO_MESHES[what[0]], []).append(own)
        _walk(child, chain, own, parts, name, found)


def _times(schema: Any) -> list[float]:
    sampling, count = schema.getTimeSampling(), schema.getNumSamples()
    if count > MOST_MOMENTS:
        raise Problem(f"it has {count:,} moments of time.", "", "Hand in fewer frames.")
    return [float(sampling.getSampleTime(k)) for k in range(count)]


def _part(schema: Any, chain: list[Any], path: str, name: str, starts: list[float]) -> FilePart | None:
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
    starts.append(times[0])
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
