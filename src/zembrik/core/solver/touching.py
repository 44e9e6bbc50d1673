"""Keeps cloth apart from itself, from other cloth and from colliders' edges: what is looked at, and when."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.motion.rigid import Mover
from zembrik.core.solver.mesh_contact import find_touching, measure_gaps, solve_touching
from zembrik.core.solver.nearby import Search, make_patches

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]
SHARP_DEG = 15.0  # a collider's edge that bends less is left to the points
MARGIN = 0.3  # of the mean edge: how far things may stray before the pairs are looked for anew
AHEAD = 6  # substeps that the pairs found are to hold, if everything keeps its way


@dataclass(frozen=True)
class Corners:
    """The sharp corners and edges of a collider's proxy.

    Attributes:
        points: float64 (c, 3), where they are in the collider's place, metres.
        edges: int32 (e, 2), of these points.
        room, grip: the collider's thickness in metres and friction.
        mover: what moves it.
    """

    points: Floats
    edges: Whole
    room: float
    grip: float
    mover: Mover | None


def sharp_corners(mesh: TriMesh, spacing_m: float) -> tuple[Floats, Whole]:
    """Return the corners (c, 3) and edges (e, 2) where a proxy's surface bends outwards sharply or ends.

    Long edges are cut into pieces of about `spacing_m`.
    """
    hinges = mesh.hinges  # i, j: the edge; k, l: the corners across
    a, b, c, d = (mesh.points[hinges[:, k]] for k in range(4))
    one, two = np.cross(b - a, c - a), np.cross(d - a, b - a)
    size = np.linalg.norm(one, axis=1) * np.linalg.norm(two, axis=1) + 1e-300
    bent = (one * two).sum(axis=1) / size < np.cos(np.radians(SHARP_DEG))
    outwards = (one * (d - a)).sum(axis=1) < 0.0
    ends = mesh.edges[mesh.edge_use == 1]
    edges = np.concatenate([hinges[bent & outwards, :2], ends]).astype(np.int64)
    points, cut = [mesh.points], []
    count = len(mesh.points)
    for i, j in edges:
        way = mesh.points[j] - mesh.points[i]
        pieces = int(np.clip(np.ceil(np.linalg.norm(way) / max(spacing_m, 1e-6)), 1, 200))
        between = mesh.points[i] + way * (np.arange(1, pieces) / pieces)[:, None]
        chain = [i, *range(count, count + pieces - 1), j]
        cut += list(pairwise(chain))
        points.append(between)
        count += pieces - 1
    lines = np.array(cut, dtype=np.int64).reshape(-1, 2)
    used, numbers = np.unique(lines, return_inverse=True)
    return np.concatenate(points)[used], numbers.reshape(-1, 2).astype(np.int32)


class Touching:
    """Finds and solves the touching pairs of cloth points, faces and edges.

    Args:
        x: float64 (n, 3), the cloth's places at rest; kept as the measure of what is apart at rest.
        faces: int32 (T, 3). edges: int32 (E, 2), all of the cloth.
        w: float64 (n,), inverse masses. skin: float64 (n, 5), see `world.World`.
        body: int32 (n,), which cloth each point belongs to.
        level: "points" (colliders' corners are not looked at), "faces" or "edges".
        itself: whether a cloth is kept apart from itself.
        corners: the colliders' sharp corners.
    """

    def __init__(
        self, x: Floats, faces: Whole, edges: Whole, w: Floats, skin: Floats, body: Whole,
        level: str, itself: bool, corners: list[Corners],
    ) -> None:  # fmt: skip
        corners = corners if level != "points" else []
        self.count = len(x)
        self.faces, self.corners = np.ascontiguousarray(faces), corners
        added = [c.points for c in corners]
        self.x = np.concatenate([x, *added])
        self.before = self.x.copy()
        self.rest = self.x.copy()
        self.w = np.concatenate([w, np.zeros(len(self.x) - self.count)])
        self.room = np.concatenate([skin[:, 0], *[np.full(len(c.points), c.room) for c in corners]])
        grips = [np.full(len(c.points), c.grip) for c in corners]
        self.grip, self.slip = np.concatenate([skin[:, 1], *grips]), np.concatenate([skin[:, 2], *grips])
        self.first = self.count + np.concatenate([[0], np.cumsum([len(c.points) for c in corners])]).astype(int)
        lone = len(self.x) - self.count
        whose = np.concatenate([2 * body + (not itself), np.full(lone, -1)]).astype(np.int64)
        joined = [c.edges + s for c, s in zip(corners, self.first, strict=False)]
        self.edges = np.ascontiguousarray(np.concatenate([edges, *joined]).astype(np.int32))
        patches = make_patches(self.x, self.edges, self.faces, whose)
        group = whose[patches.points[patches.point_span[:-1]]]
        self.search = Search(patches, self.edges, self.faces, group, level == "edges")
        self.whose = whose
        self.layers = itself or len(np.unique(body)) > 1  # whether cloth is kept apart from cloth
        self.any = bool(len(x)) and (self.layers or bool(corners))
        ends = x[edges] if len(edges) else np.ones((1, 2, 3))
        spacing = float(np.linalg.norm(ends[:, 0] - ends[:, 1], axis=1).mean()) if len(edges) else 1.0
        most = float(self.room.max(initial=0.0))
        self.margin = max(MARGIN * spacing, most)  # metres that things may go before the pairs are looked for anew
        self.reach = 2.0 * most + self.margin
        self.built: Floats | None = None
        self.point_pairs = self.edge_pairs = np.zeros((0, 2), np.int32)
        self.point_apart = self.edge_apart = np.zeros(0)
        self.touching = np.zeros(0, np.bool_)
        self.spare, self.last, self.steps = np.zeros(0), self.x.copy(), 0
        self.touched = 0  # pairs apart in the last pass

    def begin(self, x: Floats, before: Floats, frame: float) -> None:
        """Take the cloth's places (n, 3), now and at the substep's start, and put the corners where they are."""
        self.x[: self.count], self.before[: self.count] = x, before
        self.before[self.count :] = self.x[self.count :]
        self._move_corners(frame)
        self.steps += 1
        if self.built is None or self.steps > AHEAD or self._off() > 0.5 * self.margin:
            self._look()

    def _off(self) -> float:
        assert self.built is not None
        return self.search.off_m(self.x, self.built, self.steps)

    def begin_frame(self, frame: float) -> None:
        """Put the corners where they are at a frame, and let the pairs be looked for anew in the next substep."""
        self._move_corners(frame)
        self.built = None

    def _move_corners(self, frame: float) -> None:
        for corner, first in zip(self.corners, self.first, strict=False):
            if corner.mover is not None:
                turn, shift = corner.mover.at(frame)
                self.x[first : first + len(corner.points)] = corner.points @ turn.T + shift

    def _look(self) -> None:
        self.built, self.steps = self.x.copy(), 0
        self.point_pairs, self.edge_pairs = self.search.near(self.x, self.reach, self.x - self.before, AHEAD)
        points, edges = np.empty(len(self.point_pairs)), np.empty(len(self.edge_pairs))
        measure_gaps(self.rest, self.faces, self.edges, self.point_pairs, self.edge_pairs, points, edges)
        # Only what belongs together has a distance at rest.
        points[self.whose[self.point_pairs[:, 0]] != self.whose[self.faces[self.point_pairs[:, 1], 0]]] = np.inf
        pair = self.edges[self.edge_pairs]
        edges[self.whose[pair[:, 0, 0]] != self.whose[pair[:, 1, 0]]] = np.inf
        self.point_apart, self.edge_apart = points, edges
        self.touching = np.zeros(len(self.point_pairs) + len(self.edge_pairs), np.bool_)
        self.spare = np.full(len(self.touching), -np.inf)  # so that each is measured once
        self.last = self.x.copy()

    def solve(self, x: Floats) -> None:
        """Bring touching pairs apart; x (n, 3) are the cloth's places, and change."""
        if not len(self.touching):
            self.touched = 0
            return
        self.x[: self.count] = x
        things = (self.faces, self.edges, self.point_pairs, self.point_apart, self.edge_pairs, self.edge_apart)
        find_touching(self.x, self.before, self.x - self.last, self.room, *things, self.spare, self.touching)
        self.last[...] = self.x
        surfaces = (self.w, self.room, self.grip, self.slip)
        self.touched = int(solve_touching(self.x, self.before, *surfaces, *things, self.touching))
        x[:] = self.x[: self.count]
