"""The open point-cache interchange format (.abc), through alembic3d: one mesh a body, with points at every frame.

The format says neither unit nor axes: they are as ordered, and the manifest tells them. A body's frames are evenly
spaced samples that begin at the time of the first one: frame f is at f / fps seconds.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from zembrik.core.exchange.delivery import Content, Tell, moving_points, told_frames


def write(content: Content, path: Path, tell: Tell) -> None:
    """Write all frames; see `delivery.deliver`."""
    import imath
    from alembic3d import Abc, AbcCoreAbstract, AbcGeom

    # Nothing may hold any of the archive when this returns: only then is the file whole.
    archive, fps = Abc.OArchive(str(path)), content.fps
    rate = archive.addTimeSampling(AbcCoreAbstract.TimeSampling(1.0 / fps, content.first / fps))
    objects = [AbcGeom.OPolyMesh(archive.getTop(), part.file_name, rate) for part in content.parts]
    meshes = [one.getSchema() for one in objects]
    seen = {
        k: AbcGeom.CreateVisibilityProperty(objects[k], rate)
        for k, part in enumerate(content.parts)
        if content.shown(part) is not None
    }
    moving = [moving_points(content, part) for part in content.parts]
    for frame in told_frames(content, tell):
        for k, visibility in seen.items():
            visibility.setValue(-1 if content.is_shown(content.parts[k], frame) else 0)  # deferred, or hidden
        for part, mesh, goes in zip(content.parts, meshes, moving, strict=True):
            points, velocities = next(goes)
            faces = content.faces(part, frame)[:, ::-1]  # in this format they turn the other way
            sample = AbcGeom.OPolyMeshSchemaSample(
                _filled(imath.V3fArray(len(points)), points),
                _filled(imath.IntArray(faces.size), faces.ravel()),
                _filled(imath.IntArray(len(faces)), np.full(len(faces), 3)),
            )
            if not part.changes:
                sample.setVelocities(_filled(imath.V3fArray(len(points)), velocities))
            mesh.set(sample)


def _filled(array: Any, values: np.ndarray) -> Any:
    """Return one of the library's arrays with values in it."""
    if len(array):
        np.asarray(memoryview(array))[...] = values
    return array
