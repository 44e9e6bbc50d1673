"""Finding which skin points touch which solids: boxes first, then signed distances.

The solids are sorted along one axis; each chunk of skin looks only at those whose boxes
reach into its own. Then every pair of chunk and solid asks the solid's fields, in parallel,
each pair writing to places of its own; at last the touching ones are gathered in order.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.distance.field import fill_distances
from zembrik.core.solver.arrays import Slots
from zembrik.core.solver.contact import meet
from zembrik.core.solver.skin import CHUNK

LARGE = 4.0  # times the middle extent: a solid this large is looked at by every chunk

Floats = NDArray[np.float64]


def make_slots(pairs: int) -> Slots:
    """Return room for so many pairs."""
    n = pairs * CHUNK
    return Slots(
        np.zeros(pairs, np.int64), np.zeros(n, np.int64), np.empty((n, 3)), np.empty((n, 3)), np.empty((n, 3)),
        np.empty((n, 3)), np.empty(n), np.empty(n),
    )  # fmt: skip


@kernel
def _apart(a, b):  # type: ignore[no-untyped-def]
    """Tell whether two boxes (6,) are apart."""
    for axis in range(3):  # noqa: SIM110 - no generators in kernels
        if a[axis] > b[3 + axis] or a[3 + axis] < b[axis]:
            return True
    return False


@kernel
def _skip(k, s, skin, solids, rigid):  # type: ignore[no-untyped-def]
    """Tell whether chunk k has nothing to do with solid s: its own, or neither can move the other."""
    if skin.solid[k] == s:
        return True
    r, q = skin.owner[skin.first[k]], solids.owner[s]
    if r < 0:
        return q < 0 and not skin.wide[k]
    fixed = rigid.w[r] == 0.0
    if q < 0:
        return fixed or (rigid.asleep[r] and not solids.moving[s])
    if fixed and rigid.w[q] == 0.0:
        return True
    idle = rigid.asleep[r] or (fixed and not solids.moving[skin.solid[k]])
    return idle and (rigid.asleep[q] or (rigid.w[q] == 0.0 and not solids.moving[s]))


@kernel
def _plan(solids):  # type: ignore[no-untyped-def]
    """Return (axis to sort along, solids sorted along it, their low ends, widest of them, the large ones)."""
    count = len(solids.owner)
    wide = np.empty(count)
    for s in range(count):
        wide[s] = 0.0
        for axis in range(3):
            wide[s] = max(wide[s], solids.box[s, 3 + axis] - solids.box[s, axis])
    ends = wide[np.isfinite(wide)]
    bound = LARGE * np.median(ends) if len(ends) else 0.0
    large = np.flatnonzero(~(wide <= bound))
    small = np.flatnonzero(wide <= bound)
    spread = np.array([np.std(solids.box[small, a]) if len(small) else 0.0 for a in range(3)])
    along = spread.argmax()
    lows = solids.box[small, along]
    order = np.argsort(lows, kind="mergesort")
    widest = 0.0
    for n in small:
        widest = max(widest, solids.box[n, 3 + along] - solids.box[n, along])
    return along, small[order], lows[order], widest, large


@parallel_kernel
def find_pairs(skin, solids, rigid):  # type: ignore[no-untyped-def]
    """Return int64 (P, 2): chunk and solid of every pair whose boxes meet, chunk by chunk."""
    axis, order, lows, widest, large = _plan(solids)
    chunks = len(skin.first) - 1
    count = np.zeros(chunks + 1, np.int64)
    for k in numba.prange(chunks):
        box, found = skin.box[k], 0
        for s in large:
            if not _apart(box, solids.box[s]) and not _skip(k, s, skin, solids, rigid):
                found += 1
        n = np.searchsorted(lows, box[axis] - widest)
        while n < len(lows) and lows[n] <= box[3 + axis]:
            if not _apart(box, solids.box[order[n]]) and not _skip(k, order[n], skin, solids, rigid):
                found += 1
            n += 1
        count[k + 1] = found
    start = np.cumsum(count)
    pairs = np.empty((start[chunks], 2), np.int64)
    for k in numba.prange(chunks):
        box, at = skin.box[k], start[k]
        for s in large:
            if not _apart(box, solids.box[s]) and not _skip(k, s, skin, solids, rigid):
                pairs[at, 0], pairs[at, 1] = k, s
                at += 1
        n = np.searchsorted(lows, box[axis] - widest)
        while n < len(lows) and lows[n] <= box[3 + axis]:
            if not _apart(box, solids.box[order[n]]) and not _skip(k, order[n], skin, solids, rigid):
                pairs[at, 0], pairs[at, 1] = k, order[n]
                at += 1
            n += 1
    return pairs


@kernel
def _look(p, k, s, fields, skin, solids, slots):  # type: ignore[no-untyped-def]
    """Fill pair p's places with the points of chunk k that touch solid s."""
    box, begin = solids.box[s], p * CHUNK
    room_s, slim, both, drift = solids.room[s], solids.slim[s], solids.both[s], solids.drift[s]
    found = begin
    for i in range(skin.first[k], skin.first[k + 1]):
        wide, outside = 1.5 * (skin.room[i] + skin.radius[i]), False
        for axis in range(3):
            low = min(skin.now[i, axis], skin.begin[i, axis]) - wide
            high = max(skin.now[i, axis], skin.begin[i, axis]) + wide
            outside = outside or low > box[3 + axis] or high < box[axis]
        if not outside:
            slots.point[found] = i
            for axis in range(3):
                slots.at[found, axis] = skin.now[i, axis]
            found += 1
    if found == begin:
        slots.filled[p] = 0
        return
    for f in range(solids.span[s, 0], solids.span[s, 1]):
        if f == solids.span[s, 0]:
            fill_distances(fields, f, slots.at, begin, found, slots.gap, slots.normal)
        else:
            fill_distances(fields, f, slots.at, begin, found, slots.spare, slots.other)
        for q in range(begin, found):
            i = slots.point[q]
            # Where the point began, as seen from where the solid is now.
            px, py, pz = skin.begin[i, 0] - drift[9], skin.begin[i, 1] - drift[10], skin.begin[i, 2] - drift[11]
            ax = drift[0] * px + drift[3] * py + drift[6] * pz
            ay = drift[1] * px + drift[4] * py + drift[7] * pz
            az = drift[2] * px + drift[5] * py + drift[8] * pz
            way = np.sqrt((slots.at[q, 0] - ax) ** 2 + (slots.at[q, 1] - ay) ** 2 + (slots.at[q, 2] - az) ** 2)
            room = room_s + skin.room[i] + skin.radius[i]
            first = f == solids.span[s, 0]
            here = slots.gap[q] if first else slots.spare[q]
            if here <= way + room and (both or 2.0 * way >= slim + room):
                if first:
                    meet(fields, both, f, q, room, slots.at, ax, ay, az, slots.gap, slots.normal, slots.probe)
                else:
                    meet(fields, both, f, q, room, slots.at, ax, ay, az, slots.spare, slots.other, slots.probe)
            if not first and slots.spare[q] < slots.gap[q]:  # the nearest of several hulls answers
                slots.gap[q] = slots.spare[q]
                for axis in range(3):
                    slots.normal[q, axis] = slots.other[q, axis]
            if f == solids.span[s, 1] - 1:  # once a pair's points are close, what pushes may bring them together
                slots.spare[q] = room + 0.5 * (room_s + skin.room[i]) + 0.2 * way
    kept = begin
    for q in range(begin, found):
        if slots.gap[q] < slots.spare[q]:
            slots.point[kept], slots.gap[kept] = slots.point[q], slots.gap[q]
            for axis in range(3):
                slots.normal[kept, axis] = slots.normal[q, axis]
            kept += 1
    slots.filled[p] = kept - begin


@parallel_kernel
def look_at_pairs(pairs, fields, skin, solids, slots):  # type: ignore[no-untyped-def]
    """Find each pair's touching points; see `Slots`."""
    for p in numba.prange(len(pairs)):
        _look(p, pairs[p, 0], pairs[p, 1], fields, skin, solids, slots)
