"""The coarse step: what one pass over a fine cloth cannot carry far enough.

A pass hands a pull on from point to point, so on a fine cloth of stiff stuff it holds up only a
part of the weight per substep (see `passes`). Before the passes, each substep therefore takes
one linearised implicit step in a coarse space: a few hundred patches of the cloth that move
smoothly. With the stretching forces f at the predicted places, the points move by

    P (Pᵀ (M/dt² + L) P)⁻¹ Pᵀ φ f,

where P says how far each point goes with each patch: the patches' steps smoothed by Jacobi
passes over L (smoothed aggregation: Vaněk, Mandel and Brezina 1996). L is the same along all
three axes and not less stiff than the cloth at its own rest length and moderate strain, as in
projective dynamics (Bouaziz et al. 2014), so the small matrix is inverted once. Beyond that (a blow,
a band that shrinks) MOST_STRAIN and MOST_LOADS bound what the step does: no point goes farther in it than what loads
the cloth would take it. It is there to carry loads. Strain that contact and friction leave in cloth at rest is no
load; let go at once, as a wave would, it made crumpled muslin jump about at 60 substeps, without end.

The passes that follow carry a share of the pull themselves. A pass of k whose constraint has
compliance α̃ < ½ W leaves it 2k α̃ / W of the right pull (`passes`); so the coarse step lays on
the share φ = max(0, 1 - 2k α̃ / W) of each triangle's force, and both together are the whole.
Where the passes are enough, φ is 0 everywhere and there is no coarse step.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from zembrik.core.compiled import bare_kernel, dot3, fma, parallel_kernel
from zembrik.core.lanes import WIDTH, choose, lanes, larger, root, smaller
from zembrik.core.lanes_memory import block4, corner4, four, point, points4, put4, put_rows4, rows4, values4
from zembrik.core.solver.colour import neighbourhoods
from zembrik.core.solver.membrane import Membrane

Floats = NDArray[np.float64]
Numbers = NDArray[np.int64]
PATCHES, MORE_PATCHES = 256, 512  # at most, and for large cloths; the step's cost grows with their square
LARGE = 20_000  # points
LEAST_POINTS = 500  # smaller cloths have few patches to gain from
LEAST_SHARE = 0.1  # of the force, below which it is not worth its time
MOST_LOADS = 4.0  # times what the cloth's loads move a point in a step
MOST_STRAIN = 0.1  # what is pulled further, as by a blow, is left to the passes, which take the energy out

GRADE = 1.5  # how much stiffer than the cloth the small matrix may be

CHUNK = 256  # points that one thread looks at


class Coarse(NamedTuple):
    """The coarse space of m cloth points, T triangles and N patches; sparse matrices go by rows: start, column, part.

    Attributes:
        stiff: float64 (T, 4), what stretch, compression and shear lay on: φ k A, joules; the last makes rows of four.
        at_point: float64 (m, 4), filled with the triangles' forces on the points, N; the last makes rows of four.
        up_start, up_point, up_part: Pᵀ by patches.
        down_start, down_patch, down_part: P by points.
        inverse: float64 (packs, N, 4), of the coarse matrix, m/N, by four columns each; the last are filled up with 0.
        pull, way: float64 (N, 3) and (4 packs, 3), filled: forces on the patches, N, and what they go, m.
        most: float64 (1,), the farthest that a point may go in one step, metres.
        far: float64 (chunks,), filled: the square of the farthest that a chunk's points are to go, m².
    """

    stiff: Floats
    at_point: Floats
    up_start: Numbers
    up_point: Numbers
    up_part: Floats
    down_start: Numbers
    down_patch: Numbers
    down_part: Floats
    inverse: Floats
    pull: Floats
    way: Floats
    most: Floats
    far: Floats


def build_coarse(
    membrane: Membrane, x: Floats, w: Floats, dt: float, passes: int, load_m_per_s2: float
) -> Coarse | None:
    """Return the coarse space of all cloth, or None where the passes alone are enough.

    Args:
        membrane: the triangles.
        x: float64 (m, 3), the cloth's places when the bake begins, metres.
        w: float64 (m,), inverse masses, 1/kg; points with 0 are held.
        dt: the substep, s.
        passes: a substep.
        load_m_per_s2: how much all that loads the cloth would speed up a free point of it.
    """
    count = len(x)
    if count < LEAST_POINTS or not len(membrane.points):
        return None
    gradient, share = _gradient(membrane), shares_of(membrane, w, dt, passes)
    if float(share.mean()) < LEAST_SHARE:
        return None
    stiff = np.zeros((len(share), 4))
    stiff[:, :3] = share[:, None] / membrane.rest[:, 4:7]
    most = np.maximum(stiff[:, :2].max(axis=1), 2.0 * stiff[:, 2])
    block = most[:, None, None] * np.einsum("tid,tjd->tij", gradient, gradient)
    rows = np.repeat(membrane.points, 3, axis=1).ravel()
    columns = np.tile(membrane.points, (1, 3)).ravel()
    matrix = sparse.csr_array((block.ravel(), (rows, columns)), shape=(count, count))
    spread = _patches(matrix, x, w)
    mass = np.where(w > 0.0, 1.0 / np.maximum(w, 1e-300), 0.0) / (dt * dt)
    small = (spread.T @ (matrix @ spread) + spread.T @ (sparse.diags_array(mass) @ spread)).toarray()
    up = sparse.csr_array(spread.T)
    up.sort_indices()
    patches = small.shape[0]
    inverse = np.linalg.inv(small)
    packs = -(-patches // WIDTH)
    filled = np.zeros((patches, packs * WIDTH))
    filled[:, :patches] = 0.5 * (inverse + inverse.T)
    return Coarse(
        stiff,
        np.zeros((count, 4)),
        up.indptr.astype(np.int64),
        up.indices.astype(np.int64),
        up.data,
        spread.indptr.astype(np.int64),
        spread.indices.astype(np.int64),
        spread.data,
        np.ascontiguousarray(filled.reshape(patches, packs, WIDTH).transpose(1, 0, 2)),
        np.zeros((patches, 3)),
        np.zeros((packs * WIDTH, 3)),
        np.array([MOST_LOADS * load_m_per_s2 * dt * dt]),
        np.zeros(-(-count // CHUNK)),
    )


def _gradient(membrane: Membrane) -> Floats:
    """Return how the material's two coordinates change with each corner, (T, 3, 2), 1/m."""
    rest = membrane.rest
    gradient = np.empty((len(rest), 3, 2))
    gradient[:, 1], gradient[:, 2] = rest[:, 0:2], rest[:, 2:4]
    gradient[:, 0] = -gradient[:, 1] - gradient[:, 2]
    return gradient


def shares_of(membrane: Membrane, w: Floats, dt: float, passes: int) -> Floats:
    """Return the share φ (T,) of each triangle's force that the coarse step lays on; arguments as of `build_coarse`."""
    light = (w[membrane.points][:, :, None] * _gradient(membrane) ** 2).sum(axis=1)  # W of warp and weft
    short = 2.0 * passes * membrane.rest[:, 4] / (dt * dt) / np.maximum(light.mean(axis=1), 1e-300)
    return np.clip(1.0 - short, 0.0, 1.0)


def graded(values: Floats) -> Floats:
    """Return compliances or inverse masses rounded down to powers of GRADE; 0 stays.

    So what changes over frames seldom needs a new inverse.
    """
    some = np.maximum(values, 1e-300)
    return np.where(values > 0.0, GRADE ** np.floor(np.log(some) / np.log(GRADE)), 0.0)


def _patches(matrix: sparse.csr_array, x: Floats, w: Floats) -> sparse.csr_array:
    """Return P (m, N): how far each point goes with each patch; held points go with none."""
    count = len(x)
    size = max(count // (PATCHES if count < LARGE else MORE_PATCHES) + 1, 4)
    cell = neighbourhoods(x, size)
    free = w > 0.0
    patch = np.unique(cell[free], return_inverse=True)[1]
    shape = (count, int(patch.max(initial=0)) + 1)
    spread = sparse.csr_array((np.ones(len(patch)), (np.flatnonzero(free), patch)), shape=shape)
    over = np.where(free, 0.66 / np.maximum(matrix.diagonal(), 1e-300), 0.0)
    step = sparse.diags_array(over) @ matrix
    for _ in range(max(3, round(size**0.5 / 2))):  # each carries a patch's edge one point farther
        spread = sparse.csr_array(spread - step @ spread)
    whole = spread.sum(axis=1)
    spread.data[np.abs(spread.data) < 0.02] = 0.0
    spread.eliminate_zeros()
    # What was left out goes to the others, so that all patches together still move a point as one.
    spread = sparse.csr_array(sparse.diags_array(whole / np.maximum(spread.sum(axis=1), 1e-300)) @ spread)
    spread.sort_indices()
    return spread


@numba.njit(inline="always")
def _forces(rest, stiff, xi, xj, xk):  # type: ignore[no-untyped-def]
    """Return the forces (N) of a triangle on its second and third corner, of numbers or lanes."""
    uj, vj, uk, vk = rest
    jx, jy, jz = xj[0] - xi[0], xj[1] - xi[1], xj[2] - xi[2]
    kx, ky, kz = xk[0] - xi[0], xk[1] - xi[1], xk[2] - xi[2]
    ux, uy, uz = fma(uj, jx, uk * kx), fma(uj, jy, uk * ky), fma(uj, jz, uk * kz)
    vx, vy, vz = fma(vj, jx, vk * kx), fma(vj, jy, vk * ky), fma(vj, jz, vk * kz)
    size_u = root(dot3(ux, uy, uz, ux, uy, uz) + 1e-18)
    size_v = root(dot3(vx, vy, vz, vx, vy, vz) + 1e-18)
    both = 1.0 / (size_u * size_v)
    c_u = smaller(larger(size_u - 1.0, -MOST_STRAIN), MOST_STRAIN)
    c_v = smaller(larger(size_v - 1.0, -MOST_STRAIN), MOST_STRAIN)
    c_s = smaller(larger(dot3(ux, uy, uz, vx, vy, vz), -MOST_STRAIN), MOST_STRAIN)
    f_u = -choose(c_u >= 0.0, stiff[0], stiff[1]) * c_u * (both * size_v)
    f_v = -choose(c_v >= 0.0, stiff[0], stiff[1]) * c_v * (both * size_u)
    f_s = -stiff[2] * c_s
    px, py, pz = fma(f_u, ux, f_s * vx), fma(f_u, uy, f_s * vy), fma(f_u, uz, f_s * vz)
    qx, qy, qz = fma(f_v, vx, f_s * ux), fma(f_v, vy, f_s * uy), fma(f_v, vz, f_s * uz)
    return (
        (fma(uj, px, vj * qx), fma(uj, py, vj * qy), fma(uj, pz, vj * qz)),
        (fma(uk, px, vk * qx), fma(uk, py, vk * qy), fma(uk, pz, vk * qz)),
    )


@bare_kernel
def _lay_on(first, packed, last, points, rest, stiff, x, force):  # type: ignore[no-untyped-def]
    """Add the forces (N) of triangles first .. last - 1 to those on their corners; packs of four before `packed`."""
    for t in range(first, packed, WIDTH):
        i0, i1, i2, i3 = corner4(points, t, 0)
        j0, j1, j2, j3 = corner4(points, t, 1)
        k0, k1, k2, k3 = corner4(points, t, 2)
        on_j, on_k = _forces(
            block4(rest, t, 0), block4(stiff, t, 0),
            points4(x, i0, i1, i2, i3), points4(x, j0, j1, j2, j3), points4(x, k0, k1, k2, k3),
        )  # fmt: skip
        (ax, ay, az), (bx, by, bz) = on_j, on_k
        fx, fy, fz, none = rows4(force, i0, i1, i2, i3)
        put_rows4(force, i0, i1, i2, i3, fx - ax - bx, fy - ay - by, fz - az - bz, none)
        fx, fy, fz, none = rows4(force, j0, j1, j2, j3)
        put_rows4(force, j0, j1, j2, j3, fx + ax, fy + ay, fz + az, none)
        fx, fy, fz, none = rows4(force, k0, k1, k2, k3)
        put_rows4(force, k0, k1, k2, k3, fx + bx, fy + by, fz + bz, none)
    for t in range(packed, last):
        i, j, k = np.uint32(points[t, 0]), np.uint32(points[t, 1]), np.uint32(points[t, 2])
        to_j, to_k = _forces(
            (rest[t, 0], rest[t, 1], rest[t, 2], rest[t, 3]), (stiff[t, 0], stiff[t, 1], stiff[t, 2]),
            point(x, i), point(x, j), point(x, k),
        )  # fmt: skip
        for axis in range(3):
            force[i, axis] = force[i, axis] - to_j[axis] - to_k[axis]
            force[j, axis] += to_j[axis]
            force[k, axis] += to_k[axis]


@bare_kernel
def _answer(pack, inverse, pull, way):  # type: ignore[no-untyped-def]
    """Fill way[4 pack .. 4 pack + 3] with what the patches go: the inverse, which is symmetric, times the pulls."""
    fx = fy = fz = lanes(0.0, 0.0, 0.0, 0.0)
    columns = inverse[pack].reshape(-1)
    for m in range(len(pull)):
        row = values4(columns, m * WIDTH)
        fx, fy, fz = fma(row, pull[m, 0], fx), fma(row, pull[m, 1], fy), fma(row, pull[m, 2], fz)
    a, b, c, d = four(pack * WIDTH)
    put4(way, a, b, c, d, (fx, fy, fz))


@bare_kernel
def _spread(first, last, coarse, way, moved):  # type: ignore[no-untyped-def]
    """Fill moved[first .. last - 1] with what the points go (m), and return the square of the farthest (m²)."""
    farthest = 0.0
    for i in range(first, last):
        fx, fy, fz = 0.0, 0.0, 0.0
        for m in range(coarse.down_start[i], coarse.down_start[i + 1]):
            n, part = np.uint64(coarse.down_patch[m]), coarse.down_part[m]
            fx, fy, fz = fma(part, way[n, 0], fx), fma(part, way[n, 1], fy), fma(part, way[n, 2], fz)
        moved[i, 0], moved[i, 1], moved[i, 2] = fx, fy, fz
        farthest = max(farthest, fx * fx + fy * fy + fz * fz)
    return farthest


@parallel_kernel
def step_coarse(coarse, colours, points, rest, span, packed, x):  # type: ignore[no-untyped-def]
    """Move the cloth's points x (m, 3) by one coarse step; points, rest, span and packed as in `Membrane`."""
    pull, way, at_point, far = coarse.pull, coarse.way, coarse.at_point, coarse.far
    for chunk in numba.prange(len(far)):
        at_point[chunk * CHUNK : (chunk + 1) * CHUNK] = 0.0
    for colour in range(len(colours) - 1):
        for cluster in numba.prange(colours[colour], colours[colour + 1]):
            _lay_on(span[cluster], packed[cluster], span[cluster + 1], points, rest, coarse.stiff, x, at_point)
    for n in numba.prange(len(pull)):
        fx, fy, fz = 0.0, 0.0, 0.0
        for m in range(coarse.up_start[n], coarse.up_start[n + 1]):
            i, part = np.uint64(coarse.up_point[m]), coarse.up_part[m]
            fx = fma(part, at_point[i, 0], fx)
            fy = fma(part, at_point[i, 1], fy)
            fz = fma(part, at_point[i, 2], fz)
        pull[n, 0], pull[n, 1], pull[n, 2] = fx, fy, fz
    for pack in numba.prange(len(coarse.inverse)):
        _answer(pack, coarse.inverse, pull, way)
    moved = at_point  # what the forces were is not needed any more
    for chunk in numba.prange(len(far)):
        far[chunk] = _spread(chunk * CHUNK, min((chunk + 1) * CHUNK, len(x)), coarse, way, moved)
    farthest = 0.0
    for chunk in range(len(far)):
        farthest = max(farthest, far[chunk])
    share = min(1.0, coarse.most[0] / np.sqrt(farthest + 1e-300))
    for i in numba.prange(len(x)):
        x[i, 0] += share * moved[i, 0]
        x[i, 1] += share * moved[i, 1]
        x[i, 2] += share * moved[i, 2]
