"""The loops over all points and over all clusters of constraints."""

from __future__ import annotations

import numba

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.solver.air import push_by_air


@parallel_kernel
def sweep_air(colours, membrane, rows, w, x, v, wind, swirls, swirl, density, dt):  # type: ignore[no-untyped-def]
    """Let the air push every triangle once, colour by colour; see `air.push_by_air`."""
    for colour in range(len(colours) - 1):
        for cluster in numba.prange(colours[colour], colours[colour + 1]):
            first, packed, last = membrane.span[cluster], membrane.packed[cluster], membrane.span[cluster + 1]
            push_by_air(first, packed, last, membrane.points, rows, w, x, v, wind, swirls, swirl, density, dt)


@parallel_kernel
def end_substep(x, before, v, dt):  # type: ignore[no-untyped-def]
    """Set every point's velocity (m/s) from the way it went in the substep of dt seconds."""
    # One after the other in memory, so that they go four at a time.
    new, old, speed = x.reshape(-1), before.reshape(-1), v.reshape(-1)
    for i in numba.prange(len(new)):
        speed[i] = (new[i] - old[i]) / dt


@kernel
def farthest(x, other):  # type: ignore[no-untyped-def]
    """Return the longest way (m) between places (n, 3) and others (n, 3)."""
    most = 0.0
    for i in range(len(x)):
        way = (x[i, 0] - other[i, 0]) ** 2 + (x[i, 1] - other[i, 1]) ** 2 + (x[i, 2] - other[i, 2]) ** 2
        most = max(most, way)
    return most**0.5
