"""Re-seating: the same performance on another surface.

A body that touched a surface keeps, along gravity, the clearance it had to it: it is shifted by as much as the new
surface stands higher there. Between two contacts it goes smoothly from the one shift to the other, so that what flies
keeps its arc and lands where it lies then. Rigid bodies are shifted as a whole; of others each point goes by what is
below it, and what touches nothing goes along with its neighbours.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_matrix, csr_matrix, diags
from scipy.sparse.linalg import splu

from zembrik.core.cache.reader import Cache
from zembrik.core.layers.smooth import smooth_between
from zembrik.core.layout.fall import Lower, fall_onto, heights_under, upright
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.motion.rigid import Mover
from zembrik.core.telling import Tell, silent, step
from zembrik.core.units import quaternion_turn

Floats = NDArray[np.float64]
TOUCHES_M = 0.001  # beyond the room that both keep: nearer is in contact
CLEAR_M = 1.0  # by which a body is lifted over everything, to be let down from there
SPREAD = 1e-3  # against a weight of 1: of how a cloth's shift bends from point to point


@dataclass(frozen=True)
class Surface:
    """What bodies touch: a mesh in its place, metres, and what moves it."""

    mesh: TriMesh
    mover: Mover | None = None

    def at(self, frame: float) -> TriMesh:
        """Return it where it is at a frame."""
        if self.mover is None:
            return self.mesh
        return self.mesh.moved(self.mover.points_at(self.mesh.points, frame))


@dataclass
class Seat:
    """What re-seating does to one body.

    Attributes:
        shift: float64 (k,), metres up at each frame; of what changes its form (k, n), of each point.
        residual_m: float64 (k,), by how much its clearance is another than before where it touches; NaN where not.
    """

    shift: Floats
    residual_m: Floats


@dataclass
class ReSeat:
    """A re-seated cache, as shifts of its frames.

    Attributes:
        turn: float64 (3, 3), which brings up to +Y. seats: by the bodies' numbers in the cache.
    """

    cache: Cache
    turn: Floats
    seats: dict[int, Seat] = field(default_factory=dict)

    def frame(self, number: int, frame: int) -> NDArray[np.floating]:
        """Return a body's pose (7,), or its points float32 (n, 3), at a frame; where nothing shifts it, as it was."""
        k, cache = frame - self.cache.first, self.cache
        seat = self.seats.get(number)
        up = self.turn[1]
        if cache.is_rigid(number):
            pose = cache.pose(number, frame).copy()
            if seat is not None and seat.shift[k] != 0.0:
                pose[:3] += seat.shift[k] * up
            return pose
        points = cache.points(number, frame)
        if seat is None or not seat.shift[k].any():
            return points
        return (points.astype(np.float64) + seat.shift[k][:, None] * up).astype(np.float32)

    @property
    def residual(self) -> tuple[float, int, int]:
        """The most by which a clearance is another than before, metres, the body's number and the frame."""
        best = (0.0, -1, self.cache.first)
        for number, seat in self.seats.items():
            if np.isfinite(seat.residual_m).any():
                k = int(np.nanargmax(seat.residual_m))
                if seat.residual_m[k] > best[0]:
                    best = (float(seat.residual_m[k]), number, self.cache.first + k)
        return best


def re_seat(
    cache: Cache, old: Surface, new: Surface, gravity: Floats, rooms_m: dict[str, float], reach_m: float,
    bodies: list[int], tell: Tell = silent,
) -> ReSeat:  # fmt: skip
    """Return a cache's bodies on another surface.

    Args:
        cache: the base. old, new: the surface that the bodies touched, and the one they are to touch.
        gravity: m/s², whose opposite is up. rooms_m: how far off each body lies when it touches, by its name.
        reach_m: up to this clearance a body is drawn along by what is below it, less and less.
        bodies: numbers in the cache. tell: is told how far it is.

    Raises:
        Stopped: when `tell` says so.
    """
    assert cache.done is not None
    turn = upright(gravity)
    made = ReSeat(cache, turn)
    frames = range(cache.first, cache.done + 1)
    pairs = _Pairs(old, new, turn)
    for done, number in enumerate(bodies):
        near = rooms_m[cache.names[number]] + TOUCHES_M

        def told(k: int, done: int = done) -> None:
            step(tell, done * len(frames) + k, len(bodies) * len(frames))

        one = _Body(cache, number, frames, pairs, near, max(reach_m, near + 1e-6), told)
        made.seats[number] = _rigid(one) if cache.is_rigid(number) else _bending(one)
    return made


class _Pairs:
    """Both surfaces at a frame, with up along +Y; what stands still is turned once."""

    def __init__(self, old: Surface, new: Surface, turn: Floats) -> None:
        self.surfaces, self.turn = (old, new), turn
        self.still = [self._turned(s, 0.0) if s.mover is None else None for s in self.surfaces]

    @property
    def moves(self) -> bool:
        return any(one is None for one in self.still)

    def at(self, frame: int) -> tuple[Lower, Lower]:
        old, new = (
            self._turned(s, frame) if kept is None else kept for s, kept in zip(self.surfaces, self.still, strict=True)
        )
        return old, new

    def _turned(self, surface: Surface, frame: float) -> Lower:
        mesh = surface.at(frame)
        return Lower(mesh.moved(mesh.points @ self.turn.T))


@dataclass(frozen=True)
class _Body:
    """A body of the base, and how near what is below it must be to count; `told` is called before each frame."""

    cache: Cache
    number: int
    frames: range
    pairs: _Pairs
    near_m: float
    reach_m: float
    told: Callable[[int], None]


def weight_of(clearance: Floats, near_m: float, reach_m: float) -> Floats:
    """Return how much what is below counts (k,): 1 in contact, less and less up to the reach, nothing beyond."""
    share = np.clip((np.nan_to_num(clearance, nan=np.inf) - near_m) / (reach_m - near_m), 0.0, 1.0)
    return np.asarray((1.0 - share) ** 4)


def _clearance(body: TriMesh, surface: Lower) -> float:
    """Return how far a body can fall until it lies on a surface, metres, below 0 where it is in it; NaN beside it."""
    lifted = max(float(surface.high[:, 1].max() - body.bounds[0, 1]), 0.0) + CLEAR_M
    fall, _ = fall_onto(body.moved(body.points + np.array([0.0, lifted, 0.0])), surface, 0.0)
    return fall - lifted if np.isfinite(fall) else np.nan


def _rigid(one: _Body) -> Seat:
    cache, number, frames, pairs = one.cache, one.number, one.frames, one.pairs
    rest, faces = cache.rest(number).astype(np.float64) @ pairs.turn.T, cache.faces(number)
    had, has = np.full(len(frames), np.nan), np.full(len(frames), np.nan)
    last: Floats | None = None
    for k, frame in enumerate(frames):
        one.told(k)
        pose = cache.pose(number, frame)
        if last is not None and not pairs.moves and (pose == last).all():
            had[k], has[k] = had[k - 1], has[k - 1]
            continue
        last = pose
        posed = pairs.turn @ quaternion_turn(pose[3:]) @ pairs.turn.T
        body = TriMesh(rest @ posed.T + pairs.turn @ pose[:3], faces)
        old, new = pairs.at(frame)
        had[k], has[k] = _clearance(body, old), _clearance(body, new)
    wanted = had - has
    weights = np.where(np.isfinite(wanted), weight_of(had, one.near_m, one.reach_m), 0.0)
    shift = np.zeros(len(frames)) if not np.nan_to_num(weights * wanted).any() else smooth_between(wanted, weights)
    residual = np.where(weights >= 1.0, np.abs(shift - wanted), np.nan)
    return Seat(shift, residual)


def _bending(one: _Body) -> Seat:
    cache, number, frames, pairs = one.cache, one.number, one.frames, one.pairs
    count, faces = cache.point_counts[number], cache.faces(number)
    wanted, weights = np.zeros((len(frames), count)), np.zeros((len(frames), count))
    for k, frame in enumerate(frames):
        one.told(k)
        points = cache.points(number, frame).astype(np.float64) @ pairs.turn.T
        old, new = pairs.at(frame)
        above = one.near_m + float(np.ptp(points[:, 1]))
        was = heights_under(points, old.mesh, one.near_m)
        now = heights_under(points + np.array([0.0, CLEAR_M, 0.0]), new.mesh, above)
        both = np.isfinite(was) & np.isfinite(now)
        wanted[k] = np.where(both, now - was, 0.0)
        weights[k] = np.where(both, weight_of(points[:, 1] - was, one.near_m, one.reach_m), 0.0)
    sums = weights.sum(axis=1)
    if not (weights * wanted).any():
        return Seat(np.zeros((len(frames), count)), np.full(len(frames), np.nan))
    mean = np.where(sums > 0.0, (weights * wanted).sum(axis=1) / np.maximum(sums, 1e-30), 0.0)
    along = smooth_between(mean, np.minimum(sums, 1.0))
    bent = _bends(faces, count)
    shift, residual = np.empty((len(frames), count)), np.full(len(frames), np.nan)
    for k in range(len(frames)):
        firm = weights[k] + 1e-6  # what nothing holds goes along with the whole
        system = (diags(firm) + SPREAD * bent).tocsc()
        shift[k] = along[k] + splu(system).solve(weights[k] * (wanted[k] - along[k]))
        touching = weights[k] >= 1.0
        if touching.any():
            residual[k] = float(np.abs(shift[k] - wanted[k])[touching].max())
    return Seat(shift, residual)


def _bends(faces: NDArray[np.int32], count: int) -> csr_matrix:
    """Return how much a value per point bends over a mesh (n, n): the square of the graph's Laplacian."""
    ends = np.concatenate([faces[:, [0, 1, 2]].ravel(), faces[:, [1, 2, 0]].ravel()])
    others = np.concatenate([faces[:, [1, 2, 0]].ravel(), faces[:, [0, 1, 2]].ravel()])
    links = coo_matrix((np.ones(len(ends)), (ends, others)), shape=(count, count)).tocsr()
    links.data[:] = 1.0
    uses = np.maximum(np.asarray(links.sum(axis=1)).ravel(), 1.0)
    laplacian = diags(np.ones(count)) - diags(1.0 / uses) @ links
    return csr_matrix(laplacian.T @ laplacian)
