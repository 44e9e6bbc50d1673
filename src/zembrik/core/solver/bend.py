"""Bending of cloth at its inner edges.

Each inner edge is a hinge with the energy ½ B w C², where B is the fabric's bending stiffness
in N·m, w a pure number, and C = 2 tan(θ/2) - 2 tan(θ₀/2) with the dihedral angle θ. For
small angles C is the change of the angle itself (Grinspun et al. 2003); towards a full fold
it grows without bound, as the curvature of discrete rods does (Bergou et al. 2008), so that
a fold never turns inside out. The gradient of θ follows Tamstorf and Grinspun 2013. The
hinge is projected as an XPBD constraint of compliance 1 / (B w). The bias of one pass (see `passes`)
is taken out but for a tenth, which takes out the flutter that a fabric's fibres would.

The weights w are what makes B physical. Cloth hardly stretches, so it bends like paper:
into cylinders. A cylinder of curvature κ has the energy ½ B κ² per area, whichever way its
axis lies. On each triangle, flattened with its neighbours, we ask the three hinges to give
just that for every direction of the axis, in the least-squares sense; each hinge takes the
mean of what its two triangles ask. On a lattice of right triangles this gives the same w for
every hinge.

A mesh that is free to choose bends cheaper than into a cylinder: neighbouring hinges turn against
one another. Clamped strips of linear hinges (statics, by a direct solver) hang lower by a factor of
1.33 to 1.39 on our grids, 1.26 to 1.38 on irregular triangles, whatever the spacing; so all w are
raised by RELAXED. On lattices whose diagonals all lean one way it is 2.6, and cloth made of those
still bends too softly, by half.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import dot3, fma, kernel
from zembrik.core.lanes import (
    WIDTH,
    choose,
    column4,
    corner4,
    corners,
    either,
    lane,
    larger,
    point,
    points4,
    put,
    put4,
    root,
    take4,
    values4,
)
from zembrik.core.mesh.trimesh import TriMesh

RELAXED = 1.36


class Bend(NamedTuple):
    """All hinges of a world, cluster by cluster; H hinges.

    Attributes:
        points: int32 (H, 4): edge start, edge end, the two points opposite.
        rest: float64 (H, 2): 2 tan(θ₀/2), and the compliance 1/(B w) in 1/J.
        span: int64 (clusters + 1,), where each cluster's hinges begin.
        packed: int64 (clusters,), where its packs of four end, see `colour`.
    """

    points: NDArray[np.int32]
    rest: NDArray[np.float64]
    span: NDArray[np.int64]
    packed: NDArray[np.int64]


def hinge_weights(mesh: TriMesh) -> NDArray[np.float64]:
    """Return the weights w (hinges,) that make the bending of `mesh.hinges` physical."""
    hinges = mesh.hinges
    if not len(hinges):
        return np.zeros(0)
    # Number each hinge by its edge, to find the three hinges of a face.
    of_edge = np.full(len(mesh.edges), -1)
    stride = len(mesh.points)
    keys = mesh.edges[:, 0] * stride + mesh.edges[:, 1]
    low, high = np.minimum(hinges[:, 0], hinges[:, 1]), np.maximum(hinges[:, 0], hinges[:, 1])
    of_edge[np.searchsorted(keys, low.astype(np.int64) * stride + high)] = np.arange(len(hinges))
    face_hinge = of_edge[mesh.face_edges]

    flat, opposite = _flattened(mesh, face_hinge)
    # θ² of a cylinder turned by φ has the modes 0, 2 and 4 in φ: six directions see them all.
    phi = np.pi * np.arange(6) / 6
    cylinders = np.stack([np.cos(phi) ** 2, np.sin(phi) ** 2, np.cos(phi) * np.sin(phi)])
    forms = np.zeros((len(mesh.faces), 3, 6))
    for e in range(3):
        a, b, c = flat[:, e], flat[:, (e + 1) % 3], flat[:, (e + 2) % 3]
        forms[:, e] = (_angle_of_curvature(a, b, c, opposite[:, e]) @ cylinders) ** 2
        forms[face_hinge[:, e] < 0, e] = 0.0
    # ½ Σ w θ² over the hinges, half of each, is to be ½ A: Σ w θ² = 2 A.
    wanted = np.repeat(2 * mesh.face_areas[:, None], 6, axis=1)
    gram = np.einsum("fea,fga->feg", forms, forms)
    right = np.einsum("fea,fa->fe", forms, wanted)
    diagonal = np.einsum("fee->fe", gram)
    gram += np.eye(3) * (1e-9 * diagonal.max(axis=1)[:, None, None] + 1e-300)
    asked = np.linalg.solve(gram, right[..., None])[..., 0]
    # Where the fit asks for a push the wrong way, each hinge alone is asked instead.
    alone = right / np.maximum(diagonal, 1e-300) / 3
    asked = np.where((asked < 0).any(axis=1, keepdims=True), np.minimum(alone, 10.0), asked)
    there = face_hinge >= 0
    total = np.bincount(face_hinge[there], weights=asked[there], minlength=len(hinges))
    count = np.bincount(face_hinge[there], minlength=len(hinges))
    return RELAXED * np.clip(total / np.maximum(count, 1), 0.05, 20.0)


def _flattened(mesh: TriMesh, face_hinge: NDArray[np.int64]):  # type: ignore[no-untyped-def]
    """Return each face's corners in its plane and its neighbours' far points folded flat, (faces, 3, 2) both."""
    p = mesh.points[mesh.faces]
    u = p[:, 1] - p[:, 0]
    u /= np.linalg.norm(u, axis=1, keepdims=True)
    v = np.cross(mesh.face_normals, u)
    flat = np.stack([np.einsum("fki,fi->fk", p - p[:, :1], u), np.einsum("fki,fi->fk", p - p[:, :1], v)], axis=2)
    opposite = np.zeros_like(flat)
    for e in range(3):
        hinge = mesh.hinges[np.maximum(face_hinge[:, e], 0)]
        own = mesh.faces[:, (e + 2) % 3]
        far = mesh.points[np.where(hinge[:, 2] == own, hinge[:, 3], hinge[:, 2])]
        start, along = p[:, e], p[:, (e + 1) % 3] - p[:, e]
        length = np.linalg.norm(along, axis=1)
        along = along / length[:, None]
        run = np.einsum("fi,fi->f", far - start, along)
        height = np.linalg.norm(far - start - along * run[:, None], axis=1)
        height = np.where(face_hinge[:, e] < 0, length, height)  # a border has no neighbour: any sound number does
        side = (flat[:, (e + 1) % 3] - flat[:, e]) / length[:, None]
        away = np.stack([side[:, 1], -side[:, 0]], axis=1)  # faces turn counter-clockwise: right is outside
        opposite[:, e] = flat[:, e] + side * run[:, None] + away * height[:, None]
    return flat, opposite


def _angle_of_curvature(a, b, c, d):  # type: ignore[no-untyped-def]
    """Return (faces, 3): the hinge angle over edge ab, with c and d opposite, for unit Kxx, Kyy, Kxy."""
    edge = b - a
    length = np.linalg.norm(edge, axis=1)
    cross = lambda p, q: p[:, 0] * q[:, 1] - p[:, 1] * q[:, 0]  # noqa: E731
    height_c = np.maximum(np.abs(cross(edge, c - a)) / length, 1e-300)
    height_d = np.maximum(np.abs(cross(edge, d - a)) / length, 1e-300)
    run_c = np.einsum("fi,fi->f", c - a, edge) / length**2
    run_d = np.einsum("fi,fi->f", d - a, edge) / length**2
    lift = lambda p: np.stack([p[:, 0] ** 2 / 2, p[:, 1] ** 2 / 2, p[:, 0] * p[:, 1]], axis=1)  # noqa: E731
    za, zb, zc, zd = lift(a), lift(b), lift(c), lift(d)
    rise_c = (zc - (za + (zb - za) * run_c[:, None])) / height_c[:, None]
    rise_d = (zd - (za + (zb - za) * run_d[:, None])) / height_d[:, None]
    return rise_c + rise_d


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
    """Return the rows of `Bend.rest`; `stiff` (H,) holds B w in N·m, above zero."""
    half = np.clip(rest_angles(points, hinges) / 2, -1.5, 1.5)
    return np.column_stack([2 * np.tan(half), 1.0 / stiff])


@numba.njit(inline="always")
def _project(w, rest, laid, xa, xb, xc, xd, scale, read):  # type: ignore[no-untyped-def]
    """Return a hinge's multiplier and where its four points go, of numbers or lanes."""
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
    error = 2.0 * tangent - rest[0]
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
        (fma(pa, gax, ax), fma(pa, gay, ay), fma(pa, gaz, az)),
        (fma(pb, gbx, bx), fma(pb, gby, by), fma(pb, gbz, bz)),
        (fma(pc, gcx, xc[0]), fma(pc, gcy, xc[1]), fma(pc, gcz, xc[2])),
        (fma(pd, gdx, xd[0]), fma(pd, gdy, xd[1]), fma(pd, gdz, xd[2])),
    )


@kernel
def solve_hinges(first, packed, last, points, rest, w, x, dt, held, read, write):  # type: ignore[no-untyped-def]
    """Project the hinges first .. last - 1, in place; arguments as in `membrane.solve_triangles`, held (H,)."""
    scale = 1.0 / (dt * dt)
    for h in range(first, packed, WIDTH):
        a0, a1, a2, a3 = corner4(points, h, 0)
        b0, b1, b2, b3 = corner4(points, h, 1)
        c0, c1, c2, c3 = corner4(points, h, 2)
        d0, d1, d2, d3 = corner4(points, h, 3)
        weights = take4(w, a0, a1, a2, a3), take4(w, b0, b1, b2, b3), take4(w, c0, c1, c2, c3), take4(w, d0, d1, d2, d3)
        more, at_a, at_b, at_c, at_d = _project(
            weights, (column4(rest, h, 0), column4(rest, h, 1)), values4(held, h),
            points4(x, a0, a1, a2, a3), points4(x, b0, b1, b2, b3),
            points4(x, c0, c1, c2, c3), points4(x, d0, d1, d2, d3), scale, read,
        )  # fmt: skip
        if write:
            for n in range(WIDTH):
                held[h + n] = lane(more, n) + (held[h + n] if read else 0.0)
        put4(x, a0, a1, a2, a3, at_a)
        put4(x, b0, b1, b2, b3, at_b)
        put4(x, c0, c1, c2, c3, at_c)
        put4(x, d0, d1, d2, d3, at_d)
    for h in range(packed, last):
        a, b, c, d = corners(points, h)
        one, to_a, to_b, to_c, to_d = _project(
            (w[a], w[b], w[c], w[d]), (rest[h, 0], rest[h, 1]), held[h],
            point(x, a), point(x, b), point(x, c), point(x, d), scale, read,
        )  # fmt: skip
        if write:
            held[h] = one + (held[h] if read else 0.0)
        put(x, a, to_a)
        put(x, b, to_b)
        put(x, c, to_c)
        put(x, d, to_d)
