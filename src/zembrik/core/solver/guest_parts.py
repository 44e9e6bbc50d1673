"""The guests of a setup's soft and rigid bodies: where on them they are."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.build import Shape
from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.proxy.outline import outline
from zembrik.core.solver.guests import GuestPart
from zembrik.core.solver.soft_parts import SoftPart
from zembrik.core.solver.solids import RigidPart
from zembrik.core.solver.touching import sharp_corners

ROUND_RINGS = 12  # of points over a ball
FINEST = 12  # a body's size over this is how close its guests along an edge are at most

Floats = NDArray[np.float64]


def soft_guests(softs: list[SoftPart], starts: NDArray[np.int64]) -> list[GuestPart]:
    """Return the guests of soft bodies whose lattices begin at the particles `starts`: all of what others touch."""
    return [
        GuestPart(
            soft.contact.points, soft.contact.edges.astype(np.int32), soft.contact.faces,
            soft.surface.room, soft.surface.grip, soft.surface.slip,
            masters=soft.lattice.masters + np.int32(start), shares=soft.lattice.shares,
        )
        for soft, start in zip(softs, starts, strict=False)
    ]  # fmt: skip


def rigid_guests(parts: list[RigidPart], spacing_m: float) -> list[GuestPart]:
    """Return the guests of rigid bodies: round ones all over, others at corners and along sharp edges.

    `spacing_m` is how far apart the points are that they meet.
    """
    found = []
    for number, part in enumerate(parts):
        spacing = max(spacing_m, float(np.linalg.norm(np.ptp(part.points, axis=0))) / FINEST)
        points, edges = [np.zeros((0, 3))], [np.zeros((0, 2), np.int32)]
        count = 0
        for shape in part.shapes:
            places, lines = _of_shape(shape, spacing)
            points.append(places)
            edges.append(lines + np.int32(count))
            count += len(places)
        every = np.concatenate(points)
        found.append(
            GuestPart(
                every, np.concatenate(edges), np.zeros((0, 3), np.int32),
                part.surface.room, part.surface.grip, part.surface.slip,
                rigid=number, local=(every - part.mass.centre) @ part.mass.axes,
            )
        )  # fmt: skip
    return found


def _of_shape(shape: Shape, spacing_m: float) -> tuple[Floats, NDArray[np.int32]]:
    """Return places (k, 3) on a shape in the world and edges (e, 2) between them."""
    if shape.kind in ("ball", "capsule"):
        length = 2.0 * (float(shape.half_m[1]) + shape.radius_m)
        local = shapes.ball(shape.radius_m, ROUND_RINGS) if shape.kind == "ball" else shapes.capsule(
            shape.radius_m, length, ROUND_RINGS
        )  # fmt: skip
        return local.points @ shape.turn.T + shape.origin, np.zeros((0, 2), np.int32)
    mesh = (
        outline([shape], TriMesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32))) if shape.kind == "box" else shape.mesh
    )
    assert mesh is not None
    if shape.kind != "box":
        mesh = mesh.moved(mesh.points @ shape.turn.T + shape.origin)
    corners, lines = sharp_corners(mesh, spacing_m)
    return np.concatenate([corners, mesh.points]), lines
