"""Finding which skin points touch which solids: turned boxes first, then signed distances.

Every near pair of chunk and solid (`pairing`) asks the solid's fields, in parallel, each pair writing to places of its
own; at last the touching ones are gathered in order.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, parallel_kernel
from zembrik.core.distance.field import fill_distances, fill_distances_here
from zembrik.core.lanes import WIDTH, bits, choose, lane, lanes, larger, lowest, smaller
from zembrik.core.lanes_memory import values4
from zembrik.core.solver.arrays import Slots
from zembrik.core.solver.contact import BEHIND, meet
from zembrik.core.solver.skin import CHUNK, SOME

Floats = NDArray[np.float64]
TOUCHED = -1.0  # metres that two bodies went before they can touch: they do


def make_slots(pairs: int) -> Slots:
    """Return room for so many pairs."""
    n = pairs * CHUNK
    whole = np.zeros(pairs, np.int64)
    return Slots(whole, whole.copy(), np.zeros(n, np.int64), np.empty((n, 3)), np.empty(n))


@bare_kernel
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


@bare_kernel
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


@numba.njit(inline="always")
def _frame(pose, local_box, s):  # type: ignore[no-untyped-def]
    """Return the turn, place and turned box of rigid solid s, 18 numbers."""
    # Taken up before a loop over points: in it, each would be read again after every write.
    return (
        pose[s, 0], pose[s, 1], pose[s, 2], pose[s, 3], pose[s, 4], pose[s, 5], pose[s, 6], pose[s, 7], pose[s, 8],
        pose[s, 9], pose[s, 10], pose[s, 11],
        local_box[s, 0], local_box[s, 1], local_box[s, 2], local_box[s, 3], local_box[s, 4], local_box[s, 5],
    )  # fmt: skip


@numba.njit(inline="always")
def _outside(x, y, z, frame):  # type: ignore[no-untyped-def]
    """Return how far (m) a side of a rigid solid's turned box keeps places away; below zero inside."""
    x, y, z = x - frame[9], y - frame[10], z - frame[11]
    u = frame[0] * x + frame[3] * y + frame[6] * z
    v = frame[1] * x + frame[4] * y + frame[7] * z
    w = frame[2] * x + frame[5] * y + frame[8] * z
    most = larger(larger(u - frame[15], frame[12] - u), larger(v - frame[16], frame[13] - v))
    return larger(most, larger(w - frame[17], frame[14] - w))


@bare_kernel
def _points_near(axes, first, last, wide, gone, pose, local_box, s, point):  # type: ignore[no-untyped-def]
    """Fill point with those of first .. last - 1 that may be within `wide` (m) of a rigid solid's turned box.

    Return how many, and how far (m) beyond that the others are at least (what fills up the last four may make it
    less). `gone` (m) is what both sides went.
    """
    frame, found, nearest = _frame(pose, local_box, s), 0, lanes(np.inf, np.inf, np.inf, np.inf)
    xs, ys, zs = axes[0], axes[1], axes[2]
    for i in range(first, last, WIDTH):
        away = _outside(values4(xs, i), values4(ys, i), values4(zs, i), frame) - wide
        far = away > gone  # a place that is no number any more is not
        nearest = choose(far, smaller(nearest, away), nearest)
        near = bits(far) ^ 15
        if i + WIDTH > last:
            near &= (1 << (last - i)) - 1
        while near:
            point[found] = i + lowest(near)
            found += 1
            near &= near - 1
    return found, min(min(lane(nearest, 0), lane(nearest, 1)), min(lane(nearest, 2), lane(nearest, 3)))


@bare_kernel
def _apart(pose, local_box, a, b):  # type: ignore[no-untyped-def]
    """Return how far (m) a side of rigid solid b's turned box keeps solid a's away; below zero if none does."""
    x, y, z, most = pose[a, 9] - pose[b, 9], pose[a, 10] - pose[b, 10], pose[a, 11] - pose[b, 11], -np.inf
    for n in range(3):
        b0, b1, b2 = pose[b, n], pose[b, 3 + n], pose[b, 6 + n]
        at, half = b0 * x + b1 * y + b2 * z, 0.0
        for m in range(3):
            along = b0 * pose[a, m] + b1 * pose[a, 3 + m] + b2 * pose[a, 6 + m]
            at += along * 0.5 * (local_box[a, m] + local_box[a, 3 + m])
            half += abs(along) * 0.5 * (local_box[a, 3 + m] - local_box[a, m])
        most = max(most, at - half - local_box[b, 3 + n], local_box[b, n] - at - half)
    return most


@bare_kernel
def _look_at_some(  # type: ignore[no-untyped-def]
    begin_pair, end_pair, pairs, number, until, fields, skin, solids, slots, point, gap, spare, spot, normal, other,
    probe,
):  # fmt: skip
    """Keep, for each of these pairs, the points of its chunk that touch its solid."""
    first, now, was, rooms, radii = skin.first, skin.now, skin.begin, skin.room, skin.radius
    box, filled, spans, owner = solids.box, slots.filled, solids.span, solids.owner
    own, mine, drift, pose, local_box = skin.box, skin.solid, solids.drift, solids.pose, solids.local_box
    axes, widest = skin.axes, skin.widest
    gone, firsts, free_slot = solids.gone, slots.first, begin_pair * CHUNK
    for p in range(begin_pair, end_pair):
        k, s = pairs[p, 0], pairs[p, 1]
        found, filled[p], turned, room_s = 0, 0, owner[s] >= 0, solids.room[s]
        both_turned = turned and mine[k] >= 0 and owner[mine[k]] >= 0
        firsts[p] = free_slot
        if turned and not both_turned and not _box_within(own, k, pose, local_box, s, 1.5 * room_s):
            continue
        if both_turned and until[number[p]] != TOUCHED:
            a = mine[k]
            free = max(_apart(pose, local_box, a, s), _apart(pose, local_box, s, a))
            free -= 1.5 * (room_s + rooms[first[k]])
            if free > pose[a, 12] + pose[s, 12]:  # wherever both went
                until[number[p]] = free + gone[a] + gone[s]
                continue
        l0, l1, l2, h0, h1, h2 = box[s, 0], box[s, 1], box[s, 2], box[s, 3], box[s, 4], box[s, 5]
        least = np.inf  # that one of the points is away, metres
        if both_turned:
            near = 1.5 * (widest[k] + room_s)
            gone_here = pose[mine[k], 12] + pose[s, 12]
            found, least = _points_near(axes, first[k], first[k + 1], near, gone_here, pose, local_box, s, point)
            for q in range(found):
                for axis in range(3):
                    spot[q, axis] = now[point[q], axis]
        for i in range(first[k], first[k] if both_turned else first[k + 1]):
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
        if found == 0:
            if both_turned:
                until[number[p]] = least + gone[mine[k]] + gone[s]
            continue
        both, slim, sheet = solids.both[s], solids.slim[s], False
        for f in range(spans[s, 0], spans[s, 1]):
            one, last = f == spans[s, 0], f == spans[s, 1] - 1
            sheet |= fields.open[f]  # what is behind it is told to be anywhere
            if one:
                fill_distances_here(fields, f, spot, 0, found, gap, normal)
            else:  # most solids are of one field: for the others, it is not compiled in once more
                fill_distances(fields, f, spot, 0, found, spare, other)
            for q in range(found):
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
                    if mine[k] >= 0 and owner[mine[k]] >= 0:
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
        kept = 0
        for q in range(found):
            if gap[q] < spare[q]:
                at = free_slot + kept
                slots.point[at], slots.gap[at] = point[q], gap[q]
                for axis in range(3):
                    slots.normal[at, axis] = normal[q, axis]
                kept += 1
            elif both_turned:
                least = min(least, gap[q] - 1.5 * (rooms[point[q]] + radii[point[q]] + room_s))
        filled[p] = kept
        free_slot += kept
        if both_turned and kept > 0:
            until[number[p]] = TOUCHED
        elif both_turned and not sheet:
            until[number[p]] = least + gone[mine[k]] + gone[s]


@parallel_kernel
def look_at_pairs(pairs, number, until, fields, skin, solids, slots):  # type: ignore[no-untyped-def]
    """Find each pair's touching points, see `Slots`; `number` and `until` as in `pairing.NearPairs`."""
    # Some at a time: handing all these arrays to another function costs as much as looking at a pair.
    for turn in numba.prange((len(pairs) + SOME - 1) // SOME):
        begin = np.int64(turn) * SOME
        # Worked on where it stays in the nearest cache; only what touches is written to the slots.
        point, gap, spare = np.empty(CHUNK, np.int64), np.empty(CHUNK), np.empty(CHUNK)
        spot, normal = np.empty((CHUNK, 3)), np.empty((CHUNK, 3))
        other, probe = np.empty((CHUNK, 3)), np.empty((CHUNK, 3))
        _look_at_some(
            begin, min(begin + SOME, len(pairs)), pairs, number, until, fields, skin, solids, slots, point, gap, spare,
            spot, normal, other, probe,
        )  # fmt: skip
