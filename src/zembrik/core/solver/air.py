"""Wind and the drag of still air, triangle by triangle.

A triangle of area A moving at u relative to the air feels the pressure ½ ρ c |u·n| (u·n)
along its normal n (the drag of a plate, applied facet by facet as in Ling, Damodaran and
Gay 1996). Its corners take a third each. Within one substep the push never turns the
relative motion round, however light the cloth: the exact decay of a quadratic drag,
Δu = -u s/(1 + s) with s = ½ ρ c A |u·n| dt / m, stays stable for any step.

Lift is the push across the relative wind f, in the plane of f and n, that a slanting plate
feels: ½ ρ c A |f|² s (n - s f/|f|) with s = n·f/|f|, the sine of its angle to the wind; its
size goes as sine times cosine. It does no work on the air. A closed sheet feels p A n besides.
"""

from __future__ import annotations

import numba
import numpy as np

from zembrik.core.compiled import dot3, fma, kernel
from zembrik.core.lanes import WIDTH, lanes, larger, root, size
from zembrik.core.lanes_memory import block4, corner4, point, points4, put4, take4

THIRD = 1.0 / 3.0


@numba.njit(inline="always")
def pushes(row, xi, xj, xk, vi, vj, vk, si, sj, sk, wind, density, dt):  # type: ignore[no-untyped-def]
    """Return what each corner is pushed (kg·m/s), to be multiplied by its inverse mass; of numbers or lanes."""
    full, mass, lifted, inside = row
    ax, ay, az = xj[0] - xi[0], xj[1] - xi[1], xj[2] - xi[2]
    bx, by, bz = xk[0] - xi[0], xk[1] - xi[1], xk[2] - xi[2]
    nx, ny, nz = fma(ay, bz, -az * by), fma(az, bx, -ax * bz), fma(ax, by, -ay * bx)
    square = larger(dot3(nx, ny, nz, nx, ny, nz), 1e-40)
    light = 1.0 / mass
    ux = fma(THIRD, vi[0] + vj[0] + vk[0] - si[0] - sj[0] - sk[0], -wind[0])
    uy = fma(THIRD, vi[1] + vj[1] + vk[1] - si[1] - sj[1] - sk[1], -wind[1])
    uz = fma(THIRD, vi[2] + vj[2] + vk[2] - si[2] - sj[2] - sk[2], -wind[2])
    un = dot3(ux, uy, uz, nx, ny, nz)  # times the normal's length, twice the area
    s = 0.25 * density * dt * full * size(un)
    # Along the normal, and across the wind.
    along = fma(-un, THIRD * s / (square * fma(s, light, 1.0)), inside * (dt * 0.5 * THIRD))
    speed = larger(root(dot3(ux, uy, uz, ux, uy, uz)), 1e-9)
    lift = 0.25 * density * dt * THIRD * lifted
    # Never more than turns the relative motion round.
    lift = lift / (root(square) + 3.0 * lift * square * speed * light)
    along = along - lift * speed * un
    across = lift * un * un / speed
    return fma(along, nx, across * ux), fma(along, ny, across * uy), fma(along, nz, across * uz)


@kernel
def push_by_air(first, packed, last, points, rows, w, x, v, wind, swirls, swirl, density, dt):  # type: ignore[no-untyped-def]
    """Change the velocities at the corners of triangles first .. last - 1 by what the air does in one substep.

    Args:
        first, packed, last: which; those before `packed` by packs of four.
        points: int32 (T, 3).
        rows: float64 (T, 4), share of the full pressure, mass in kg, lift, pressure inside in Pa.
        w: float64 (n,), inverse masses, 1/kg.
        x, v: float64 (n, 3), metres and m/s; v changes.
        wind: float64 (3,), m/s. swirl: float64 (n, 3), turbulent air at every point, m/s, looked at if `swirls`.
        density: of the air, kg/m³.
        dt: the substep, s.
    """
    still = lanes(0.0, 0.0, 0.0, 0.0)
    for t in range(first, packed, WIDTH):
        i0, i1, i2, i3 = corner4(points, t, 0)
        j0, j1, j2, j3 = corner4(points, t, 1)
        k0, k1, k2, k3 = corner4(points, t, 2)
        vi, vj, vk = points4(v, i0, i1, i2, i3), points4(v, j0, j1, j2, j3), points4(v, k0, k1, k2, k3)
        si = sj = sk = (still, still, still)
        if swirls:
            si, sj, sk = points4(swirl, i0, i1, i2, i3), points4(swirl, j0, j1, j2, j3), points4(swirl, k0, k1, k2, k3)
        px, py, pz = pushes(
            block4(rows, t, 0),
            points4(x, i0, i1, i2, i3), points4(x, j0, j1, j2, j3), points4(x, k0, k1, k2, k3), vi, vj, vk,
            si, sj, sk, wind, density, dt,
        )  # fmt: skip
        wi, wj, wk = take4(w, i0, i1, i2, i3), take4(w, j0, j1, j2, j3), take4(w, k0, k1, k2, k3)
        put4(v, i0, i1, i2, i3, (fma(wi, px, vi[0]), fma(wi, py, vi[1]), fma(wi, pz, vi[2])))
        put4(v, j0, j1, j2, j3, (fma(wj, px, vj[0]), fma(wj, py, vj[1]), fma(wj, pz, vj[2])))
        put4(v, k0, k1, k2, k3, (fma(wk, px, vk[0]), fma(wk, py, vk[1]), fma(wk, pz, vk[2])))
    for t in range(packed, last):
        i, j, k = np.uint32(points[t, 0]), np.uint32(points[t, 1]), np.uint32(points[t, 2])
        push = pushes(
            (rows[t, 0], rows[t, 1], rows[t, 2], rows[t, 3]), point(x, i), point(x, j), point(x, k),
            point(v, i), point(v, j), point(v, k), point(swirl, i), point(swirl, j), point(swirl, k), wind, density, dt,
        )  # fmt: skip
        for corner in (i, j, k):
            for axis in range(3):
                v[corner, axis] = fma(w[corner], push[axis], v[corner, axis])
