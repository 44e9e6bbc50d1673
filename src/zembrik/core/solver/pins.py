"""Which points a pin takes, and how firmly."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from zembrik.core.distance.tree import build_tree, distances_to_mesh
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, start_mesh
from zembrik.core.setup.document import Setup

SIDES = {"left": (0, -1), "right": (0, 1), "bottom": (1, -1), "top": (1, 1), "back": (2, -1), "front": (2, 1)}
Floats = NDArray[np.float64]
MeshOf = Callable[[str], TriMesh]


def meshes_of(setup: Setup, assets: Assets) -> MeshOf:
    """Return what gives a body's mesh at the start by its name, for pins that take what lies near it."""

    def mesh_of(name: str) -> TriMesh:
        return start_mesh(next(b for b in setup.bodies if b.name == name), assets)

    return mesh_of


def pin_weights(pin: Any, mesh: TriMesh, points: Floats, where: str, mesh_of: MeshOf) -> Floats:
    """Return how firmly a pin takes each point (n,): 1 for those it names, less around them, 0 for all others.

    Args:
        pin: see `setup.motion.Pin`.
        mesh: the body's, where it stands. points: float64 (n, 3), where its points begin, metres.
        where: in the setup, for errors. mesh_of: gives another body's mesh.

    Raises:
        Problem: when it takes no point.
    """
    taken, rule = _taken(pin.points, mesh, points, where, mesh_of), pin.points
    if not taken.any():
        low, high = points.min(axis=0), points.max(axis=0)
        help = "move or widen the pin's box"
        if rule.near is not None:
            help = f"no point lies within {rule.near.distance:g} m of '{rule.near.body}'"
        raise Problem(
            "the pin takes no point of the body.", where,
            f"The body reaches from ({low[0]:.3g}, {low[1]:.3g}, {low[2]:.3g}) to "
            f"({high[0]:.3g}, {high[1]:.3g}, {high[2]:.3g}) m; {help}.",
        )  # fmt: skip
    weights = taken.astype(np.float64)
    if rule.falloff > 0.0:
        off = cKDTree(points[taken]).query(points)[0] / rule.falloff
        t = np.clip(1.0 - off, 0.0, 1.0)
        weights = np.where(taken, 1.0, t * t * (3.0 - 2.0 * t))
    return weights


def _taken(rule: Any, mesh: TriMesh, points: Floats, where: str, mesh_of: MeshOf) -> NDArray[np.bool_]:
    if rule.box is not None:
        low, high = np.array(rule.box)
        return np.asarray(((points >= low - 1e-9) & (points <= high + 1e-9)).all(axis=1))
    if rule.side is not None:
        axis, sign = SIDES[rule.side]
        along = sign * points[:, axis]
        near = 0.5 * float(np.median(mesh.edge_lengths)) if len(mesh.faces) else 0.0
        return np.asarray(along >= along.max() - near)
    if rule.above is not None:
        return np.asarray(points[:, 1] > rule.above)
    if rule.near is not None:
        other = mesh_of(rule.near.body)
        return np.asarray(distances_to_mesh(build_tree(other), points) <= rule.near.distance)
    numbers = np.array(rule.numbers, dtype=np.int64)
    if len(numbers) and numbers.max() >= len(points):
        raise Problem(
            f"point {numbers.max()} is pinned, but the mesh has points 0 to {len(points) - 1}.", where, "Correct it."
        )
    held = np.zeros(len(points), dtype=bool)
    held[numbers] = True
    return held
