"""Bending of cloth at its inner edges.

Each inner edge is a hinge. Its energy, and how it depends on the other hinges of its two triangles, come
from `bend_form`; here e = 2 tan(θ/2) - 2 tan(θ₀/2) stands for the angle, with the dihedral angle θ. For
small angles e is the change of the angle itself (Grinspun et al. 2003); towards a full fold
it grows without bound, as the curvature of discrete rods does (Bergou et al. 2008), so that
a fold never turns inside out. The gradient of θ follows Tamstorf and Grinspun 2013. The
hinge is projected as an XPBD constraint of compliance 1 / (B own) towards e* = Σ share e of itself and its
neighbours, as they were when they were projected last: what is left of its torque is the whole
form's, so hinges at rest are at rest by all of it. The bias of one pass (see `passes`)
is taken out but for a tenth, which takes out the flutter that a fabric's fibres would.
In a crease neighbours count no more than at MOST_BENT.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import dot3, fma, kernel
from zembrik.core.lanes import WIDTH, choose, either, lane, lanes, larger, root, smaller
from zembrik.core.lanes_memory import block4, column4, corner4, corners, point, put, put_rows4, rows4, take4, values4

MOST_BENT = 1.0  # e of a hinge, about 53°, beyond which its neighbours do not feel more of it


class Bend(NamedTuple):
    """All hinges of a world, cluster by cluster; H hinges.

    Attributes:
        points: int32 (H, 4): edge start, edge end, the two points opposite.
        rest: float64 (H, 2): 2 tan(θ₀/2), and the compliance 1/(B w) in 1/J.
        span: int64 (clusters + 1,), where each cluster's hinges begin.
        packed: int64 (clusters,), where its packs of four end, see `colour`.
        near, share: see `bend_form.BendForm`; empty where no hinge of the world depends on another.
        bent: float64 (H,), filled: e of each as it was left last, up to MOST_BENT; empty likewise.
    """

    points: NDArray[np.int32]
    rest: NDArray[np.float64]
    span: NDArray[np.int64]
    packed: NDArray[np.int64]
    near: NDArray[np.int32]
    share: NDArray[np.float64]
    bent: NDArray[np.float64]


def rest_angles(points: NDArray[np.float64], hinges: NDArray[np.int32]) -> NDArray[np.float64]:
    """Return the dihedral angles (hinges,) in radians: 0 is flat."""
    p0, p1, p2, p3 = (points[hinges[:, k]] for k in range(4))
    e = p1 - p0
    n1, n2 = np.cross(e, p2 - p0), np.cross(p3 - p0, e)
    length = np.linalg.norm(e, axis=1)
    sine = np.einsum("ij,ij->i", np.cross(n1, n2), e) / np.maximum(length, 1e-300)
    return np.arctan2(sine, np.einsum("ij,ij->i", n1, n2))


def bend_rows(
    points: NDArray[np.float64], hinges: NDArray[np.int32], stiff: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Return the rows of `Bend.rest`; `stiff` (H,) holds B times `BendForm.own` in N·m, above zero."""
    half = np.clip(rest_angles(points, hinges) / 2, -1.5, 1.5)
    return np.column_stack([2 * np.tan(half), 1.0 / stiff])


def note_bent(bend: Bend, x: NDArray[np.float64]) -> None:
    """Fill bend.bent, where it is needed, with how far all hinges are bent in the places x (n, 3), metres."""
    if len(bend.bent):
        tangent = np.tan(np.clip(rest_angles(x, bend.points) / 2, -1.5, 1.5))
        bend.bent[:] = np.clip(2 * tangent - bend.rest[:, 0], -MOST_BENT, MOST_BENT)


@numba.njit(inline="always")
def _project(w, rest, goal, laid, xa, xb, xc, xd, scale, read):  # type: ignore[no-untyped-def]
    """Return a hinge's multiplier, e as it leaves it, and where its four points go, of numbers or lanes."""
    ax, ay, az = xa
    bx, by, bz = xb
    ex, ey, ez = bx - ax, by - ay, bz - az
    cx, cy, cz = xc[0] - ax, xc[1] - ay, xc[2] - az
    dx, dy, dz = xd[0] - ax, xd[1] - ay, xd[2] - az
    # Normals of both faces, with the length of twice their areas.
    mx, my, mz = fma(ey, cz, -ez * cy), fma(ez, cx, -ex * cz), fma(ex, cy, -ey * cx)
    nx, ny, nz = fma(dy, ez, -dz * ey), fma(dz, ex, -dx * ez), fma(dx, ey, -dy * ex)
    mm = dot3(mx, my, mz, mx, my, mz)
    nn = dot3(nx, ny, nz, nx, ny, nz)
    ee = dot3(ex, ey, ez, ex, ey, ez)
    flat = either(mm * nn < 1e-60, ee < 1e-30)  # a face or an edge that is none
    both, ee = choose(flat, 1.0, mm * nn), choose(flat, 1.0, ee)
    length, root_both = root(ee), root(both)
    inv = 1.0 / (both * ee)
    inv_m, inv_n, inv_e = nn * ee * inv, mm * ee * inv, both * inv
    sine = -length * dot3(cx, cy, cz, nx, ny, nz)  # as m × n = -e (c · n)
    cosine = dot3(mx, my, mz, nx, ny, nz)
    tangent = sine / larger(root_both + cosine, 1e-6 * root_both)
    bent = 2.0 * tangent - rest[0]
    error = bent - goal
    # The angle falls when a far point rises along its face's normal: the gradient but for its length.
    run_c = dot3(cx, cy, cz, ex, ey, ez) * inv_e
    run_d = dot3(dx, dy, dz, ex, ey, ez) * inv_e
    gcx, gcy, gcz = inv_m * mx, inv_m * my, inv_m * mz
    gdx, gdy, gdz = inv_n * nx, inv_n * ny, inv_n * nz
    gbx = -fma(run_c, gcx, run_d * gdx)
    gby = -fma(run_c, gcy, run_d * gdy)
    gbz = -fma(run_c, gcz, run_d * gdz)
    gax, gay, gaz = -gbx - gcx - gdx, -gby - gcy - gdy, -gbz - gcz - gdz
    weight = (
        w[0] * dot3(gax, gay, gaz, gax, gay, gaz)
        + w[1] * dot3(gbx, gby, gbz, gbx, gby, gbz)
        + w[2] * dot3(gcx, gcy, gcz, gcx, gcy, gcz)
        + w[3] * dot3(gdx, gdy, gdz, gdx, gdy, gdz)
    )
    compliance = rest[1] * scale
    steep = -(1.0 + tangent * tangent) * length  # d(2 tan(θ/2)) = (1 + tan²(θ/2)) dθ
    weight = weight * (steep * steep)
    if read:
        error = error + compliance * laid
    push = choose(flat, 0.0, -error / (weight + larger(compliance - 0.45 * weight, 0.0)))
    by_turn = push * steep
    pa, pb, pc, pd = by_turn * w[0], by_turn * w[1], by_turn * w[2], by_turn * w[3]
    return (
        push,
        smaller(larger(fma(weight, push, bent), -MOST_BENT), MOST_BENT),
        (fma(pa, gax, ax), fma(pa, gay, ay), fma(pa, gaz, az)),
        (fma(pb, gbx, bx), fma(pb, gby, by), fma(pb, gbz, bz)),
        (fma(pc, gcx, xc[0]), fma(pc, gcy, xc[1]), fma(pc, gcz, xc[2])),
        (fma(pd, gdx, xd[0]), fma(pd, gdy, xd[1]), fma(pd, gdz, xd[2])),
    )


@numba.njit(inline="always")
def _beside(share, near, bent, h, k, goal):  # type: ignore[no-untyped-def]
    """Return a pack's goal with the share that their neighbours number k have in it."""
    a, b, c, d = corner4(near, h, k)
    return fma(share, take4(bent, a, b, c, d), goal)


@kernel
def solve_hinges(first, packed, last, points, rest, near, share, bent, places, dt, held, read, write):  # type: ignore[no-untyped-def]
    """Project the hinges first .. last - 1, in place; arguments as in `membrane.solve_triangles`, held (H,).

    near, share, bent: see `Bend`; bent changes.
    """
    scale, coupled = 1.0 / (dt * dt), len(near) > 0
    for h in range(first, packed, WIDTH):
        a0, a1, a2, a3 = corner4(points, h, 0)
        b0, b1, b2, b3 = corner4(points, h, 1)
        c0, c1, c2, c3 = corner4(points, h, 2)
        d0, d1, d2, d3 = corner4(points, h, 3)
        ax, ay, az, wa = rows4(places, a0, a1, a2, a3)
        bx, by, bz, wb = rows4(places, b0, b1, b2, b3)
        cx, cy, cz, wc = rows4(places, c0, c1, c2, c3)
        dx, dy, dz, wd = rows4(places, d0, d1, d2, d3)
        goal = lanes(0.0, 0.0, 0.0, 0.0)
        if coupled:
            s0, s1, s2, s3 = block4(share, h, 1)
            goal = column4(share, h, 0) * values4(bent, h)
            goal = _beside(s0, near, bent, h, 0, goal)
            goal = _beside(s1, near, bent, h, 1, goal)
            goal = _beside(s2, near, bent, h, 2, goal)
            goal = _beside(s3, near, bent, h, 3, goal)
        more, left, (ax, ay, az), (bx, by, bz), (cx, cy, cz), (dx, dy, dz) = _project(
            (wa, wb, wc, wd), (column4(rest, h, 0), column4(rest, h, 1)), goal, values4(held, h),
            (ax, ay, az), (bx, by, bz), (cx, cy, cz), (dx, dy, dz), scale, read,
        )  # fmt: skip
        if write:
            for n in range(WIDTH):
                held[h + n] = lane(more, n) + (held[h + n] if read else 0.0)
        if coupled:
            for n in range(WIDTH):
                bent[h + n] = lane(left, n)
        put_rows4(places, a0, a1, a2, a3, ax, ay, az, wa)
        put_rows4(places, b0, b1, b2, b3, bx, by, bz, wb)
        put_rows4(places, c0, c1, c2, c3, cx, cy, cz, wc)
        put_rows4(places, d0, d1, d2, d3, dx, dy, dz, wd)
    for h in range(packed, last):
        a, b, c, d = corners(points, h)
        goal1 = 0.0
        if coupled:
            goal1 = share[h, 0] * bent[h]
            for k in range(4):
                goal1 = fma(share[h, k + 1], bent[near[h, k]], goal1)
        one, left1, to_a, to_b, to_c, to_d = _project(
            (places[a, 3], places[b, 3], places[c, 3], places[d, 3]), (rest[h, 0], rest[h, 1]), goal1, held[h],
            point(places, a), point(places, b), point(places, c), point(places, d), scale, read,
        )  # fmt: skip
        if write:
            held[h] = one + (held[h] if read else 0.0)
        if coupled:
            bent[h] = left1
        put(places, a, to_a)
        put(places, b, to_b)
        put(places, c, to_c)
        put(places, d, to_d)
