"""Which of the near pairs touch: only those are measured that went far enough to, and exactly only where it matters.

Of every pair it is known until when it cannot touch, by the ways that both sides went. Those that may are measured four
at a time. What is then closer than it may be, or so close that it might have crossed in this substep, is measured once
more with its side (`mesh_contact`).
"""

from __future__ import annotations

import numba
import numpy as np

from zembrik.core.compiled import bare_kernel, parallel_kernel
from zembrik.core.distance.squares import square_of_segments, square_to_triangle
from zembrik.core.lanes import WIDTH, lane, points4, root
from zembrik.core.solver.mesh_contact import TINY, edge_gap, point_gap

SOME = 512  # pairs that one thread takes at a time


@parallel_kernel
def add_ways(x, last, drifted, before, drift, faces, edges, step, stirred, went, face_went, edge_went):  # type: ignore[no-untyped-def]
    """Add to `went` (N,), `face_went` (T,) and `edge_went` (E,) how far each went at most since `last` (N, 3), metres.

    As seen by one who went `drifted` (3,). `step` (N,) is room to work in; last becomes x, and `stirred` (N,) how far
    each point went since `before` (N, 3), as seen by one who went `drift` (3,), metres.
    """
    for i in numba.prange(len(x)):
        dx, dy, dz = x[i, 0] - last[i, 0], x[i, 1] - last[i, 1], x[i, 2] - last[i, 2]
        dx, dy, dz = dx - drifted[0], dy - drifted[1], dz - drifted[2]
        step[i] = np.sqrt(dx * dx + dy * dy + dz * dz)
        went[i] += step[i]
        last[i, 0], last[i, 1], last[i, 2] = x[i, 0], x[i, 1], x[i, 2]
        dx, dy, dz = x[i, 0] - before[i, 0], x[i, 1] - before[i, 1], x[i, 2] - before[i, 2]
        dx, dy, dz = dx - drift[0], dy - drift[1], dz - drift[2]
        stirred[i] = np.sqrt(dx * dx + dy * dy + dz * dz)
    for t in numba.prange(len(faces)):
        face_went[t] += max(step[faces[t, 0]], step[faces[t, 1]], step[faces[t, 2]])
    for e in numba.prange(len(edges)):
        edge_went[e] += max(step[edges[e, 0]], step[edges[e, 1]])


@numba.njit(inline="always")
def _to_measure(begin, end, near, first_went, second_went, touching, offset, todo):  # type: ignore[no-untyped-def]
    """Write to todo which of pairs begin .. end - 1 went far enough to touch; return how many."""
    pairs, until, many = near.pairs, near.until, 0
    for k in range(begin, end):  # each is written, and the next takes its place if it did not
        touching[offset + k], todo[many] = False, k
        many += first_went[pairs[k, 0]] + second_went[pairs[k, 1]] >= until[k]
    for n in range(many, many + WIDTH):  # the last stands for those that make the last four full
        todo[n] = todo[max(many - 1, 0)]
    return many


@bare_kernel
def _points_touching(  # type: ignore[no-untyped-def]
    begin, end, x, before, rest, whose, room, faces, near, went, face_went, stirred, touching, todo
):
    """Find those of pairs begin .. end - 1 of points and triangles that touch."""
    pairs, apart, until = near.pairs, near.apart, near.until
    many = _to_measure(begin, end, near, went, face_went, touching, 0, todo)
    for first in range(0, many, WIDTH):
        i, j, k, m = todo[first], todo[first + 1], todo[first + 2], todo[first + 3]
        t0, t1, t2, t3 = pairs[i, 1], pairs[j, 1], pairs[k, 1], pairs[m, 1]
        distance = root(
            square_to_triangle(
                points4(x, pairs[i, 0], pairs[j, 0], pairs[k, 0], pairs[m, 0]),
                points4(x, faces[t0, 0], faces[t1, 0], faces[t2, 0], faces[t3, 0]),
                points4(x, faces[t0, 1], faces[t1, 1], faces[t2, 1], faces[t3, 1]),
                points4(x, faces[t0, 2], faces[t1, 2], faces[t2, 2], faces[t3, 2]),
            )
        )
        for n in range(min(WIDTH, many - first)):
            k = todo[first + n]
            p, t = pairs[k, 0], pairs[k, 1]
            a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
            gap, bound, gone = lane(distance, n), room[p] + room[a], went[p] + face_went[t]
            # What is farther off than both went since the substep began is still on its side.
            if gap <= max(bound, stirred[p] + max(stirred[a], stirred[b], stirred[c])) + TINY:
                gap = point_gap(x, before, p, a, b, c)[0]
                if gap < bound:
                    if apart[k] < 0.0:
                        alone = whose[p] != whose[a]
                        apart[k] = np.inf if alone else abs(point_gap(rest, rest, p, a, b, c)[0])
                    bound = min(bound, apart[k])
                    touching[k] = gap < bound
            until[k] = gone + abs(gap) - bound - TINY


@bare_kernel
def _edges_touching(  # type: ignore[no-untyped-def]
    begin, end, x, before, rest, whose, room, edges, near, edge_went, stirred, touching, offset, todo
):
    """The same for pairs of edges; those of touching begin at the offset."""
    pairs, apart, until = near.pairs, near.apart, near.until
    many = _to_measure(begin, end, near, edge_went, edge_went, touching, offset, todo)
    for first in range(0, many, WIDTH):
        i, j, k, m = todo[first], todo[first + 1], todo[first + 2], todo[first + 3]
        e0, e1, e2, e3 = pairs[i, 0], pairs[j, 0], pairs[k, 0], pairs[m, 0]
        f0, f1, f2, f3 = pairs[i, 1], pairs[j, 1], pairs[k, 1], pairs[m, 1]
        distance = root(
            square_of_segments(
                points4(x, edges[e0, 0], edges[e1, 0], edges[e2, 0], edges[e3, 0]),
                points4(x, edges[e0, 1], edges[e1, 1], edges[e2, 1], edges[e3, 1]),
                points4(x, edges[f0, 0], edges[f1, 0], edges[f2, 0], edges[f3, 0]),
                points4(x, edges[f0, 1], edges[f1, 1], edges[f2, 1], edges[f3, 1]),
            )
        )
        for n in range(min(WIDTH, many - first)):
            k = todo[first + n]
            e, f = pairs[k, 0], pairs[k, 1]
            a, b, c, d = edges[e, 0], edges[e, 1], edges[f, 0], edges[f, 1]
            gap, bound, gone = lane(distance, n), room[a] + room[c], edge_went[e] + edge_went[f]
            if gap <= max(bound, max(stirred[a], stirred[b]) + max(stirred[c], stirred[d])) + TINY:
                gap = edge_gap(x, before, a, b, c, d)[0]
                if gap < bound:
                    if apart[k] < 0.0:
                        alone = whose[a] != whose[c]
                        apart[k] = np.inf if alone else abs(edge_gap(rest, rest, a, b, c, d)[0])
                    bound = min(bound, apart[k])
                    touching[offset + k] = gap < bound
            until[k] = gone + abs(gap) - bound - TINY


@parallel_kernel
def find_touching(  # type: ignore[no-untyped-def]
    x, before, rest, whose, room, faces, edges, points, lines, went, face_went, edge_went, stirred, touching
):
    """Fill touching (all pairs,) with whether each pair is closer than it may be; points' pairs come first.

    Args:
        x, before, rest: float64 (N, 3), places now, at the substep's start and at rest, metres.
        whose: int64 (N,), whose each point is. room: float64 (N,), thickness, metres.
        faces, edges: int32 (T, 3) and (E, 2).
        points, lines: the pairs, see `nearby.Near`. What both sides of one went (see `add_ways`) must be more than its
            `until` before it can touch; only then it is measured. Only what belongs together, and touches, is asked
            how far it is apart at rest.
        went, face_went, edge_went, stirred: see `add_ways`, metres.
    """
    of_points, of_lines = len(points.pairs), len(lines.pairs)
    lots = (of_points + SOME - 1) // SOME
    for lot in numba.prange(lots + (of_lines + SOME - 1) // SOME):
        todo = np.empty(SOME + WIDTH, np.int32)
        begin = np.int64(lot) * SOME
        if begin < lots * SOME:
            _points_touching(
                begin, min(begin + SOME, of_points), x, before, rest, whose, room, faces, points, went, face_went,
                stirred, touching, todo,
            )  # fmt: skip
        else:
            begin -= lots * SOME
            _edges_touching(
                begin, min(begin + SOME, of_lines), x, before, rest, whose, room, edges, lines, edge_went, stirred,
                touching, of_points, todo,
            )  # fmt: skip
