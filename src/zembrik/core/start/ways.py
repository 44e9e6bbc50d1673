"""Ways out of overlaps at the start: ease apart, shrink to fit, thin out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zembrik.core.solver.world import World
from zembrik.core.start.pairs import Pairs, rigid_pairs
from zembrik.core.telling import Tell, silent, step

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]
CLEAR = 0.0005  # of a body's size: what is parted is left that far apart, so that nothing pushes at the start
MOST_PASSES = 400
RELAXED = 1.3
STEP = 0.06  # of its size that a body moves in a pass at most: thin walls must not be jumped
SMALLEST = 0.2  # of its size that a body keeps when shrunk


@dataclass(frozen=True)
class Apart:
    """Bodies moved until none overlaps.

    Attributes:
        shift: float64 (R, 3), how far each rigid body was moved, metres.
        passes: how many were made.
        left_m: how deep the deepest overlap still is.
        deepest: the same as a share of the body's size.
    """

    shift: Floats
    passes: int
    left_m: float
    deepest: float


def _free(world: World) -> NDArray[np.bool_]:
    return np.array([part.mover is None for part in world.solids.parts], dtype=bool)


def ease_apart(world: World, most_passes: int = MOST_PASSES, enough: float = 0.0, tell: Tell = silent) -> Apart:
    """Move rigid bodies apart by many small passes, each by its own shape; none is turned or resized.

    In every pass each pair asks both its bodies for half of its depth along its way out (for all of it where the
    other is a collider, or driven). A body follows the mean of what it is asked, a little more than whole.
    The world's bodies stay moved.

    Args:
        world: at its first frame.
        most_passes: how many at most.
        enough: the overlap that is left, as a share of the smaller body's size.
        tell: is called in every pass.

    Raises:
        Stopped: when `tell` says so.
    """
    rigid, size = world.solids.rigid, world.solids.size
    start, free = rigid.place[:, :3].copy(), _free(world)
    best, best_place, passes = np.inf, rigid.place.copy(), 0
    worst = left = 0.0
    for passes in range(most_passes + 1):
        step(tell, passes, most_passes)
        pairs = rigid_pairs(world)
        share = pairs.depth / _smaller(pairs, size) if len(pairs) else np.zeros(1)
        # Pairs that nothing here can part say nothing about how far it has come.
        movable = free[pairs.a] | ((pairs.b >= 0) & free[np.maximum(pairs.b, 0)])
        worst = float(share[movable].max(initial=0.0)) if len(pairs) else 0.0
        left = float(pairs.depth[movable].max(initial=0.0)) if len(pairs) else 0.0
        if worst < best:
            best, best_place, best_left = worst, rigid.place.copy(), left
        if worst <= enough or passes == most_passes:
            break
        asked, count = np.zeros((len(free), 3)), np.zeros(len(free))
        two = (pairs.b >= 0) & free[np.maximum(pairs.b, 0)]
        one = free[pairs.a]
        way = ((pairs.depth + CLEAR * _smaller(pairs, size)) / np.where(one & two, 2.0, 1.0))[:, None] * pairs.normal
        np.add.at(asked, pairs.a[one], way[one])
        np.add.at(count, pairs.a[one], 1.0)
        np.add.at(asked, pairs.b[two], -way[two])
        np.add.at(count, pairs.b[two], 1.0)
        # The mean of many would be slow in a dense heap, their sum would overshoot: between the two.
        more = np.where(count > 1, RELAXED, 1.0) / np.maximum(np.sqrt(count), 1.0)
        way = more[:, None] * asked
        length = np.linalg.norm(way, axis=1)
        rigid.place[:, :3] += way * np.minimum(1.0, STEP * size / np.maximum(length, 1e-12))[:, None]
    rigid.place[:] = best_place
    return Apart(rigid.place[:, :3] - start, passes, best_left, best)


def _smaller(pairs: Pairs, size: Floats) -> Floats:
    other = np.where(pairs.b >= 0, size[np.maximum(pairs.b, 0)], np.inf)
    return np.minimum(size[pairs.a], other)


def shrink_to_fit(world: World) -> Floats:
    """Return by how much each rigid body (R,) must be scaled about its centre so that none overlaps another, 0.2 to 1.

    Along the way out of a pair both bodies reach from their centres to the other; shrinking both by the
    same share takes that share off both reaches. Each body takes the largest share that any of its pairs needs.
    """
    rigid, free = world.solids.rigid, _free(world)
    pairs, scale = rigid_pairs(world), np.ones(len(free))
    for k in range(len(pairs)):
        a, b = int(pairs.a[k]), int(pairs.b[k])
        mine = abs(float((pairs.at[k] - rigid.place[a, :3]) @ pairs.normal[k])) + 0.5 * pairs.depth[k]
        theirs = 0.0
        if b >= 0 and free[b]:
            theirs = abs(float((pairs.at[k] - rigid.place[b, :3]) @ pairs.normal[k])) + 0.5 * pairs.depth[k]
        reach = (mine if free[a] else 0.0) + theirs
        if reach <= 0.0:
            continue
        share = max(1.0 - 1.02 * float(pairs.depth[k]) / reach, SMALLEST)
        if free[a]:
            scale[a] = min(scale[a], share)
        if b >= 0 and free[b]:
            scale[b] = min(scale[b], share)
    return scale


def thin_out(pairs: Pairs, free: NDArray[np.bool_], seconds: float = 10.0) -> Whole:
    """Return the fewest rigid bodies whose removal ends all overlaps, int64, rising.

    It is the smallest vertex cover of the graph of overlaps, solved as an integer programme by
    branch and bound (HiGHS; Huangfu and Hall 2018); where that takes too long, the best found so far, made irredundant.

    Args:
        pairs: the overlaps. free: bool (R,), the bodies that may go.
        seconds: for the search.
    """
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import coo_matrix

    other = pairs.b >= 0
    both = other & free[pairs.a] & free[np.maximum(pairs.b, 0)]
    forced = np.zeros(len(free), bool)
    forced[pairs.a[~both & free[pairs.a]]] = True
    one_sided = other & ~free[pairs.a] & free[np.maximum(pairs.b, 0)]
    forced[pairs.b[one_sided]] = True
    open_pairs = np.flatnonzero(both & ~forced[pairs.a] & ~forced[np.maximum(pairs.b, 0)])
    if not len(open_pairs):
        return np.flatnonzero(forced)
    nodes, ends = np.unique(np.stack([pairs.a[open_pairs], pairs.b[open_pairs]], 1), return_inverse=True)
    ends = ends.reshape(-1, 2)
    rows = np.repeat(np.arange(len(ends)), 2)
    matrix = coo_matrix((np.ones(2 * len(ends)), (rows, ends.ravel())), shape=(len(ends), len(nodes))).tocsr()
    done = milp(
        np.ones(len(nodes)), integrality=np.ones(len(nodes)), bounds=Bounds(0, 1),
        constraints=LinearConstraint(matrix, lb=1.0), options={"time_limit": seconds},
    )  # fmt: skip
    taken = np.ones(len(nodes), bool) if done.x is None else done.x > 0.5
    for n in np.flatnonzero(taken):  # none is left that could stay
        mine = (ends == n).any(axis=1)
        if taken[ends[mine][ends[mine] != n]].all():
            taken[n] = False
    forced[nodes[taken]] = True
    return np.flatnonzero(forced)


@dataclass(frozen=True)
class Probe:
    """A short run with nothing pulling: what the overlaps alone do.

    Attributes:
        fastest: highest speed of any rigid body, m/s. farthest: how far any went, metres.
        body: the number of the one that went farthest.
    """

    fastest: float
    farthest: float
    body: int


def probe(world: World, substeps: int, frames: int, tell: Tell = silent) -> Probe:
    """Run a world for some frames without gravity and wind, and return what moved; the world changes.

    Bodies at rest that overlap nothing stay where they are, so all that moves is the overlaps' doing. `tell` is called
    before every frame; raises Stopped when it says so.
    """
    from zembrik.core.solver.step import Stepper

    world.gravity[:], world.pull = 0.0, None
    world.air.winds.clear()
    world.air.swirls.clear()
    rigid = world.solids.rigid
    start, free = rigid.place[:, :3].copy(), _free(world)
    stepper = Stepper(world, substeps, 1, world.fps)
    fastest = 0.0
    for frame in range(frames):
        step(tell, frame, frames)
        stepper.advance(1.0 + frame)
        if free.any():
            fastest = max(fastest, float(np.linalg.norm(rigid.speed[free, :3], axis=1).max()))
    way = np.where(free, np.linalg.norm(rigid.place[:, :3] - start, axis=1), 0.0)
    return Probe(fastest, float(way.max(initial=0.0)), int(way.argmax()) if len(way) else -1)
