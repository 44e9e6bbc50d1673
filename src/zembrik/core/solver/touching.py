"""Keeps cloth apart from itself, from other cloth and from colliders' edges: what is looked at, and when."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.motion.rigid import Mover
from zembrik.core.solver.arrays import Rigid
from zembrik.core.solver.guests import (
    GuestPart,
    gather_guests,
    give_to_carriers,
    place_guests,
    shift_guests,
    weigh_guests,
)
from zembrik.core.solver.measuring import DEEP, find_touching, no_ways
from zembrik.core.solver.meeting_patches import FORM
from zembrik.core.solver.mesh_contact import mark_touched, solve_touching
from zembrik.core.solver.nearby import Known, Search, replace_pairs
from zembrik.core.solver.patches import make_patches
from zembrik.core.solver.ways import leave_ways, middle, set_out

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]
SHARP_DEG = 15.0  # a collider's edge that bends less is left to the points
MARGIN = 0.15  # of the mean edge: how far things may stray before the pairs are looked for anew
AHEAD = 4  # substeps that the pairs found are to hold, if everything keeps its way
SLOW = 0.2  # margins; what would go less in so many substeps is expected to stay
MENDS = 3  # sweeps at most that bring apart what is deep, once a pass is over
WIDER = 1.05  # thicknesses: what nearly touches when the cloth's step is solved
MANY = 0.5  # of all patches: if more hold what strayed, all are looked at anew


@dataclass(frozen=True)
class Corners:
    """The sharp corners and edges of a collider's proxy, or all of a collider that changes its form.

    Attributes:
        points: float64 (c, 3), where they are in the collider's place, metres.
        edges: int32 (e, 2), of these points.
        room, grip: the collider's thickness in metres and friction.
        mover: what moves it. collider: its number.
        faces: int32 (f, 3), of these points: a surface that nothing may go through.
    """

    points: Floats
    edges: Whole
    room: float
    grip: float
    mover: Mover | None
    collider: int
    faces: Whole = field(default_factory=lambda: np.zeros((0, 3), np.int32))


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
    way = mesh.points[edges[:, 1]] - mesh.points[edges[:, 0]]
    pieces = np.clip(np.ceil(np.linalg.norm(way, axis=1) / max(spacing_m, 1e-6)), 1, 200).astype(np.int64)
    # Piece n of an edge goes from its place n to place n + 1; place 0 and the last are the edge's own ends.
    edge = np.repeat(np.arange(len(edges)), pieces)
    number = np.arange(len(edge)) - np.repeat(np.cumsum(pieces) - pieces, pieces)
    inner = number > 0
    places = mesh.points[edges[edge, 0]] + way[edge] * (number / pieces[edge])[:, None]
    at = np.where(inner, len(mesh.points) + np.cumsum(inner) - 1, edges[edge, 0])
    last = number == pieces[edge] - 1
    after = np.where(last, edges[edge, 1], np.roll(at, -1))
    used, numbers = np.unique(np.stack([at, after], axis=1), return_inverse=True)
    return np.concatenate([mesh.points, places[inner]])[used], numbers.reshape(-1, 2).astype(np.int32)


class Touching:
    """Finds and solves the touching pairs of points, faces and edges.

    The points are the cloth's, then the guests of soft and rigid bodies, then the colliders'.

    Args:
        x: float64 (n, 3), the cloth's places at rest; kept as the measure of what is apart at rest.
        faces: int32 (T, 3). edges: int32 (E, 2), all of the cloth.
        w: float64 (n,), inverse masses. skin: float64 (n, 5), see `world.World`.
        body: int32 (n,), which cloth each point belongs to.
        level: "points" (corners are not looked at), "faces" or "edges".
        itself: whether a cloth is kept apart from itself.
        guests: of soft and rigid bodies. particles, bodies: how many of either there are.
        corners: the colliders' sharp corners, and what changes its form.
    """

    def __init__(
        self, x: Floats, faces: Whole, edges: Whole, w: Floats, skin: Floats, body: Whole, level: str, itself: bool,
        guests: list[GuestPart], particles: int, bodies: int, corners: list[Corners],
    ) -> None:  # fmt: skip
        if level == "points":
            guests = [g for g in guests if len(g.faces)]
            corners = [c for c in corners if len(c.faces)]
        self.count, self.corners = len(x), corners
        others: list[GuestPart | Corners] = [*guests, *corners]
        self.x = np.concatenate([x, *[o.points for o in others]])
        self.before, self.rest = self.x.copy(), self.x.copy()
        self.w = np.concatenate([w, np.zeros(len(self.x) - self.count)])
        sizes = [len(o.points) for o in others]
        self.room = np.concatenate([skin[:, 0], np.repeat([o.room for o in others], sizes)])
        self.grip = np.concatenate([skin[:, 1], np.repeat([o.grip for o in others], sizes)])
        slips = [o.slip if isinstance(o, GuestPart) else o.grip for o in others]
        self.slip = np.concatenate([skin[:, 2], np.repeat(slips, sizes)])
        start = self.count + np.concatenate([[0], np.cumsum(sizes)]).astype(int)
        self.guests, self.guest_end = gather_guests(guests), int(start[len(guests)])
        self.first = start[len(guests) :]
        self.faces = np.ascontiguousarray(
            np.concatenate([faces, *[o.faces + s for o, s in zip(others, start, strict=False)]]).astype(np.int32)
        )
        self.edges = np.ascontiguousarray(
            np.concatenate([edges, *[o.edges + s for o, s in zip(others, start, strict=False)]]).astype(np.int32)
        )
        # Soft bodies are not kept apart from themselves; rigid bodies and colliders meet elsewhere.
        soft = int(body.max(initial=-1)) + 1
        marks = [
            2 * (soft + k) + 1 if isinstance(o, GuestPart) and o.rigid < 0 else -1 - k for k, o in enumerate(others)
        ]
        # A collider that changes its form has no field: rigid bodies meet it here.
        marks = [FORM - k if m < 0 and isinstance(o, Corners) and len(o.faces) else m
                 for k, (m, o) in enumerate(zip(marks, others, strict=True))]  # fmt: skip
        whose = np.concatenate([2 * body + (not itself), np.repeat(np.array(marks, np.int64), sizes)]).astype(np.int64)
        self.any = bool(len(self.faces)) and (itself or len(np.unique(whose)) > 1)
        self.layers = itself or len(np.unique(whose[whose >= 0])) > 1  # whether cloth is kept apart from cloth
        self.built: Floats | None = None
        self.seen, self.least = WIDER * self.room, 0.0  # metres; the least that any two are kept apart
        if not self.any:  # then nothing is ever looked for, and no room is taken for it
            self.hits, self.touched = np.zeros(0, np.int32), 0
            return
        patches = make_patches(self.x, self.edges, self.faces, whose)
        group = whose[patches.points[patches.point_span[:-1], 0]]
        self.search = Search(patches, self.edges, self.faces, group, level == "edges")
        self.whose = whose
        ends = self.x[edges] if len(edges) else self.x[self.edges]
        spacing = float(np.linalg.norm(ends[:, 0] - ends[:, 1], axis=1).mean()) if len(ends) else 1.0
        most = float(self.room.max(initial=0.0))
        # Metres that things may go before the pairs are looked for anew.
        self.margin = max(MARGIN * spacing, 0.5 * most)
        self.reach = 2.0 * most + self.margin
        # Where ways are seen from, metres: the middle of the cloth when all pairs were looked for, carried on by the
        # drift. What is far from the cloth, however far, does not take it along: near it numbers are finest.
        self.origin = np.zeros(3)
        self.way = np.zeros_like(self.x)
        self.points, self.lines = Known(), Known()
        self.hits = np.zeros(0, np.int32)  # room for the numbers of the pairs that touch
        self.ways, self.steps = no_ways(self.x, len(self.faces), len(self.edges)), 0
        self.touched = 0  # pairs apart in the last pass
        self.particles = np.zeros((particles, 3))  # of the world, where all are now
        self.crowd, self.crowd_rigid = np.zeros(particles), np.zeros(bodies)
        self.near_guests = np.zeros(self.guest_end - self.count, np.bool_)

    def begin(self, x: Floats, before: Floats, rigid: Rigid, frame: float) -> None:
        """Take all places at a substep's beginning.

        Args:
            x, before: float64 (n, 3), all particles now and at the substep's start, metres.
            rigid: the rigid bodies. frame: at its end, where the colliders are.
        """
        guests = slice(self.count, self.guest_end)
        self.particles = x
        now, was = x[: self.count], before[: self.count]
        if self.guest_end > self.count:
            place_guests(self.guests, rigid, rigid.before, before, self.before[guests])
            place_guests(self.guests, rigid, rigid.place, x, self.x[guests])
        self.before[self.guest_end :] = self.x[self.guest_end :]
        self._move_corners(frame)
        self.steps += 1
        self.origin += self.ways.drift
        self.ways.drifted[:] += self.ways.drift
        if self.built is None:
            self.x[: self.count], self.before[: self.count] = now, was
            self._look()
            return
        search = self.search
        many = leave_ways(
            now, was, self.x, self.before, self.ways.drift, self.built, self.way, self.steps, AHEAD, 0.5 * self.margin,
            SLOW * self.margin, search.patches, search.strayed, search.flags,
        )  # fmt: skip
        if self.steps > AHEAD:
            self.steps = 0
        if many > MANY * len(search.flags):
            self._look()
        elif many:
            self._look_again()

    def begin_frame(self, frame: float) -> None:
        """Put the corners where they are at a frame, and let the pairs be looked for anew in the next substep."""
        self._move_corners(frame)
        self.built = None
        # What is looked for is a little wider than what touches, always: what is known of a pair holds for all.
        self.seen[:] = WIDER * self.room
        self.least = 2.0 * float(self.room.min(initial=np.inf))

    def _move_corners(self, frame: float) -> None:
        for corner, first in zip(self.corners, self.first, strict=False):
            if corner.mover is not None:
                self.x[first : first + len(corner.points)] = corner.mover.points_at(corner.points, frame)

    def _look(self) -> None:
        """Look for all pairs anew, everything being expected to go on as it went."""
        cloth = self.x[: self.count] if self.count else self.x
        self.origin, ways = middle(cloth), self.ways
        ways.drift[:] = middle(self.x) - middle(self.before)
        self.built, self.steps = self.x.copy(), 0
        self.search.strayed[:] = True
        self._set_out()
        self.points.forget()
        self.lines.forget()
        self._know(*self.search.search_all(self.reach))
        ways.went[:] = ways.face_went[:] = ways.edge_went[:] = ways.drifted[:] = 0.0
        ways.last[...] = self.x

    def _set_out(self) -> None:
        set_out(
            self.x, self.before, self.ways.drift, self.origin, self.built, self.way, self.steps, AHEAD,
            self.search.strayed, self.search.state,
        )  # fmt: skip

    def _look_again(self) -> None:
        """Look anew for the pairs of what strayed, and keep all others.

        Only points that strayed get a new way; of all others, what is expected stays as it was.
        """
        self._set_out()
        self._know(*self.search.search_strayed(self.reach))

    def _know(self, points: Whole, lines: Whole) -> None:
        """Take on pairs (m, 2) that were found, and forget those of what strayed."""
        of_points, of_lines = replace_pairs(
            self.points.near, self.lines.near, self.search.strayed, self.edges, self.faces, points, lines,
            self.points.room_for(len(points)), self.lines.room_for(len(lines)),
        )  # fmt: skip
        self.points.know(of_points)
        self.lines.know(of_lines)
        if self.known > len(self.hits):
            self.hits = np.empty(self.known + self.known // 4, np.int32)

    def solve(self, x: Floats, w: Floats, rigid: Rigid) -> None:
        """Bring touching pairs apart; places x (n, 3) of all particles and the bodies' shifts change.

        Args:
            x, w: float64 (n, 3) and (n,), all particles' places in metres and inverse masses in 1/kg.
            rigid: the rigid bodies.
        """
        self.touched = self._sweep(x, w, rigid)[0] if self.known else 0

    def touch(self, x: Floats, rigid: Rigid, anew: bool) -> NDArray[np.int32]:
        """Return the numbers (h,) of all pairs that touch, or nearly, at x (n, 3); `anew` once a substep."""
        guests = slice(self.count, self.guest_end)
        if self.guest_end > self.count:
            place_guests(self.guests, rigid, rigid.place, self.particles, self.x[guests])
            shift_guests(self.guests, rigid, self.x[guests])
        many = find_touching(
            x, self.x, self.before, self.rest, self.whose, self.seen, self.faces, self.edges, self.points.near,
            self.lines.near, self.ways, anew, 1.0, 0.0, self.hits,
        )  # fmt: skip
        return self.hits[:many]

    def mend(self, x: Floats, w: Floats, rigid: Rigid, shown: bool) -> None:
        """Bring apart what was pushed into one another or through, as long as any has crossed; see `solve`.

        What is only a little too close waits for the next pass, unless what comes of it is `shown`, as a frame.
        """
        for _ in range(MENDS if self.known else 0):
            if not self._sweep(x, w, rigid, True, shown)[1]:
                break

    @property
    def known(self) -> int:
        """How many near pairs are known."""
        return len(self.points.near.pairs) + len(self.lines.near.pairs)

    def _sweep(self, x: Floats, w: Floats, rigid: Rigid, mends: bool = False, shown: bool = False) -> tuple[int, int]:
        """Bring touching pairs apart once; return how many were, and how many of them had crossed."""
        guests = slice(self.count, self.guest_end)
        if self.guest_end > self.count:
            place_guests(self.guests, rigid, rigid.place, x, self.x[guests])
            shift_guests(self.guests, rigid, self.x[guests])
            were = self.x[guests].copy()
        things = (self.faces, self.edges, self.points.near, self.lines.near)
        width = DEEP if mends and not shown else 1.0
        many = find_touching(
            x[: self.count], self.x, self.before, self.rest, self.whose, self.seen, *things, self.ways, not mends,
            width / WIDER, (WIDER - width) * self.least, self.hits,
        )  # fmt: skip
        hits = self.hits[:many]
        if self.guest_end > self.count:
            mark_touched(*things, hits, self.count, self.near_guests)
            weigh_guests(self.guests, rigid, w, self.near_guests, self.crowd, self.crowd_rigid, self.w[guests])
        surfaces = (self.w, self.room, self.grip, self.slip)
        found, crossed = 0, 0
        if many:
            found, crossed = solve_touching(x[: self.count], self.x, self.before, *surfaces, *things, hits)
        if self.guest_end > self.count:
            give_to_carriers(self.guests, rigid, w, x, self.x[guests], were, self.w[guests])
        return int(found), int(crossed)
