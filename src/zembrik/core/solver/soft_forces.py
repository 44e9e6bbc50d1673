"""Forces, stiffness and energy of soft bodies, cell by cell: a stable neo-Hookean solid in trilinear hexahedra.

With the deformation gradient F and J = det F the energy of a cell of rest volume V is

    V (mean of [ μ/2 (tr FᵀF - 3) + μ/2 ((J - 2)² - 1) ] + λ/2 (J̄ - 1)²),    J̄ = mean of J

each mean over the 2 × 2 × 2 points of Gauss-Legendre quadrature. For small strains this is Hooke's law with Lamé's μ
and λ (Smith, de Goes and Kim 2018, with the volume's part on its own). That J̄ is the cell's whole change of volume
lets a cell bend when ν is near ½ (mean dilatation: Nagtegaal, Parks and Rice 1974; Hughes 1980); all else at every
point, so there is no form of a cell that costs nothing.

The second derivative is positive only near rest. In its place there is Hooke's law in the cell's own turn R, F = R S,
with the way the volume really grows (Müller and Gross 2004): never negative, no hindrance to turning,
and at rest the second derivative itself. Forces are exact. (R is that of the mean of F.)

Damping is a stress of τ times Hooke's law on the rate of the Green strain, and τ λ dJ̄/dt on the volume.
"""

from __future__ import annotations

import numpy as np

from zembrik.core.compiled import fma, kernel
from zembrik.core.lanes import lane, lanes
from zembrik.core.lanes_memory import add_block_rows, put_row4, row4
from zembrik.core.solver.hexahedra import BACK, HIGH, LOW, PRODUCTS, WEIGHTS

TURNS = 5  # of the iteration for R; each doubles how many digits are right
FLAT = 1e-3  # of the volume of what is as long, and no larger in one direction: below, there is no R to be found


@kernel
def _cofactors(f, g):  # type: ignore[no-untyped-def]
    """Fill g (9,) with the cofactors of f (9,), matrices by rows, and return f's determinant."""
    g[0], g[1], g[2] = f[4] * f[8] - f[5] * f[7], f[5] * f[6] - f[3] * f[8], f[3] * f[7] - f[4] * f[6]
    g[3], g[4], g[5] = f[7] * f[2] - f[8] * f[1], f[8] * f[0] - f[6] * f[2], f[6] * f[1] - f[7] * f[0]
    g[6], g[7], g[8] = f[1] * f[5] - f[2] * f[4], f[2] * f[3] - f[0] * f[5], f[0] * f[4] - f[1] * f[3]
    return f[0] * g[0] + f[1] * g[1] + f[2] * g[2]


@kernel
def _turn_of(f, r, g):  # type: ignore[no-untyped-def]
    """Fill r (9,) with the turn R of F = R S, f (9,) by rows (Higham 1986); g (9,) is room to work in.

    What is flat or turned inside out gets the turn of its first two axes.
    """
    square = 0.0
    for k in range(9):
        square += f[k] * f[k]
    scale = np.sqrt(3.0 / max(square, 1e-300))
    for k in range(9):
        r[k] = scale * f[k]
    if _cofactors(r, g) > FLAT:
        for _ in range(TURNS):
            det = _cofactors(r, g)
            for k in range(9):
                r[k] = 0.5 * (r[k] + g[k] / det)
        return
    long = np.sqrt(r[0] * r[0] + r[3] * r[3] + r[6] * r[6])
    if long < FLAT:
        r[0], r[3], r[6], long = 1.0, 0.0, 0.0, 1.0
    for k in range(0, 9, 3):
        r[k] /= long
    for _ in range(2):
        along = r[0] * r[1] + r[3] * r[4] + r[6] * r[7]
        for k in range(0, 9, 3):
            r[k + 1] -= along * r[k]
        long = np.sqrt(r[1] * r[1] + r[4] * r[4] + r[7] * r[7])
        if long > FLAT:
            break
        least = 0 if abs(r[0]) <= min(abs(r[3]), abs(r[6])) else 3 if abs(r[3]) <= abs(r[6]) else 6
        r[1], r[4], r[7] = 0.0, 0.0, 0.0
        r[least + 1] = 1.0
    for k in range(0, 9, 3):
        r[k + 1] /= long
    r[2], r[5], r[8] = r[3] * r[7] - r[6] * r[4], r[6] * r[1] - r[0] * r[7], r[0] * r[4] - r[3] * r[1]


@kernel
def _gradients(field, points, e, rest, out):  # type: ignore[no-untyped-def]
    """Fill out (18, 4) with the gradient of a field (n, 3) over cell e at its eight points of quadrature.

    Rows 2 k and 2 k + 1 hold entry k of the gradient, by rows, at points 0 to 3 and 4 to 7. rest: see
    `hexahedra.Cells`.
    """
    zero = lanes(0.0, 0.0, 0.0, 0.0)
    for m in range(3):
        for half in range(2):
            u, v, w = zero, zero, zero
            for k in range(4):
                along = field[points[e, HIGH[0, k]], m] - field[points[e, LOW[0, k]], m]
                u = fma(row4(WEIGHTS, 2 * k + half), along, u)
                along = field[points[e, HIGH[1, k]], m] - field[points[e, LOW[1, k]], m]
                v = fma(row4(WEIGHTS, 8 + 2 * k + half), along, v)
                along = field[points[e, HIGH[2, k]], m] - field[points[e, LOW[2, k]], m]
                w = fma(row4(WEIGHTS, 16 + 2 * k + half), along, w)
            for n in range(3):
                put_row4(out, 6 * m + 2 * n + half, u * rest[e, n] + v * rest[e, 3 + n] + w * rest[e, 6 + n])


@kernel
def _spread(stress, e, rest, volume, room, out):  # type: ignore[no-untyped-def]
    """Fill out (8, 3) with what a stress (18, 4), as `_gradients` lays it out, is at the corners of cell e.

    That is the mean over the points of quadrature of stress · ∇N, times the volume. room: (6, 4), to work in.
    """
    out[:] = 0.0
    for m in range(3):
        for n in range(3):  # along an axis of the unit cube
            a, b, c = (
                rest[e, 3 * n] * volume / 8.0,
                rest[e, 3 * n + 1] * volume / 8.0,
                rest[e, 3 * n + 2] * volume / 8.0,
            )
            for half in range(2):
                k = 6 * m + half
                put_row4(room, half, row4(stress, k) * a + row4(stress, k + 2) * b + row4(stress, k + 4) * c)
            along = lanes(0.0, 0.0, 0.0, 0.0)
            for q in range(8):
                along = fma(row4(BACK, 8 * n + q), room[q // 4, q % 4], along)
            put_row4(room, 2, along)
            for k in range(4):
                out[HIGH[n, k], m] += room[2, k]
                out[LOW[n, k], m] -= room[2, k]


@kernel
def _cofactors_at_gauss(f, g, half):  # type: ignore[no-untyped-def]
    """Fill g (18, 4) with the cofactors of F (18, 4) in one half of the points; return J there, in lanes."""
    a, b, c = row4(f, half), row4(f, 2 + half), row4(f, 4 + half)
    d, e, i = row4(f, 6 + half), row4(f, 8 + half), row4(f, 10 + half)
    j, k, m = row4(f, 12 + half), row4(f, 14 + half), row4(f, 16 + half)
    one, two, three = e * m - i * k, i * j - d * m, d * k - e * j
    put_row4(g, half, one)
    put_row4(g, 2 + half, two)
    put_row4(g, 4 + half, three)
    put_row4(g, 6 + half, k * c - m * b)
    put_row4(g, 8 + half, m * a - j * c)
    put_row4(g, 10 + half, j * b - k * a)
    put_row4(g, 12 + half, b * i - c * e)
    put_row4(g, 14 + half, c * d - a * i)
    put_row4(g, 16 + half, a * e - b * d)
    return a * one + b * two + c * three


@kernel
def _sum(four):  # type: ignore[no-untyped-def]
    return lane(four, 0) + lane(four, 1) + lane(four, 2) + lane(four, 3)


@kernel
def cell_energy(points, rest, x):  # type: ignore[no-untyped-def]
    """Return the energy of all cells above that at rest, J."""
    total = 0.0
    f, g = np.empty((18, 4)), np.empty((18, 4))
    for e in range(len(points)):
        mean, form = 0.0, 0.0
        _gradients(x, points, e, rest, f)
        for half in range(2):
            grown = _cofactors_at_gauss(f, g, half)
            mean += _sum(grown) / 8.0
            square = (grown - 2.0) * (grown - 2.0) - 4.0
            for k in range(9):
                square = fma(row4(f, 2 * k + half), row4(f, 2 * k + half), square)
            form += _sum(square) / 8.0
        total += 0.5 * rest[e, 9] * (rest[e, 10] * form + rest[e, 11] * (mean - 1.0) ** 2)
    return total


@kernel
def _add_drag(f, rate, mu, grows, p):  # type: ignore[no-untyped-def]
    """Add 2 μ F dE/dt to the stress p, all (18, 4); rate is dF/dt in 1/s, E the Green strain. grows: room."""
    for half in range(2):
        for m in range(3):
            for n in range(3):
                pace = lanes(0.0, 0.0, 0.0, 0.0)
                for k in range(3):
                    a, b = 6 * k + 2 * m + half, 6 * k + 2 * n + half
                    pace = pace + row4(f, a) * row4(rate, b) + row4(rate, a) * row4(f, b)
                put_row4(grows, 6 * m + 2 * n + half, mu * pace)
        for m in range(3):
            for n in range(3):
                drag = row4(p, 6 * m + 2 * n + half)
                for k in range(3):
                    drag = fma(row4(f, 6 * m + 2 * k + half), row4(grows, 6 * k + 2 * n + half), drag)
                put_row4(p, 6 * m + 2 * n + half, drag)


@kernel
def add_cells(first, last, points, rest, slots, x, v, dt, stiff, force, values):  # type: ignore[no-untyped-def]
    """Add cells first .. last - 1 to the forces and, if `stiff`, to the blocks; see `cloth_forces.add_elastic`.

    points, rest: see `hexahedra.Cells`. slots: where their blocks stand, see `blocks.block_slots`.
    """
    f, g, rate, p = np.empty((18, 4)), np.empty((18, 4)), np.empty((18, 4)), np.empty((18, 4))
    room, spare, grown = np.empty((18, 4)), np.empty(9), np.empty((2, 4))
    middle, turn, corners = np.empty(9), np.empty(9), np.empty((8, 3))
    for e in range(first, last):
        volume, mu, lam, tau = rest[e, 9], rest[e, 10], rest[e, 11], rest[e, 12]
        _gradients(x, points, e, rest, f)
        mean, pace = 0.0, 0.0
        for half in range(2):
            put_row4(grown, half, _cofactors_at_gauss(f, g, half))
            mean += _sum(row4(grown, half)) / 8.0
        if tau > 0.0:
            _gradients(v, points, e, rest, rate)
            for k in range(18):
                pace += _sum(row4(g, k) * row4(rate, k)) / 8.0
        for half in range(2):
            wide = mu * (row4(grown, half) - 2.0) + lam * (mean - 1.0 + tau * pace)
            for k in range(half, 18, 2):
                put_row4(p, k, mu * row4(f, k) + wide * row4(g, k))
        if tau > 0.0:
            _add_drag(f, rate, tau * mu, room, p)
        _spread(p, e, rest, volume, room, corners)
        for c in range(8):
            for m in range(3):
                force[points[e, c], m] -= corners[c, m]
        if stiff:
            for k in range(9):
                middle[k] = _sum(row4(f, 2 * k) + row4(f, 2 * k + 1)) / 8.0
            _turn_of(middle, turn, spare)
            _spread(g, e, rest, 1.0, room, corners)
            more = volume * (1.0 + tau / dt)
            _add_blocks(e, points, rest, slots, turn, corners, more * mu, more * lam, values)


@kernel
def _add_blocks(e, points, rest, slots, turn, grows, ks, kv, values):  # type: ignore[no-untyped-def]
    """Add a cell's stiffness to the blocks: of form ks (N m), turned by turn (9,), and of volume kv (N m).

    grows: (8, 3), how much more of itself the cell gets when a corner moves, 1/m.
    """
    to, metric = np.empty((3, 3)), np.empty((3, 3))  # R B and Bᵀ B, where Bᵀ is the inverse of the rest shape
    for m in range(3):
        for n in range(3):
            to[m, n] = metric[m, n] = 0.0
            for k in range(3):
                to[m, n] += turn[3 * m + k] * rest[e, 3 * n + k]
                metric[m, n] += rest[e, 3 * m + k] * rest[e, 3 * n + k]
    one = lanes(to[0, 0], to[1, 0], to[2, 0], 0.0)
    two = lanes(to[0, 1], to[1, 1], to[2, 1], 0.0)
    three = lanes(to[0, 2], to[1, 2], to[2, 2], 0.0)
    first = lanes(metric[0, 0], metric[0, 1], metric[0, 2], 0.0)
    second = lanes(metric[1, 0], metric[1, 1], metric[1, 2], 0.0)
    third = lanes(metric[2, 0], metric[2, 1], metric[2, 2], 0.0)
    s = -1
    for high in range(8):
        for low in range(high + 1):
            s += 1
            c, d = (high, low) if points[e, high] >= points[e, low] else (low, high)
            k = 3 * (8 * d + c)
            x, y, z = row4(PRODUCTS, k), row4(PRODUCTS, k + 1), row4(PRODUCTS, k + 2)
            both = ks * _sum(x * first + y * second + z * third)
            volumes = kv * lanes(grows[d, 0], grows[d, 1], grows[d, 2], 0.0)
            half = ks * (x * to[0, 0] + y * to[0, 1] + z * to[0, 2])
            a = lane(half, 0) * one + lane(half, 1) * two + lane(half, 2) * three + grows[c, 0] * volumes
            half = ks * (x * to[1, 0] + y * to[1, 1] + z * to[1, 2])
            b = lane(half, 0) * one + lane(half, 1) * two + lane(half, 2) * three + grows[c, 1] * volumes
            half = ks * (x * to[2, 0] + y * to[2, 1] + z * to[2, 2])
            w = lane(half, 0) * one + lane(half, 1) * two + lane(half, 2) * three + grows[c, 2] * volumes
            a, b, w = a + lanes(both, 0.0, 0.0, 0.0), b + lanes(0.0, both, 0.0, 0.0), w + lanes(0.0, 0.0, both, 0.0)
            add_block_rows(values, slots[e, s], a, b, w)
