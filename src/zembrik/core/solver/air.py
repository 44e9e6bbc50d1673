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

import numpy as np

from zembrik.core.compiled import dot3, fma, kernel

THIRD = 1.0 / 3.0


@kernel
def push_by_air(first, last, points, rows, w, x, v, wind, swirl, density, dt):  # type: ignore[no-untyped-def]
    """Change the velocities at the corners of triangles first .. last - 1 by what the air does in one substep.

    Args:
        first, last: which.
        points: int32 (T, 3).
        rows: float64 (T, 4), share of the full pressure, mass in kg, lift, pressure inside in Pa.
        w: float64 (n,), inverse masses, 1/kg.
        x, v: float64 (n, 3), metres and m/s; v changes.
        wind: float64 (3,), m/s. swirl: float64 (n, 3), turbulent air at every point, m/s.
        density: of the air, kg/m³.
        dt: the substep, s.
    """
    for t in range(first, last):
        i, j, k = np.uint32(points[t, 0]), np.uint32(points[t, 1]), np.uint32(points[t, 2])
        ax, ay, az = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
        bx, by, bz = x[k, 0] - x[i, 0], x[k, 1] - x[i, 1], x[k, 2] - x[i, 2]
        nx, ny, nz = fma(ay, bz, -az * by), fma(az, bx, -ax * bz), fma(ax, by, -ay * bx)
        square = dot3(nx, ny, nz, nx, ny, nz)
        if square < 1e-40:
            continue
        ux = fma(THIRD, v[i, 0] + v[j, 0] + v[k, 0] - swirl[i, 0] - swirl[j, 0] - swirl[k, 0], -wind[0])
        uy = fma(THIRD, v[i, 1] + v[j, 1] + v[k, 1] - swirl[i, 1] - swirl[j, 1] - swirl[k, 1], -wind[1])
        uz = fma(THIRD, v[i, 2] + v[j, 2] + v[k, 2] - swirl[i, 2] - swirl[j, 2] - swirl[k, 2], -wind[2])
        un = dot3(ux, uy, uz, nx, ny, nz)  # times the normal's length, twice the area
        mass = rows[t, 1]
        s = 0.25 * density * rows[t, 0] * abs(un) * dt / mass
        # What each corner is to be pushed, times its inverse mass: along the normal, and across the wind.
        along = fma(-un * s, THIRD * mass / (square * (1.0 + s)), rows[t, 3] * dt * (0.5 * THIRD))
        across, speed = 0.0, np.sqrt(dot3(ux, uy, uz, ux, uy, uz))
        if rows[t, 2] > 0.0 and speed > 1e-9:
            size = np.sqrt(square)
            lift = 0.25 * density * rows[t, 2] * dt / (3.0 * size)
            lift /= 1.0 + 3.0 * lift * square * speed / mass  # never more than turns the relative motion round
            along -= lift * speed * un
            across = lift * un * un / speed
        px, py, pz = fma(along, nx, across * ux), fma(along, ny, across * uy), fma(along, nz, across * uz)
        for corner in (i, j, k):
            v[corner, 0] = fma(w[corner], px, v[corner, 0])
            v[corner, 1] = fma(w[corner], py, v[corner, 1])
            v[corner, 2] = fma(w[corner], pz, v[corner, 2])
