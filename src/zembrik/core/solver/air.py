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

from zembrik.core.compiled import kernel


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
        nx, ny, nz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
        square = nx * nx + ny * ny + nz * nz
        if square < 1e-40:
            continue
        ux = (v[i, 0] + v[j, 0] + v[k, 0] - swirl[i, 0] - swirl[j, 0] - swirl[k, 0]) / 3.0 - wind[0]
        uy = (v[i, 1] + v[j, 1] + v[k, 1] - swirl[i, 1] - swirl[j, 1] - swirl[k, 1]) / 3.0 - wind[1]
        uz = (v[i, 2] + v[j, 2] + v[k, 2] - swirl[i, 2] - swirl[j, 2] - swirl[k, 2]) / 3.0 - wind[2]
        un = ux * nx + uy * ny + uz * nz  # times the normal's length, twice the area
        mass = rows[t, 1]
        s = 0.25 * density * rows[t, 0] * abs(un) * dt / mass
        # What each corner is to be pushed, times its inverse mass: along the normal, and across the wind.
        along = -un / square * s / (1.0 + s) * mass / 3.0 + rows[t, 3] * dt / 6.0
        across, speed = 0.0, np.sqrt(ux * ux + uy * uy + uz * uz)
        if rows[t, 2] > 0.0 and speed > 1e-9:
            size = np.sqrt(square)
            lift = 0.25 * density * rows[t, 2] * dt / (3.0 * size)
            lift /= 1.0 + 3.0 * lift * square * speed / mass  # never more than turns the relative motion round
            along -= lift * speed * un
            across = lift * un * un / speed
        for axis in range(3):
            push = along * (nx if axis == 0 else (ny if axis == 1 else nz))
            push += across * (ux if axis == 0 else (uy if axis == 1 else uz))
            v[i, axis] += w[i] * push
            v[j, axis] += w[j] * push
            v[k, axis] += w[k] * push
