"""The loops over all points and over all clusters of constraints."""

from __future__ import annotations

import numba

from zembrik.core.compiled import parallel_kernel
from zembrik.core.solver.air import push_by_air
from zembrik.core.solver.solidity import damp_tets, solve_tets


@parallel_kernel
def sweep_air(colours, membrane, rows, w, x, v, wind, swirls, swirl, density, dt):  # type: ignore[no-untyped-def]
    """Let the air push every triangle once, colour by colour; see `air.push_by_air`."""
    for colour in range(len(colours) - 1):
        for cluster in numba.prange(colours[colour], colours[colour + 1]):
            first, packed, last = membrane.span[cluster], membrane.packed[cluster], membrane.span[cluster + 1]
            push_by_air(first, packed, last, membrane.points, rows, w, x, v, wind, swirls, swirl, density, dt)


@parallel_kernel
def sweep_tets(colours, tets, held, w, x, places, dt, read, write):  # type: ignore[no-untyped-def]
    """Project every tetrahedron once, colour by colour.

    Args:
        colours: int64 (colours + 1,), see `colour.Layout`.
        tets: the constraints. held: float64 (E, 9), Pa, the stresses that the passes so far laid on.
        w: float64 (n,), inverse masses, 1/kg.
        x: float64 (n, 3), places, metres.
        places: float64 (n, 4), room to work in: a point and its inverse mass in one row, which is taken up whole.
        dt: the substep, s.
        read, write: whether held is taken into account, and whether it is kept.
    """
    for i in numba.prange(len(x)):
        places[i, 0], places[i, 1], places[i, 2], places[i, 3] = x[i, 0], x[i, 1], x[i, 2], w[i]
    for colour in range(len(colours) - 1):
        for cluster in numba.prange(colours[colour], colours[colour + 1]):
            first, packed, last = tets.span[cluster], tets.packed[cluster], tets.span[cluster + 1]
            solve_tets(first, packed, last, tets.points, tets.rest, places, dt, held, read, write)
    for i in numba.prange(len(x)):
        x[i, 0], x[i, 1], x[i, 2] = places[i, 0], places[i, 1], places[i, 2]


@parallel_kernel
def sweep_damping(colours, tets, w, x, v, dt):  # type: ignore[no-untyped-def]
    """Damp every tetrahedron's velocities (m/s) once; see `solidity`."""
    for colour in range(len(colours) - 1):
        for cluster in numba.prange(colours[colour], colours[colour + 1]):
            first, packed, last = tets.span[cluster], tets.packed[cluster], tets.span[cluster + 1]
            damp_tets(first, packed, last, tets.points, tets.rest, w, x, v, dt)


@parallel_kernel
def begin_substep(cloth, w, weight, gravity, keep, dt, x, v, before):  # type: ignore[no-untyped-def]
    """Keep where every point is, then move the free ones by the kept share of their velocity and gravity (m/s²).

    The first `cloth` points stay: they have a step of their own.
    """
    for i in numba.prange(len(x)):
        for axis in range(3):
            before[i, axis] = x[i, axis]
            if w[i] > 0.0 and i >= cloth:
                x[i, axis] += dt * (keep * v[i, axis] + dt * weight[i] * gravity[axis])


@parallel_kernel
def end_substep(x, before, v, dt):  # type: ignore[no-untyped-def]
    """Set every point's velocity (m/s) from the way it went in the substep of dt seconds."""
    # One after the other in memory, so that they go four at a time.
    new, old, speed = x.reshape(-1), before.reshape(-1), v.reshape(-1)
    for i in numba.prange(len(new)):
        speed[i] = (new[i] - old[i]) / dt
