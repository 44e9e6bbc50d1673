"""OpenUSD (usda, usdc, usdz): meshes where the stage puts them, with their animation."""

from __future__ import annotations

import tempfile
import zipfile
from io import BytesIO
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
MOST_UNPACKED = 2_000_000_000  # bytes inside of a usdz
MOST_MOMENTS = 20_000


def read_usd(data: bytes, name: str, kind: str) -> Contents:
    """Return the contents of a USD file; what it takes from other files is left out and told.

    Args:
        kind: "usda", "usdc" or "usdz", by which the library knows it.

    Raises:
        Problem: for what is broken.
    """
    from pxr import Tf, Usd, UsdGeom

    if kind == "usdz":
        _check_package(data, name)
    with tempfile.TemporaryDirectory(prefix="zembrik-") as folder:
        path = Path(folder) / f"taken.{kind}"
        path.write_bytes(data)
        try:
            stage = Usd.Stage.Open(str(path), Usd.Stage.LoadAll)
            if stage is None:
                raise Problem("the file is not sound USD.", name, "Export it again.")
            return _contents(stage, UsdGeom, Usd, name)
        except (Tf.ErrorException, RuntimeError, UnicodeDecodeError):  # its words may quote what is broken
            raise Problem("the file is not sound USD.", name, "Export it again.") from None


def _check_package(data: bytes, name: str) -> None:
    try:
        with zipfile.ZipFile(BytesIO(data)) as package:
            size = sum(info.file_size for info in package.infolist())
            if any(info.compress_type != zipfile.ZIP_STORED for info in package.infolist()):
                raise Problem("it is packed with compression, which usdz never is.", name, "Export it again.")
    except Problem:
        raise
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError):
        raise Problem("the package is broken.", name, "It may be cut off; export it again.") from None
    if size > MOST_UNPACKED:
        raise Problem(f"it would unpack to {size / 1e9:.1f} GB.", name, "Hand in less.")


def _contents(stage: Any, geom: Any, usd: Any, name: str) -> Contents:
    notes, parts = [], []
    missing = sorted(_outside(stage))
    if missing:
        notes.append(f"It takes more from other files, which is left out: {', '.join(missing[:3])[:150]}.")
    rate = float(stage.GetTimeCodesPerSecond()) or 24.0
    for prim in usd.PrimRange(stage.GetPseudoRoot(), usd.TraverseInstanceProxies()):
        if not prim.IsA(geom.Mesh) or not prim.IsActive():
            continue
        if geom.Imageable(prim).ComputeVisibility() == geom.Tokens.invisible:
            notes.append(f"'{prim.GetPath()}' is invisible and left out.")
            continue
        part = _part(geom.Mesh(prim), geom, usd, rate, name)
        if part is not None:
            parts.append(part)
    check_size(parts, name)
    unit = geom.GetStageMetersPerUnit(stage) if geom.StageHasAuthoredMetersPerUnit(stage) else None
    up = str(geom.GetStageUpAxis(stage)).lower() if stage.HasAuthoredMetadata("upAxis") else None
    return Contents("USD", parts, float(unit) if unit else None, up if up in ("y", "z") else None, notes)


def _outside(stage: Any) -> set[str]:
    """Return the names of other files that the stage wants."""
    found: set[str] = set()
    for layer in stage.GetUsedLayers():
        for reference in layer.GetCompositionAssetDependencies():
            if reference:
                found.add(str(reference).rsplit("/", 1)[-1])
    own = {str(layer.identifier).rsplit("/", 1)[-1] for layer in stage.GetUsedLayers()}
    return found - own


def _part(mesh: Any, geom: Any, usd: Any, rate: float, name: str) -> FilePart | None:
    path = str(mesh.GetPath()).strip("/")
    where = f"{name}, part '{path}'"
    moments = sorted({float(t) for t in _moments(mesh, geom)})
    if len(moments) > MOST_MOMENTS:
        raise Problem(f"it has {len(moments):,} moments of time.", where, "Hand in fewer frames.")
    first = usd.TimeCode(moments[0]) if moments else usd.TimeCode.EarliestTime()
    raw = _raw(mesh, first, geom, where)
    if raw is None:
        return None
    points, faces = raw
    transform = _world(mesh, geom, first)
    if len(moments) < 2:
        return make_part(path, points, faces, transform, name)
    poses = np.array([_world(mesh, geom, usd.TimeCode(t)) for t in moments])
    times = (np.array(moments) - moments[0]) / rate
    if not mesh.GetPointsAttr().ValueMightBeTimeVarying() and keeps_size(poses):
        return make_part(path, points, faces, transform, name, times, poses)
    topology = (mesh.GetFaceVertexCountsAttr(), mesh.GetFaceVertexIndicesAttr())
    if any(attribute.ValueMightBeTimeVarying() for attribute in topology):
        forms = [_form(mesh, usd.TimeCode(t), m, geom, where) for t, m in zip(moments, poses, strict=True)]
        return sequence_part(path, forms, times, transform)
    shapes = []
    for t, m in zip(moments, poses, strict=True):
        moved = _points(mesh, usd.TimeCode(t))
        if moved is None or moved.shape != points.shape:
            raise Problem(
                f"its number of points changes at time {t:g}, but its faces do not.", where, "Export the file again."
            )
        shapes.append(moved @ m[:3, :3].T + m[:3, 3])
    return make_part(path, points, faces, transform, name, times, None, np.array(shapes))


def _raw(mesh: Any, time: Any, geom: Any, where: str) -> tuple[Floats, NDArray[np.int64]] | None:
    """Return points (n, 3) and triangles (m, 3) at a time, before any transform; None where there are none."""
    points = _points(mesh, time)
    counts, corners = mesh.GetFaceVertexCountsAttr().Get(time), mesh.GetFaceVertexIndicesAttr().Get(time)
    if points is None or counts is None or corners is None or not len(counts):
        return None
    corners = np.asarray(corners, np.int64)
    faces = cut_polygons(np.asarray(counts, np.int64), corners, points, where).astype(np.int64)
    return points, faces[:, ::-1] if mesh.GetOrientationAttr().Get() == geom.Tokens.leftHanded else faces


def _form(mesh: Any, time: Any, matrix: Floats, geom: Any, where: str) -> FilePart | None:
    raw = _raw(mesh, time, geom, where)
    return None if raw is None else make_part("", *raw, matrix, where)


def _points(mesh: Any, time: Any) -> Floats | None:
    points = mesh.GetPointsAttr().Get(time)
    return None if points is None else np.asarray(points, dtype=np.float64).reshape(-1, 3)


def _world(mesh: Any, geom: Any, time: Any) -> Floats:
    # USD multiplies rows from the left.
    return np.array(geom.XformCache(time).GetLocalToWorldTransform(mesh.GetPrim()), dtype=np.float64).reshape(4, 4).T


def _moments(mesh: Any, geom: Any) -> list[float]:
    """Return all moments at which the points or a transform above them are given, time codes."""
    found: list[float] = list(mesh.GetPointsAttr().GetTimeSamples())
    found += mesh.GetFaceVertexIndicesAttr().GetTimeSamples()
    prim = mesh.GetPrim()
    while prim and not prim.IsPseudoRoot():
        if prim.IsA(geom.Xformable):
            found += list(geom.Xformable(prim).GetTimeSamples())
        prim = prim.GetParent()
    return found
