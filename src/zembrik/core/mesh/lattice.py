"""A closed mesh embedded in a regular lattice of hexahedral cells.

The mesh's own box is cut into whole cells, close to the wanted size along each axis. Cells that hold some of the
inside, or a point of the surface, are kept. How much of a cell is inside says how heavy and how stiff it is.
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

CORNERS = np.array([[k >> 2 & 1, k >> 1 & 1, k & 1] for k in range(8)])  # of a cell, in units of its edges


@dataclass(frozen=True)
class Lattice:
    """Cells of one shape, and how a surface's points lie in them.

    Attributes:
        points: float64 (n, 3), metres.
        cells: int32 (E, 8), the corners of each, as in CORNERS.
        edges: float64 (3, 3), the edges from any cell's first corner, as columns, metres; right-handed.
        filled: float64 (E,), the share of each that counts, for mass and stiffness.
        masters: int32 (m, 8), for each of the surface's points the corners of the cell that carries it.
        shares: float64 (m, 8), their shares (trilinear), summing to 1.
    """

    points: Floats
    cells: NDArray[np.int32]
    edges: Floats
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
    nodes = cells[:, None, :] + CORNERS[None]
    keys = (nodes[..., 0] * (count[1] + 1) + nodes[..., 1]) * (count[2] + 1) + nodes[..., 2]
    used, inverse = np.unique(keys, return_inverse=True)
    numbers = inverse.reshape(keys.shape).astype(np.int32)
    points = low + np.stack(np.unravel_index(used, tuple(count + 1)), axis=1) * step
    cell_number = np.full(tuple(count), -1)
    cell_number[tuple(cells.T)] = np.arange(len(cells))
    mine = cell_number[tuple(at.T)]
    along = ((local - low) / step - at)[:, None, :]
    shares = np.where(CORNERS == 1, along, 1.0 - along).prod(axis=2)
    whole = float(share.sum() * step.prod())
    edges = np.ascontiguousarray(turn * step)
    return Lattice(points @ turn.T, numbers, edges, share * (volume / whole), numbers[mine], shares)


def taken_on(lattice: Lattice, form: Floats) -> Floats:
    """Return where the lattice's points (n, 3) are when the surface has another form, metres.

    The surface's own points say it only near the surface. Of all lattices that carry it so, the one is taken whose
    rows bend and whose faces warp the least, in the least-squares sense; so a form that is the mesh moved, turned or
    stretched evenly comes out exactly.

    Args:
        lattice: at rest. form: float64 (k, 3), where the first k of the surface's points are.
    """
    from scipy import sparse
    from scipy.sparse.linalg import splu

    count = len(lattice.points)
    rows = np.repeat(np.arange(len(form)), 8)
    carried = sparse.csr_array(
        (lattice.shares[: len(form)].ravel(), (rows, lattice.masters[: len(form)].ravel())), shape=(len(form), count)
    )
    points, weights = _second_differences(lattice.cells)
    numbers = np.repeat(np.arange(len(points)), 4)
    differ = sparse.csr_array((weights.ravel(), (numbers, points.ravel())), shape=(len(points), count))
    matrix = sparse.csc_array(carried.T @ carried + FIRM * (differ.T @ differ) + 1e-12 * sparse.eye_array(count))
    solved = splu(matrix).solve(carried.T @ form + 1e-12 * lattice.points)
    return np.ascontiguousarray(solved)


def _second_differences(cells: NDArray[np.int32]) -> tuple[NDArray[np.int64], Floats]:
    """Return all second differences of a lattice: points int64 (d, 4) and weights (d, 4), that give 0 where it is even.

    Along a row, of three points that follow one another; across a cell's face, of its four corners.
    """
    cells = cells.astype(np.int64)
    first = np.full(cells.max() + 1, -1)  # the cell of which a point is the first corner
    first[cells[:, 0]] = np.arange(len(cells))
    points, weights = [], []
    for axis in range(3):
        low, high = np.flatnonzero(CORNERS[:, axis] == 0), np.flatnonzero(CORNERS[:, axis] == 1)
        follows = first[cells[:, high[0]]]
        one, two = cells[follows >= 0], cells[follows[follows >= 0]]
        rows = np.stack([one[:, low], one[:, high], two[:, high], two[:, high]], axis=2).reshape(-1, 4)
        faces = np.concatenate([cells[:, low], cells[:, high]])
        points += [rows, faces]
        weights += [np.tile([1.0, -2.0, 1.0, 0.0], (len(rows), 1)), np.tile([1.0, -1.0, -1.0, 1.0], (len(faces), 1))]
    return np.concatenate(points), np.concatenate(weights)
