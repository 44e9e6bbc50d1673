"""What is expected of every point between two searches for near pairs, and which of them left its way.

A point is expected to go on as it went for some steps, and then to stay; all as seen by one who goes with the whole
(its drift). What a search found holds for all that are where they were expected.
"""

from __future__ import annotations

import numba
import numpy as np

from zembrik.core.compiled import kernel, parallel_kernel


@numba.njit(inline="always")
def _any_of(p, marked, patches):  # type: ignore[no-untyped-def]
    found = False
    for n in range(patches.end_span[p], patches.end_span[p + 1]):
        found |= marked[np.uint32(patches.ends[n, 0])]
    return found


@kernel
def middle(x):  # type: ignore[no-untyped-def]
    """Return the middle of places x (n, 3), float64 (3,), metres."""
    sx, sy, sz = 0.0, 0.0, 0.0
    for i in range(len(x)):
        sx, sy, sz = sx + x[i, 0], sy + x[i, 1], sz + x[i, 2]
    return np.array([sx, sy, sz]) / max(len(x), 1)


@parallel_kernel
def leave_ways(  # type: ignore[no-untyped-def]
    now, was, x, before, drift, built, way, steps, ahead, off_m, far_m, patches, strayed, flags
):
    """Find the points that are not where they were expected, strayed (N,), and the patches that hold one, flags (P,).

    After more steps than `ahead`, all are expected to stay where they come to from now on, and what is too fast for
    that has strayed too. Return how many patches are flagged; where none is, the flags are what they were.

    Args:
        now, was: float64 (n, 3), what the first of x and before become.
        x, before: float64 (N, 3), places now and a step ago, metres.
        drift: float64 (3,), what all go in a step in the mean, metres.
        built, way: float64 (N, 3), where each point set out, and its way in a step without the drift, metres.
        steps: since when. ahead: for how many it keeps its way.
        off_m: how far from there is too far. far_m: what would go farther in `ahead` steps is too fast, metres.
        patches: see `patches.Patches`.
    """
    over, kept, some = steps > ahead, min(steps, ahead), 0
    for i in numba.prange(len(x)):
        if i < len(now):
            for axis in range(3):
                x[i, axis], before[i, axis] = now[i, axis], was[i, axis]
        ex = built[i, 0] + kept * way[i, 0] + steps * drift[0]
        ey = built[i, 1] + kept * way[i, 1] + steps * drift[1]
        ez = built[i, 2] + kept * way[i, 2] + steps * drift[2]
        off = (x[i, 0] - ex) ** 2 + (x[i, 1] - ey) ** 2 + (x[i, 2] - ez) ** 2
        goes = 0.0
        if over:
            for axis in range(3):
                goes += (ahead * (x[i, axis] - before[i, axis] - drift[axis])) ** 2
                way[i, axis] = 0.0
            built[i, 0], built[i, 1], built[i, 2] = ex, ey, ez
        strayed[i] = (off > off_m * off_m) | (goes > far_m * far_m)
        some += strayed[i]
    many = 0
    if some > 0:
        for p in numba.prange(len(flags)):
            flags[p] = _any_of(p, strayed, patches)
            many += flags[p]
    return many


@parallel_kernel
def set_out(x, before, drift, origin, built, way, steps, ahead, strayed, state):  # type: ignore[no-untyped-def]
    """Let every strayed point set out anew on the way it goes now, and fill state (N, 8) for a search.

    That is where each point is expected, as seen from the origin (3,), and what it is still to go; metres. The others
    are as in `leave_ways`.
    """
    kept = min(steps, ahead)
    for i in numba.prange(len(x)):
        for axis in range(3):
            at = built[i, axis] + kept * way[i, axis] + steps * drift[axis]
            if strayed[i]:
                at = x[i, axis]
                way[i, axis] = at - before[i, axis] - drift[axis]
                built[i, axis] = at - kept * way[i, axis] - steps * drift[axis]
            state[i, axis], state[i, 3 + axis] = at - origin[axis], (ahead - kept) * way[i, axis]
