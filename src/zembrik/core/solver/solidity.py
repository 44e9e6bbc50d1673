"""Soft bodies, tetrahedron by tetrahedron: stable neo-Hookean stuff.

With the deformation gradient F of a tetrahedron of rest volume V the energy is

    V (μ/2 (tr FᵀF - 3) + λ/2 (det F - γ)²),   γ = 1 + μ/λ

(Macklin and Müller 2021, "A constraint-based formulation of stable neo-Hookean materials",
after Smith, de Goes and Kim 2018). For small strains this is Hooke's law with
μ = E / (2(1 + ν)) and λ = Eν / ((1 + ν)(1 - 2ν)) + μ.

Its two terms pull against each other at rest. Taken as two constraints, one after the other,
they bias what hangs still, and taken as one system they are stiff without being implicit.
So each tetrahedron takes one implicit step on the whole energy instead: its points move by
dt² w f, with the forces f of where they come to. The stress there is linearised with
H = k I + (k' - k) g gᵀ, where g is the direction in which the volume grows, k' the stiffness
along it and k that of every other change; at rest that is Hooke's law. The force itself is
exact, so what comes to rest is in balance whatever H says. `passes` tells why the step gives
way by a little less than a fully implicit one, and what a pass keeps of the last.

Damping is a pass of its own over velocities: a stress of τ times Hooke's law on the rate of
the Green strain.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel

Floats = NDArray[np.float64]


class Tets(NamedTuple):
    """All tetrahedra of a world, cluster by cluster; E tetrahedra.

    Attributes:
        points: int32 (E, 4).
        rest: float64 (E, 13): the inverse of the rest shape's edge matrix by rows (1/m), then
            the volume in m³, μ and λ in Pa, and the damping in s.
        span: int64 (clusters + 1,), where each cluster's tetrahedra begin.
    """

    points: NDArray[np.int32]
    rest: Floats
    span: NDArray[np.int64]


def tet_rows(points: Floats, tets: NDArray[np.int32], filled: Floats, stuff: Floats) -> tuple[Floats, Floats]:
    """Return the rows of `Tets.rest` and the volumes (E,) in m³ that count.

    Args:
        points: float64 (n, 3), at rest, metres.
        tets: int32 (E, 4).
        filled: float64 (E,), the share of each tetrahedron that is stuff.
        stuff: float64 (E, 3): Young's modulus in Pa, Poisson's ratio, damping in s.
    """
    edges = np.stack([points[tets[:, k]] - points[tets[:, 0]] for k in (1, 2, 3)], axis=2)
    volume = np.linalg.det(edges) / 6.0 * filled
    mu = stuff[:, 0] / (2.0 * (1.0 + stuff[:, 1]))
    lam = stuff[:, 0] * stuff[:, 1] / ((1.0 + stuff[:, 1]) * (1.0 - 2.0 * stuff[:, 1])) + mu
    inverse = np.linalg.inv(edges).reshape(-1, 9)
    rows = np.column_stack([inverse, volume, mu, lam, stuff[:, 2]])
    return np.ascontiguousarray(rows), volume


@kernel
def _gradient(x, a, b, c, d, r, f):  # type: ignore[no-untyped-def]
    """Fill f (3, 3) with Σ x ⊗ b over a tetrahedron's corners: F of places, its rate of velocities."""
    for i in range(3):
        p, q, s = x[b, i] - x[a, i], x[c, i] - x[a, i], x[d, i] - x[a, i]
        f[i, 0] = p * r[0] + q * r[3] + s * r[6]
        f[i, 1] = p * r[1] + q * r[4] + s * r[7]
        f[i, 2] = p * r[2] + q * r[5] + s * r[8]


@kernel
def _ease(r, wa, wb, wc, wd, k, out):  # type: ignore[no-untyped-def]
    """Fill out (3, 3) with (I + k K)⁻¹, K = Σ w b ⊗ b over the corners: how far a stress gives way at once."""
    b0, b1, b2 = -r[0] - r[3] - r[6], -r[1] - r[4] - r[7], -r[2] - r[5] - r[8]
    m00 = 1.0 + k * (wa * b0 * b0 + wb * r[0] * r[0] + wc * r[3] * r[3] + wd * r[6] * r[6])
    m11 = 1.0 + k * (wa * b1 * b1 + wb * r[1] * r[1] + wc * r[4] * r[4] + wd * r[7] * r[7])
    m22 = 1.0 + k * (wa * b2 * b2 + wb * r[2] * r[2] + wc * r[5] * r[5] + wd * r[8] * r[8])
    m01 = k * (wa * b0 * b1 + wb * r[0] * r[1] + wc * r[3] * r[4] + wd * r[6] * r[7])
    m02 = k * (wa * b0 * b2 + wb * r[0] * r[2] + wc * r[3] * r[5] + wd * r[6] * r[8])
    m12 = k * (wa * b1 * b2 + wb * r[1] * r[2] + wc * r[4] * r[5] + wd * r[7] * r[8])
    c00, c01, c02 = m11 * m22 - m12 * m12, m02 * m12 - m01 * m22, m01 * m12 - m02 * m11
    over = 1.0 / (m00 * c00 + m01 * c01 + m02 * c02)
    out[0, 0], out[1, 1], out[2, 2] = c00 * over, (m00 * m22 - m02 * m02) * over, (m00 * m11 - m01 * m01) * over
    out[0, 1] = out[1, 0] = c01 * over
    out[0, 2] = out[2, 0] = c02 * over
    out[1, 2] = out[2, 1] = (m01 * m02 - m00 * m12) * over


@kernel
def _bulk(r, wa, wb, wc, wd):  # type: ignore[no-untyped-def]
    """Return the trace of K, see `_ease`, which is at least its largest eigenvalue."""
    b0, b1, b2 = -r[0] - r[3] - r[6], -r[1] - r[4] - r[7], -r[2] - r[5] - r[8]
    return (
        wa * (b0 * b0 + b1 * b1 + b2 * b2)
        + wb * (r[0] * r[0] + r[1] * r[1] + r[2] * r[2])
        + wc * (r[3] * r[3] + r[4] * r[4] + r[5] * r[5])
        + wd * (r[6] * r[6] + r[7] * r[7] + r[8] * r[8])
    )


@kernel
def _push(x, a, b, c, d, wa, wb, wc, wd, r, p, size):  # type: ignore[no-untyped-def]
    """Add -size w P b to each corner of x, for the stress P (3, 3)."""
    for i in range(3):
        ob = size * (p[i, 0] * r[0] + p[i, 1] * r[1] + p[i, 2] * r[2])
        oc = size * (p[i, 0] * r[3] + p[i, 1] * r[4] + p[i, 2] * r[5])
        od = size * (p[i, 0] * r[6] + p[i, 1] * r[7] + p[i, 2] * r[8])
        x[a, i] += wa * (ob + oc + od)
        x[b, i] -= wb * ob
        x[c, i] -= wc * oc
        x[d, i] -= wd * od


@kernel
def solve_tets(first, last, points, rest, w, x, dt, held, read, write):  # type: ignore[no-untyped-def]
    """Let the tetrahedra first .. last - 1 take one implicit step each, in place.

    Args:
        first, last: which.
        points, rest: see `Tets`.
        w: float64 (n,), inverse masses, 1/kg.
        x: float64 (n, 3), places, metres.
        dt: the substep, s.
        held: float64 (E, 9), the stresses that the passes so far have laid on, Pa; see `passes`.
        read, write: whether held is taken into account, and whether it is kept.
    """
    f, g, p, m = np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3))
    for t in range(first, last):
        a, b, c, d = np.uint32(points[t, 0]), np.uint32(points[t, 1]), np.uint32(points[t, 2]), np.uint32(points[t, 3])
        r = rest[t]
        _gradient(x, a, b, c, d, r, f)
        # Cofactors of F: the way its determinant grows.
        for i in range(3):
            j, k = (i + 1) % 3, (i + 2) % 3
            g[i, 0] = f[j, 1] * f[k, 2] - f[j, 2] * f[k, 1]
            g[i, 1] = f[j, 2] * f[k, 0] - f[j, 0] * f[k, 2]
            g[i, 2] = f[j, 0] * f[k, 1] - f[j, 1] * f[k, 0]
        det = f[0, 0] * g[0, 0] + f[0, 1] * g[0, 1] + f[0, 2] * g[0, 2]
        mu, lam, step = r[10], r[11], dt * dt * r[9]
        over_volume = lam * (det - 1.0) - mu
        square, wide = 0.0, 0.0
        for i in range(3):
            for j in range(3):
                p[i, j] = mu * f[i, j] + over_volume * g[i, j]
                square += f[i, j] * f[i, j]
                wide += g[i, j] * g[i, j]
                if read:
                    p[i, j] -= held[t, 3 * i + j]
        k_form = mu + abs(over_volume) * np.sqrt(square / 3.0)
        k_size = max(lam * wide - mu, k_form)
        give = 1.0 - min(0.5, 1.0 / (step * k_size * _bulk(r, w[a], w[b], w[c], w[d]) + 1e-300))
        _ease(r, w[a], w[b], w[c], w[d], give * step * k_form, m)
        # m = (I + s K)⁻¹, hence K m = (I - m) / s; along g the stress gives way further.
        along, across = 0.0, 0.0
        if wide > 1e-18:
            for i in range(3):
                for j in range(3):
                    pm = p[i, 0] * m[0, j] + p[i, 1] * m[1, j] + p[i, 2] * m[2, j]
                    gm = g[i, 0] * m[0, j] + g[i, 1] * m[1, j] + g[i, 2] * m[2, j]
                    along += g[i, j] * (p[i, j] - pm)
                    across += g[i, j] * (g[i, j] - gm)
            more = (k_size - k_form) / (k_form * wide)
            share = more * along / (1.0 + more * across)
        else:
            share = 0.0
        for i in range(3):
            q0, q1, q2 = p[i, 0] - share * g[i, 0], p[i, 1] - share * g[i, 1], p[i, 2] - share * g[i, 2]
            for j in range(3):
                p[i, j] = q0 * m[0, j] + q1 * m[1, j] + q2 * m[2, j]
                if write:
                    held[t, 3 * i + j] = p[i, j] + (held[t, 3 * i + j] if read else 0.0)
        _push(x, a, b, c, d, w[a], w[b], w[c], w[d], r, p, step)


@kernel
def damp_tets(first, last, points, rest, w, x, v, dt):  # type: ignore[no-untyped-def]
    """Slow the change of form of tetrahedra first .. last - 1; arguments as above, with velocities v (n, 3) in m/s."""
    f, g, p, m = np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3))
    for t in range(first, last):
        r = rest[t]
        if r[12] <= 0.0:
            continue
        a, b, c, d = np.uint32(points[t, 0]), np.uint32(points[t, 1]), np.uint32(points[t, 2]), np.uint32(points[t, 3])
        _gradient(x, a, b, c, d, r, f)
        _gradient(v, a, b, c, d, r, g)
        mu, lam = r[12] * r[10], r[12] * (r[11] - r[10])
        trace, square = 0.0, 0.0
        for i in range(3):
            for j in range(3):
                m[i, j] = 0.5 * (
                    f[0, i] * g[0, j] + f[1, i] * g[1, j] + f[2, i] * g[2, j]
                    + f[0, j] * g[0, i] + f[1, j] * g[1, i] + f[2, j] * g[2, i]
                )  # fmt: skip
                square += f[i, j] * f[i, j]
            trace += m[i, i]
        for i in range(3):
            m[i, i] += 0.5 * lam / mu * trace
        for i in range(3):
            for j in range(3):
                p[i, j] = 2.0 * mu * (f[i, 0] * m[0, j] + f[i, 1] * m[1, j] + f[i, 2] * m[2, j])
        # Implicit with its largest stiffness, so that no damping is too much.
        _ease(r, w[a], w[b], w[c], w[d], dt * r[9] * (2.0 * mu + 3.0 * max(lam, 0.0)) * square / 3.0, m)
        for i in range(3):
            q0, q1, q2 = p[i, 0], p[i, 1], p[i, 2]
            for j in range(3):
                p[i, j] = q0 * m[0, j] + q1 * m[1, j] + q2 * m[2, j]
        _push(v, a, b, c, d, w[a], w[b], w[c], w[d], r, p, dt * r[9])


def yield_tets(tets: Tets, x: Floats, bound: Floats, share: Floats) -> None:
    """Let the rest shapes of tetrahedra follow what is beyond their yield strain, without a change of volume.

    The logarithms of F's stretches, less their mean, are the change of form; what of its size is
    beyond the bound goes over into the rest shape by the given share (multiplicative plasticity:
    Irving, Teran and Fedkiw 2004, "Invertible finite elements").

    Args:
        tets: their rows change.
        x: float64 (n, 3), metres.
        bound: float64 (E,), yield strain; infinite for stuff that does not yield.
        share: float64 (E,), how much of the excess goes over now, 0..1.
    """
    some = np.flatnonzero(np.isfinite(bound))
    if not len(some):
        return
    corners = x[tets.points[some]]
    edges = np.stack([corners[:, k] - corners[:, 0] for k in (1, 2, 3)], axis=2)
    inverse = tets.rest[some, :9].reshape(-1, 3, 3)
    _, stretch, axes = np.linalg.svd(edges @ inverse)
    log = np.log(np.clip(stretch, 0.05, 20.0))
    form = log - log.mean(axis=1, keepdims=True)
    size = np.linalg.norm(form, axis=1)
    over = size > bound[some]
    if not over.any():
        return
    part = np.where(over, 1.0 - bound[some] / np.maximum(size, 1e-300), 0.0) * share[some]
    plastic = np.exp(-form * part[:, None])  # the inverse of what goes over
    tets.rest[some, :9] = (inverse @ (axes.transpose(0, 2, 1) * plastic[:, None, :]) @ axes).reshape(-1, 9)
