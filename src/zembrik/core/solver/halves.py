"""Contacts in two halves that share nothing that moves, for two threads, and what lies between the two.

What touches is parted by a plane across the way along which it lies widest. Contacts whose sides are all on one side
of it can be solved beside those of the other: nothing that one half reads is written by the other. Those that reach
across come after both. So the order depends on where things are, never on how many threads there are.
"""

from __future__ import annotations

import numpy as np

from zembrik.core.compiled import kernel

FEW = 256  # runs of contacts of bodies, or touching pairs of meshes, that are sooner solved one after the other
SAMPLES = 256  # of touching pairs, by which the plane is chosen


@kernel
def halve(contacts, runs, body, place):  # type: ignore[no-untyped-def]
    """Return the runs in the order in which they are solved, int64 (runs,), and where its parts end, int64 (3,).

    The parts are the one half, the other, and what is between: it has those of particles too. With few runs, all are
    in the last, in their order.

    Args:
        contacts: see `arrays.Contacts`. runs: int64 (runs + 1,), where each begins.
        body: float64 (R + 1, 10), see `pressing`. place: float64 (R, 7), the bodies' places, metres.
    """
    count = len(runs) - 1
    part = np.full(count, 2, np.int64)
    if count >= FEW:
        free = np.flatnonzero(body[:-1, 0] > 0.0)
        axis, middle = _plane(place[free].T.copy())
        sides = np.zeros(len(place), np.int64)  # 1 or 2 on this side or that; 0 of what nothing pushes
        for r in free:
            sides[r] = 1 if place[r, axis] < middle else 2
        for run in range(count):
            a, b = contacts.a[runs[run]], contacts.b[runs[run]]
            of_a, of_b = sides[a] if a >= 0 else 3, sides[b] if b >= 0 else 0
            part[run] = max((of_a | of_b) - 1, 0)  # what is held goes with the other; 1 and 2 together are 3
    return _in_parts(part, np.arange(count))


@kernel
def halve_touching(x, faces, edges, points, lines, hits):  # type: ignore[no-untyped-def]
    """Return the touching pairs in the order in which they are solved, int64 (h,), and where its parts end, int64 (3,).

    Args:
        x: float64 (N, 3), places, metres. faces, edges: int32 (T, 3) and (E, 2).
        points, lines: int32 (m, 2), the pairs of points and triangles, and of edges.
        hits: int64 (h,), which of all pairs touch, rising; the points' come first.
    """
    count, of_points = len(hits), len(points)
    part = np.full(count, 2, np.int64)
    if count >= FEW:
        step = count // SAMPLES + 1
        some = np.empty((3, (count + step - 1) // step))
        for n in range(some.shape[1]):
            q = hits[n * step]
            i = points[q, 0] if q < of_points else edges[lines[q - of_points, 0], 0]
            some[0, n], some[1, n], some[2, n] = x[i, 0], x[i, 1], x[i, 2]
        axis, middle = _plane(some)
        for n in range(count):
            q = hits[n]
            if q < of_points:
                a, t = points[q, 0], points[q, 1]
                b, c, d = faces[t, 0], faces[t, 1], faces[t, 2]
            else:
                e, f = lines[q - of_points, 0], lines[q - of_points, 1]
                a, b, c, d = edges[e, 0], edges[e, 1], edges[f, 0], edges[f, 1]
            least = min(min(x[a, axis], x[b, axis]), min(x[c, axis], x[d, axis]))
            most = max(max(x[a, axis], x[b, axis]), max(x[c, axis], x[d, axis]))
            part[n] = 0 if most < middle else 1 if least >= middle else 2
    return _in_parts(part, hits)


@kernel
def _plane(places):  # type: ignore[no-untyped-def]
    """Return the axis along which places (3, n) are spread widest, and their middle along it, metres."""
    axis, widest = 0, -1.0
    for k in range(3):
        total, squares = 0.0, 0.0
        for n in range(places.shape[1]):
            total += places[k, n] - places[k, 0]
            squares += (places[k, n] - places[k, 0]) ** 2
        spread = squares - total * total / places.shape[1]
        if spread > widest:
            axis, widest = k, spread
    return axis, np.median(places[axis])


@kernel
def _in_parts(part, numbers):  # type: ignore[no-untyped-def]
    """Return the numbers (n,), those of part 0, 1 and 2 one after the other, and where each part ends."""
    at = np.zeros(4, np.int64)
    for n in range(len(part)):
        at[part[n] + 1] += 1
    at[2] += at[1]
    ends = (at[1], at[2], len(part))
    out = np.empty(len(part), np.int64)
    for n in range(len(part)):
        out[at[part[n]]] = numbers[n]
        at[part[n]] += 1
    return out, ends
