"""Finding which skin points touch which solids: boxes first, then signed distances.

The solids are sorted into the cells of a grid; each chunk of skin looks only at those whose
boxes reach into its own. Then every pair of chunk and solid asks the solid's fields, in parallel,
each pair writing to places of its own; at last the touching ones are gathered in order.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.distance.field import fill_distances
from zembrik.core.solver.arrays import Slots
from zembrik.core.solver.contact import BEHIND, meet
from zembrik.core.solver.skin import CHUNK, SOME

LARGE = 4.0  # times the middle extent: a solid this large is looked at by every chunk
MOST_CELLS, CELLS_A_BODY = 100, 8  # along an axis; and for each body in the mean
FEW = 48  # partners of a chunk that are kept while they are counted

Floats = NDArray[np.float64]


def make_slots(pairs: int) -> Slots:
    """Return room for so many pairs."""
    n = pairs * CHUNK
    return Slots(
        np.zeros(pairs, np.int64), np.zeros(n, np.int64), np.empty((n, 3)), np.empty((n, 3)), np.empty((n, 3)),
        np.empty((n, 3)), np.empty(n), np.empty(n),
    )  # fmt: skip


# What a side of a pair is: points that ask no collider, points that do, a body held still, one that is moved,
# one asleep, one awake. A collider is held still or moved too, but asks nothing itself.
POINTS, WIDE, STILL, MOVED, ASLEEP, AWAKE, COLLIDER, MOVED_COLLIDER = range(8)


def _meetings() -> NDArray[np.bool_]:
    """Return bool (8, 8): whether a chunk of one kind has anything to do with a solid of another."""
    table = np.zeros((8, 8), np.bool_)
    table[POINTS, [STILL, MOVED, ASLEEP, AWAKE]] = True
    table[WIDE, [STILL, MOVED, ASLEEP, AWAKE, COLLIDER, MOVED_COLLIDER]] = True
    table[STILL, AWAKE] = True
    table[MOVED, [ASLEEP, AWAKE]] = True
    table[ASLEEP, [MOVED, AWAKE, MOVED_COLLIDER]] = True
    table[AWAKE, [STILL, MOVED, ASLEEP, AWAKE, COLLIDER, MOVED_COLLIDER]] = True
    return table


MEETINGS = _meetings()


@kernel
def _kinds(skin, solids, rigid):  # type: ignore[no-untyped-def]
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
        if skin.owner[skin.first[k]] < 0:
            of_chunk[k] = WIDE if skin.wide[k] else POINTS
        else:
            of_chunk[k] = of_solid[skin.solid[k]]
    return of_chunk, of_solid


@kernel
def _cell(at, low, size, across):  # type: ignore[no-untyped-def]
    """Return the cell along an axis that holds a place; the outermost ones hold all that is beyond."""
    # Comparisons, so that a place that is no number any more still names a cell.
    cell = (at - low) / size
    if not cell >= 1.0:
        return 0
    return int(cell) if cell < across else across - 1


@kernel
def _plan(box):  # type: ignore[no-untyped-def]
    """Sort solids with boxes (S, 6) into all cells of a grid that they reach into.

    Returns (large ones, low corner (3,), width of a cell (3,), cells along each axis (3,), where
    each cell begins (cells + 1,), the solids cell by cell).
    """
    count = len(box)
    wide = np.empty(count)
    for s in range(count):
        wide[s] = max(box[s, 3] - box[s, 0], box[s, 4] - box[s, 1], box[s, 5] - box[s, 2])
    ends = wide[np.isfinite(wide)]
    typical = np.median(ends) if len(ends) else 0.0
    large = np.flatnonzero(~(wide <= LARGE * typical))
    small = np.flatnonzero(wide <= LARGE * typical)
    low, high, size, across = np.full(3, np.inf), np.full(3, -np.inf), np.ones(3), np.ones(3, np.int64)
    for axis in range(3):
        for n in range(len(small)):
            s = small[n]
            low[axis], high[axis] = min(low[axis], box[s, axis]), max(high[axis], box[s, 3 + axis])
    wide_cell = max(typical, 1e-9)
    while len(small):  # far-flung bodies get wide cells, so that there are never many more of these than bodies
        for axis in range(3):
            size[axis] = max(wide_cell, (high[axis] - low[axis]) / MOST_CELLS)
            across[axis] = int((high[axis] - low[axis]) / size[axis]) + 1
        if across[0] * across[1] * across[2] <= CELLS_A_BODY * len(small):
            break
        wide_cell *= 1.25
    begins = np.zeros(across[0] * across[1] * across[2] + 1, np.int64)
    order = np.empty(0, np.int64)
    for turn in range(2):  # count, then fill
        for m in range(len(small)):
            s = small[m]
            for x in range(
                _cell(box[s, 0], low[0], size[0], across[0]), _cell(box[s, 3], low[0], size[0], across[0]) + 1
            ):
                for y in range(
                    _cell(box[s, 1], low[1], size[1], across[1]), _cell(box[s, 4], low[1], size[1], across[1]) + 1
                ):
                    row = (x * across[1] + y) * across[2]
                    first = _cell(box[s, 2], low[2], size[2], across[2])
                    last = _cell(box[s, 5], low[2], size[2], across[2])
                    for n in range(row + first, row + last + 1):
                        if turn:
                            order[begins[n]] = s
                        begins[n] += 1
        if turn == 0:  # counts become where each cell begins; filling moves that to where it ends
            total = np.int64(0)
            for n in range(len(begins)):
                many = begins[n]
                begins[n] = total
                total += many
            order = np.empty(total, np.int64)
    for n in range(len(begins) - 1, 0, -1):
        begins[n] = begins[n - 1]
    begins[0] = 0
    return large, low, size, across, begins, order


@kernel
def _partners(k, large, low, size, across, begins, order, own, box, whose, of_chunk, of_solid, into, at, room):  # type: ignore[no-untyped-def]
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
    if not len(order):
        return found
    for x in range(_cell(l0, low[0], size[0], across[0]), _cell(h0, low[0], size[0], across[0]) + 1):
        for y in range(_cell(l1, low[1], size[1], across[1]), _cell(h1, low[1], size[1], across[1]) + 1):
            for z in range(_cell(l2, low[2], size[2], across[2]), _cell(h2, low[2], size[2], across[2]) + 1):
                cell = (x * across[1] + y) * across[2] + z
                for n in range(begins[cell], begins[cell + 1]):
                    s = order[n]
                    if l0 > box[s, 3] or h0 < box[s, 0] or l1 > box[s, 4] or h1 < box[s, 1]:
                        continue
                    if l2 > box[s, 5] or h2 < box[s, 2]:
                        continue
                    # Both may share several cells: only that of their common low corner counts.
                    if _cell(max(l0, box[s, 0]), low[0], size[0], across[0]) != x:
                        continue
                    if _cell(max(l1, box[s, 1]), low[1], size[1], across[1]) != y:
                        continue
                    if _cell(max(l2, box[s, 2]), low[2], size[2], across[2]) != z:
                        continue
                    if s != whose[k] and MEETINGS[kind, of_solid[s]]:
                        if found < room:
                            into[at + found] = s
                        found += 1
    return found


@parallel_kernel
def find_pairs(skin, solids, rigid):  # type: ignore[no-untyped-def]
    """Return int64 (P, 2): chunk and solid of every pair whose boxes meet, chunk by chunk."""
    large, low, size, across, begins, order = _plan(solids.box)
    of_chunk, of_solid = _kinds(skin, solids, rigid)
    own, box, whose, chunks = skin.box, solids.box, skin.solid, len(skin.first) - 1
    count, few = np.zeros(chunks + 1, np.int64), np.empty(chunks * FEW, np.int64)
    for k in numba.prange(chunks):
        chunk = np.int64(k)  # so that a kernel is compiled for one kind of number
        count[k + 1] = _partners(
            chunk, large, low, size, across, begins, order, own, box, whose, of_chunk, of_solid, few, chunk * FEW, FEW
        )
    start = np.cumsum(count)
    found, pairs = np.empty(start[chunks], np.int64), np.empty((start[chunks], 2), np.int64)
    for k in numba.prange(chunks):
        many, first, chunk = count[k + 1], start[k], np.int64(k)
        if many > FEW:
            _partners(
                chunk, large, low, size, across, begins, order, own, box, whose, of_chunk, of_solid, found, first, many
            )
        for n in range(many):
            pairs[first + n, 0] = k
            pairs[first + n, 1] = found[first + n] if many > FEW else few[k * FEW + n]
    return pairs


@kernel
def _within(px, py, pz, bx, by, bz, wide, pose, drift, local_box, s):  # type: ignore[no-untyped-def]
    """Tell whether a point at p, that began at b, came within `wide` (m) of a rigid solid's turned box.

    Its way is looked at as seen from where the solid is now.
    """
    ox, oy, oz = bx - drift[s, 9], by - drift[s, 10], bz - drift[s, 11]
    o0, o1, o2 = pose[s, 9], pose[s, 10], pose[s, 11]
    ax = drift[s, 0] * ox + drift[s, 3] * oy + drift[s, 6] * oz - o0
    ay = drift[s, 1] * ox + drift[s, 4] * oy + drift[s, 7] * oz - o1
    az = drift[s, 2] * ox + drift[s, 5] * oy + drift[s, 8] * oz - o2
    px, py, pz = px - o0, py - o1, pz - o2
    for k in range(3):
        m0, m1, m2 = pose[s, k], pose[s, 3 + k], pose[s, 6 + k]
        now, then = m0 * px + m1 * py + m2 * pz, m0 * ax + m1 * ay + m2 * az
        if min(now, then) - wide > local_box[s, 3 + k] or max(now, then) + wide < local_box[s, k]:
            return False
    return True


@kernel
def _box_within(own, k, pose, local_box, s, wide):  # type: ignore[no-untyped-def]
    """Tell whether chunk k's world box comes within `wide` (m) of a rigid solid's turned box, wherever it went."""
    x, y, z = 0.5 * (own[k, 0] + own[k, 3]), 0.5 * (own[k, 1] + own[k, 4]), 0.5 * (own[k, 2] + own[k, 5])
    hx, hy, hz = 0.5 * (own[k, 3] - own[k, 0]), 0.5 * (own[k, 4] - own[k, 1]), 0.5 * (own[k, 5] - own[k, 2])
    x, y, z, wide = x - pose[s, 9], y - pose[s, 10], z - pose[s, 11], wide + pose[s, 12]
    for n in range(3):
        m0, m1, m2 = pose[s, n], pose[s, 3 + n], pose[s, 6 + n]
        at, half = m0 * x + m1 * y + m2 * z, abs(m0) * hx + abs(m1) * hy + abs(m2) * hz + wide
        if at - half > local_box[s, 3 + n] or at + half < local_box[s, n]:
            return False
    return True


@kernel
def _turned_within(pose, local_box, a, b, wide):  # type: ignore[no-untyped-def]
    """Tell whether no side of rigid solid b's turned box keeps solid a's `wide` (m) away, wherever both went."""
    wide += pose[a, 12] + pose[b, 12]
    x, y, z = pose[a, 9] - pose[b, 9], pose[a, 10] - pose[b, 10], pose[a, 11] - pose[b, 11]
    for n in range(3):
        b0, b1, b2 = pose[b, n], pose[b, 3 + n], pose[b, 6 + n]
        at, half = b0 * x + b1 * y + b2 * z, wide
        for m in range(3):
            along = b0 * pose[a, m] + b1 * pose[a, 3 + m] + b2 * pose[a, 6 + m]
            at += along * 0.5 * (local_box[a, m] + local_box[a, 3 + m])
            half += abs(along) * 0.5 * (local_box[a, 3 + m] - local_box[a, m])
        if at - half > local_box[b, 3 + n] or at + half < local_box[b, n]:
            return False
    return True


@kernel
def _look_at_some(begin_pair, end_pair, pairs, fields, skin, solids, slots):  # type: ignore[no-untyped-def]
    """Keep, for each of these pairs, the points of its chunk that touch its solid."""
    first, now, was, rooms, radii = skin.first, skin.now, skin.begin, skin.room, skin.radius
    box, point, spot, filled, spans, owner = solids.box, slots.point, slots.at, slots.filled, solids.span, solids.owner
    gap, spare, normal, other, probe = slots.gap, slots.spare, slots.normal, slots.other, slots.probe
    own, mine, drift, pose, local_box = skin.box, skin.solid, solids.drift, solids.pose, solids.local_box
    for p in range(begin_pair, end_pair):
        k, s, begin = pairs[p, 0], pairs[p, 1], p * CHUNK
        found, filled[p], turned, room_s = begin, 0, owner[s] >= 0, solids.room[s]
        if turned and mine[k] < 0 and not _box_within(own, k, pose, local_box, s, 1.5 * room_s):
            continue
        if turned and mine[k] >= 0:
            wide = 1.5 * (room_s + rooms[first[k]])
            a = mine[k]
            if not (_turned_within(pose, local_box, a, s, wide) and _turned_within(pose, local_box, s, a, wide)):
                continue
        l0, l1, l2, h0, h1, h2 = box[s, 0], box[s, 1], box[s, 2], box[s, 3], box[s, 4], box[s, 5]
        for i in range(first[k], first[k + 1]):
            wide = 1.5 * (rooms[i] + radii[i])
            x, y, z, bx, by, bz = now[i, 0], now[i, 1], now[i, 2], was[i, 0], was[i, 1], was[i, 2]
            # All at once rather than one after the other: a branch that cannot be foreseen costs more.
            out = (min(x, bx) - wide > h0) | (max(x, bx) + wide < l0) | (min(y, by) - wide > h1)
            if out | (max(y, by) + wide < l1) | (min(z, bz) - wide > h2) | (max(z, bz) + wide < l2):
                continue
            if turned and not _within(x, y, z, bx, by, bz, wide + 1.5 * room_s, pose, drift, local_box, s):
                continue
            point[found] = i
            spot[found, 0], spot[found, 1], spot[found, 2] = x, y, z
            found += 1
        if found == begin:
            continue
        both, slim = solids.both[s], solids.slim[s]
        for f in range(spans[s, 0], spans[s, 1]):
            one, last = f == spans[s, 0], f == spans[s, 1] - 1
            if one:
                fill_distances(fields, f, spot, begin, found, gap, normal)
            else:
                fill_distances(fields, f, spot, begin, found, spare, other)
            for q in range(begin, found):
                i = point[q]
                # Where the point began, as seen from where the solid is now.
                px, py, pz = was[i, 0] - drift[s, 9], was[i, 1] - drift[s, 10], was[i, 2] - drift[s, 11]
                ax = drift[s, 0] * px + drift[s, 3] * py + drift[s, 6] * pz
                ay = drift[s, 1] * px + drift[s, 4] * py + drift[s, 7] * pz
                az = drift[s, 2] * px + drift[s, 5] * py + drift[s, 8] * pz
                way = np.sqrt((spot[q, 0] - ax) ** 2 + (spot[q, 1] - ay) ** 2 + (spot[q, 2] - az) ** 2)
                room = room_s + rooms[i] + radii[i]
                here = gap[q] if one else spare[q]
                if fields.open[f] and not both and here < -BEHIND * room:
                    # Behind an open sheet: only what came through it counts, of a rigid body as seen from its middle.
                    if mine[k] >= 0:
                        ax, ay, az = pose[mine[k], 9], pose[mine[k], 10], pose[mine[k], 11]
                    if one:
                        came = meet(fields, both, f, q, room, spot, ax, ay, az, gap, normal, probe)
                        gap[q] = gap[q] if came else np.inf
                    else:
                        came = meet(fields, both, f, q, room, spot, ax, ay, az, spare, other, probe)
                        spare[q] = spare[q] if came else np.inf
                elif here <= way + room and (both or 2.0 * way >= slim + room):
                    if one:
                        meet(fields, both, f, q, room, spot, ax, ay, az, gap, normal, probe)
                    else:
                        meet(fields, both, f, q, room, spot, ax, ay, az, spare, other, probe)
                if not one and spare[q] < gap[q]:  # the nearest of several hulls answers
                    gap[q] = spare[q]
                    for axis in range(3):
                        normal[q, axis] = other[q, axis]
                if last:  # once a pair's points are close, what pushes may bring them together
                    spare[q] = room + 0.5 * (room_s + rooms[i]) + 0.2 * way
        kept = begin
        for q in range(begin, found):
            if gap[q] < spare[q]:
                point[kept], gap[kept] = point[q], gap[q]
                for axis in range(3):
                    normal[kept, axis] = normal[q, axis]
                kept += 1
        filled[p] = kept - begin


@parallel_kernel
def look_at_pairs(pairs, fields, skin, solids, slots):  # type: ignore[no-untyped-def]
    """Find each pair's touching points; see `Slots`."""
    # Some at a time: handing all these arrays to another function costs as much as looking at a pair.
    for turn in numba.prange((len(pairs) + SOME - 1) // SOME):
        begin = np.int64(turn) * SOME
        _look_at_some(begin, min(begin + SOME, len(pairs)), pairs, fields, skin, solids, slots)
