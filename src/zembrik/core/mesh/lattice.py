"""A closed mesh embedded in a regular lattice of tetrahedra.

The mesh's own box is cut into whole cells, close to the wanted size along each axis. Cells
that hold some of the inside, or a point of the surface, are kept, and each is cut into five
tetrahedra, in turn one way and the other, so that faces of neighbours meet. How much of a
cell is inside says how heavy and how stiff it is.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.build import Shape, build_fields
from zembrik.core.distance.field import distances
from zembrik.core.mesh.inertia import mass_of
from zembrik.core.mesh.trimesh import TriMesh

Floats = NDArray[np.float64]
SAMPLES = 4  # along each side of a cell, to see how much of it is inside
FIRM = 1e-4  # how much an uneven stretch counts against a place on the surface that is missed
LEAST_FILLED = 0.1  # a cell that holds less is as stiff and heavy as this, so that nothing is infinitely light

# Corner k of a cell is at (k >> 2 & 1, k >> 1 & 1, k & 1); the five tetrahedra of an even cell, right-handed.
EVEN = np.array([[0, 4, 2, 1], [6, 2, 4, 7], [5, 4, 1, 7], [3, 1, 2, 7], [1, 4, 2, 7]])
# An odd cell is its mirror image along the last axis, turned right-handed again.
ODD = (EVEN ^ 1)[:, [0, 2, 1, 3]]


@dataclass(frozen=True)
class Lattice:
    """Tetrahedra, and how a surface's points lie in them.

    Attributes:
        points: float64 (n, 3), metres.
        tets: int32 (E, 4), right-handed.
        filled: float64 (E,), the share of each that counts, for mass and stiffness.
        masters: int32 (m, 4), for each of the surface's points the lattice's points that carry it.
        shares: float64 (m, 4), their shares, summing to 1.
    """

    points: Floats
    tets: NDArray[np.int32]
    filled: Floats
    masters: NDArray[np.int32]
    shares: Floats


def cells_of(mesh: TriMesh, turn: Floats, cell_m: float) -> NDArray[np.int64]:
    """Return how many cells (3,) of about `cell_m` the mesh's box along the axes `turn` (3, 3) is cut into."""
    size = np.ptp(mesh.points @ turn, axis=0)
    return np.maximum(np.rint(size / cell_m).astype(np.int64), 1)


def embed(mesh: TriMesh, turn: Floats, cell_m: float) -> Lattice:
    """Return the lattice around a closed mesh.

    Args:
        mesh: metres, faces outwards.
        turn: (3, 3), the axes the cells lie along, as columns.
        cell_m: about how wide a cell is.

    Raises:
        ValueError: when the mesh encloses no volume.
    """
    volume = mass_of(mesh, 1.0).mass
    local = mesh.points @ turn
    low, high = local.min(axis=0), local.max(axis=0)
    count = cells_of(mesh, turn, cell_m)
    step = np.maximum(high - low, 1e-9) / count
    # How much of each cell is inside.
    inner = (np.arange(SAMPLES) + 0.5) / SAMPLES
    axes = [low[k] + step[k] * (np.arange(count[k])[:, None] + inner).ravel() for k in range(3)]
    seen = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    inside = distances(build_fields([Shape("surface", mesh=mesh)]), 0, seen @ turn.T)[0] < 0.0
    shape = (count[0], SAMPLES, count[1], SAMPLES, count[2], SAMPLES)
    filled = inside.reshape(shape).mean(axis=(1, 3, 5))
    at = np.clip(((local - low) / step).astype(np.int64), 0, count - 1)
    filled[tuple(at.T)] = np.maximum(filled[tuple(at.T)], LEAST_FILLED)
    cells = np.argwhere(filled > 0.0)
    share = np.maximum(filled[tuple(cells.T)], LEAST_FILLED)
    corners = np.array([[k >> 2 & 1, k >> 1 & 1, k & 1] for k in range(8)])
    nodes = cells[:, None, :] + corners[None]
    keys = (nodes[..., 0] * (count[1] + 1) + nodes[..., 1]) * (count[2] + 1) + nodes[..., 2]
    used, inverse = np.unique(keys, return_inverse=True)
    numbers = inverse.reshape(keys.shape)
    odd = cells.sum(axis=1) % 2 == 1
    tets = np.where(odd[:, None, None], numbers[:, ODD], numbers[:, EVEN]).reshape(-1, 4)
    grid = np.stack(np.unravel_index(used, tuple(count + 1)), axis=1)
    points = low + grid * step
    # Which of its cell's tetrahedra each point of the surface lies in.
    cell_number = np.full(tuple(count), -1)
    cell_number[tuple(cells.T)] = np.arange(len(cells))
    mine = cell_number[tuple(at.T)]
    best, masters, shares = np.full(len(local), -np.inf), np.zeros((len(local), 4), int), np.zeros((len(local), 4))
    for k in range(5):
        tet = tets[mine * 5 + k]
        parts = _shares(points[tet], local)
        better = parts.min(axis=1) > best
        best[better], masters[better], shares[better] = parts.min(axis=1)[better], tet[better], parts[better]
    weight = np.repeat(share, 5)
    whole = float((weight * _volumes(points, tets)).sum())
    return Lattice(points @ turn.T, tets.astype(np.int32), weight * (volume / whole), masters.astype(np.int32), shares)


def taken_on(lattice: Lattice, form: Floats) -> Floats:
    """Return where the lattice's points (n, 3) are when the surface has another form, metres.

    The surface's own points say it only near the surface. Of all lattices that carry it so, the one is taken whose
    stretch changes the least from each tetrahedron to its neighbours, in the least-squares sense; so a form that is
    the mesh moved, turned or stretched evenly comes out exactly.

    Args:
        lattice: at rest. form: float64 (k, 3), where the first k of the surface's points are.
    """
    from scipy import sparse
    from scipy.sparse.linalg import splu

    count, tets = len(lattice.points), lattice.tets.astype(np.int64)
    rows = np.repeat(np.arange(len(form)), 4)
    carried = sparse.csr_array(
        (lattice.shares[: len(form)].ravel(), (rows, lattice.masters[: len(form)].ravel())), shape=(len(form), count)
    )
    # The gradient of any field over each tetrahedron, as three rows: what its corners count for.
    edges = np.stack([lattice.points[tets[:, k]] - lattice.points[tets[:, 0]] for k in (1, 2, 3)], axis=1)
    parts = np.linalg.inv(edges)  # (E, 3, 3): axis, corner 1..3
    parts = np.concatenate([-parts.sum(axis=2, keepdims=True), parts], axis=2)
    number = np.arange(3 * len(tets)).reshape(-1, 3)
    gradient = sparse.csr_array(
        (parts.ravel(), (np.repeat(number, 4, axis=1).ravel(), np.tile(tets, (1, 3)).ravel())),
        shape=(3 * len(tets), count),
    )
    # Neighbours share a face.
    faces = np.sort(tets[:, [[0, 1, 2], [0, 1, 3], [0, 2, 3], [1, 2, 3]]].reshape(-1, 3), axis=1)
    order = np.lexsort(faces.T)
    same = np.flatnonzero((faces[order][1:] == faces[order][:-1]).all(axis=1))
    one, two = order[same] // 4, order[same + 1] // 4
    size = float(np.linalg.norm(edges[:, 0], axis=1).mean())
    differ = size * (gradient[number[one].ravel()] - gradient[number[two].ravel()])
    matrix = sparse.csc_array(carried.T @ carried + FIRM * (differ.T @ differ) + 1e-12 * sparse.eye_array(count))
    solved = splu(matrix).solve(carried.T @ form + 1e-12 * lattice.points)
    return np.ascontiguousarray(solved)


def _volumes(points: Floats, tets: NDArray[np.int64]) -> Floats:
    a, b, c, d = (points[tets[:, k]] for k in range(4))
    return np.einsum("ij,ij->i", b - a, np.cross(c - a, d - a)) / 6.0


def _shares(corners: Floats, places: Floats) -> Floats:
    """Return the barycentric shares (m, 4) of places (m, 3) in tetrahedra (m, 4, 3)."""
    edges = np.stack([corners[:, k] - corners[:, 0] for k in (1, 2, 3)], axis=2)
    rest = np.linalg.solve(edges, (places - corners[:, 0])[..., None])[..., 0]
    return np.column_stack([1.0 - rest.sum(axis=1), rest])
