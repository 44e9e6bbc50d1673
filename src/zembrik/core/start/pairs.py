"""All pairs of rigid bodies, and of rigid bodies and colliders, that overlap in a world."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zembrik.core.solver.arrays import GAP, NORMAL, ROOM
from zembrik.core.solver.world import World

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]
LEAST_M = 1e-6  # less is a touch


@dataclass(frozen=True)
class Pairs:
    """Overlapping pairs, k of them.

    Attributes:
        a: int64 (k,), the rigid body's number.
        b: int64 (k,), the other's; -1 - c for collider c.
        depth: float64 (k,), how deep the deepest place is, thicknesses included, metres.
        normal: float64 (k, 3), the way out for a.
        at: float64 (k, 3), the deepest place, halfway between both surfaces.
    """

    a: Whole
    b: Whole
    depth: Floats
    normal: Floats
    at: Floats

    def __len__(self) -> int:
        return len(self.a)


def rigid_pairs(world: World) -> Pairs:
    """Return the overlapping pairs, each once, by the bodies' numbers; bodies are where `world.solids.rigid` has them.

    The direction of a pair is the mean of all its places, weighted by their depths.
    """
    solids = world.solids
    rigid = solids.rigid
    rigid.before[:], rigid.asleep[:] = rigid.place, False
    solids.meet(world.x, world.x, world.w, 1.0)
    found = solids.contacts
    depth = found.row[:, ROOM] - found.row[:, GAP]
    mine = np.flatnonzero((depth > LEAST_M) & (found.a >= 0))
    if not len(mine):
        none = np.zeros(0, np.int64)
        return Pairs(none, none, np.zeros(0), np.zeros((0, 3)), np.zeros((0, 3)))
    a, b = found.a[mine], np.where(found.b[mine] >= 0, found.b[mine], -1 - found.solid[mine])
    depth, normal = depth[mine], found.row[mine, NORMAL : NORMAL + 3].copy()
    # Halfway between the two surfaces.
    point = found.point[mine]
    to = np.where(solids.skin.owner[point] < -1, -1.0, 1.0) * (0.5 * depth - solids.skin.radius[point])
    at = solids.skin.now[point] + to[:, None] * normal
    swap = (b >= 0) & (b < a)
    normal[swap] *= -1.0
    a, b = np.where(swap, b, a), np.where(swap, a, b)
    order = np.lexsort((b, a))
    a, b, depth, normal, at = a[order], b[order], depth[order], normal[order], at[order]
    first = np.flatnonzero(np.concatenate([[True], (a[1:] != a[:-1]) | (b[1:] != b[:-1])]))
    group = np.cumsum(np.isin(np.arange(len(a)), first)) - 1
    deepest = np.full(len(first), -1.0)
    np.maximum.at(deepest, group, depth)
    way = np.zeros((len(first), 3))
    np.add.at(way, group, depth[:, None] * normal)
    at_worst = np.lexsort((-depth, group))
    worst = at_worst[np.searchsorted(group[at_worst], np.arange(len(first)))]
    total = np.zeros(len(first))
    np.add.at(total, group, depth)
    # Where two are so deep in each other that their places say all ways, the line of their centres does.
    one, two = a[first], b[first]
    apart = rigid.place[one, :3] - rigid.place[np.maximum(two, 0), :3]
    unsure = (two >= 0) & (np.linalg.norm(way, axis=1) < 0.5 * total) & (np.linalg.norm(apart, axis=1) > 1e-9)
    way[unsure] = apart[unsure]
    size = np.linalg.norm(way, axis=1)
    way = np.where(size[:, None] > 1e-12, way / np.where(size > 1e-12, size, 1.0)[:, None], normal[worst])
    return Pairs(a[first], b[first], deepest, way, at[worst])
