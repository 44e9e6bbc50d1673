"""OpenUSD: a body that changes its form has points at every frame; others have one mesh, and a place at every frame.

Copies of a body are instances of one mesh, which a class holds.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Sdf, Usd, UsdGeom, Vt

from zembrik.core.exchange.copies import SharedMesh, Standing, alike, shared_meshes, standing
from zembrik.core.exchange.delivery import Content, Part, Tell, moving_points, told_frames
from zembrik.core.units import METRES_PER_UNIT


def write(content: Content, path: Path, tell: Tell) -> None:
    """Write all frames as time samples at their frame numbers; see `delivery.deliver`."""
    layer = Sdf.Layer.CreateAnonymous(f"delivery.{content.order.format}")
    stage = Usd.Stage.Open(layer)
    UsdGeom.SetStageMetersPerUnit(stage, METRES_PER_UNIT[content.order.unit])
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y if content.order.up_axis == "y" else UsdGeom.Tokens.z)
    stage.SetTimeCodesPerSecond(content.fps)
    stage.SetFramesPerSecond(content.fps)
    stage.SetStartTimeCode(content.first)
    stage.SetEndTimeCode(content.frames[-1])
    root = UsdGeom.Xform.Define(stage, "/delivery")
    stage.SetDefaultPrim(root.GetPrim())
    moved = _define_moved(stage, content)
    meshes = {}
    for k, part in enumerate(content.parts):
        if k not in moved:
            mesh = meshes[k] = _define_mesh(stage, f"/delivery/{part.file_name}", part.name)
            if not part.changes:
                _set_faces(mesh, part.faces, Usd.TimeCode.Default())
    moving = {k: moving_points(content, content.parts[k]) for k in meshes}
    for part in content.parts:
        _set_visibility(stage.GetPrimAtPath(f"/delivery/{part.file_name}"), content, part)
    for frame in told_frames(content, tell):
        for k, part in enumerate(content.parts):
            if k in moved:
                moved[k].put(standing(content, part, frame), frame)
                continue
            if part.changes:
                _set_faces(meshes[k], content.faces(part, frame), frame)
            points, velocities = next(moving[k])
            _set_points(meshes[k], np.ascontiguousarray(points), frame)
            if not part.changes:
                meshes[k].GetVelocitiesAttr().Set(Vt.Vec3fArray.FromNumpy(velocities), frame)
    if not layer.Export(str(path)):
        raise OSError(5, "OpenUSD could not write the file")


def _set_visibility(prim: Any, content: Content, part: Part) -> None:
    if content.shown(part) is None:
        return
    attribute, last = UsdGeom.Imageable(prim).CreateVisibilityAttr(), None
    for frame in content.frames:
        if (seen := content.is_shown(part, frame)) != last:
            attribute.Set(UsdGeom.Tokens.inherited if seen else UsdGeom.Tokens.invisible, frame)
            last = seen


class _Moved:
    """A body that keeps its form: the operations that place it."""

    def __init__(self, prim: Any, scale: float) -> None:
        place = UsdGeom.Xformable(prim)
        self.shift = place.AddTranslateOp(UsdGeom.XformOp.PrecisionDouble)
        self.turn = place.AddOrientOp(UsdGeom.XformOp.PrecisionDouble)
        place.AddScaleOp().Set(Gf.Vec3f(scale))
        self.last: NDArray[np.float64] | None = None

    def put(self, where: Standing, frame: int) -> None:
        self.last = alike(where.turn, self.last)
        x, y, z, w = map(float, self.last)
        self.shift.Set(Gf.Vec3d(*map(float, where.shift)), frame)
        self.turn.Set(Gf.Quatd(w, x, y, z), frame)


def _define_moved(stage: Any, content: Content) -> dict[int, _Moved]:
    """Define the bodies that keep their form: one mesh for those that are alike, of which each is an instance."""
    found: dict[int, _Moved] = {}
    for shared in shared_meshes(content):
        copies = len(shared.parts) > 1
        model = f"/of_{shared.name}"
        if copies:  # a class is nothing that is drawn
            stage.CreateClassPrim(model)
            _set_still(_define_mesh(stage, f"{model}/mesh"), shared)
        for k in shared.parts:
            part, at = content.parts[k], f"/delivery/{content.parts[k].file_name}"
            if copies:
                prim = UsdGeom.Xform.Define(stage, at).GetPrim()
                prim.GetReferences().AddInternalReference(model)
                prim.SetInstanceable(True)
                prim.SetDisplayName(part.name)
            else:
                mesh = _define_mesh(stage, at, part.name)
                _set_still(mesh, shared)
                prim = mesh.GetPrim()
            found[k] = _Moved(prim, standing(content, part, content.first).scale)
    return found


def _define_mesh(stage: Any, at: str, name: str = "") -> Any:
    mesh = UsdGeom.Mesh.Define(stage, at)
    if name:
        mesh.GetPrim().SetDisplayName(name)
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    mesh.CreateFaceVertexCountsAttr()
    mesh.CreateFaceVertexIndicesAttr()
    mesh.CreatePointsAttr()
    mesh.CreateExtentAttr()
    return mesh


def _set_still(mesh: Any, shared: SharedMesh) -> None:
    _set_faces(mesh, shared.faces, Usd.TimeCode.Default())
    _set_points(mesh, shared.points, Usd.TimeCode.Default())


def _set_points(mesh: Any, points: NDArray[np.float32], time: Any) -> None:
    mesh.GetPointsAttr().Set(Vt.Vec3fArray.FromNumpy(points), time)
    box = [Gf.Vec3f(*map(float, points.min(axis=0))), Gf.Vec3f(*map(float, points.max(axis=0)))]
    mesh.GetExtentAttr().Set(Vt.Vec3fArray(box), time)


def _set_faces(mesh: Any, faces: NDArray[np.int32], time: Any) -> None:
    mesh.GetFaceVertexCountsAttr().Set(Vt.IntArray.FromNumpy(np.full(len(faces), 3, np.int32)), time)
    mesh.GetFaceVertexIndicesAttr().Set(Vt.IntArray.FromNumpy(np.ascontiguousarray(faces, np.int32).ravel()), time)
