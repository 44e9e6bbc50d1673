"""Forces and stiffness of cloth: the gradient of its elastic energy, and a positive definite stand-in for its Hessian.

Each triangle's deformation gradient F (3 × 2) maps material directions (warp, weft) to space. Three
numbers say how it differs from rest (Baraff and Witkin 1998, section 4):

    C_warp = |F u| - 1        C_weft = |F v| - 1        C_shear = (F u) · (F v)

With the energy ½ k A C² (k in N/m, A the rest area in m²) a strip pulled by a force per width f stretches by f / k, on
any mesh. Each is damped by a force k A τ dC/dt. Forces are exact; of the second derivatives those terms are left out
that may be negative: what is pressed would ask to buckle at once.

Hinges: ½ eᵀ K e, see `bend` and `bend_form`; of the second derivatives there is the Gauss-Newton part of each hinge
alone (Tamstorf and Grinspun 2013 give the gradient of the angle).
"""

from __future__ import annotations

import numba
import numpy as np

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.lanes import lanes
from zembrik.core.lanes_memory import add_block_rows
from zembrik.core.solver.soft_forces import add_cells

MOST_BENT = 1.0  # e of a hinge, about 53°, beyond which its neighbours do not feel more of it
LEAST = 1e-9  # of a warp's or weft's length over that at rest: shorter, it has no direction


@kernel
def _triangles(first, last, points, rest, slots, x, v, dt, stiff, force, values):  # type: ignore[no-untyped-def]
    """Add triangles first .. last - 1 to the forces and, if `stiff`, to the blocks."""
    a, b = np.empty(3), np.empty(3)
    u, w, du, dw = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    by_u, by_w = np.empty(3), np.empty(3)
    for t in range(first, last):
        a[1], a[2], b[1], b[2] = rest[t, 0], rest[t, 2], rest[t, 1], rest[t, 3]
        a[0], b[0] = -a[1] - a[2], -b[1] - b[2]
        i, j, k = points[t, 0], points[t, 1], points[t, 2]
        lu, lw, shear, su, sw, rate = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for n in range(3):
            u[n] = a[1] * (x[j, n] - x[i, n]) + a[2] * (x[k, n] - x[i, n])
            w[n] = b[1] * (x[j, n] - x[i, n]) + b[2] * (x[k, n] - x[i, n])
            du[n] = a[1] * (v[j, n] - v[i, n]) + a[2] * (v[k, n] - v[i, n])
            dw[n] = b[1] * (v[j, n] - v[i, n]) + b[2] * (v[k, n] - v[i, n])
            lu, lw, shear = lu + u[n] * u[n], lw + w[n] * w[n], shear + u[n] * w[n]
        lu, lw = max(np.sqrt(lu), LEAST), max(np.sqrt(lw), LEAST)
        for n in range(3):
            rate += du[n] * w[n] + u[n] * dw[n]
            su, sw = su + u[n] * du[n] / lu, sw + w[n] * dw[n] / lw
        cu, cw, tau = lu - 1.0, lw - 1.0, rest[t, 7]
        ku = 1.0 / (rest[t, 4] if cu >= 0.0 else rest[t, 5])
        kw = 1.0 / (rest[t, 4] if cw >= 0.0 else rest[t, 5])
        ks = 1.0 / rest[t, 6]
        pu, pw, ps = ku * (cu + tau * su) / lu, kw * (cw + tau * sw) / lw, ks * (shear + tau * rate)
        for c in range(3):
            p = points[t, c]
            for n in range(3):
                force[p, n] -= a[c] * (pu * u[n] + ps * w[n]) + b[c] * (pw * w[n] + ps * u[n])
        if not stiff:
            continue
        more = 1.0 + tau / dt
        side_u, side_w = ku * max(cu, 0.0) / lu, kw * max(cw, 0.0) / lw
        uu, ww, rub = (ku * more - side_u) / (lu * lu), (kw * more - side_w) / (lw * lw), ks * more
        across_u, across_w = lanes(u[0], u[1], u[2], 0.0), lanes(w[0], w[1], w[2], 0.0)
        s = -1
        for one in range(3):
            for two in range(one + 1):
                s += 1
                c, d = (one, two) if points[t, one] >= points[t, two] else (two, one)
                aa, bb, ab, ba = a[c] * a[d], b[c] * b[d], a[c] * b[d], b[c] * a[d]
                own = aa * side_u + bb * side_w
                for m in range(3):  # of the block's rows: what u and w count for in it
                    by_u[m] = (aa * uu + bb * rub) * u[m] + rub * ab * w[m]
                    by_w[m] = (bb * ww + aa * rub) * w[m] + rub * ba * u[m]
                add_block_rows(
                    values, slots[t, s],
                    lanes(own, 0.0, 0.0, 0.0) + by_u[0] * across_u + by_w[0] * across_w,
                    lanes(0.0, own, 0.0, 0.0) + by_u[1] * across_u + by_w[1] * across_w,
                    lanes(0.0, 0.0, own, 0.0) + by_u[2] * across_u + by_w[2] * across_w,
                )  # fmt: skip


@kernel
def _hinge(points, h, x, g):  # type: ignore[no-untyped-def]
    """Return 2 tan(θ/2) of a hinge, and fill g (4, 3) with its gradient, 1/m."""
    a, b, c, d = points[h, 0], points[h, 1], points[h, 2], points[h, 3]
    ex, ey, ez = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
    cx, cy, cz = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
    dx, dy, dz = x[d, 0] - x[a, 0], x[d, 1] - x[a, 1], x[d, 2] - x[a, 2]
    mx, my, mz = ey * cz - ez * cy, ez * cx - ex * cz, ex * cy - ey * cx
    nx, ny, nz = dy * ez - dz * ey, dz * ex - dx * ez, dx * ey - dy * ex
    mm, nn = mx * mx + my * my + mz * mz, nx * nx + ny * ny + nz * nz
    ee = ex * ex + ey * ey + ez * ez
    if mm * nn < 1e-60 or ee < 1e-30:  # a face or an edge that is none
        g[:] = 0.0
        return 0.0
    length, both = np.sqrt(ee), np.sqrt(mm * nn)
    sine, cosine = -length * (cx * nx + cy * ny + cz * nz), mx * nx + my * ny + mz * nz
    tangent = sine / max(both + cosine, 1e-6 * both)
    # The angle falls when a far point rises along its face's normal. d(2 tan(θ/2)) = (1 + tan²(θ/2)) dθ.
    steep = -(1.0 + tangent * tangent) * length
    along_c, along_d = (cx * ex + cy * ey + cz * ez) / ee, (dx * ex + dy * ey + dz * ez) / ee
    by_m, by_n = steep / mm, steep / nn
    g[2, 0], g[2, 1], g[2, 2] = by_m * mx, by_m * my, by_m * mz
    g[3, 0], g[3, 1], g[3, 2] = by_n * nx, by_n * ny, by_n * nz
    for n in range(3):
        g[1, n] = -(along_c * g[2, n] + along_d * g[3, n])
        g[0, n] = -g[1, n] - g[2, n] - g[3, n]
    return 2.0 * tangent


@parallel_kernel
def note_bent(bend, x):  # type: ignore[no-untyped-def]
    """Fill bend.bent, where it is needed, with e of all hinges in the places x, up to MOST_BENT."""
    if len(bend.bent) > 0:
        for cluster in numba.prange(len(bend.span) - 1):
            g = np.empty((4, 3))
            for h in range(bend.span[cluster], bend.span[cluster + 1]):
                e = _hinge(bend.points, h, x, g) - bend.rest[h, 0]
                bend.bent[h] = min(max(e, -MOST_BENT), MOST_BENT)


@kernel
def _hinges(first, last, bend, slots, x, stiff, force, values):  # type: ignore[no-untyped-def]
    """Add hinges first .. last - 1 to the forces and, if `stiff`, to the blocks."""
    g = np.empty((4, 3))
    for h in range(first, last):
        e = _hinge(bend.points, h, x, g) - bend.rest[h, 0]
        if len(bend.bent) > 0:
            e -= bend.share[h, 0] * bend.bent[h]
            for k in range(4):
                e -= bend.share[h, k + 1] * bend.bent[bend.near[h, k]]
        hard = 1.0 / bend.rest[h, 1]
        for c in range(4):
            p = bend.points[h, c]
            for n in range(3):
                force[p, n] -= hard * e * g[c, n]
        if not stiff:
            continue
        s = -1
        for one in range(4):
            for two in range(one + 1):
                s += 1
                c, d = (one, two) if bend.points[h, one] >= bend.points[h, two] else (two, one)
                row = hard * lanes(g[d, 0], g[d, 1], g[d, 2], 0.0)
                add_block_rows(values, slots[h, s], g[c, 0] * row, g[c, 1] * row, g[c, 2] * row)


@parallel_kernel
def add_elastic(colours, membrane, bend, cells, slots, x, v, dt, stiff, force, values):  # type: ignore[no-untyped-def]
    """Add all triangles, hinges and cells to force (n, 3), N, and if `stiff` to the blocks (blocks, 12), N/m.

    Args:
        colours: int64 (colours + 1,), see `colour.Layout`.
        membrane, bend, cells: of which bend.bent is as `note_bent` left it.
        slots: where the blocks of each of the three stand, see `blocks.block_slots`.
        x, v: float64 (n, 3), metres and m/s. dt: s, by which velocity follows place.
    """
    three, four, solid = slots
    for colour in range(len(colours) - 1):
        for cluster in numba.prange(colours[colour], colours[colour + 1]):
            first, last = membrane.span[cluster], membrane.span[cluster + 1]
            _triangles(first, last, membrane.points, membrane.rest, three, x, v, dt, stiff, force, values)
            first, last = bend.span[cluster], bend.span[cluster + 1]
            _hinges(first, last, bend, four, x, stiff, force, values)
            first, last = cells.span[cluster], cells.span[cluster + 1]
            if first < last:
                add_cells(first, last, cells.points, cells.rest, solid, x, v, dt, stiff, force, values)
