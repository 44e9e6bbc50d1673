"""Forces and stiffness of soft bodies, tetrahedron by tetrahedron: stable neo-Hookean stuff.

With the deformation gradient F of a tetrahedron of rest volume V the energy is

    V (μ/2 (tr FᵀF - 3) + λ/2 (det F - γ)²),   γ = 1 + μ/λ

(Smith, de Goes and Kim 2018; Macklin and Müller 2021). For small strains this is Hooke's law with
μ = E / (2(1 + ν)) and λ = Eν / ((1 + ν)(1 - 2ν)) + μ. Its two terms pull against each other at rest, so its second
derivative is positive only for both together. In its place there is Hooke's law in the tetrahedron's own turn R,
F = R S, with the way the volume really grows (Müller and Gross 2004): never negative, no hindrance to turning, and at
rest the second derivative itself. Forces are exact.

Damping is a stress of τ times Hooke's law on the rate of the Green strain.
"""

from __future__ import annotations

import numpy as np

from zembrik.core.compiled import kernel

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
def add_tets(first, last, points, rest, slots, x, v, dt, stiff, force, values):  # type: ignore[no-untyped-def]
    """Add tetrahedra first .. last - 1 to the forces and, if `stiff`, to the blocks; see `cloth_forces.add_elastic`.

    points, rest: see `solidity.Tets`. slots: where their blocks stand, see `blocks.block_slots`.
    """
    b, rb, gb = np.empty((4, 3)), np.empty((4, 3)), np.empty((4, 3))
    f, rate, g, p, turn, spare = np.empty(9), np.empty(9), np.empty(9), np.empty(9), np.empty(9), np.empty(9)
    e = np.empty((3, 3))
    for t in range(first, last):
        volume, mu, lam, tau = rest[t, 9], rest[t, 10], rest[t, 11], rest[t, 12]
        for n in range(3):
            b[1, n], b[2, n], b[3, n] = rest[t, n], rest[t, 3 + n], rest[t, 6 + n]
            b[0, n] = -b[1, n] - b[2, n] - b[3, n]
        for m in range(3):
            for n in range(3):
                there, pace = 0.0, 0.0
                for c in range(1, 4):
                    there += (x[points[t, c], m] - x[points[t, 0], m]) * b[c, n]
                    pace += (v[points[t, c], m] - v[points[t, 0], m]) * b[c, n]
                f[3 * m + n], rate[3 * m + n] = there, pace
        det = _cofactors(f, g)
        wide = lam * (det - 1.0) - mu
        for k in range(9):
            p[k] = mu * f[k] + wide * g[k]
        if tau > 0.0:
            for m in range(3):
                for n in range(3):
                    e[m, n] = 0.0
                    for k in range(0, 9, 3):
                        e[m, n] += 0.5 * (f[k + m] * rate[k + n] + rate[k + m] * f[k + n])
            grows = (lam - mu) * (e[0, 0] + e[1, 1] + e[2, 2])
            for m in range(0, 9, 3):
                for n in range(3):
                    drag = grows * f[m + n]
                    for k in range(3):
                        drag += 2.0 * mu * f[m + k] * e[k, n]
                    p[m + n] += tau * drag
        for c in range(4):
            i = points[t, c]
            for m in range(3):
                force[i, m] -= volume * (p[3 * m] * b[c, 0] + p[3 * m + 1] * b[c, 1] + p[3 * m + 2] * b[c, 2])
        if not stiff:
            continue
        _turn_of(f, turn, spare)
        more = volume * (1.0 + tau / dt)
        ks, kv = more * mu, more * max(lam - mu, 0.0)
        for c in range(4):
            for m in range(3):
                rb[c, m] = turn[3 * m] * b[c, 0] + turn[3 * m + 1] * b[c, 1] + turn[3 * m + 2] * b[c, 2]
                gb[c, m] = g[3 * m] * b[c, 0] + g[3 * m + 1] * b[c, 1] + g[3 * m + 2] * b[c, 2]
        s = -1
        for one in range(4):
            for two in range(one + 1):
                s += 1
                c, d = (one, two) if points[t, one] >= points[t, two] else (two, one)
                k = slots[t, s]
                both = ks * (b[c, 0] * b[d, 0] + b[c, 1] * b[d, 1] + b[c, 2] * b[d, 2])
                for m in range(3):
                    for n in range(3):
                        values[k, 4 * m + n] += ks * rb[d, m] * rb[c, n] + kv * gb[c, m] * gb[d, n]
                    values[k, 5 * m] += both
