"""Counting where a mesh passes through itself: every edge against every triangle, written without the solver's code."""

import numba
import numpy as np


@numba.njit(cache=False)
def _volume(a, b, c, d):
    u, v, w = b - a, c - a, d - a
    return (u[1] * v[2] - u[2] * v[1]) * w[0] + (u[2] * v[0] - u[0] * v[2]) * w[1] + (u[0] * v[1] - u[1] * v[0]) * w[2]


@numba.njit(cache=False)
def crossings(x, edges, faces):
    """Return how many pairs of an edge and a triangle that share no point cross, by the signs of five volumes."""
    found = 0
    for e in range(len(edges)):
        p, q = x[edges[e, 0]], x[edges[e, 1]]
        for t in range(len(faces)):
            i, j, k = faces[t, 0], faces[t, 1], faces[t, 2]
            if edges[e, 0] in (i, j, k) or edges[e, 1] in (i, j, k):
                continue
            apart = False
            for axis in range(3):
                low = min(x[i, axis], x[j, axis], x[k, axis])
                high = max(x[i, axis], x[j, axis], x[k, axis])
                if max(p[axis], q[axis]) < low or min(p[axis], q[axis]) > high:
                    apart = True
                    break
            if apart:
                continue
            a, b, c = x[i], x[j], x[k]
            if _volume(a, b, c, p) * _volume(a, b, c, q) >= 0.0:
                continue
            one, two, three = _volume(p, q, a, b), _volume(p, q, b, c), _volume(p, q, c, a)
            if (one > 0) == (two > 0) == (three > 0) and (one > 0) == (three > 0):
                found += 1
    return found


def self_crossings(x, faces):
    """Return how often a mesh (points (n, 3), faces (T, 3)) crosses itself."""
    pairs = np.sort(faces[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    return crossings(np.ascontiguousarray(x), np.unique(pairs, axis=0).astype(np.int64), faces.astype(np.int64))
