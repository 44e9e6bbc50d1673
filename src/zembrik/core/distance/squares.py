"""Squares of distances in lanes: point to triangle, segment to segment; without a branch, so that four go at once.

They tell only how far, where `triangle` and `solver.mesh_contact` tell also where.
"""

from __future__ import annotations

import numba

from zembrik.core.compiled import dot3
from zembrik.core.lanes import choose, either, larger, smaller

TINY = 1e-30  # m² or m⁴: far below any that matters, and still a number in single precision


@numba.njit(inline="always")
def _less(a, b):  # type: ignore[no-untyped-def]
    return a[0] - b[0], a[1] - b[1], a[2] - b[2]


@numba.njit(inline="always")
def _dot(a, b):  # type: ignore[no-untyped-def]
    return dot3(a[0], a[1], a[2], b[0], b[1], b[2])


@numba.njit(inline="always")
def _within(value):  # type: ignore[no-untyped-def]
    return smaller(larger(value, 0.0), 1.0)


@numba.njit(inline="always")
def square_to_segment(way, along):  # type: ignore[no-untyped-def]
    """Return the square of the distance of a place, seen from a segment's start, to the segment along a vector (m²)."""
    t = _within(_dot(way, along) / (_dot(along, along) + TINY))
    x, y, z = way[0] - t * along[0], way[1] - t * along[1], way[2] - t * along[2]
    return dot3(x, y, z, x, y, z)


@numba.njit(inline="always")
def square_to_triangle(p, a, b, c):  # type: ignore[no-untyped-def]
    """Return the square of the distance (m²) of places p from triangles a, b, c; each three coordinates in metres.

    Where the place lies above the inside, that of the plane; else the least of the three sides'.
    """
    ab, bc, ca = _less(b, a), _less(c, b), _less(a, c)
    ap, bp, cp = _less(p, a), _less(p, b), _less(p, c)
    nx, ny, nz = ab[1] * bc[2] - ab[2] * bc[1], ab[2] * bc[0] - ab[0] * bc[2], ab[0] * bc[1] - ab[1] * bc[0]
    square = dot3(nx, ny, nz, nx, ny, nz) + TINY
    height = dot3(nx, ny, nz, ap[0], ap[1], ap[2])
    sides = smaller(smaller(square_to_segment(ap, ab), square_to_segment(bp, bc)), square_to_segment(cp, ca))
    over_ab = _turn(ab, ap, nx, ny, nz)
    over_bc = _turn(bc, bp, nx, ny, nz)
    over_ca = _turn(ca, cp, nx, ny, nz)
    outside = either(either(over_ab < 0.0, over_bc < 0.0), over_ca < 0.0)
    return choose(outside, sides, smaller(sides, height * height / square))


@numba.njit(inline="always")
def _turn(side, way, nx, ny, nz):  # type: ignore[no-untyped-def]
    """Return what is above zero where a place lies inwards of a side."""
    x, y, z = (
        side[1] * way[2] - side[2] * way[1],
        side[2] * way[0] - side[0] * way[2],
        side[0] * way[1] - side[1] * way[0],
    )
    return dot3(x, y, z, nx, ny, nz)


@numba.njit(inline="always")
def square_of_segments(a, b, c, d):  # type: ignore[no-untyped-def]
    """Return the square of the distance (m²) of the segments ab and cd, after Ericson 2005, 5.1.9."""
    u, v, w = _less(b, a), _less(d, c), _less(a, c)
    uu, uv, vv = _dot(u, u), _dot(u, v), _dot(v, v)
    uw, vw = _dot(u, w), _dot(v, w)
    det = uu * vv - uv * uv
    apart = det > 1e-9 * uu * vv
    s = choose(apart, _within((uv * vw - uw * vv) / choose(apart, det, 1.0)), 0.5)
    t = (uv * s + vw) / (vv + TINY)
    inside = _within(t)
    s = choose(either(t < 0.0, t > 1.0), _within((inside * uv - uw) / (uu + TINY)), s)
    x, y, z = w[0] + s * u[0] - inside * v[0], w[1] + s * u[1] - inside * v[1], w[2] + s * u[2] - inside * v[2]
    return dot3(x, y, z, x, y, z)
