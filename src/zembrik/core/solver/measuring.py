"""Which of the near pairs touch: only those are measured that went far enough to, and exactly only where it matters.

Of every pair it is known until when it cannot touch, by the ways that both sides went. Those that may are measured four
at a time. What is then closer than it may be touches, whichever side it is on; what is not, but so close that it might
have crossed in this substep, is measured once more with its side (`mesh_contact`).
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, kernel, parallel_kernel
from zembrik.core.distance.squares import square_of_segments, square_to_triangle
from zembrik.core.lanes import WIDTH, bits, lane, larger, lowest, root
from zembrik.core.lanes_memory import points4, take4
from zembrik.core.solver.mesh_contact import TINY, edge_gap, point_gap

Floats = NDArray[np.float64]
DEEP = 0.75  # of what a pair may be, nearer than which it is mended once a pass is over
OWN = 0.5  # of how far neighbours are apart at rest: how near they may come, where that is less than their thicknesses
SOME = 512  # pairs that one thread takes at a time


class Ways(NamedTuple):
    """How far all went, as seen by one who goes with the drift.

    Attributes:
        last: float64 (N, 3), where each point was when the ways were added up last, metres.
        drifted: float64 (3,), what the drift was since then, metres. drift: float64 (3,), what it is in a substep.
        step, stirred: float64 (N,), how far each point is from there, and from where the substep began, metres.
        went, face_went, edge_went: float64 (N,), (T,) and (E,), all steps that were added up, metres.
    """

    last: Floats
    drifted: Floats
    drift: Floats
    step: Floats
    stirred: Floats
    went: Floats
    face_went: Floats
    edge_went: Floats


def no_ways(x: Floats, faces: int, edges: int) -> Ways:
    """Return the ways of points x (N, 3) and so many triangles and edges, that have not gone yet."""
    numbers = (len(x), len(x), len(x), faces, edges)
    return Ways(x.copy(), np.zeros(3), np.zeros(3), *(np.zeros(n) for n in numbers))


# What loops over several threads write is named one by one: numba may leave out what they write to parts of a tuple.
@parallel_kernel
def _take_steps(now, x, before, last, drifted, drift, step, stirred):  # type: ignore[no-untyped-def]
    """Let the first of x (N, 3) become `now` (n, 3), and fill how far all are from where they were; see `Ways`."""
    for i in numba.prange(len(x)):
        if i < len(now):
            x[i, 0], x[i, 1], x[i, 2] = now[i, 0], now[i, 1], now[i, 2]
        dx, dy, dz = x[i, 0] - last[i, 0], x[i, 1] - last[i, 1], x[i, 2] - last[i, 2]
        dx, dy, dz = dx - drifted[0], dy - drifted[1], dz - drifted[2]
        step[i] = np.sqrt(dx * dx + dy * dy + dz * dz)
        dx, dy, dz = x[i, 0] - before[i, 0], x[i, 1] - before[i, 1], x[i, 2] - before[i, 2]
        dx, dy, dz = dx - drift[0], dy - drift[1], dz - drift[2]
        stirred[i] = np.sqrt(dx * dx + dy * dy + dz * dz)


@parallel_kernel
def _add_up(x, faces, edges, last, step, went, face_went, edge_went):  # type: ignore[no-untyped-def]
    """Add the steps to all ways; the next begin from here."""
    for i in numba.prange(len(x)):
        went[i] += step[i]
        last[i, 0], last[i, 1], last[i, 2] = x[i, 0], x[i, 1], x[i, 2]
    for t in numba.prange(len(faces)):
        face_went[t] += _step_of_face(step, faces, t)
    for e in numba.prange(len(edges)):
        edge_went[e] += _step_of_edge(step, edges, e)


@numba.njit(inline="always")
def _step_of_face(step, faces, t):  # type: ignore[no-untyped-def]
    a, b, c = np.uint32(faces[t, 0]), np.uint32(faces[t, 1]), np.uint32(faces[t, 2])
    return larger(larger(step[a], step[b]), step[c])


@numba.njit(inline="always")
def _step_of_edge(step, edges, e):  # type: ignore[no-untyped-def]
    return larger(step[np.uint32(edges[e, 0])], step[np.uint32(edges[e, 1])])


@numba.njit(inline="always")
def _points_to_measure(begin, end, near, faces, ways, added, spare, todo):  # type: ignore[no-untyped-def]
    """Write to todo which of pairs begin .. end - 1 of points and triangles may touch; return how many.

    They went far enough, and `spare` (m) more; steps that were not added up count too.
    """
    pairs, until, went, face_went, step, many = near.pairs, near.until, ways.went, ways.face_went, ways.step, 0
    for k in range(begin, end):  # each is written, and the next takes its place if it did not
        p, t = np.uint32(pairs[k, 0]), np.uint32(pairs[k, 1])
        gone = went[p] + face_went[t] - spare
        if not added:
            gone += step[p] + _step_of_face(step, faces, t)
        todo[many] = k
        many += gone >= until[k]
    _fill_up(todo, many)
    return many


@numba.njit(inline="always")
def _edges_to_measure(begin, end, near, edges, ways, added, spare, todo):  # type: ignore[no-untyped-def]
    """The same of pairs of edges."""
    pairs, until, went, step, many = near.pairs, near.until, ways.edge_went, ways.step, 0
    for k in range(begin, end):
        e, f = np.uint32(pairs[k, 0]), np.uint32(pairs[k, 1])
        gone = went[e] + went[f] - spare
        if not added:
            gone += _step_of_edge(step, edges, e) + _step_of_edge(step, edges, f)
        todo[many] = k
        many += gone >= until[k]
    _fill_up(todo, many)
    return many


@numba.njit(inline="always")
def _fill_up(todo, many):  # type: ignore[no-untyped-def]
    """Let the last stand for those that make the last four full."""
    for n in range(many, many + WIDTH):
        todo[n] = todo[max(many - 1, 0)]


@numba.njit(inline="always")
def _kept(gone, gap, bound, spare):  # type: ignore[no-untyped-def]
    """Return a pair's `until`, metres; of numbers or lanes."""
    return gone + gap - larger(bound, DEEP * bound + spare) - TINY


@numba.njit(inline="always")
def _numbers(rows, t, k):  # type: ignore[no-untyped-def]
    """Return place k of four rows by their numbers t."""
    return np.uint32(rows[t[0], k]), np.uint32(rows[t[1], k]), np.uint32(rows[t[2], k]), np.uint32(rows[t[3], k])


@numba.njit(inline="always")
def _of(values, t):  # type: ignore[no-untyped-def]
    """Return four values by their numbers t, in lanes."""
    return take4(values, t[0], t[1], t[2], t[3])


@numba.njit(inline="always")
def _places(x, t):  # type: ignore[no-untyped-def]
    """Return four points by their numbers t, in lanes."""
    return points4(x, t[0], t[1], t[2], t[3])


@numba.njit(inline="always")
def _put(values, t, new):  # type: ignore[no-untyped-def]
    """Set four values by their numbers t."""
    values[t[0]], values[t[1]], values[t[2]], values[t[3]] = lane(new, 0), lane(new, 1), lane(new, 2), lane(new, 3)


@bare_kernel
def _points_touching(  # type: ignore[no-untyped-def]
    begin, end, x, before, rest, whose, room, faces, near, ways, added, deep, spare, found, todo
):
    """Write to `found` those of pairs begin .. end - 1 of points and triangles that touch; return how many."""
    pairs, apart, until, went, face_went, count = near.pairs, near.apart, near.until, ways.went, ways.face_went, 0
    step, stirred = ways.step, ways.stirred
    many = _points_to_measure(begin, end, near, faces, ways, added, spare if deep < 1.0 else 0.0, todo)
    for first in range(0, many, WIDTH):
        k4 = todo[first], todo[first + 1], todo[first + 2], todo[first + 3]
        p = _numbers(pairs, k4, 0)
        t = _numbers(pairs, k4, 1)
        a, b, c = _numbers(faces, t, 0), _numbers(faces, t, 1), _numbers(faces, t, 2)
        gap = root(square_to_triangle(_places(x, p), _places(x, a), _places(x, b), _places(x, c)))
        bound, gone = _of(room, p) + _of(room, a), _of(went, p) + _of(face_went, t)
        if not added:  # what will be added up for these steps counts from now on
            gone = gone - _of(step, p) - larger(larger(_of(step, a), _of(step, b)), _of(step, c))
        _put(until, k4, _kept(gone, gap, bound, spare))
        # What is farther off than both went since the substep began is still on its side.
        way = _of(stirred, p) + larger(larger(_of(stirred, a), _of(stirred, b)), _of(stirred, c))
        look = bits(gap <= larger(bound, way + TINY)) & ((1 << min(WIDTH, many - first)) - 1)
        while look:
            n, look = lowest(look), look & (look - 1)
            k, apart_m = todo[first + n], lane(gap, n)
            p1, t1 = np.uint32(pairs[k, 0]), np.uint32(pairs[k, 1])
            a1, b1, c1 = np.uint32(faces[t1, 0]), np.uint32(faces[t1, 1]), np.uint32(faces[t1, 2])
            if apart[k] < 0.0:
                apart[k] = OWN * abs(point_gap(rest, rest, p1, a1, b1, c1)[0]) if whose[p1] == whose[a1] else np.inf
            least = min(room[p1] + room[a1], apart[k])
            if apart_m < deep * least or (
                apart_m <= lane(way, n) + TINY and point_gap(x, before, p1, a1, b1, c1)[0] < 0.0
            ):
                found[begin + count] = k
                count += 1
            until[k] = _kept(lane(gone, n), apart_m, least, spare)
    return count


@bare_kernel
def _edges_touching(  # type: ignore[no-untyped-def]
    begin, end, x, before, rest, whose, room, edges, near, ways, added, deep, spare, offset, found, todo
):
    """The same for pairs of edges, whose numbers, and places in `found`, begin at the offset."""
    pairs, apart, until, went, count = near.pairs, near.apart, near.until, ways.edge_went, 0
    step, stirred = ways.step, ways.stirred
    many = _edges_to_measure(begin, end, near, edges, ways, added, spare if deep < 1.0 else 0.0, todo)
    for first in range(0, many, WIDTH):
        k4 = todo[first], todo[first + 1], todo[first + 2], todo[first + 3]
        e = _numbers(pairs, k4, 0)
        f = _numbers(pairs, k4, 1)
        a, b, c, d = _numbers(edges, e, 0), _numbers(edges, e, 1), _numbers(edges, f, 0), _numbers(edges, f, 1)
        gap = root(square_of_segments(_places(x, a), _places(x, b), _places(x, c), _places(x, d)))
        bound, gone = _of(room, a) + _of(room, c), _of(went, e) + _of(went, f)
        if not added:
            gone = gone - larger(_of(step, a), _of(step, b)) - larger(_of(step, c), _of(step, d))
        _put(until, k4, _kept(gone, gap, bound, spare))
        way = larger(_of(stirred, a), _of(stirred, b)) + larger(_of(stirred, c), _of(stirred, d))
        look = bits(gap <= larger(bound, way + TINY)) & ((1 << min(WIDTH, many - first)) - 1)
        while look:
            n, look = lowest(look), look & (look - 1)
            k, apart_m = todo[first + n], lane(gap, n)
            e1, f1 = np.uint32(pairs[k, 0]), np.uint32(pairs[k, 1])
            a1, b1 = np.uint32(edges[e1, 0]), np.uint32(edges[e1, 1])
            c1, d1 = np.uint32(edges[f1, 0]), np.uint32(edges[f1, 1])
            if apart[k] < 0.0:
                apart[k] = OWN * abs(edge_gap(rest, rest, a1, b1, c1, d1)[0]) if whose[a1] == whose[c1] else np.inf
            least = min(room[a1] + room[c1], apart[k])
            if apart_m < deep * least or (
                apart_m <= lane(way, n) + TINY and edge_gap(x, before, a1, b1, c1, d1)[0] < 0.0
            ):
                found[offset + begin + count] = offset + k
                count += 1
            until[k] = _kept(lane(gone, n), apart_m, least, spare)
    return count


@kernel
def find_touching(  # type: ignore[no-untyped-def]
    now, x, before, rest, whose, room, faces, edges, points, lines, ways, add, deep, spare, found
):
    """Fill the first of `found` (all pairs,) with the numbers of those that touch, rising, and return how many.

    A pair touches that is closer than it may be, or that crossed. The points' pairs are numbered first.

    Args:
        now: float64 (n, 3), what the first of x become, metres.
        x, before, rest: float64 (N, 3), places now, at the substep's start and at rest, metres.
        whose: int64 (N,), whose each point is. room: float64 (N,), thickness, metres.
        faces, edges: int32 (T, 3) and (E, 2).
        points, lines: the pairs, see `nearby.Near`. What both sides of one went must be more than its `until` before it
            can touch; only then it is measured. Only what belongs together, and touches or may have crossed, is asked
            how far it is apart at rest.
        ways: the steps are filled. add: whether they are added up too.
        deep: 1, or DEEP: then only what is closer than that share of what it may be is wanted.
        spare: how much closer than it may be that is, at least, where things are not nearer at rest; metres.
    """
    _take_steps(now, x, before, ways.last, ways.drifted, ways.drift, ways.step, ways.stirred)
    if add:
        _add_up(x, faces, edges, ways.last, ways.step, ways.went, ways.face_went, ways.edge_went)
        ways.drifted[:] = 0.0
    return _find(x, before, rest, whose, room, faces, edges, points, lines, ways, add, deep, spare, found)


@parallel_kernel
def _find(x, before, rest, whose, room, faces, edges, points, lines, ways, add, deep, spare, found):  # type: ignore[no-untyped-def]
    """Find what touches when the steps are filled, see `find_touching`."""
    of_points, of_lines = len(points.pairs), len(lines.pairs)
    lots = (of_points + SOME - 1) // SOME
    whole = lots + (of_lines + SOME - 1) // SOME
    counts = np.empty(whole, np.int64)
    for lot in numba.prange(whole):
        todo = np.empty(SOME + WIDTH, np.int32)
        begin = np.int64(lot) * SOME
        if begin < lots * SOME:
            counts[lot] = _points_touching(
                begin, min(begin + SOME, of_points), x, before, rest, whose, room, faces, points, ways, add, deep,
                spare, found, todo,
            )  # fmt: skip
        else:
            begin -= lots * SOME
            counts[lot] = _edges_touching(
                begin, min(begin + SOME, of_lines), x, before, rest, whose, room, edges, lines, ways, add, deep, spare,
                of_points, found, todo,
            )  # fmt: skip
    many = 0
    for lot in range(whole):
        first = lot * SOME if lot < lots else of_points + (lot - lots) * SOME
        for n in range(first, first + counts[lot]):
            found[many] = found[n]
            many += 1
    return many
