"""Which chunks of skin and which solids are near: looked for now and then, and followed in between.

The solids are lined up along the axis along which they lie widest; each chunk of skin looks only at those that begin
where one that reaches into its own box can, four at once.
The boxes are taken somewhat wider than they are, so what is found holds until one of them has left its wider one, or
something fell asleep or woke. Two rigid bodies that something flat keeps apart are not looked at again before both
together have gone as far as they were apart then.

A chunk's solids come in the order of their numbers. So which contacts there are, and in which order, does not depend
on when the pairs were found.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, kernel, parallel_kernel
from zembrik.core.lanes import WIDTH, lowest
from zembrik.core.solver.arrays import Rigid, Skin, Solids
from zembrik.core.solver.boxes import first_from, four_near

LARGE = 4.0  # times the middle extent: a solid this large is looked at by every chunk
FEW = 64  # partners of a chunk that are kept while they are counted
WIDER, AHEAD = 0.1, 4.0  # of a box's longest side, and of what its body goes now, by which it is taken wider

Floats = NDArray[np.float64]
Numbers = NDArray[np.int64]

# What a side of a pair is: points that ask no collider, points that do, a body held still, one that is moved,
# one asleep, one awake, a collider held still, one that is moved.
POINTS, WIDE, STILL, MOVED, ASLEEP, AWAKE, COLLIDER, MOVED_COLLIDER = range(8)


def _meetings() -> NDArray[np.bool_]:
    """Return bool (8, 8): whether a chunk of one kind has anything to do with a solid of another."""
    table = np.zeros((8, 8), np.bool_)
    table[POINTS, [STILL, MOVED, ASLEEP, AWAKE]] = True
    table[WIDE, [STILL, MOVED, ASLEEP, AWAKE, COLLIDER, MOVED_COLLIDER]] = True
    table[STILL, AWAKE] = True
    table[MOVED, [ASLEEP, AWAKE]] = True
    table[ASLEEP, [MOVED, AWAKE, MOVED_COLLIDER]] = True
    table[COLLIDER, AWAKE] = True  # of a plank on a post only the post has corners where they touch
    table[MOVED_COLLIDER, [ASLEEP, AWAKE]] = True
    table[AWAKE, [STILL, MOVED, ASLEEP, AWAKE, COLLIDER, MOVED_COLLIDER]] = True
    return table


MEETINGS = _meetings()


@kernel
def kinds_of(skin, solids, rigid):  # type: ignore[no-untyped-def]
    """Return the kinds of all chunks and of all solids, int64."""
    owner, moving = solids.owner, solids.moving
    of_solid, of_chunk = np.empty(len(owner), np.int64), np.empty(len(skin.first) - 1, np.int64)
    for s in range(len(owner)):
        r = owner[s]
        if r < 0:
            of_solid[s] = MOVED_COLLIDER if moving[s] else COLLIDER
        elif rigid.w[r] == 0.0:
            of_solid[s] = MOVED if moving[s] else STILL
        else:
            of_solid[s] = ASLEEP if rigid.asleep[r] else AWAKE
    for k in range(len(of_chunk)):
        if skin.owner[skin.first[k]] == -1:
            of_chunk[k] = WIDE if skin.wide[k] else POINTS
        else:
            of_chunk[k] = of_solid[skin.solid[k]]
    return of_chunk, of_solid


@kernel
def _line_up(box):  # type: ignore[no-untyped-def]
    """Line solids with boxes (S, 6) up along the axis along which their low corners lie widest.

    Returns (large ones, which are not in the line; the axis; the others in the order of their low corners; these low
    corners along the axis (m,); the widest extent along it, metres; all their sides, see `boxes`).
    """
    wide = np.full(len(box), np.inf)  # of what has no end, or is no number
    for s in range(len(box)):
        if np.isfinite(box[s].sum()):
            wide[s] = max(box[s, 3] - box[s, 0], box[s, 4] - box[s, 1], box[s, 5] - box[s, 2])
    ends = wide[wide < np.inf]
    small = wide <= (LARGE * np.median(ends) if len(ends) else 0.0)
    large, rest, axis, widest = np.flatnonzero(~small), np.flatnonzero(small), 0, -1.0
    for k in range(3):
        low, high = np.inf, -np.inf
        for r in rest:
            low, high = min(low, box[r, k]), max(high, box[r, k])
        if high - low > widest:
            axis, widest = k, high - low
    order = rest[np.argsort(box[rest, axis], kind="mergesort")]
    count = (len(order) + WIDTH - 1) // WIDTH * WIDTH
    sides, longest = np.full(6 * count, np.inf), 0.0
    sides[3 * count :] = -np.inf
    for n in range(len(order)):
        for k in range(6):
            sides[k * count + n] = box[order[n], k]
        longest = max(longest, box[order[n], 3 + axis] - box[order[n], axis])
    return large, axis, order, sides[axis * count : axis * count + len(order)].copy(), longest, sides


@bare_kernel
def _partners(k, large, axis, order, lows, longest, sides, own, box, whose, of_chunk, of_solid, into, at, room):  # type: ignore[no-untyped-def]
    """Return how many solids chunk k's box meets; fill the first `room` of them into `into`, from `at` on."""
    found, kind = 0, of_chunk[k]
    l0, l1, l2, h0, h1, h2 = own[k, 0], own[k, 1], own[k, 2], own[k, 3], own[k, 4], own[k, 5]
    for n in range(len(large)):
        s = large[n]
        apart = l0 > box[s, 3] or h0 < box[s, 0] or l1 > box[s, 4] or h1 < box[s, 1] or l2 > box[s, 5] or h2 < box[s, 2]
        if not apart and s != whose[k] and MEETINGS[kind, of_solid[s]]:
            if found < room:
                into[at + found] = s
            found += 1
    first = first_from(lows, own[k, axis] - longest) // WIDTH * WIDTH
    for four in range(first, len(order), WIDTH):
        if lows[four] > own[k, 3 + axis]:
            break
        which = four_near(sides, four, l0, l1, l2, h0, h1, h2)
        while which:
            s, which = order[four + lowest(which)], which & (which - 1)
            if s != whose[k] and MEETINGS[kind, of_solid[s]]:
                if found < room:
                    into[at + found] = s
                found += 1
    return found


@parallel_kernel
def find_pairs(own, box, whose, of_chunk, of_solid):  # type: ignore[no-untyped-def]
    """Return int64 (P, 2): chunk and solid of every pair whose boxes meet, both rising.

    Args:
        own, box: float64 (K, 6) and (S, 6), the chunks' and the solids' boxes, metres.
        whose: int64 (K,), the solid that each chunk is on, or -1. of_chunk, of_solid: int64, their kinds.
    """
    large, axis, order, lows, longest, sides = _line_up(box)
    chunks = len(own)
    count, few = np.zeros(chunks + 1, np.int64), np.empty(chunks * FEW, np.int64)
    for k in numba.prange(chunks):
        chunk = np.int64(k)  # so that a kernel is compiled for one kind of number
        count[k + 1] = _partners(
            chunk, large, axis, order, lows, longest, sides, own, box, whose, of_chunk, of_solid, few, chunk * FEW, FEW
        )
    start = np.cumsum(count)
    found, pairs = np.empty(start[chunks], np.int64), np.empty((start[chunks], 2), np.int64)
    for k in numba.prange(chunks):
        many, first, chunk = count[k + 1], start[k], np.int64(k)
        if many > FEW:
            _partners(
                chunk, large, axis, order, lows, longest, sides, own, box, whose, of_chunk, of_solid, found, first, many
            )
        for n in range(many):
            s, at = found[first + n] if many > FEW else few[k * FEW + n], first + n
            while at > first and pairs[at - 1, 1] > s:
                pairs[at, 1] = pairs[at - 1, 1]
                at -= 1
            pairs[at, 1] = s
            pairs[first + n, 0] = k
    return pairs


@bare_kernel
def _widen(boxes, solid, pose, out):  # type: ignore[no-untyped-def]
    """Fill out (n, 6) with boxes (n, 6) that are wider; what has no end stays as it is.

    `solid` (n,) is the one each belongs to, or -1; what goes far gets more.
    """
    for n in range(len(boxes)):
        longest = max(boxes[n, 3] - boxes[n, 0], boxes[n, 4] - boxes[n, 1], boxes[n, 5] - boxes[n, 2])
        more = WIDER * longest if longest < np.inf else 0.0
        if solid[n] >= 0:
            more += AHEAD * pose[solid[n], 12]
        for axis in range(3):
            out[n, axis], out[n, 3 + axis] = boxes[n, axis] - more, boxes[n, 3 + axis] + more


@bare_kernel
def _left(boxes, wide):  # type: ignore[no-untyped-def]
    """Tell whether any of boxes (n, 6) is not within its wider one."""
    for n in range(len(boxes)):
        for axis in range(3):
            # Written so that a place that is no number any more counts as gone.
            if not (boxes[n, axis] >= wide[n, axis] and boxes[n, 3 + axis] <= wide[n, 3 + axis]):
                return True
    return False


@bare_kernel
def _not_apart(pairs, until, whose, gone, pose, far, out, number):  # type: ignore[no-untyped-def]
    """Fill out (P, 2) and number (P,) with the pairs that may touch; return how many.

    `until` (P,) is what both together must have gone before they can, `gone` (S,) what solids have gone, metres;
    `far` (K,) is room for how far each chunk may go.
    """
    count = 0
    for k in range(len(far)):
        a = whose[k]
        far[k] = gone[a] + pose[a, 12] if a >= 0 else np.inf
    for p in range(len(pairs)):
        # Each is written, and the next takes its place if it is apart.
        k, s = pairs[p, 0], pairs[p, 1]
        out[count, 0], out[count, 1], number[count] = k, s, p
        count += not (far[k] + (gone[s] + pose[s, 12]) < until[p])
    return count


@kernel
def _carried(old, until, pairs):  # type: ignore[no-untyped-def]
    """Return what is known of pairs (P, 2) from old ones with their until; both rise. Of new ones nothing is."""
    found, n = np.full(len(pairs), -np.inf), 0
    for p in range(len(pairs)):
        while n < len(old) and (
            old[n, 0] < pairs[p, 0] or (old[n, 0] == pairs[p, 0] and old[n, 1] < pairs[p, 1])
        ):  # fmt: skip
            n += 1
        if n < len(old) and old[n, 0] == pairs[p, 0] and old[n, 1] == pairs[p, 1]:
            found[p] = until[n]
    return found


class NearPairs:
    """The pairs of chunk and solid that are near, from substep to substep."""

    def __init__(self) -> None:
        self.pairs = np.zeros((0, 2), np.int64)
        self.until = np.zeros(0)  # metres; see `_not_apart`
        self.room = np.zeros(0)  # thicknesses that it was found with, metres: they may be keyed
        self.kinds: tuple[Numbers, Numbers] = (np.zeros(0, np.int64), np.zeros(0, np.int64))
        self.own, self.box = np.zeros((0, 6)), np.zeros((0, 6))
        self.apart: Numbers = np.zeros(0, np.int64)  # pairs of solids that do not touch, as one number each

    def leave_out(self, pairs: list[tuple[int, int]], solids: Solids) -> None:
        """Let pairs of rigid bodies not touch each other."""
        solid, count = {int(r): s for s, r in enumerate(solids.owner) if r >= 0}, len(solids.owner)
        both = [(a, b) for one, two in pairs for a, b in ((one, two), (two, one))]
        self.apart = np.array(sorted({solid[a] * count + solid[b] for a, b in both}), np.int64)

    def find(self, skin: Skin, solids: Solids, rigid: Rigid) -> tuple[Numbers, Numbers]:
        """Return the pairs (Q, 2) that may touch now, and the number of each among all that are near (Q,).

        The skin's and the solids' boxes are as in this substep.
        """
        of_chunk, of_solid = kinds_of(skin, solids, rigid)
        stays = np.array_equal(of_chunk, self.kinds[0]) and np.array_equal(of_solid, self.kinds[1])
        if not stays or _left(skin.box, self.own) or _left(solids.box, self.box):
            self.kinds, self.own, self.box = (of_chunk, of_solid), np.empty_like(skin.box), np.empty_like(solids.box)
            _widen(skin.box, skin.solid, solids.pose, self.own)
            _widen(solids.box, np.arange(len(self.box)), solids.pose, self.box)
            pairs = find_pairs(self.own, self.box, skin.solid, of_chunk, of_solid)
            if len(self.apart):
                pairs = pairs[~np.isin(skin.solid[pairs[:, 0]] * len(self.box) + pairs[:, 1], self.apart)]
            self.until = _carried(self.pairs, self.until, pairs)
            self.pairs = pairs
        if not np.array_equal(solids.room, self.room):
            self.room = solids.room.copy()
            self.until[:] = -np.inf
        out, number = np.empty_like(self.pairs), np.empty(len(self.pairs), np.int64)
        far = np.empty(len(skin.solid))
        count = _not_apart(self.pairs, self.until, skin.solid, solids.gone, solids.pose, far, out, number)
        return out[:count], number[:count]
