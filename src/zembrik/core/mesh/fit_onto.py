"""Laying one mesh onto another, as a whole: by the points they share, or by their surfaces."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.tree import Tree, build_tree, closest_places
from zembrik.core.mesh.kabsch import kabsch
from zembrik.core.mesh.trimesh import TriMesh

Floats = NDArray[np.float64]
SAMPLES, ROUNDS = 600, 60  # places of each surface that are compared, and how often


@dataclass(frozen=True)
class Fit:
    """How a mesh is laid onto another.

    Attributes:
        turn: float64 (3, 3) and shift: float64 (3,), metres, which take the mesh's points to where they lie.
        worst_m, mean_m: how far surfaces (or shared points) then are from each other.
        shared: whether the two have the same points and faces.
    """

    turn: Floats
    shift: Floats
    worst_m: float
    mean_m: float
    shared: bool


def fit_onto(mesh: TriMesh, onto: TriMesh) -> Fit:
    """Return how to lay a mesh onto another, both in metres.

    With the same faces by points (Kabsch 1976), otherwise by the iterated closest places of both surfaces (Besl and
    McKay 1992), begun from where the mesh is and from all ways in which its main axes may lie on the other's.
    """
    if (
        mesh.faces.shape == onto.faces.shape
        and (mesh.faces == onto.faces).all()
        and len(mesh.points) == len(onto.points)
    ):
        turn, shift = kabsch(mesh.points, onto.points)
        off = np.linalg.norm(mesh.points @ turn.T + shift - onto.points, axis=1)
        return Fit(turn, shift, float(off.max()), float(off.mean()), True)
    own, other = _places(mesh), _places(onto)
    trees = build_tree(mesh), build_tree(onto)
    fits = [_closer(turn, shift, own, other, trees) for turn, shift in _beginnings(mesh, onto)]
    return min(fits, key=lambda fit: fit.mean_m)


def _places(mesh: TriMesh) -> Floats:
    """Return points of a surface, spread over all of it."""
    middles = mesh.points[mesh.faces].mean(axis=1)
    every = np.concatenate([mesh.points[np.unique(mesh.faces)], middles])
    return every[:: max(1, -(-len(every) // SAMPLES))]


def _beginnings(mesh: TriMesh, onto: TriMesh) -> list[tuple[Floats, Floats]]:
    (a, own), (b, other) = _axes(mesh), _axes(onto)
    turns = [np.eye(3)]
    for signs in product((1.0, -1.0), repeat=3):
        turn = other @ np.diag(signs) @ own.T
        if np.linalg.det(turn) > 0.0:
            turns.append(turn)
    return [(turn, b - turn @ a) for turn in turns]


def _axes(mesh: TriMesh) -> tuple[Floats, Floats]:
    """Return the middle (3,) of a surface and its main axes (3, 3), columns."""
    middles, weights = mesh.points[mesh.faces].mean(axis=1), mesh.face_areas / max(float(mesh.face_areas.sum()), 1e-30)
    middle = weights @ middles
    arms = middles - middle
    return middle, np.linalg.eigh((arms * weights[:, None]).T @ arms)[1]


def _closer(turn: Floats, shift: Floats, own: Floats, other: Floats, trees: tuple[Tree, Tree]) -> Fit:
    mine, onto = trees
    last = np.inf
    for _ in range(ROUNDS):
        laid = own @ turn.T + shift
        theirs = closest_places(onto, laid)
        back = closest_places(mine, (other - shift) @ turn)  # in the mesh's own space
        off = np.concatenate(
            [np.linalg.norm(laid - theirs, axis=1), np.linalg.norm(back @ turn.T + shift - other, axis=1)]
        )
        mean = float(off.mean())
        if last - mean < 1e-9 * max(last, 1e-30) and np.isfinite(last):
            break
        last = mean
        turn, shift = kabsch(np.concatenate([own, back]), np.concatenate([theirs, other]))
    return Fit(turn, shift, float(off.max()), mean, False)
