"""Symmetric matrices of 3 × 3 blocks, one row of blocks a point, and the conjugate gradients that solve with them.

The pattern is laid out once: which points have to do with one another does not change. Of the matrix its diagonal D
and its lower triangle L are kept. The preconditioner is symmetric block Gauss-Seidel, M = (D + L) D⁻¹ (D + Lᵀ):
it needs no factorisation, so nothing can break down in it. And as A = (D + L) + (D + Lᵀ) - D, an iteration needs only
one sweep with either factor, and no product with A (Eisenstat 1981).

Rigid bodies that cloth touches take part with a shift and a turn each, in two more rows at the end: their own 6 × 6
block is on the diagonal, all else of them are ties.

To be done side by side, the points are parted in PARTS neighbourhoods; what joins two of them, and ties, is left out
of M and multiplied. The parts are the mesh's, not the threads': any number of threads gives the same bytes.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import fma, kernel, parallel_kernel
from zembrik.core.lanes import lane, lanes
from zembrik.core.lanes_memory import block_rows, put_row4, row4
from zembrik.core.solver.colour import neighbourhoods

PARTS = 4

Floats = NDArray[np.float64]
Whole = NDArray[np.int64]


class BlockPattern(NamedTuple):
    """Where the blocks of n points stand in an array: the diagonal first, then L's rows, then what joins two parts.

    Attributes:
        order, span: int64 (n,) and (PARTS + 1,): the points of each part, rising, one part after the other.
        start: int64 (n + 1,), where the blocks of each row of L begin; column: int64, the point of each of all blocks.
        row: int64, the other point of each block, of a higher number.
        cross: where the blocks begin that join two parts.
    """

    order: Whole
    span: Whole
    start: Whole
    column: Whole
    row: Whole
    cross: int


def block_pattern(places: Floats, groups: list[NDArray[np.int32]]) -> BlockPattern:
    """Return the pattern for points (n, 3), where those of a row of any of `groups` (k, points) meet one another."""
    n = len(places)
    part = np.minimum(neighbourhoods(places, max(1, -(-n // PARTS))), PARTS - 1)
    keys = [
        np.maximum(group[:, a], group[:, b]).astype(np.int64) * n + np.minimum(group[:, a], group[:, b])
        for group in groups
        for a in range(group.shape[1])
        for b in range(a)
    ]
    pairs = np.unique(np.concatenate([np.zeros(0, np.int64), *keys]))
    row, column = pairs // n, pairs % n
    inside = part[row] == part[column]
    own = np.arange(n)
    start = n + np.concatenate([[0], np.cumsum(np.bincount(row[inside], minlength=n))]).astype(np.int64)
    order = np.argsort(part, kind="stable")
    return BlockPattern(
        order,
        np.searchsorted(part[order], np.arange(PARTS + 1)),
        start,
        np.concatenate([own, column[inside], column[~inside]]),
        np.concatenate([own, row[inside], row[~inside]]),
        int(start[-1]),
    )


def block_slots(pattern: BlockPattern, group: NDArray[np.int32]) -> Whole:
    """Return where the blocks of each row of group (k, points) stand: int64 (k, pairs), of (a, b) with b ≤ a."""
    n = len(pattern.order)
    keys = pattern.row * n + pattern.column
    rising = np.argsort(keys)
    pairs = [(a, b) for a in range(group.shape[1]) for b in range(a + 1)]
    high = np.stack([np.maximum(group[:, a], group[:, b]) for a, b in pairs], axis=1).astype(np.int64)
    low = np.stack([np.minimum(group[:, a], group[:, b]) for a, b in pairs], axis=1)
    return rising[np.searchsorted(keys, high * n + low, sorter=rising)]


def room_for_blocks(pattern: BlockPattern) -> NDArray[np.float32]:
    """Return room for all blocks, float32 (blocks, 12): their three rows, each with a 0 behind, to be read as lanes.

    Single precision is enough: what is solved for is a correction, and the forces that tell when to end are exact.
    """
    return np.zeros((len(pattern.row), 12), np.float32)


@kernel
def _invert(values, i, inverse):  # type: ignore[no-untyped-def]
    """Fill row i of inverse with the inverse of the symmetric block i."""
    a, b, c = values[i, 0], values[i, 4], values[i, 8]
    d, e, f = values[i, 5], values[i, 9], values[i, 10]
    m, n, o = d * f - e * e, c * e - b * f, b * e - c * d
    over = 1.0 / (a * m + b * n + c * o)
    inverse[i, 0], inverse[i, 1], inverse[i, 2] = m * over, n * over, o * over
    inverse[i, 3], inverse[i, 4], inverse[i, 5] = (a * f - c * c) * over, (b * c - a * e) * over, (a * d - b * b) * over


@parallel_kernel
def invert_diagonal(values, free, inverse):  # type: ignore[no-untyped-def]
    """Fill inverse (n, 6) with the upper triangles of the diagonal's inverse blocks; nothing where a point is held."""
    for i in numba.prange(len(free)):
        if free[i]:
            _invert(values, i, inverse)
        else:
            for n in range(6):
                inverse[i, n] = 0.0


@numba.njit(inline="always")
def _inverse_times(inverse, i, a, b, c):  # type: ignore[no-untyped-def]
    p, q, r, s, t, u = inverse[i, 0], inverse[i, 1], inverse[i, 2], inverse[i, 3], inverse[i, 4], inverse[i, 5]
    return p * a + q * b + r * c, q * a + s * b + t * c, r * a + t * b + u * c


@kernel
def _forward(pattern, values, inverse, part, r, z):  # type: ignore[no-untyped-def]
    """Fill z (…, 4) with (D + L)⁻¹ r on one part."""
    for n in range(pattern.span[part], pattern.span[part + 1]):
        i = pattern.order[n]
        a, b, c = lanes(0.0, 0.0, 0.0, 0.0), lanes(0.0, 0.0, 0.0, 0.0), lanes(0.0, 0.0, 0.0, 0.0)
        for k in range(pattern.start[i], pattern.start[i + 1]):
            at = row4(z, pattern.column[k])
            one, two, three = block_rows(values, k)
            a, b, c = fma(one, at, a), fma(two, at, b), fma(three, at, c)
        a, b, c = _inverse_times(inverse, i, r[i, 0] - _sum(a), r[i, 1] - _sum(b), r[i, 2] - _sum(c))
        put_row4(z, i, lanes(a, b, c, 0.0))  # at once: the next row reads it at once


@numba.njit(inline="always")
def _sum(row):  # type: ignore[no-untyped-def]
    return lane(row, 0) + lane(row, 1) + lane(row, 2)


@kernel
def _backward(pattern, values, inverse, part, r, z):  # type: ignore[no-untyped-def]
    """Fill z (…, 4) with (D + Lᵀ)⁻¹ r on one part."""
    for n in range(pattern.span[part], pattern.span[part + 1]):
        i = pattern.order[n]
        z[i, 0], z[i, 1], z[i, 2] = r[i, 0], r[i, 1], r[i, 2]
    for n in range(pattern.span[part + 1] - 1, pattern.span[part] - 1, -1):
        i = pattern.order[n]
        a, b, c = _inverse_times(inverse, i, z[i, 0], z[i, 1], z[i, 2])
        z[i, 0], z[i, 1], z[i, 2] = a, b, c
        for k in range(pattern.start[i], pattern.start[i + 1]):
            j = pattern.column[k]
            one, two, three = block_rows(values, k)
            put_row4(z, j, fma(three, -c, fma(two, -b, fma(one, -a, row4(z, j)))))


@kernel
def _bodies_times(matrix, count, r, z):  # type: ignore[no-untyped-def]
    """Fill z with the bodies' matrices (R, 6, 6) times r, in the rows from count on."""
    for body in range(len(matrix)):
        for k in range(6):
            total = 0.0
            for m in range(6):
                total += matrix[body, k, m] * r[count + 2 * body + m // 3, m % 3]
            z[count + 2 * body + k // 3, k % 3] = total


@kernel
def _diagonal_times(values, i, a, b, c):  # type: ignore[no-untyped-def]
    """Return the diagonal block i times (a, b, c)."""
    return (
        values[i, 0] * a + values[i, 4] * b + values[i, 8] * c,
        values[i, 4] * a + values[i, 5] * b + values[i, 9] * c,
        values[i, 8] * a + values[i, 9] * b + values[i, 10] * c,
    )


@kernel
def _weigh_part(pattern, values, free, part, s, q):  # type: ignore[no-untyped-def]
    """Fill q with D s on one part; return s · q there."""
    total = 0.0
    for n in range(pattern.span[part], pattern.span[part + 1]):
        i = pattern.order[n]
        a, b, c = s[i, 0], s[i, 1], s[i, 2]
        q[i, 0], q[i, 1], q[i, 2] = _diagonal_times(values, i, a, b, c) if free[i] else (0.0, 0.0, 0.0)
        total += a * q[i, 0] + b * q[i, 1] + c * q[i, 2]
    return total


@kernel
def _add_cross(pattern, values, ties, t, q):  # type: ignore[no-untyped-def]
    """Add to q what joins two parts, and ties but for what of them is on the diagonal, times t."""
    for k in range(pattern.cross, len(pattern.row)):
        i, j = pattern.row[k], pattern.column[k]
        for a in range(3):
            for b in range(3):
                q[i, a] += values[k, 4 * a + b] * t[j, b]
                q[j, b] += values[k, 4 * a + b] * t[i, a]
    total, own, count = np.empty(3), np.empty(3), len(pattern.order)
    for k in range(len(ties.hold)):
        total[:] = 0.0
        b = count + 2 * ties.body[k]
        if ties.body[k] >= 0:
            c, x, y, z = ties.part[k], ties.arm[k, 0], ties.arm[k, 1], ties.arm[k, 2]
            total[0] = own[0] = c * t[b, 0] + t[b + 1, 1] * z - t[b + 1, 2] * y
            total[1] = own[1] = c * t[b, 1] + t[b + 1, 2] * x - t[b + 1, 0] * z
            total[2] = own[2] = c * t[b, 2] + t[b + 1, 0] * y - t[b + 1, 1] * x
        for n in range(ties.first[k], ties.first[k + 1]):
            i = ties.points[n]
            for a in range(3):
                total[a] += ties.share[n] * t[i, a]
        hold, rub = ties.hold[k], ties.rub[k]
        for n in range(ties.first[k], ties.first[k + 1]):
            i, share = ties.points[n], ties.share[n]
            along = 0.0
            for a in range(3):
                along += (total[a] - share * t[i, a]) * ties.normal[k, a]
            for a in range(3):
                q[i, a] += share * (rub * (total[a] - share * t[i, a]) + (hold - rub) * along * ties.normal[k, a])
        if ties.body[k] >= 0:
            along = 0.0
            for a in range(3):
                total[a] -= own[a]
                along += total[a] * ties.normal[k, a]
            for a in range(3):
                total[a] = rub * total[a] + (hold - rub) * along * ties.normal[k, a]
                q[b, a] += c * total[a]
            q[b + 1, 0] += y * total[2] - z * total[1]
            q[b + 1, 1] += z * total[0] - x * total[2]
            q[b + 1, 2] += x * total[1] - y * total[0]


@kernel
def _weigh_bodies(bodies, count, s, q):  # type: ignore[no-untyped-def]
    """Fill the bodies' rows of q with their blocks times s; return s · q there."""
    _bodies_times(bodies.block, count, s, q)
    total = 0.0
    for i in range(count, len(s)):
        total += s[i, 0] * q[i, 0] + s[i, 1] * q[i, 1] + s[i, 2] * q[i, 2]
    return total


@kernel
def _total(sums):  # type: ignore[no-untyped-def]
    """Return the sum in order; Numba would add up an array's own sum by threads."""
    total = 0.0
    for part in range(len(sums)):
        total += sums[part]
    return total


@parallel_kernel
def solve_blocks(pattern, values, ties, free, inverse, bodies, r, x, s, z, p, t, q, share, enough, most):  # type: ignore[no-untyped-def]
    """Solve A x = r by preconditioned conjugate gradients (Hestenes and Stiefel 1952), from x = 0.

    Args:
        pattern, values: A, its blocks, see `room_for_blocks`. ties: what else joins points, see `ties`.
        free: bool (n,): all others have r = x = 0. inverse: float64 (n, 6), see `invert_diagonal`.
        bodies: R of them, see `ties.BodyBlocks`.
        r: float64 (n + 2 R, 3), the right side. x: float64 (n + 2 R, 3), filled.
        s, z, p, t, q: float64 (n + 2 R, 4), of which the last is 0: room to work in.
        share, enough: of r M⁻¹ r, that may be left: either will do. most: iterations at most.

    Return how many iterations it took, and r M⁻¹ r at the beginning.

    Threads are sent out three times an iteration, part by part: to send them takes as long as a sweep over thousands of
    points. Sums are those of the parts, in their order.
    """
    count, sums = len(free), np.empty(PARTS)
    for part in numba.prange(PARTS):
        _forward(pattern, values, inverse, part, r, s)
        sums[part] = _weigh_part(pattern, values, free, part, s, q)
    _bodies_times(bodies.inverse, count, r, s)
    began = _weigh_bodies(bodies, count, s, q) + _total(sums)
    for i in range(len(r)):
        x[i, 0] = x[i, 1] = x[i, 2] = p[i, 0] = p[i, 1] = p[i, 2] = 0.0
    now, turn, done = began, 0.0, 0
    while done < most and now > max(share * began, enough):
        for part in numba.prange(PARTS):
            _step_towards(pattern, part, q, turn, p)
            _backward(pattern, values, inverse, part, p, t)
            _less_diagonal(pattern, values, free, part, p, t, z)
        for i in range(count, len(r)):
            for a in range(3):
                p[i, a] = q[i, a] + turn * p[i, a]
        _bodies_times(bodies.inverse, count, p, t)
        _bodies_times(bodies.block, count, t, z)
        for i in range(count, len(r)):
            for a in range(3):
                z[i, a] = p[i, a] - z[i, a]
        _add_cross(pattern, values, ties, t, z)
        for part in numba.prange(PARTS):
            _forward(pattern, values, inverse, part, z, q)
            sums[part] = _add_and_weigh(pattern, part, t, p, q)
        _bodies_times(bodies.inverse, count, z, q)
        bent = _total(sums)
        for i in range(count, len(r)):
            for a in range(3):
                q[i, a] += t[i, a]
                bent += p[i, a] * q[i, a]
        if not bent > 0.0:
            break
        step = now / bent
        for part in numba.prange(PARTS):
            _go(pattern, part, step, t, q, x, s)
            sums[part] = _weigh_part(pattern, values, free, part, s, q)
        for i in range(count, len(r)):
            for a in range(3):
                x[i, a] += step * t[i, a]
                s[i, a] -= step * q[i, a]
        then = now
        now = _weigh_bodies(bodies, count, s, q) + _total(sums)
        turn = now / then
        done += 1
    return done, began


@kernel
def _step_towards(pattern, part, q, turn, p):  # type: ignore[no-untyped-def]
    """Take q + turn p for p on one part: the next direction."""
    for n in range(pattern.span[part], pattern.span[part + 1]):
        i = pattern.order[n]
        for a in range(3):
            p[i, a] = q[i, a] + turn * p[i, a]


@kernel
def _less_diagonal(pattern, values, free, part, p, t, z):  # type: ignore[no-untyped-def]
    """Fill z with p - D t on one part."""
    for n in range(pattern.span[part], pattern.span[part + 1]):
        i = pattern.order[n]
        a, b, c = _diagonal_times(values, i, t[i, 0], t[i, 1], t[i, 2]) if free[i] else (0.0, 0.0, 0.0)
        z[i, 0], z[i, 1], z[i, 2] = p[i, 0] - a, p[i, 1] - b, p[i, 2] - c


@kernel
def _add_and_weigh(pattern, part, t, p, q):  # type: ignore[no-untyped-def]
    """Add t to q on one part; return p · q there."""
    total = 0.0
    for n in range(pattern.span[part], pattern.span[part + 1]):
        i = pattern.order[n]
        for a in range(3):
            q[i, a] += t[i, a]
            total += p[i, a] * q[i, a]
    return total


@kernel
def _go(pattern, part, step, t, q, x, s):  # type: ignore[no-untyped-def]
    """Go by step along t in x, and along q back in s, on one part."""
    for n in range(pattern.span[part], pattern.span[part + 1]):
        i = pattern.order[n]
        for a in range(3):
            x[i, a] += step * t[i, a]
            s[i, a] -= step * q[i, a]


@parallel_kernel
def weigh(pattern, values, free, inverse, bodies, r, s, q):  # type: ignore[no-untyped-def]
    """Return r M⁻¹ r; arguments as in `solve_blocks`."""
    count, sums = len(free), np.empty(PARTS)
    for part in numba.prange(PARTS):
        _forward(pattern, values, inverse, part, r, s)
        sums[part] = _weigh_part(pattern, values, free, part, s, q)
    _bodies_times(bodies.inverse, count, r, s)
    return _weigh_bodies(bodies, count, s, q) + _total(sums)
