"""Stretch and shear of cloth, triangle by triangle.

Each triangle's deformation gradient F (3×2) maps material directions (warp, weft) to
space. Three constraints say how it differs from rest (Baraff and Witkin 1998, section 4):

    C_warp = |F u| - 1        C_weft = |F v| - 1        C_shear = (F u) · (F v)

With the energy ½ k A C² (k in N/m, A the rest area in m²) a strip pulled by a force per
width f stretches by f / k, on any mesh. They are XPBD constraints of compliance 1 / (k A)
(Macklin, Müller, Chentanez 2016, eq. 18). The three of a triangle share its points, so they
are projected together, as one 3×3 system; `passes` says what each pass keeps of the last and
how one pass alone comes to the right stretch. Damping is a pass of its own over velocities:
inside the projection it would hold back the constraint itself, and cloth at rest would hang
too low when passes are few.

A stiff triangle that is badly out of form (in a tight crumple, when substeps are few for so fine
a cloth) would spring back within one pass, farther than its own size: through another layer,
or into a worse form. So one pass takes back no more than a bounded part of its strain, and
less the nearer the triangle is to a line. What gives way within the substep (α̃ > ½ W) has its whole force.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import dot3, fma, kernel, parallel_kernel
from zembrik.core.lanes import WIDTH, choose, every, larger, root, smaller
from zembrik.core.lanes_memory import (
    block4,
    column4,
    corner4,
    keep4,
    point,
    points4,
    put,
    put4,
    put_rows4,
    rows4,
    take4,
)

SOUND = 0.25  # of what the determinant is at most; it is 0.75 for a right triangle at rest
# Strain that one pass takes back where the material asks for all at once. Of what is stretched by more than a half, it
# takes back a quarter and half the strain: a blow must not leave it long.
MOST_PRESSED, MOST_SHEARED, LEFT = 0.25, 0.5, 0.25


class Membrane(NamedTuple):
    """All cloth triangles of a world, cluster by cluster; T triangles.

    Attributes:
        points: int32 (T, 3).
        rest: float64 (T, 8): the inverse of the rest shape's edge matrix by rows (1/m), then
            the compliances in stretch, compression and shear (1/(k A), in 1/J), then the
            damping (s).
        span: int64 (clusters + 1,), where each cluster's triangles begin.
        packed: int64 (clusters,), where its packs of four end, see `colour`.
    """

    points: NDArray[np.int32]
    rest: NDArray[np.float64]
    span: NDArray[np.int64]
    packed: NDArray[np.int64]


def rest_shape(points: NDArray[np.float64], faces: NDArray[np.int32], warp: NDArray[np.float64]):  # type: ignore[no-untyped-def]
    """Return (inverse edge matrices (T, 4) in 1/m, areas (T,) in m²) of rest points (n, 3).

    The warp directions (T, 3) are laid into each triangle's plane; where one stands upright on
    the plane, the triangle's first edge is taken instead.
    """
    a, b, c = (points[faces[:, k]] for k in range(3))
    e1, e2 = b - a, c - a
    normal = np.cross(e1, e2)
    double = np.linalg.norm(normal, axis=1)
    normal = normal / double[:, None]
    u = warp - normal * np.einsum("ij,ij->i", normal, warp)[:, None]
    length = np.linalg.norm(u, axis=1)
    first = e1 / np.linalg.norm(e1, axis=1)[:, None]
    u = np.where((length > 1e-3)[:, None], u / np.maximum(length, 1e-300)[:, None], first)
    v = np.cross(normal, u)
    dot = lambda p, q: np.einsum("ij,ij->i", p, q)  # noqa: E731
    m00, m01, m10, m11 = dot(e1, u), dot(e2, u), dot(e1, v), dot(e2, v)
    det = m00 * m11 - m01 * m10
    return np.stack([m11, -m01, -m10, m00], axis=1) / det[:, None], double / 2


def membrane_rows(
    points: NDArray[np.float64], faces: NDArray[np.int32], warp: NDArray[np.float64], stiff: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Return the rows of `Membrane.rest` for triangles at rest in the given points.

    Args:
        points: float64 (n, 3), metres.
        faces: int32 (T, 3).
        warp: float64 (T, 3), the warp direction near each triangle.
        stiff: float64 (T, 4): stretch, compression, shear in N/m, damping in s.
    """
    rest, area = rest_shape(points, faces, warp)
    return np.column_stack([rest, 1.0 / (stiff[:, :3] * area[:, None]), stiff[:, 3]])


@numba.njit(inline="always")
def _multipliers(wi, wj, wk, rest, held, u, v, scale, read):  # type: ignore[no-untyped-def]
    """Return what a triangle's three constraints lay on, J·s²; `rest` and `held` are its rows' numbers or lanes."""
    uj, vj, uk, vk, stretch, press, shear = rest
    ux, uy, uz = u
    vx, vy, vz = v
    ui, vi = -uj - uk, -vj - vk
    uu = dot3(ux, uy, uz, ux, uy, uz) + 1e-18
    vv = dot3(vx, vy, vz, vx, vy, vz) + 1e-18
    uv = dot3(ux, uy, uz, vx, vy, vz)
    size_u, size_v = root(uu), root(vv)
    both = 1.0 / (size_u * size_v)
    inv_u, inv_v = both * size_v, both * size_u
    c_u, c_v, c_s = size_u - 1.0, size_v - 1.0, uv
    comp_u = scale * choose(c_u >= 0.0, stretch, press)
    comp_v = scale * choose(c_v >= 0.0, stretch, press)
    comp_s = scale * shear
    # The three constraints together: a symmetric 3×3 system for their multipliers.
    wui, wuj, wuk, wvi, wvj, wvk = wi * ui, wj * uj, wk * uk, wi * vi, wj * vj, wk * vk
    w_uu = dot3(wui, wuj, wuk, ui, uj, uk)
    w_vv = dot3(wvi, wvj, wvk, vi, vj, vk)
    w_uv = dot3(wui, wuj, wuk, vi, vj, vk)
    w_ss = dot3(w_uu, 2.0 * w_uv, w_vv, vv, uv, uu)
    a_uu = w_uu + larger(comp_u - 0.5 * w_uu, 0.0)
    a_vv = w_vv + larger(comp_v - 0.5 * w_vv, 0.0)
    a_ss = w_ss + larger(comp_s - 0.5 * w_ss, 0.0)
    if read:
        c_u, c_v, c_s = c_u + comp_u * held[0], c_v + comp_v * held[1], c_s + comp_s * held[2]
    c_u = choose(comp_u > 0.5 * w_uu, c_u, larger(smaller(c_u, fma(0.5, c_u, LEFT)), -MOST_PRESSED))
    c_v = choose(comp_v > 0.5 * w_vv, c_v, larger(smaller(c_v, fma(0.5, c_v, LEFT)), -MOST_PRESSED))
    c_s = choose(comp_s > 0.5 * w_ss, c_s, smaller(larger(c_s, -MOST_SHEARED), MOST_SHEARED))
    a_uv = w_uv * uv * inv_u * inv_v
    a_us = fma(w_uu, uv, w_uv * uu) * inv_u
    a_vs = fma(w_vv, uv, w_uv * vv) * inv_v
    m_uu = fma(a_vv, a_ss, -a_vs * a_vs)
    m_uv = fma(a_us, a_vs, -a_uv * a_ss)
    m_us = fma(a_uv, a_vs, -a_us * a_vv)
    m_vv = fma(a_uu, a_ss, -a_us * a_us)
    m_vs = fma(a_uv, a_us, -a_uu * a_vs)
    m_ss = fma(a_uu, a_vv, -a_uv * a_uv)
    det = dot3(a_uu, a_uv, a_us, m_uu, m_uv, m_us)
    # The nearer a triangle is to a line, the more the three contradict each other, and what they ask for together grows
    # without end. From SOUND of the determinant's greatest value down, each takes more and more its share alone.
    whole = SOUND * a_uu * a_vv * a_ss
    sound = det > whole
    over = -1.0 / larger(det, whole)
    l_u = over * dot3(m_uu, m_uv, m_us, c_u, c_v, c_s)
    l_v = over * dot3(m_uv, m_vv, m_vs, c_u, c_v, c_s)
    l_s = over * dot3(m_us, m_vs, m_ss, c_u, c_v, c_s)
    if not every(sound):
        alone = choose(sound, 0.0, fma(det, over, 1.0) / 3.0)
        l_u = l_u - alone * c_u / a_uu
        l_v = l_v - alone * c_v / a_vv
        l_s = l_s - alone * c_s / a_ss
    return l_u, l_v, l_s, inv_u, inv_v


@numba.njit(inline="always")
def _project(wi, wj, wk, rest, held, xi, xj, xk, scale, read):  # type: ignore[no-untyped-def]
    """Return the multipliers and where a triangle's corners go, of numbers or lanes."""
    uj, vj, uk, vk = rest[0], rest[1], rest[2], rest[3]
    jx, jy, jz = xj[0] - xi[0], xj[1] - xi[1], xj[2] - xi[2]
    kx, ky, kz = xk[0] - xi[0], xk[1] - xi[1], xk[2] - xi[2]
    u = (fma(uj, jx, uk * kx), fma(uj, jy, uk * ky), fma(uj, jz, uk * kz))
    v = (fma(vj, jx, vk * kx), fma(vj, jy, vk * ky), fma(vj, jz, vk * kz))
    l_u, l_v, l_s, inv_u, inv_v = _multipliers(wi, wj, wk, rest, held, u, v, scale, read)
    p_u, p_v = l_u * inv_u, l_v * inv_v
    px, py, pz = fma(p_u, u[0], l_s * v[0]), fma(p_u, u[1], l_s * v[1]), fma(p_u, u[2], l_s * v[2])
    qx, qy, qz = fma(p_v, v[0], l_s * u[0]), fma(p_v, v[1], l_s * u[1]), fma(p_v, v[2], l_s * u[2])
    wui, wvi, wuj, wvj, wuk, wvk = wi * (-uj - uk), wi * (-vj - vk), wj * uj, wj * vj, wk * uk, wk * vk
    at_i = (fma(wui, px, fma(wvi, qx, xi[0])), fma(wui, py, fma(wvi, qy, xi[1])), fma(wui, pz, fma(wvi, qz, xi[2])))
    at_j = (fma(wuj, px, fma(wvj, qx, xj[0])), fma(wuj, py, fma(wvj, qy, xj[1])), fma(wuj, pz, fma(wvj, qz, xj[2])))
    at_k = (fma(wuk, px, fma(wvk, qx, xk[0])), fma(wuk, py, fma(wvk, qy, xk[1])), fma(wuk, pz, fma(wvk, qz, xk[2])))
    return (l_u, l_v, l_s), at_i, at_j, at_k


@kernel
def solve_triangles(first, packed, last, points, rest, places, dt, held, read, write):  # type: ignore[no-untyped-def]
    """Project the triangles first .. last - 1 once each, in place.

    Args:
        first, packed, last: which; those before `packed` by packs of four.
        points, rest: see `Membrane`.
        places: float64 (n, 4), where each point is, metres, and its inverse mass, 1/kg.
        dt: the substep, s.
        held: float64 (T, 3), the multipliers of the passes so far, J·s²; see `passes`.
        read, write: whether held is taken into account, and whether it is kept.
    """
    scale = 1.0 / (dt * dt)
    for t in range(first, packed, WIDTH):
        i0, i1, i2, i3 = corner4(points, t, 0)
        j0, j1, j2, j3 = corner4(points, t, 1)
        k0, k1, k2, k3 = corner4(points, t, 2)
        uj, vj, uk, vk = block4(rest, t, 0)
        stretch, press, shear, _ = block4(rest, t, 4)
        row = (uj, vj, uk, vk, stretch, press, shear)
        laid = (column4(held, t, 0), column4(held, t, 1), column4(held, t, 2))
        ix, iy, iz, wi = rows4(places, i0, i1, i2, i3)
        jx, jy, jz, wj = rows4(places, j0, j1, j2, j3)
        kx, ky, kz, wk = rows4(places, k0, k1, k2, k3)
        more, (ix, iy, iz), (jx, jy, jz), (kx, ky, kz) = _project(
            wi, wj, wk, row, laid, (ix, iy, iz), (jx, jy, jz), (kx, ky, kz), scale, read
        )
        if write:
            keep4(held, t, 0, more[0], read)
            keep4(held, t, 1, more[1], read)
            keep4(held, t, 2, more[2], read)
        put_rows4(places, i0, i1, i2, i3, ix, iy, iz, wi)
        put_rows4(places, j0, j1, j2, j3, jx, jy, jz, wj)
        put_rows4(places, k0, k1, k2, k3, kx, ky, kz, wk)
    for t in range(packed, last):
        i, j, k = np.uint32(points[t, 0]), np.uint32(points[t, 1]), np.uint32(points[t, 2])
        row1 = (rest[t, 0], rest[t, 1], rest[t, 2], rest[t, 3], rest[t, 4], rest[t, 5], rest[t, 6])
        laid1 = (held[t, 0], held[t, 1], held[t, 2])
        more1, to_i, to_j, to_k = _project(
            places[i, 3], places[j, 3], places[k, 3], row1, laid1, point(places, i), point(places, j),
            point(places, k), scale, read,
        )  # fmt: skip
        if write:
            for n in range(3):
                held[t, n] = more1[n] + (held[t, n] if read else 0.0)
        put(places, i, to_i)
        put(places, j, to_j)
        put(places, k, to_k)


@numba.njit(inline="always")
def _drag(wi, wj, wk, gj, gk, compliance, vi, vj, vk):  # type: ignore[no-untyped-def]
    """Return the corners' velocities when one of a triangle's rates is slowed, whose gradients are gj and gk."""
    ix, iy, iz = -gj[0] - gk[0], -gj[1] - gk[1], -gj[2] - gk[2]
    rate = dot3(ix, iy, iz, vi[0], vi[1], vi[2]) + dot3(gj[0], gj[1], gj[2], vj[0], vj[1], vj[2])
    rate = rate + dot3(gk[0], gk[1], gk[2], vk[0], vk[1], vk[2])
    weight = wi * dot3(ix, iy, iz, ix, iy, iz) + wj * dot3(gj[0], gj[1], gj[2], gj[0], gj[1], gj[2])
    weight = weight + wk * dot3(gk[0], gk[1], gk[2], gk[0], gk[1], gk[2])
    push = -rate / (weight + compliance + 1e-300)
    pi, pj, pk = push * wi, push * wj, push * wk
    return (
        (fma(pi, ix, vi[0]), fma(pi, iy, vi[1]), fma(pi, iz, vi[2])),
        (fma(pj, gj[0], vj[0]), fma(pj, gj[1], vj[1]), fma(pj, gj[2], vj[2])),
        (fma(pk, gk[0], vk[0]), fma(pk, gk[1], vk[1]), fma(pk, gk[2], vk[2])),
    )


@numba.njit(inline="always")
def _slowed(wi, wj, wk, rest, xi, xj, xk, vi, vj, vk, dt):  # type: ignore[no-untyped-def]
    """Return the corners' velocities after warp, weft and shear have been slowed, one after the other."""
    uj, vj_, uk, vk_, stretch, shear, tau = rest
    jx, jy, jz = xj[0] - xi[0], xj[1] - xi[1], xj[2] - xi[2]
    kx, ky, kz = xk[0] - xi[0], xk[1] - xi[1], xk[2] - xi[2]
    u = (fma(uj, jx, uk * kx), fma(uj, jy, uk * ky), fma(uj, jz, uk * kz))
    f = (fma(vj_, jx, vk_ * kx), fma(vj_, jy, vk_ * ky), fma(vj_, jz, vk_ * kz))
    some = tau > 0.0
    over = 1.0 / (choose(some, tau, 1.0) * dt)
    far = choose(some, over, 1e300)  # what is not damped is as if it gave way without end
    size_u = 1.0 / (root(dot3(u[0], u[1], u[2], u[0], u[1], u[2])) + 1e-12)
    size_f = 1.0 / (root(dot3(f[0], f[1], f[2], f[0], f[1], f[2])) + 1e-12)
    a, b, c, d = uj * size_u, uk * size_u, vj_ * size_f, vk_ * size_f
    vi, vj, vk = _drag(
        wi, wj, wk, (a * u[0], a * u[1], a * u[2]), (b * u[0], b * u[1], b * u[2]), stretch * far, vi, vj, vk
    )
    vi, vj, vk = _drag(
        wi, wj, wk, (c * f[0], c * f[1], c * f[2]), (d * f[0], d * f[1], d * f[2]), stretch * far, vi, vj, vk
    )
    gj = (fma(uj, f[0], vj_ * u[0]), fma(uj, f[1], vj_ * u[1]), fma(uj, f[2], vj_ * u[2]))
    gk = (fma(uk, f[0], vk_ * u[0]), fma(uk, f[1], vk_ * u[1]), fma(uk, f[2], vk_ * u[2]))
    return _drag(wi, wj, wk, gj, gk, shear * far, vi, vj, vk)


@kernel
def damp_triangles(first, packed, last, points, rest, w, x, v, dt):  # type: ignore[no-untyped-def]
    """Slow the stretching and shearing of triangles first .. last - 1: a push of -k A τ dC/dt along each gradient.

    It is solved implicitly, triangle by triangle, so that no damping is too much; at rest it
    does nothing. Arguments as in `solve_triangles`, with velocities v (n, 3) in m/s.
    """
    for t in range(first, packed, WIDTH):
        i0, i1, i2, i3 = corner4(points, t, 0)
        j0, j1, j2, j3 = corner4(points, t, 1)
        k0, k1, k2, k3 = corner4(points, t, 2)
        uj, vj, uk, vk = block4(rest, t, 0)
        stretch, _, shear, tau = block4(rest, t, 4)
        row = (uj, vj, uk, vk, stretch, shear, tau)
        to_i, to_j, to_k = _slowed(
            take4(w, i0, i1, i2, i3), take4(w, j0, j1, j2, j3), take4(w, k0, k1, k2, k3), row,
            points4(x, i0, i1, i2, i3), points4(x, j0, j1, j2, j3), points4(x, k0, k1, k2, k3),
            points4(v, i0, i1, i2, i3), points4(v, j0, j1, j2, j3), points4(v, k0, k1, k2, k3), dt,
        )  # fmt: skip
        put4(v, i0, i1, i2, i3, to_i)
        put4(v, j0, j1, j2, j3, to_j)
        put4(v, k0, k1, k2, k3, to_k)
    for t in range(packed, last):
        i, j, k = np.uint32(points[t, 0]), np.uint32(points[t, 1]), np.uint32(points[t, 2])
        row1 = (rest[t, 0], rest[t, 1], rest[t, 2], rest[t, 3], rest[t, 4], rest[t, 6], rest[t, 7])
        at_i, at_j, at_k = _slowed(
            w[i], w[j], w[k], row1, point(x, i), point(x, j), point(x, k), point(v, i), point(v, j), point(v, k), dt
        )
        put(v, i, at_i)
        put(v, j, at_j)
        put(v, k, at_k)


@parallel_kernel
def measure_stretch(points, rest, x, strain):  # type: ignore[no-untyped-def]
    """Fill strain (T,) with each triangle's larger stretch along warp or weft (0.01 is one percent)."""
    for t in numba.prange(len(points)):
        i, j, k = points[t, 0], points[t, 1], points[t, 2]
        worst = -1.0
        for side in range(2):
            gj, gk = rest[t, side], rest[t, 2 + side]
            total = 0.0
            for axis in range(3):
                f = gj * (x[j, axis] - x[i, axis]) + gk * (x[k, axis] - x[i, axis])
                total += f * f
            worst = max(worst, np.sqrt(total) - 1.0)
        strain[t] = worst
