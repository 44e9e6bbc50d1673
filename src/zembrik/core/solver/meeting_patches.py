"""Which patches may touch, by their boxes and normals.

Patches whose boxes are apart, or that are apart along a way between two axes (as small pieces of slanting cloth often
are), have nothing to do with one another. A patch, with a neighbour
that continues it, cannot cross itself while all its normals lean less than a right angle to one
direction (Volino and Magnenat-Thalmann 1994); while they lean less than FLAT, not even what lies an edge
away from a fold's crease comes closer to the other side than 0.7 of an edge. `nearby` searches those left over.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, kernel, parallel_kernel
from zembrik.core.lanes import WIDE, WIDTH, bits, either, lowest
from zembrik.core.lanes_memory import values8
from zembrik.core.solver.boxes import first_from, four_near

FORM = -1_000_000  # the groups of colliders that change their form are this and below
MOVES = 8  # places that a patch goes in the line in the mean; where it is more, all are sorted anew
FLAT = 1.2  # radians that no normal of a patch and its neighbour leans farther to one direction: they cannot touch
LEAST = np.cos(FLAT)
ASKEW = 1.415  # more than the root of two, by which what goes askew is longer

Floats = NDArray[np.float64]


class Line(NamedTuple):
    """The patches lined up by the low x of their boxes.

    Attributes:
        order: int64 (P,), their numbers; of equal ones, the lower first.
        sides: float64 (6 P',), their boxes by sides (see `boxes`), in that order, filled up to whole fours.
    """

    order: NDArray[np.int64]
    sides: Floats


def no_line(count: int) -> Line:
    """Return room for so many patches."""
    sides = np.full((6, -(-count // WIDTH) * WIDTH), np.inf)
    sides[3:] = -np.inf
    return Line(np.arange(count), sides.reshape(-1))


@kernel
def _line_up(box, line):  # type: ignore[no-untyped-def]
    """Line patches up by their boxes (P, 6), and return the largest extent along x, metres."""
    order, count, moves = line.order, len(box), 0
    for n in range(1, count):  # from search to search few change places
        p, m = order[n], n
        low = box[p, 0]
        while m > 0 and (box[order[m - 1], 0] > low or (box[order[m - 1], 0] == low and order[m - 1] > p)):
            order[m] = order[m - 1]
            m, moves = m - 1, moves + 1
        order[m] = p
        if moves > MOVES * count:
            break
    if moves > MOVES * count:
        order[:] = np.argsort(box[:, 0], kind="mergesort")
    row, widest = len(line.sides) // 6, 0.0
    for n in range(count):
        p = order[n]
        for k in range(6):
            line.sides[k * row + n] = box[p, k]
        widest = max(widest, box[p, 3] - box[p, 0])
    return widest


@numba.njit(inline="always")
def place_beside(p, q, patches):  # type: ignore[no-untyped-def]
    """Return a place of their own for patches p <= q that are one, or beside each other; -1 for others."""
    if p == q:
        return len(patches.beside) + p
    at = -1
    for n in range(patches.beside_span[p], patches.beside_span[p + 1]):
        if patches.beside[n] == q:
            at = n
    return at


@numba.njit(inline="always")
def _flat_together(p, q, cone):  # type: ignore[no-untyped-def]
    """Tell whether patches p and q, which are one, or neighbours, are nearly flat together."""
    if cone[p, 3] < LEAST or cone[q, 3] < LEAST:
        return False
    turn = cone[p, 0] * cone[q, 0] + cone[p, 1] * cone[q, 1] + cone[p, 2] * cone[q, 2]
    # Against the direction between both means, angles add up.
    return 0.5 * np.arccos(min(max(turn, -1.0), 1.0)) + np.arccos(max(min(cone[p, 3], cone[q, 3]), -1.0)) < FLAT


@numba.njit(inline="always")
def meets(boxes, n, low_x, low_y, low_z, high_x, high_y, high_z):  # type: ignore[no-untyped-def]
    """Tell whether box n of boxes (…, 6) is not apart from the box with such corners."""
    # All six are compared, whatever the first say: which of them tells them apart cannot be foreseen, and a
    # processor that guesses wrong loses ten times as much.
    x = (boxes[n, 0] <= high_x) & (boxes[n, 3] >= low_x)
    y = (boxes[n, 1] <= high_y) & (boxes[n, 4] >= low_y)
    return x & y & (boxes[n, 2] <= high_z) & (boxes[n, 5] >= low_z)


@numba.njit(inline="always")
def around(boxes, n, reach):  # type: ignore[no-untyped-def]
    """Return the low and the high corner of box n of boxes (…, 6), farther out by the reach (six numbers)."""
    return (
        boxes[n, 0] - reach, boxes[n, 1] - reach, boxes[n, 2] - reach,
        boxes[n, 3] + reach, boxes[n, 4] + reach, boxes[n, 5] + reach,
    )  # fmt: skip


@numba.njit(inline="always")
def _left_out(p, q, patches, searched):  # type: ignore[no-untyped-def]
    """Tell whether patches p and q are one, or beside each other, and were not searched yet."""
    at = place_beside(min(p, q), max(p, q), patches)
    return at >= 0 and not searched[at]


@numba.njit(inline="always")
def _may_touch(p, q, group):  # type: ignore[no-untyped-def]
    """Tell whether patches p and q have anything to do with one another."""
    if group[p] < 0 and group[q] < 0 and (group[p] <= FORM) == (group[q] <= FORM):
        return False
    return group[p] != group[q] or group[p] % 2 == 0


@numba.njit(inline="always")
def _apart_askew(q, slant, low, high):  # type: ignore[no-untyped-def]
    """Tell whether patch q lies beyond one of eight lowest or highest numbers, in lanes; see `Bounds.slant`."""
    at = 2 * WIDE * q
    return bits(either(values8(slant, at) > high, values8(slant, at + WIDE) < low)) != 0


@bare_kernel
def _meet_one(  # type: ignore[no-untyped-def]
    p, flags, line, widest, box, loose, slant, cone, patches, group, searched, reach, out
):
    """Fill out with the patches that patch p is to be searched with; return how many."""
    found, order, lows = 0, line.order, line.sides[: len(box)]
    low_x, low_y, low_z, high_x, high_y, high_z = around(loose, p, reach)
    low, high = values8(slant, 2 * WIDE * p) - ASKEW * reach, values8(slant, 2 * WIDE * p + WIDE) + ASKEW * reach
    for four in range(first_from(lows, low_x - widest) // WIDTH * WIDTH, len(lows), WIDTH):
        if lows[four] > high_x:
            break
        which = four_near(line.sides, four, low_x, low_y, low_z, high_x, high_y, high_z)
        while which:
            q, which = order[four + lowest(which)], which & (which - 1)
            if _apart_askew(q, slant, low, high):
                continue
            if (q < p) & flags[q]:  # both have strayed: the lower one's row has the pair, if what strayed of it meets
                x, y, z, to_x, to_y, to_z = around(loose, q, reach)
                if meets(box, p, x, y, z, to_x, to_y, to_z):
                    continue
            if _may_touch(p, q, group) and not (group[p] == group[q] and _left_out(p, q, patches, searched)):
                if found < len(out):
                    out[found] = q
                found += 1
    # Those left out until now as nearly flat, however little of them has strayed.
    for n in range(patches.beside_span[p], patches.beside_span[p + 1] + 1):
        itself = n == patches.beside_span[p + 1]  # once, whether or not it is named as beside itself too
        q = p if itself else np.int64(patches.beside[n])
        if (q == p) != itself or (q < p) & flags[q] or not _may_touch(p, q, group):
            continue
        if _left_out(p, q, patches, searched) and not _flat_together(p, q, cone):
            if found < len(out):
                out[found] = q
            found += 1
    return found


@parallel_kernel
def meet_patches(  # type: ignore[no-untyped-def]
    numbers, line, flags, box, loose, slant, cone, patches, group, searched, reach, all_anew, met, found, out
):
    """Write to out (room, 3) the pairs of patches to be searched, the lower number first, of the flagged ones.

    The third number tells whether all of the two is searched, or only what strayed: where all is looked for anew, and
    of patches that are one, or beside each other, when they were left out as nearly flat until now; `searched` takes
    note of those.

    Return how many there are, and how many of one patch at most; if there is no room for so many, in out or in a row of
    `met` (P, room), nothing is written. `numbers` (F,) are the flagged ones: what of them has strayed is what others
    may meet. `group` (P,) is negative for rigid bodies' and colliders' corners, which do not meet each other (but for
    colliders that change their form, `FORM` and below, which rigid bodies meet), else twice the body's number, odd when
    it is not kept apart from itself. `searched` is by `place_beside`: such patches are not left out any more, however
    flat they are. `found` (P,) is room to work in.
    """
    widest = _line_up(box, line)
    for i in numba.prange(len(numbers)):
        found[i] = _meet_one(
            numbers[i], flags, line, widest, box, loose, slant, cone, patches, group, searched, reach, met[i]
        )  # fmt: skip
    whole, most = 0, 0
    for i in range(len(numbers)):
        whole, most = whole + found[i], max(most, found[i])
    if whole <= len(out) and most <= met.shape[1]:
        count = 0
        for i in range(len(numbers)):
            p = numbers[i]
            for n in range(found[i]):
                one, two = min(p, np.int64(met[i, n])), max(p, np.int64(met[i, n]))
                at = place_beside(one, two, patches)
                out[count, 0], out[count, 1] = one, two
                out[count, 2] = all_anew or (at >= 0 and not searched[at])
                if at >= 0:
                    searched[at] = True
                count += 1
    return whole, most
