"""A wrapped shell: a closed surface around anything, however open, doubled or crossed its mesh is.

The distance to the mesh is sampled on a grid. What can be reached from outside without coming
nearer than half of what is to be closed is outside; the rest is inside, hollows and all. Between
the two a surface is drawn by cutting every cell into six tetrahedra (Doi and Koide 1991), which
is closed and has no edge of more than two faces whatever the mesh is like. At last it is drawn in
towards the mesh wherever it faces it; over holes it stays as a lid.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from zembrik.core.distance.tree import build_tree, closest_places
from zembrik.core.mesh.trimesh import TriMesh, point_normals, volume_m3
from zembrik.core.problem import Problem
from zembrik.core.proxy.reduce import reduced

Floats = NDArray[np.float64]
MOST_CELLS = 96  # along the longest side
KEPT = 0.25  # of the faces
STAND_OFF = 0.02  # of what is closed: how far from the mesh the shell ends

# A cell's corners by their steps along x y z, and the six tetrahedra around its long diagonal (Kuhn 1960):
# neighbours cut the side between them the same way.
CORNERS = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0], [0, 0, 1], [1, 0, 1], [0, 1, 1], [1, 1, 1]])
TETS = np.array([[0, 1, 3, 7], [0, 3, 2, 7], [0, 2, 6, 7], [0, 6, 4, 7], [0, 4, 5, 7], [0, 5, 1, 7]])


def shell_around(mesh: TriMesh, closes_m: float, name: str = "") -> TriMesh:
    """Return a closed surface around a mesh, facing out, that bridges holes and gaps narrower than `closes_m`.

    Where the mesh would need more than MOST_CELLS cells along its longest side, cells get larger, and so does
    what is closed.

    Raises:
        Problem: naming the body, when the mesh has no surface.
    """
    if not len(mesh.faces) or not float(mesh.face_areas.sum()) > 0.0:
        raise Problem("the body has no surface to wrap.", name, "Give it a mesh with a surface.")
    reach = max(0.5 * closes_m, 1.2 * float(mesh.size.max()) / MOST_CELLS)
    cell = reach / 1.2
    low = mesh.points.min(axis=0) - reach - 1.5 * cell
    count = np.ceil((mesh.points.max(axis=0) + reach + 1.5 * cell - low) / cell).astype(int) + 1
    axes = [low[k] + cell * np.arange(count[k]) for k in range(3)]
    grid = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1)
    tree = build_tree(mesh)
    away = np.linalg.norm(grid.reshape(-1, 3) - closest_places(tree, grid.reshape(-1, 3)), axis=1).reshape(count)
    free, _ = ndimage.label(away > reach)
    outside = (free == free[0, 0, 0]) & (away > reach)
    # Never zero at a node: a surface through a node would have faces of no area.
    value = np.where(outside, np.maximum(away - reach, 1e-4 * cell), -np.maximum(np.abs(away - reach), 1e-4 * cell))
    points, faces = _surface_of(value)
    points = low + cell * points
    drawn = _drawn_in(points, faces, tree, STAND_OFF * reach)
    shell = TriMesh(drawn, faces)
    # Six tetrahedra a cell are many faces: most can go, as long as it stays closed.
    fewer = reduced(shell, KEPT, name)
    return fewer if fewer.is_closed and abs(volume_m3(fewer) / volume_m3(shell) - 1.0) < 0.01 else shell


def _drawn_in(points: Floats, faces: NDArray[np.int32], tree, stand_off: float) -> Floats:  # type: ignore[no-untyped-def]
    """Return the points moved to `stand_off` (m) from the mesh, the more so the straighter their faces look from it."""
    nearest = closest_places(tree, points)
    way = nearest - points
    far = np.linalg.norm(way, axis=1, keepdims=True)
    normal = point_normals(points, faces)
    straight = np.abs(np.einsum("ij,ij->i", normal, way / np.maximum(far, 1e-300)))[:, None]
    share = np.clip((straight - 0.5) / 0.3, 0.0, 1.0) * np.clip(1.0 - stand_off / np.maximum(far, 1e-300), 0.0, 1.0)
    return points + share * way


def _surface_of(value: Floats) -> tuple[Floats, NDArray[np.int32]]:
    """Return the surface where a grid's values (x, y, z) pass zero, in cells: points (n, 3) and faces (m, 3)."""
    shape = np.array(value.shape)
    stride = np.array([shape[1] * shape[2], shape[2], 1])
    step = CORNERS @ stride
    inside = (value < 0.0).ravel()
    cells = np.stack(np.meshgrid(*[np.arange(n - 1) for n in shape], indexing="ij"), axis=-1).reshape(-1, 3) @ stride
    mixed = inside[cells]
    every, none = mixed.copy(), ~mixed
    for offset in step[1:]:
        every &= inside[cells + offset]
        none &= ~inside[cells + offset]
    cells = cells[~(every | none)]
    tets = (cells[:, None, None] + step[TETS][None]).reshape(-1, 4)
    within = inside[tets]
    many = within.sum(axis=1)
    # Each face's three corners, each on an edge between an inner and an outer node.
    pieces: list[NDArray[np.int64]] = []
    for count in (1, 2, 3):
        of = tets[many == count]
        order = np.argsort(~within[many == count], axis=1, kind="stable")  # inner nodes first
        a, b, c, d = (np.take_along_axis(of, order[:, k : k + 1], axis=1)[:, 0] for k in range(4))
        if count == 1:
            pieces.append(np.stack([a, b, a, c, a, d], axis=1))
        elif count == 3:
            pieces.append(np.stack([a, d, b, d, c, d], axis=1))
        else:
            pieces.append(np.stack([a, c, a, d, b, d], axis=1))
            pieces.append(np.stack([a, c, b, d, b, c], axis=1))
    sides = np.concatenate(pieces).reshape(-1, 2)
    flat = value.ravel()
    keys, which = np.unique(sides[:, 0] * len(flat) + sides[:, 1], return_inverse=True)
    inner, outer = keys // len(flat), keys % len(flat)
    t = flat[inner] / (flat[inner] - flat[outer])
    place = lambda n: np.stack(np.unravel_index(n, tuple(shape)), axis=1).astype(np.float64)  # noqa: E731
    one, other = place(inner), place(outer)
    points = one + t[:, None] * (other - one)
    faces = which.reshape(-1, 3)
    # Each face looks from inside out: along its first edge, from the inner to the outer node.
    normal = np.cross(points[faces[:, 1]] - points[faces[:, 0]], points[faces[:, 2]] - points[faces[:, 0]])
    out = other[faces].mean(axis=1) - one[faces].mean(axis=1)
    turned = np.einsum("ij,ij->i", normal, out) < 0.0
    faces[turned] = faces[turned][:, ::-1]
    return points, np.ascontiguousarray(faces, dtype=np.int32)
