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

from typing import Any, NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import dot3, fma, kernel
from zembrik.core.lanes import WIDTH, choose, larger, root, size, smaller
from zembrik.core.lanes_memory import (
    block4,
    column4,
    corner4,
    corners,
    keep4,
    point,
    points4,
    put,
    put4,
    put_rows4,
    rows4,
    take4,
)

Floats = NDArray[np.float64]
THIRD = 1.0 / 3.0


class Tets(NamedTuple):
    """All tetrahedra of a world, cluster by cluster; E tetrahedra.

    Attributes:
        points: int32 (E, 4).
        rest: float64 (E, 13): the inverse of the rest shape's edge matrix by rows (1/m), then
            the volume in m³, μ and λ in Pa, and the damping in s.
        span: int64 (clusters + 1,), where each cluster's tetrahedra begin.
        packed: int64 (clusters,), where its packs of four end, see `colour`.
    """

    points: NDArray[np.int32]
    rest: Floats
    span: NDArray[np.int64]
    packed: NDArray[np.int64]


def lame(young: Any, poisson: Any) -> tuple[Any, Any]:
    """Return μ and λ (Pa) of `Tets.rest`: Lamé's, but for λ, which takes μ in (Macklin and Müller 2021, section 3)."""
    mu = young / (2.0 * (1.0 + poisson))
    return mu, young * poisson / ((1.0 + poisson) * (1.0 - 2.0 * poisson)) + mu


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
    mu, lam = lame(stuff[:, 0], stuff[:, 1])
    inverse = np.linalg.inv(edges).reshape(-1, 9)
    rows = np.column_stack([inverse, volume, mu, lam, stuff[:, 2]])
    return np.ascontiguousarray(rows), volume


@numba.njit(inline="always")
def _times(f, m):  # type: ignore[no-untyped-def]
    """Return the product of two matrices, each nine numbers or lanes by rows."""
    return (
        dot3(f[0], f[1], f[2], m[0], m[3], m[6]), dot3(f[0], f[1], f[2], m[1], m[4], m[7]),
        dot3(f[0], f[1], f[2], m[2], m[5], m[8]),
        dot3(f[3], f[4], f[5], m[0], m[3], m[6]), dot3(f[3], f[4], f[5], m[1], m[4], m[7]),
        dot3(f[3], f[4], f[5], m[2], m[5], m[8]),
        dot3(f[6], f[7], f[8], m[0], m[3], m[6]), dot3(f[6], f[7], f[8], m[1], m[4], m[7]),
        dot3(f[6], f[7], f[8], m[2], m[5], m[8]),
    )  # fmt: skip


@numba.njit(inline="always")
def _inner(f, g):  # type: ignore[no-untyped-def]
    """Return the sum of the products of two matrices' places."""
    return (
        dot3(f[0], f[1], f[2], g[0], g[1], g[2])
        + dot3(f[3], f[4], f[5], g[3], g[4], g[5])
        + dot3(f[6], f[7], f[8], g[6], g[7], g[8])
    )


@numba.njit(inline="always")
def _sum(f, scale, g):  # type: ignore[no-untyped-def]
    """Return f + scale g of two matrices."""
    return (
        fma(scale, g[0], f[0]), fma(scale, g[1], f[1]), fma(scale, g[2], f[2]),
        fma(scale, g[3], f[3]), fma(scale, g[4], f[4]), fma(scale, g[5], f[5]),
        fma(scale, g[6], f[6]), fma(scale, g[7], f[7]), fma(scale, g[8], f[8]),
    )  # fmt: skip


@numba.njit(inline="always")
def _scaled(scale, f):  # type: ignore[no-untyped-def]
    return (
        scale * f[0], scale * f[1], scale * f[2], scale * f[3], scale * f[4], scale * f[5],
        scale * f[6], scale * f[7], scale * f[8],
    )  # fmt: skip


@numba.njit(inline="always")
def _form(xa, xb, xc, xd, r):  # type: ignore[no-untyped-def]
    """Return F (nine by rows) of a tetrahedron's places with the rest shape r."""
    px, py, pz = xb[0] - xa[0], xb[1] - xa[1], xb[2] - xa[2]
    qx, qy, qz = xc[0] - xa[0], xc[1] - xa[1], xc[2] - xa[2]
    sx, sy, sz = xd[0] - xa[0], xd[1] - xa[1], xd[2] - xa[2]
    return _times((px, qx, sx, py, qy, sy, pz, qz, sz), r)


@numba.njit(inline="always")
def _corner_weights(w, r):  # type: ignore[no-untyped-def]
    """Return K = Σ w b ⊗ b over the corners, six of it: how far a stress moves the corners' own form."""
    b0, b1, b2 = -r[0] - r[3] - r[6], -r[1] - r[4] - r[7], -r[2] - r[5] - r[8]
    a0, a1, a2 = w[0] * b0, w[0] * b1, w[0] * b2
    c0, c1, c2 = w[1] * r[0], w[1] * r[1], w[1] * r[2]
    d0, d1, d2 = w[2] * r[3], w[2] * r[4], w[2] * r[5]
    e0, e1, e2 = w[3] * r[6], w[3] * r[7], w[3] * r[8]
    return (
        fma(a0, b0, dot3(c0, d0, e0, r[0], r[3], r[6])),
        fma(a1, b1, dot3(c1, d1, e1, r[1], r[4], r[7])),
        fma(a2, b2, dot3(c2, d2, e2, r[2], r[5], r[8])),
        fma(a0, b1, dot3(c0, d0, e0, r[1], r[4], r[7])),
        fma(a0, b2, dot3(c0, d0, e0, r[2], r[5], r[8])),
        fma(a1, b2, dot3(c1, d1, e1, r[2], r[5], r[8])),
    )


@numba.njit(inline="always")
def _eased(k, many):  # type: ignore[no-untyped-def]
    """Return (I + many K)⁻¹, nine by rows, of K's six: how far a stress gives way at once."""
    m00, m11, m22 = fma(many, k[0], 1.0), fma(many, k[1], 1.0), fma(many, k[2], 1.0)
    m01, m02, m12 = many * k[3], many * k[4], many * k[5]
    c00, c01, c02 = fma(m11, m22, -m12 * m12), fma(m02, m12, -m01 * m22), fma(m01, m12, -m02 * m11)
    over = 1.0 / dot3(m00, m01, m02, c00, c01, c02)
    d00, d01, d02 = c00 * over, c01 * over, c02 * over
    d11, d22 = fma(m00, m22, -m02 * m02) * over, fma(m00, m11, -m01 * m01) * over
    d12 = fma(m01, m02, -m00 * m12) * over
    return d00, d01, d02, d01, d11, d12, d02, d12, d22


@numba.njit(inline="always")
def _pushed(w, r, size, p, xa, xb, xc, xd):  # type: ignore[no-untyped-def]
    """Return what -size w P b of a stress P makes of each corner's place or velocity."""
    ob = (
        size * dot3(p[0], p[1], p[2], r[0], r[1], r[2]), size * dot3(p[3], p[4], p[5], r[0], r[1], r[2]),
        size * dot3(p[6], p[7], p[8], r[0], r[1], r[2]),
    )  # fmt: skip
    oc = (
        size * dot3(p[0], p[1], p[2], r[3], r[4], r[5]), size * dot3(p[3], p[4], p[5], r[3], r[4], r[5]),
        size * dot3(p[6], p[7], p[8], r[3], r[4], r[5]),
    )  # fmt: skip
    od = (
        size * dot3(p[0], p[1], p[2], r[6], r[7], r[8]), size * dot3(p[3], p[4], p[5], r[6], r[7], r[8]),
        size * dot3(p[6], p[7], p[8], r[6], r[7], r[8]),
    )  # fmt: skip
    wa, wb, wc, wd = w[0], -w[1], -w[2], -w[3]
    return (
        (fma(wa, ob[0] + oc[0] + od[0], xa[0]), fma(wa, ob[1] + oc[1] + od[1], xa[1]),
         fma(wa, ob[2] + oc[2] + od[2], xa[2])),
        (fma(wb, ob[0], xb[0]), fma(wb, ob[1], xb[1]), fma(wb, ob[2], xb[2])),
        (fma(wc, oc[0], xc[0]), fma(wc, oc[1], xc[1]), fma(wc, oc[2], xc[2])),
        (fma(wd, od[0], xd[0]), fma(wd, od[1], xd[1]), fma(wd, od[2], xd[2])),
    )  # fmt: skip


@numba.njit(inline="always")
def _step(w, r, volume, mu, lam, held, xa, xb, xc, xd, dt, read):  # type: ignore[no-untyped-def]
    """Return the stress (nine by rows, Pa) that one implicit step lays on, and where the corners go."""
    f = _form(xa, xb, xc, xd, r)
    # Cofactors of F: the way its determinant grows.
    g = (
        fma(f[4], f[8], -f[5] * f[7]), fma(f[5], f[6], -f[3] * f[8]), fma(f[3], f[7], -f[4] * f[6]),
        fma(f[7], f[2], -f[8] * f[1]), fma(f[8], f[0], -f[6] * f[2]), fma(f[6], f[1], -f[7] * f[0]),
        fma(f[1], f[5], -f[2] * f[4]), fma(f[2], f[3], -f[0] * f[5]), fma(f[0], f[4], -f[1] * f[3]),
    )  # fmt: skip
    det = dot3(f[0], f[1], f[2], g[0], g[1], g[2])
    step = dt * dt * volume
    over_volume = fma(lam, det - 1.0, -mu)
    p = _sum(_scaled(mu, f), over_volume, g)
    if read:
        p = _sum(p, -1.0, held)
    square, wide = _inner(f, f), _inner(g, g)
    k_form = fma(size(over_volume), root(square * THIRD), mu)
    k_size = larger(fma(lam, wide, -mu), k_form)
    k = _corner_weights(w, r)
    # The trace of K is at least its largest eigenvalue.
    give = 1.0 - smaller(0.5, 1.0 / (step * k_size * (k[0] + k[1] + k[2]) + 1e-300))
    m = _eased(k, give * step * k_form)
    # m = (I + s K)⁻¹, hence K m = (I - m) / s; along g the stress gives way further.
    along, across = _inner(g, _sum(p, -1.0, _times(p, m))), _inner(g, _sum(g, -1.0, _times(g, m)))
    flat = wide <= 1e-18
    more = (k_size - k_form) / (k_form * choose(flat, 1.0, wide))
    share = choose(flat, 0.0, more * along / fma(more, across, 1.0))
    p = _times(_sum(p, -share, g), m)
    a, b, c, d = _pushed(w, r, step, p, xa, xb, xc, xd)
    return p, a, b, c, d


@numba.njit(inline="always")
def _nine4(rows, t):  # type: ignore[no-untyped-def]
    """Return the first nine places of the four rows from t on."""
    return block4(rows, t, 0) + block4(rows, t, 4) + (column4(rows, t, 8),)


@numba.njit(inline="always")
def _nine(rows, t):  # type: ignore[no-untyped-def]
    return (
        rows[t, 0], rows[t, 1], rows[t, 2], rows[t, 3], rows[t, 4], rows[t, 5], rows[t, 6], rows[t, 7], rows[t, 8],
    )  # fmt: skip


@kernel
def solve_tets(first, packed, last, points, rest, places, dt, held, read, write):  # type: ignore[no-untyped-def]
    """Let the tetrahedra first .. last - 1 take one implicit step each, in place.

    Args:
        first, packed, last: which; those before `packed` by packs of four.
        points, rest: see `Tets`.
        places: float64 (n, 4), where each point is, metres, and its inverse mass, 1/kg.
        dt: the substep, s.
        held: float64 (E, 9), the stresses that the passes so far have laid on, Pa; see `passes`.
        read, write: whether held is taken into account, and whether it is kept.
    """
    for t in range(first, packed, WIDTH):
        a0, a1, a2, a3 = corner4(points, t, 0)
        b0, b1, b2, b3 = corner4(points, t, 1)
        c0, c1, c2, c3 = corner4(points, t, 2)
        d0, d1, d2, d3 = corner4(points, t, 3)
        ax, ay, az, wa = rows4(places, a0, a1, a2, a3)
        bx, by, bz, wb = rows4(places, b0, b1, b2, b3)
        cx, cy, cz, wc = rows4(places, c0, c1, c2, c3)
        dx, dy, dz, wd = rows4(places, d0, d1, d2, d3)
        more, (ax, ay, az), (bx, by, bz), (cx, cy, cz), (dx, dy, dz) = _step(
            (wa, wb, wc, wd), _nine4(rest, t), column4(rest, t, 9), column4(rest, t, 10), column4(rest, t, 11),
            _nine4(held, t), (ax, ay, az), (bx, by, bz), (cx, cy, cz), (dx, dy, dz), dt, read,
        )  # fmt: skip
        if write:
            p0, p1, p2, p3, p4, p5, p6, p7, p8 = more
            keep4(held, t, 0, p0, read)
            keep4(held, t, 1, p1, read)
            keep4(held, t, 2, p2, read)
            keep4(held, t, 3, p3, read)
            keep4(held, t, 4, p4, read)
            keep4(held, t, 5, p5, read)
            keep4(held, t, 6, p6, read)
            keep4(held, t, 7, p7, read)
            keep4(held, t, 8, p8, read)
        put_rows4(places, a0, a1, a2, a3, ax, ay, az, wa)
        put_rows4(places, b0, b1, b2, b3, bx, by, bz, wb)
        put_rows4(places, c0, c1, c2, c3, cx, cy, cz, wc)
        put_rows4(places, d0, d1, d2, d3, dx, dy, dz, wd)
    for t in range(packed, last):
        a, b, c, d = corners(points, t)
        one, to_a, to_b, to_c, to_d = _step(
            (places[a, 3], places[b, 3], places[c, 3], places[d, 3]), _nine(rest, t), rest[t, 9], rest[t, 10],
            rest[t, 11], _nine(held, t),
            point(places, a), point(places, b), point(places, c), point(places, d), dt, read,
        )  # fmt: skip
        if write:
            for n in range(9):
                held[t, n] = one[n] + (held[t, n] if read else 0.0)
        put(places, a, to_a)
        put(places, b, to_b)
        put(places, c, to_c)
        put(places, d, to_d)


@numba.njit(inline="always")
def _drag(w, r, volume, mu, lam, xa, xb, xc, xd, va, vb, vc, vd, dt):  # type: ignore[no-untyped-def]
    """Return the corners' velocities after damping of μ τ and λ τ (Pa·s), of numbers or lanes."""
    f, g = _form(xa, xb, xc, xd, r), _form(va, vb, vc, vd, r)
    # The rate of the Green strain: the symmetric part of Fᵀ dF/dt.
    m00, m11, m22 = (
        dot3(f[0], f[3], f[6], g[0], g[3], g[6]),
        dot3(f[1], f[4], f[7], g[1], g[4], g[7]),
        dot3(f[2], f[5], f[8], g[2], g[5], g[8]),
    )
    m01 = 0.5 * (dot3(f[0], f[3], f[6], g[1], g[4], g[7]) + dot3(f[1], f[4], f[7], g[0], g[3], g[6]))
    m02 = 0.5 * (dot3(f[0], f[3], f[6], g[2], g[5], g[8]) + dot3(f[2], f[5], f[8], g[0], g[3], g[6]))
    m12 = 0.5 * (dot3(f[1], f[4], f[7], g[2], g[5], g[8]) + dot3(f[2], f[5], f[8], g[1], g[4], g[7]))
    p = _scaled(2.0 * mu, _times(f, (m00, m01, m02, m01, m11, m12, m02, m12, m22)))
    p = _sum(p, lam * (m00 + m11 + m22), f)
    # Implicit with its largest stiffness, so that no damping is too much.
    size = dt * volume
    stiff = size * fma(3.0, larger(lam, 0.0), 2.0 * mu) * _inner(f, f) * THIRD
    return _pushed(w, r, size, _times(p, _eased(_corner_weights(w, r), stiff)), va, vb, vc, vd)


@kernel
def damp_tets(first, packed, last, points, rest, w, x, v, dt):  # type: ignore[no-untyped-def]
    """Slow the change of form of tetrahedra first .. last - 1; arguments as above, with velocities v (n, 3) in m/s.

    It is a push of a stress τ times Hooke's law on the rate of the Green strain.
    """
    for t in range(first, packed, WIDTH):
        a0, a1, a2, a3 = corner4(points, t, 0)
        b0, b1, b2, b3 = corner4(points, t, 1)
        c0, c1, c2, c3 = corner4(points, t, 2)
        d0, d1, d2, d3 = corner4(points, t, 3)
        weights = take4(w, a0, a1, a2, a3), take4(w, b0, b1, b2, b3), take4(w, c0, c1, c2, c3), take4(w, d0, d1, d2, d3)
        mu, lam, tau = column4(rest, t, 10), column4(rest, t, 11), column4(rest, t, 12)
        to_a, to_b, to_c, to_d = _drag(
            weights, _nine4(rest, t), column4(rest, t, 9), tau * mu, tau * (lam - mu),
            points4(x, a0, a1, a2, a3), points4(x, b0, b1, b2, b3),
            points4(x, c0, c1, c2, c3), points4(x, d0, d1, d2, d3),
            points4(v, a0, a1, a2, a3), points4(v, b0, b1, b2, b3),
            points4(v, c0, c1, c2, c3), points4(v, d0, d1, d2, d3), dt,
        )  # fmt: skip
        put4(v, a0, a1, a2, a3, to_a)
        put4(v, b0, b1, b2, b3, to_b)
        put4(v, c0, c1, c2, c3, to_c)
        put4(v, d0, d1, d2, d3, to_d)
    for t in range(packed, last):
        a, b, c, d = corners(points, t)
        tau1, mu1 = rest[t, 12], rest[t, 10]
        at_a, at_b, at_c, at_d = _drag(
            (w[a], w[b], w[c], w[d]), _nine(rest, t), rest[t, 9], tau1 * mu1, tau1 * (rest[t, 11] - mu1),
            point(x, a), point(x, b), point(x, c), point(x, d),
            point(v, a), point(v, b), point(v, c), point(v, d), dt,
        )  # fmt: skip
        put(v, a, at_a)
        put(v, b, at_b)
        put(v, c, at_c)
        put(v, d, at_d)


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
