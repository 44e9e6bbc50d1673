"""OpenUSD: one mesh a body, with points at every frame."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Sdf, Usd, UsdGeom, Vt

from zembrik.core.exchange.delivery import Content, Tell, told_frames
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
    meshes = []
    for part in content.parts:
        mesh = UsdGeom.Mesh.Define(stage, f"/delivery/{part.file_name}")
        mesh.GetPrim().SetDisplayName(part.name)
        mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        mesh.CreateFaceVertexCountsAttr()
        mesh.CreateFaceVertexIndicesAttr()
        if not part.changes:
            _set_faces(mesh, part.faces, Usd.TimeCode.Default())
        mesh.CreatePointsAttr()
        mesh.CreateExtentAttr()
        meshes.append(mesh)
    for frame in told_frames(content, tell):
        for part, mesh in zip(content.parts, meshes, strict=True):
            points = np.ascontiguousarray(content.points(part, frame))
            if part.changes:
                _set_faces(mesh, content.faces(part, frame), frame)
            mesh.GetPointsAttr().Set(Vt.Vec3fArray.FromNumpy(points), frame)
            box = [Gf.Vec3f(*map(float, points.min(axis=0))), Gf.Vec3f(*map(float, points.max(axis=0)))]
            mesh.GetExtentAttr().Set(Vt.Vec3fArray(box), frame)
    if not layer.Export(str(path)):
        raise OSError(5, "OpenUSD could not write the file")


def _set_faces(mesh: Any, faces: NDArray[np.int32], time: Any) -> None:
    mesh.GetFaceVertexCountsAttr().Set(Vt.IntArray.FromNumpy(np.full(len(faces), 3, np.int32)), time)
    mesh.GetFaceVertexIndicesAttr().Set(Vt.IntArray.FromNumpy(np.ascontiguousarray(faces, np.int32).ravel()), time)
