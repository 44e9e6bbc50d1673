"""Bodies of a delivery that keep their form: a mesh that all copies share, and where each stands at a frame."""

from __future__ import annotations

import json
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from zembrik.core.cache.between import pose_at
from zembrik.core.exchange.delivery import Content, Part, subdivided
from zembrik.core.units import from_si

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class SharedMesh:
    """A mesh that one or several bodies of a delivery are.

    Attributes:
        name: fit for files and paths: that of the first of its bodies.
        points: float32 (n, 3), before they are placed, in the order's unit and axes. faces: int32 (m, 3).
        parts: the bodies, as numbers of the content's parts.
    """

    name: str
    points: NDArray[np.float32]
    faces: NDArray[np.int32]
    parts: list[int]


@dataclass(frozen=True)
class Standing:
    """Where a body stands at a frame: scaled first, turned then, and moved.

    Attributes:
        shift: float64 (3,), in the order's unit and axes. turn: float64 (4,), quaternion x y z w. scale: one factor.
    """

    shift: Floats
    turn: Floats
    scale: float


def shared_meshes(content: Content) -> list[SharedMesh]:
    """Return the meshes of the bodies that keep their form, those of copies once."""
    found: dict[str, SharedMesh] = {}
    bodies = [] if content.cache.foreign is not None else content.cache.attributes["setup"]["bodies"]
    meshes = {body["name"]: json.dumps(body["mesh"], sort_keys=True) for body in bodies}
    for k, part in enumerate(content.parts):
        if not content.cache.is_rigid(part.number):
            continue
        key = meshes.get(part.name, f"{part.number}") if part.carried is None else part.carried.key
        if key in found:
            found[key].parts.append(k)
            continue
        if part.carried is None:
            turn, shift, scale = part.place
            rest, faces = content.cache.rest(part.number).astype(np.float64), content.cache.faces(part.number)
            own = (rest - shift) @ turn / scale
        else:
            own, faces = part.carried.own, part.carried.mesh.faces
        if content.order.subdivided:
            mesh = subdivided(own.astype(np.float32), faces, content.order.subdivided)
            own, faces = mesh.points, mesh.faces
        points = from_si(own, content.order.unit, content.order.up_axis).astype(np.float32)
        found[key] = SharedMesh(part.file_name, points, faces, [k])
    return list(found.values())


def standing(content: Content, part: Part, frame: int) -> Standing:
    """Return where a body that keeps its form stands at a frame of the file."""
    turn, shift, scale = part.place
    posed, way = pose_at(content.cache, part.number, content.moment(frame))
    axes = from_si(np.eye(3), "m", content.order.up_axis).T  # Y up to the order's axes
    whole = Rotation.from_matrix(axes @ posed @ turn @ axes.T).as_quat(canonical=True)
    return Standing(from_si(posed @ shift + way, content.order.unit, content.order.up_axis), whole, scale)


def alike(turn: Floats, before: Floats | None) -> Floats:
    """Return a quaternion (4,) with the sign that lies nearer to the one before: readers blend between the two."""
    return -turn if before is not None and float(turn @ before) < 0.0 else turn
