"""OpenUSD (usda, usdc, usdz): meshes where the stage puts them, with their animation."""

from __future__ import annotations

import tempfile
import zipfile
from collections.abc import Callable
from dataclasses import replace
from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.exchange.contents import (
    Contents,
    FilePart,
    check_motion,
    check_size,
    cut_polygons,
    make_part,
    moving_part,
    sequence_part,
)
from zembrik.core.exchange.read_gltf import keeps_size
from zembrik.core.problem import Problem

Floats = NDArray[np.float64]
LAYERS = (".usd", ".usda", ".usdc")
MOST_TURN = 60.0  # degrees from one moment to the next
MOST_MOMENTS = 20_000


def read_usd(data: bytes, name: str, kind: str, motion: bool = False) -> Contents:
    """Return the contents of a USD file; what it takes from files beside it is left out and told.

    Args:
        kind: "usda", "usdc" or "usdz", by which the library knows it.
        motion: only what moves as a whole is asked for, as parts without a mesh.

    Raises:
        Problem: for what is broken.
    """
    from pxr import Tf, Usd, UsdGeom

    with tempfile.TemporaryDirectory(prefix="zembrik-") as folder:
        inside = Path(folder).resolve()
        if kind == "usdz":
            path = _unpacked(data, name, inside)
        else:
            path = inside / f"taken.{kind}"
            path.write_bytes(data)
        try:
            outside = _closed(inside)
            stage = Usd.Stage.Open(str(path), Usd.Stage.LoadAll)
            if stage is None:
                raise Problem("the file is not sound USD.", name, "Export it again.")
            return (_motion if motion else _contents)(stage, UsdGeom, Usd, name, outside)
        except (Tf.ErrorException, RuntimeError, UnicodeDecodeError):  # its words may quote what is broken
            raise Problem("the file is not sound USD.", name, "Export it again.") from None


def _unpacked(data: bytes, name: str, folder: Path) -> Path:
    """Unpack a package into a folder; return its first layer, which is the stage."""
    try:
        with zipfile.ZipFile(BytesIO(data)) as package:
            files = [info for info in package.infolist() if not info.is_dir()]
            if any(info.compress_type != zipfile.ZIP_STORED for info in files):
                raise Problem("it is packed with compression, which usdz never is.", name, "Export it again.")
            if sum(info.file_size for info in files) > len(data):
                raise Problem("it says it holds more than its own size.", name, "Export it again.")
            first = None
            for info in files:
                to = (folder / info.filename).resolve()
                if to.is_relative_to(folder) and to.suffix.lower() in LAYERS:
                    to.parent.mkdir(parents=True, exist_ok=True)
                    to.write_bytes(package.read(info))
                    first = first or to
    except Problem:
        raise
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError):
        raise Problem("the package is broken.", name, "It may be cut off; export it again.") from None
    if first is None:
        raise Problem("the package holds no stage.", name, "Export it again.")
    return first


def _closed(folder: Path) -> list[str]:
    """Take out of all layers in a folder what they compose from outside of it; return the names of that."""
    from pxr import Sdf

    outside: set[str] = set()
    for path in sorted(p for p in folder.rglob("*") if p.suffix.lower() in LAYERS):
        layer = Sdf.Layer.FindOrOpen(str(path))
        if layer is None:
            continue
        while strange := _from_outside(layer, path, folder):
            outside |= {asset.rsplit("/", 1)[-1] for asset in strange}
            before = layer.ExportToString()
            for asset in strange:  # each time, of one kind of them only
                layer.UpdateCompositionAssetDependency(asset, "")
            if layer.ExportToString() == before:
                raise Problem("it takes more from other files.", strange[0], "Export it with all that it needs inside.")
        clipped: list[Any] = []
        layer.Traverse(Sdf.Path.absoluteRootPath, lambda at, known=layer, into=clipped: _note_clips(known, at, into))
        for at in clipped:
            layer.GetPrimAtPath(at).ClearInfo("clips")
            outside.add("value clips")
        if layer.dirty:
            layer.Save()
    return sorted(outside)


def _from_outside(layer: Any, path: Path, folder: Path) -> list[str]:
    """Return what a layer composes that is no layer in a folder."""

    def is_inside(asset: str) -> bool:
        to = (path.parent / asset).resolve()
        return to.is_relative_to(folder) and to.is_file() and to.suffix.lower() in LAYERS

    return [asset for asset in layer.GetCompositionAssetDependencies() if asset and not is_inside(asset)]


def _note_clips(layer: Any, at: Any, into: list[Any]) -> None:
    spec = layer.GetPrimAtPath(at) if at.IsPrimPath() else None
    if spec is not None and spec.HasInfo("clips"):
        into.append(at)


def _contents(stage: Any, geom: Any, usd: Any, name: str, outside: list[str]) -> Contents:
    notes, parts = _told_outside(outside), []
    moments = _Moments(stage, name)
    left: dict[str, list[str]] = {}
    for prim in usd.PrimRange(stage.GetPseudoRoot(), usd.TraverseInstanceProxies()):
        path = str(prim.GetPath())
        if not prim.IsActive() or not prim.IsA(geom.Imageable):
            continue
        if not prim.IsA(geom.Mesh):
            kind = prim.GetTypeName()
            if prim.IsA(geom.Gprim) or prim.IsA(geom.PointInstancer):
                left.setdefault(f"no mesh but {kind}", []).append(path)
            continue
        shown = geom.Imageable(prim)
        if (purpose := str(shown.ComputePurpose())) in ("proxy", "guide"):
            left.setdefault(f"for the purpose {purpose}", []).append(path)
            continue
        if _switches(prim, geom):
            notes.append(f"'{path}' is shown and hidden over time; it comes in as if always shown.")
        elif shown.ComputeVisibility() == geom.Tokens.invisible:
            left.setdefault("invisible", []).append(path)
            continue
        part = _part(geom.Mesh(prim), geom, usd, moments, name)
        if part is not None:
            parts.append(part)
    for why, paths in left.items():
        more = f" and {len(paths) - 3} more" if len(paths) > 3 else ""
        notes.append(f"Left out as {why}: {', '.join(paths[:3])[:200]}{more}.")
    if not parts and left:
        why, paths = next(iter(left.items()))
        raise Problem(f"it holds no mesh: '{paths[0][:80]}' is left out as {why}.", name, "Export it as meshes.")
    check_size(parts, name)
    first = moments.first if any(len(p.times_s) > 1 for p in parts) else None
    return replace(Contents("USD", parts, *_unit_and_up(stage, geom), notes), begins=first)


def _told_outside(outside: list[str]) -> list[str]:
    return [f"It takes more from other files, which is left out: {', '.join(outside[:3])[:150]}."] if outside else []


def _unit_and_up(stage: Any, geom: Any) -> tuple[float | None, str | None]:
    """Return metres a unit, and the axis that points up, where the stage says so."""
    unit = geom.GetStageMetersPerUnit(stage) if geom.StageHasAuthoredMetersPerUnit(stage) else None
    up = str(geom.GetStageUpAxis(stage)).lower() if stage.HasAuthoredMetadata("upAxis") else None
    return float(unit) if unit else None, up if up in ("y", "z") else None


def _motion(stage: Any, geom: Any, usd: Any, name: str, outside: list[str]) -> Contents:
    """Return what moves as a whole: all prims whose own transform is animated, and all meshes below such."""
    all_moments, count = _Moments(stage, name), 0
    parts: list[tuple[Floats, FilePart]] = []
    for prim in usd.PrimRange(stage.GetPseudoRoot(), usd.TraverseInstanceProxies()):
        if not prim.IsActive() or not prim.IsA(geom.Xformable):
            continue
        keyed = sorted({float(t) for t in _placed_at(prim, geom)})
        if len(keyed) < 2 or not (prim.IsA(geom.Mesh) or len(geom.Xformable(prim).GetTimeSamples()) > 1):
            continue

        def world(time: float, prim: Any = prim) -> Floats:
            return _world(prim, geom, usd.TimeCode(time))

        times = all_moments.between(keyed, world)
        count += len(times)
        check_motion(len(parts) + 1, count, name)
        path = str(prim.GetPath()).strip("/")
        parts.append((times, moving_part(path, (times - times[0]) / all_moments.rate, np.array([*map(world, times)]))))
    check_motion(len(parts), max((len(times) for times, _ in parts), default=0), name)
    begins = min(float(times[0]) for times, _ in parts)
    late = [replace(part, times_s=part.times_s + (times[0] - begins) / all_moments.rate) for times, part in parts]
    found = Contents("motion of USD", late, *_unit_and_up(stage, geom), _told_outside(outside))
    return replace(found, begins=round(begins / all_moments.step))


def _switches(prim: Any, geom: Any) -> bool:
    """Tell whether a prim, or one above it, is shown at one time and not at another."""
    while prim and not prim.IsPseudoRoot():
        if prim.IsA(geom.Imageable) and geom.Imageable(prim).GetVisibilityAttr().ValueMightBeTimeVarying():
            return True
        prim = prim.GetParent()
    return False


class _Moments:
    """At which time codes a moving part is read: at every frame of its stage, and as many between as its turn needs.

    Attributes:
        rate: time codes a second. step: time codes a frame. first: the frame at which the stage begins, if it says so.
    """

    def __init__(self, stage: Any, name: str) -> None:
        self.rate = float(stage.GetTimeCodesPerSecond())
        fps = float(stage.GetFramesPerSecond())
        if not 0.01 <= self.rate <= 1e6:
            raise Problem(f"its time codes go by {self.rate:g} a second.", name, "Export it with 24 or so.")
        fps = fps if stage.HasAuthoredMetadata("framesPerSecond") and 1.0 <= fps <= 1000.0 else min(self.rate, 240.0)
        self.step, self.name = self.rate / max(fps, 1.0), name
        begins = stage.HasAuthoredMetadata("startTimeCode")
        self.first: int | None = round(stage.GetStartTimeCode() / self.step) if begins else None

    def between(self, keyed: list[float], world: Callable[[float], Floats]) -> Floats:
        """Return the time codes (k,) from the first to the last of those keyed at which to read a part.

        Keyed ones that lie at frames, or between them, are among them. `world` gives its transform at one.
        """
        low, high = keyed[0], keyed[-1]
        count = (high - low) / self.step
        if count + len(keyed) > MOST_MOMENTS:
            raise Problem(f"it moves for {count:,.0f} frames.", self.name, "Hand in fewer frames.")
        even = low + self.step * np.arange(int(np.floor(count + 1e-6)) + 1)
        times = np.unique(np.concatenate([even, keyed]).round(6))
        times = times[np.concatenate([[True], np.diff(times) > 1e-4 * self.step])]
        turns = [world(float(t))[:3, :3] for t in times]
        found = [times[:1]]
        for k in range(len(times) - 1):
            many = max(
                1, int(np.ceil(self._degrees(turns[k], turns[k + 1], world, times[k], times[k + 1]) / MOST_TURN))
            )
            found.append(np.linspace(times[k], times[k + 1], many + 1)[1:])
        every = np.concatenate(found)
        if len(every) > MOST_MOMENTS:
            raise Problem(f"it turns so fast that it takes {len(every):,} moments.", self.name, "Hand in fewer frames.")
        return np.asarray(every, dtype=np.float64)

    def _degrees(self, one: Floats, two: Floats, world: Callable[[float], Floats], low: float, high: float) -> float:
        """Return by how many degrees a transform turns from one moment to another, by way of the middle."""
        middle = world(float(low + high) / 2.0)[:3, :3]
        return _turn_between(one, middle) + _turn_between(middle, two)


def _turn_between(one: Floats, two: Floats) -> float:
    """Return the angle in degrees between two matrices (3, 3), whatever their scale."""
    sizes = np.linalg.norm(one, axis=0) * np.linalg.norm(two, axis=0)
    cosine = float(np.einsum("ij,ij->j", one, two) @ (1.0 / np.maximum(sizes, 1e-300)))
    return float(np.degrees(np.arccos(np.clip((cosine - 1.0) / 2.0, -1.0, 1.0))))


def _part(mesh: Any, geom: Any, usd: Any, all_moments: _Moments, name: str) -> FilePart | None:
    path = str(mesh.GetPath()).strip("/")
    where = f"{name}, part '{path}'"
    moments = sorted({float(t) for t in _moments(mesh, geom)})
    if len(moments) > MOST_MOMENTS:
        raise Problem(f"it has {len(moments):,} moments of time.", where, "Hand in fewer frames.")
    if len(moments) > 1:
        moments = all_moments.between(moments, lambda t: _world(mesh.GetPrim(), geom, usd.TimeCode(t))).tolist()
    first = usd.TimeCode(moments[0]) if moments else usd.TimeCode.EarliestTime()
    raw = _raw(mesh, first, geom, where)
    if raw is None:
        return None
    points, faces = raw
    transform = _world(mesh.GetPrim(), geom, first)
    if len(moments) < 2:
        return make_part(path, points, faces, transform, name)
    poses = np.array([_world(mesh.GetPrim(), geom, usd.TimeCode(t)) for t in moments])
    times = (np.array(moments) - moments[0]) / all_moments.rate
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
    corners, counts = np.asarray(corners, np.int64), np.asarray(counts, np.int64)
    holes = mesh.GetHoleIndicesAttr().Get(time)
    if holes is not None and len(holes) and counts.min() >= 0 and int(counts.sum()) == len(corners):
        kept = ~np.isin(np.arange(len(counts)), np.asarray(holes, np.int64))
        corners, counts = corners[np.repeat(kept, counts)], counts[kept]
    faces = cut_polygons(counts, corners, points, where).astype(np.int64)
    return points, faces[:, ::-1] if mesh.GetOrientationAttr().Get() == geom.Tokens.leftHanded else faces


def _form(mesh: Any, time: Any, matrix: Floats, geom: Any, where: str) -> FilePart | None:
    raw = _raw(mesh, time, geom, where)
    return None if raw is None else make_part("", *raw, matrix, where)


def _points(mesh: Any, time: Any) -> Floats | None:
    points = mesh.GetPointsAttr().Get(time)
    return None if points is None else np.asarray(points, dtype=np.float64).reshape(-1, 3)


def _world(prim: Any, geom: Any, time: Any) -> Floats:
    # USD multiplies rows from the left.
    return np.array(geom.XformCache(time).GetLocalToWorldTransform(prim), dtype=np.float64).reshape(4, 4).T


def _moments(mesh: Any, geom: Any) -> list[float]:
    """Return all moments at which the points or a transform above them are given, time codes."""
    found: list[float] = list(mesh.GetPointsAttr().GetTimeSamples())
    found += mesh.GetFaceVertexIndicesAttr().GetTimeSamples()
    return found + _placed_at(mesh.GetPrim(), geom)


def _placed_at(prim: Any, geom: Any) -> list[float]:
    """Return all moments at which the transform of a prim, or one above it, is given, time codes."""
    found: list[float] = []
    while prim and not prim.IsPseudoRoot():
        if prim.IsA(geom.Xformable):
            found += list(geom.Xformable(prim).GetTimeSamples())
        prim = prim.GetParent()
    return found
