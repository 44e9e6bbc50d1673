"""Points against faces and edges against edges: cloth on itself, on other cloth, on a collider's edges.

Two things are kept apart by both their thicknesses (but never by more than they are apart
at rest). The side that each is on is the side it was on when the substep began, so a pair
that crossed within a substep is brought back, not pushed through (the idea of Bridson,
Fedkiw and Anderson 2002, in small steps). Pairs come from `nearby`; which of them touch is
found by all threads (`measuring`), and those few are solved one after the other, or in two halves.
Friction takes back what the two slid along each other, at most friction times the push.
"""

from __future__ import annotations

import numba
import numpy as np

from zembrik.core.compiled import bare_kernel, kernel, parallel_kernel
from zembrik.core.distance.triangle import INSIDE, closest_on_triangle
from zembrik.core.solver.halves import halve_touching

TINY = 1e-12


@numba.njit(inline="always")
def _side_of(x, p, a, b, c):  # type: ignore[no-untyped-def]
    """Return twice the signed volume p spans with triangle a, b, c."""
    ux, uy, uz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
    vx, vy, vz = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
    wx, wy, wz = x[p, 0] - x[a, 0], x[p, 1] - x[a, 1], x[p, 2] - x[a, 2]
    return (uy * vz - uz * vy) * wx + (uz * vx - ux * vz) * wy + (ux * vy - uy * vx) * wz


@numba.njit(inline="always")
def point_gap(x, before, p, a, b, c):  # type: ignore[no-untyped-def]
    """Return the gap (m, negative when crossed), the way out (3 numbers) and the closest place's weights (3)."""
    u, v, w, part = closest_on_triangle(
        x[p, 0], x[p, 1], x[p, 2], x[a, 0], x[a, 1], x[a, 2], x[b, 0], x[b, 1], x[b, 2], x[c, 0], x[c, 1], x[c, 2]
    )
    rx = x[p, 0] - u * x[a, 0] - v * x[b, 0] - w * x[c, 0]
    ry = x[p, 1] - u * x[a, 1] - v * x[b, 1] - w * x[c, 1]
    rz = x[p, 2] - u * x[a, 2] - v * x[b, 2] - w * x[c, 2]
    gap = np.sqrt(rx * rx + ry * ry + rz * rz)
    if part == INSIDE:
        ux, uy, uz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        vx, vy, vz = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
        nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        size = np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-300
        size = -size if _side_of(before, p, a, b, c) < 0.0 else size
        nx, ny, nz = nx / size, ny / size, nz / size
        gap = rx * nx + ry * ny + rz * nz
        return gap, nx, ny, nz, u, v, w
    if gap < TINY:
        return gap, 0.0, 0.0, 0.0, u, v, w
    return gap, rx / gap, ry / gap, rz / gap, u, v, w


@numba.njit(inline="always")
def edge_gap(x, before, a, b, c, d):  # type: ignore[no-untyped-def]
    """Return the gap (m, negative when crossed), the way out of c-d for a-b (3 numbers), and where on each (2)."""
    ux, uy, uz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
    vx, vy, vz = x[d, 0] - x[c, 0], x[d, 1] - x[c, 1], x[d, 2] - x[c, 2]
    wx, wy, wz = x[a, 0] - x[c, 0], x[a, 1] - x[c, 1], x[a, 2] - x[c, 2]
    uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
    uw, vw = ux * wx + uy * wy + uz * wz, vx * wx + vy * wy + vz * wz
    det = uu * vv - uv * uv
    # Closest places of two segments, after Ericson, Real-Time Collision Detection (2005), 5.1.9.
    s = min(max((uv * vw - uw * vv) / det, 0.0), 1.0) if det > 1e-9 * uu * vv else 0.5
    t = (uv * s + vw) / vv
    if t < 0.0:
        t, s = 0.0, min(max(-uw / uu, 0.0), 1.0)
    elif t > 1.0:
        t, s = 1.0, min(max((uv - uw) / uu, 0.0), 1.0)
    rx, ry, rz = wx + s * ux - t * vx, wy + s * uy - t * vy, wz + s * uz - t * vz
    gap = np.sqrt(rx * rx + ry * ry + rz * rz)
    if gap < TINY:
        return gap, 0.0, 0.0, 0.0, s, t
    nx, ny, nz = rx / gap, ry / gap, rz / gap
    if 0.0 < s < 1.0 and 0.0 < t < 1.0:
        bx = (1 - s) * before[a, 0] + s * before[b, 0] - (1 - t) * before[c, 0] - t * before[d, 0]
        by = (1 - s) * before[a, 1] + s * before[b, 1] - (1 - t) * before[c, 1] - t * before[d, 1]
        bz = (1 - s) * before[a, 2] + s * before[b, 2] - (1 - t) * before[c, 2] - t * before[d, 2]
        if nx * bx + ny * by + nz * bz < 0.0:
            return -gap, -nx, -ny, -nz, s, t
    return gap, nx, ny, nz, s, t


@kernel
def mark_touched(faces, edges, points, lines, hits, first, out):  # type: ignore[no-untyped-def]
    """Fill out (g,) with whether each of the g points from number `first` on is in a touching pair, by its number."""
    out[:] = False
    count = len(points.pairs)
    for q in hits:
        if q < count:
            p, t = points.pairs[q, 0], points.pairs[q, 1]
            four = (p, faces[t, 0], faces[t, 1], faces[t, 2])
        else:
            e, f = lines.pairs[q - count, 0], lines.pairs[q - count, 1]
            four = (edges[e, 0], edges[e, 1], edges[f, 0], edges[f, 1])
        for i in four:
            if first <= i < first + len(out):
                out[i - first] = True


@numba.njit(inline="always")
def _move(x, before, w, i, j, k, m, ci, cj, ck, cm, push, nx, ny, nz, grip, slip):  # type: ignore[no-untyped-def]
    """Move four points by their shares of a push along n, then take back what they slid, at most friction times it."""
    weight = w[i] * ci * ci + w[j] * cj * cj + w[k] * ck * ck + w[m] * cm * cm
    if weight <= 0.0:
        return
    size = push / weight
    x[i, 0] += size * w[i] * ci * nx
    x[i, 1] += size * w[i] * ci * ny
    x[i, 2] += size * w[i] * ci * nz
    x[j, 0] += size * w[j] * cj * nx
    x[j, 1] += size * w[j] * cj * ny
    x[j, 2] += size * w[j] * cj * nz
    x[k, 0] += size * w[k] * ck * nx
    x[k, 1] += size * w[k] * ck * ny
    x[k, 2] += size * w[k] * ck * nz
    x[m, 0] += size * w[m] * cm * nx
    x[m, 1] += size * w[m] * cm * ny
    x[m, 2] += size * w[m] * cm * nz
    sx = (
        ci * (x[i, 0] - before[i, 0])
        + cj * (x[j, 0] - before[j, 0])
        + ck * (x[k, 0] - before[k, 0])
        + cm * (x[m, 0] - before[m, 0])
    )
    sy = (
        ci * (x[i, 1] - before[i, 1])
        + cj * (x[j, 1] - before[j, 1])
        + ck * (x[k, 1] - before[k, 1])
        + cm * (x[m, 1] - before[m, 1])
    )
    sz = (
        ci * (x[i, 2] - before[i, 2])
        + cj * (x[j, 2] - before[j, 2])
        + ck * (x[k, 2] - before[k, 2])
        + cm * (x[m, 2] - before[m, 2])
    )
    sn = sx * nx + sy * ny + sz * nz
    sx, sy, sz = sx - sn * nx, sy - sn * ny, sz - sn * nz
    slid = np.sqrt(sx * sx + sy * sy + sz * sz)
    if slid <= TINY:
        return
    back = -(1.0 if slid <= grip * push else min(slip * push / slid, 1.0)) / weight
    x[i, 0] += back * w[i] * ci * sx
    x[i, 1] += back * w[i] * ci * sy
    x[i, 2] += back * w[i] * ci * sz
    x[j, 0] += back * w[j] * cj * sx
    x[j, 1] += back * w[j] * cj * sy
    x[j, 2] += back * w[j] * cj * sz
    x[k, 0] += back * w[k] * ck * sx
    x[k, 1] += back * w[k] * ck * sy
    x[k, 2] += back * w[k] * ck * sz
    x[m, 0] += back * w[m] * cm * sx
    x[m, 1] += back * w[m] * cm * sy
    x[m, 2] += back * w[m] * cm * sz


@bare_kernel
def _solve_some(x, before, w, room, grip, slip, faces, edges, points, lines, hits, begin, end, out):  # type: ignore[no-untyped-def]
    """Bring hits begin .. end - 1 apart, in order; out (2,) becomes how many were, and how many had crossed."""
    count, found, crossed = len(points.pairs), 0, 0
    for n in range(begin, end):
        q = hits[n]
        if q < count:
            p, t = points.pairs[q, 0], points.pairs[q, 1]
            a, b, c = faces[t, 0], faces[t, 1], faces[t, 2]
            gap, nx, ny, nz, u, v, s = point_gap(x, before, p, a, b, c)
            push = min(room[p] + room[a], points.apart[q]) - gap
            if push > 0.0:
                found += 1
                crossed += gap < 0.0
                rub, slide = np.sqrt(grip[p] * grip[a]), np.sqrt(slip[p] * slip[a])
                _move(x, before, w, p, a, b, c, 1.0, -u, -v, -s, push, nx, ny, nz, rub, slide)
        else:
            e, f = lines.pairs[q - count, 0], lines.pairs[q - count, 1]
            a, b, c, d = edges[e, 0], edges[e, 1], edges[f, 0], edges[f, 1]
            gap, nx, ny, nz, s, t2 = edge_gap(x, before, a, b, c, d)
            push = min(room[a] + room[c], lines.apart[q - count]) - gap
            if push > 0.0:
                found += 1
                crossed += gap < 0.0
                rub, slide = np.sqrt(grip[a] * grip[c]), np.sqrt(slip[a] * slip[c])
                _move(x, before, w, a, b, c, d, 1.0 - s, s, t2 - 1.0, -t2, push, nx, ny, nz, rub, slide)
    out[0], out[1] = found, crossed


@parallel_kernel
def solve_touching(  # type: ignore[no-untyped-def]
    now, x, before, w, room, grip, slip, faces, edges, points, lines, hits
):
    """Bring every touching pair apart; returns how many were, and how many of them had crossed.

    Many are solved in two halves that share no point, side by side (`halves`), each in its order.

    Args:
        now: float64 (n, 3), becomes the first of x where any changed, metres.
        x, before: float64 (N, 3), places now and at the substep's start, metres; x changes.
        w, room, grip, slip: float64 (N,), inverse masses 1/kg, thickness in metres, static and sliding friction.
        faces, edges: int32 (T, 3) and (E, 2).
        points, lines: the pairs, see `nearby.Near`; no two are held farther apart than at rest.
        hits: int64 (h,), the numbers of those that touch, of all pairs, rising.
    """
    order, ends = halve_touching(x, faces, edges, points.pairs, lines.pairs, hits)
    out = np.zeros((3, 2), np.int64)
    if ends[1] > 0:
        for half in numba.prange(2):
            begin = np.int64(half) * ends[0]
            end = ends[0] if half == 0 else ends[1]
            _solve_some(x, before, w, room, grip, slip, faces, edges, points, lines, order, begin, end, out[half])
    _solve_some(x, before, w, room, grip, slip, faces, edges, points, lines, order, ends[1], ends[2], out[2])
    if out[0, 0] + out[1, 0] + out[2, 0] > 0:
        for i in numba.prange(len(now)):
            now[i, 0], now[i, 1], now[i, 2] = x[i, 0], x[i, 1], x[i, 2]
    return out[0, 0] + out[1, 0] + out[2, 0], out[0, 1] + out[1, 1] + out[2, 1]
