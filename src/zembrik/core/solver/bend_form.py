"""How much each hinge of a mesh resists bending, and how hinges of one triangle depend on one another.

A fabric of bending stiffness B (N·m) whose curvature is the form K (1/m) holds ½ B K:K per area:
a strip of it bends like a beam of B a width, whichever way it is cut, and nothing bulges across
(Poisson's ratio 0). On each triangle, flattened with its neighbours, three hinges see three
numbers of K: the angles θ = C K. So the energy of a triangle of area A is a form in its own
three angles,

    ½ B A θᵀ M θ,    M = (C Q⁻¹ Cᵀ)⁻¹,    Q = diag(1, 1, 2) for K as (Kxx, Kyy, Kxy),

exact for every even curvature on every mesh (Grinspun, Gingold, Reisman and Zorin 2006 take such
a form from the angles of a triangle, too); at a border, where hinges are missing, it is the least that any K
with these angles holds. A sum over hinges of w θ² alone cannot be that: fitted to cylinders, a
lattice whose diagonals all lean one way hangs 1.4 to 3.5 times too low, depending on how it is cut, and random
triangles 1.7 times; on a lattice of alternating diagonals both are the same, M being diagonal there.

A mesh that is free to choose bends cheaper where neighbouring hinges may turn against one another.
Measured by statics (clamped strips, and sheets held at their borders), that is so on lattices of alternating diagonals,
however irregular, where points with four and eight edges alternate: 1.36 to 1.38 times at every spacing. Where six
meet it is 1.00, on random Delaunay triangles 1.06, on evenly spaced ones 1.03. So each triangle's energy is raised
by CHEQUER times the share of its points inside the mesh that have four or eight edges.
Strips of all those meshes then hang within 6% of beam theory (`tests/core/test_bend_form.py`).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.trimesh import TriMesh

CHEQUER = 0.36
RIDGE = 1e-3  # of each angle's own part, so that three that hardly differ do not cancel
BLOCK = 16384  # faces at a time, for the memory's sake
NONE = 1e-9  # of a hinge's own part: what hinges of one triangle have to do with one another, below which it is nothing

Floats = NDArray[np.float64]


class BendForm(NamedTuple):
    """The form ½ B θᵀ F θ of H hinges.

    Attributes:
        own: float64 (H,), pure numbers: the stiffness each is projected with, at least F's own.
        near: int32 (H, 4), the other hinges of its two triangles; itself where there is none.
        share: float64 (H, 5): what part of its own angle, and of theirs, it is drawn to: with e* = Σ share e, the
            torque of own (e - e*) is that of F. Both are empty where no hinge depends on another.
    """

    own: Floats
    near: NDArray[np.int32]
    share: Floats

    @property
    def coupled(self) -> bool:
        """Whether any hinge depends on another."""
        return bool(len(self.share))

    @property
    def full(self) -> BendForm:
        """The same with near and share for every hinge."""
        count = len(self.own)
        alone = np.tile(np.arange(count, dtype=np.int32)[:, None], 4)
        return self if self.coupled else BendForm(self.own, alone, np.zeros((count, 5)))


def bend_form(mesh: TriMesh) -> BendForm:
    """Return the form of `mesh.hinges`."""
    count = len(mesh.hinges)
    none = np.zeros((0, 4), np.int32), np.zeros((0, 5))
    if not count:
        return BendForm(np.zeros(0), *none)
    near = np.tile(np.arange(count, dtype=np.int32)[:, None], 4)
    of_face = _hinges_of_faces(mesh)
    there = of_face >= 0
    form = np.empty((len(of_face), 3, 3))
    size = (1.0 + CHEQUER * _chequered(mesh)) * mesh.face_areas
    for first in range(0, len(form), BLOCK):
        block = slice(first, first + BLOCK)
        form[block] = _forms(mesh, of_face, block) * size[block, None, None]
    diagonal = np.bincount(of_face[there], np.einsum("fee->fe", form)[there], count)
    pull, filled = np.zeros((count, 4)), np.zeros(count, np.int64)
    for e in range(3):
        for k in (1, 2):  # the two others of the triangle; a hinge meets at most two triangles
            other = (e + k) % 3
            some = np.flatnonzero(there[:, e] & there[:, other])
            mine = of_face[some, e]
            # Each turn, a hinge comes at most twice: once from either triangle.
            for part in _once(mine):
                place = filled[mine[part]]
                near[mine[part], place] = of_face[some[part], other]
                pull[mine[part], place] = form[some[part], e, other]
                filled[mine[part]] += 1
    # Hinges are projected one after the other, each with what the others had before: that settles, and keeps
    # settling as they move on, while no hinge is pulled by others by more than it resists itself (Gershgorin).
    own = np.maximum(diagonal, 0.5 * (diagonal + np.abs(pull).sum(axis=1)))
    share = np.column_stack([1.0 - diagonal / own, -pull / own[:, None]])
    return BendForm(own, near, share) if (np.abs(share) > NONE).any() else BendForm(own, *none)


def _once(numbers: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    """Return where each number stands first, and where it stands again."""
    first = np.unique(numbers, return_index=True)[1]
    again = np.setdiff1d(np.arange(len(numbers)), first)
    return [first, again]


def _hinges_of_faces(mesh: TriMesh) -> NDArray[np.int64]:
    """Return the hinges at each face's three edges, int64 (faces, 3); -1 at a border."""
    hinges, stride = mesh.hinges, len(mesh.points)
    of_edge = np.full(len(mesh.edges), -1)
    keys = mesh.edges[:, 0] * stride + mesh.edges[:, 1]
    low, high = np.minimum(hinges[:, 0], hinges[:, 1]), np.maximum(hinges[:, 0], hinges[:, 1])
    of_edge[np.searchsorted(keys, low.astype(np.int64) * stride + high)] = np.arange(len(hinges))
    return of_edge[mesh.face_edges]


def _forms(mesh: TriMesh, of_face: NDArray[np.int64], some: slice) -> Floats:
    """Return M of some faces, (m, 3, 3); nothing where there is no hinge."""
    there = of_face[some] >= 0
    flat, opposite = _flattened(mesh, of_face, some)
    angles = np.zeros((len(flat), 3, 3))
    for e in range(3):
        a, b, c = flat[:, e], flat[:, (e + 1) % 3], flat[:, (e + 2) % 3]
        angles[:, e] = _angle_of_curvature(a, b, c, opposite[:, e])
    gram = np.einsum("fek,k,fgk->feg", angles, [1.0, 1.0, 0.5], angles)
    both = there[:, :, None] & there[:, None, :]
    ridge = np.where(there, RIDGE * np.einsum("fee->fe", gram), 1.0)
    gram = np.where(both, gram, 0.0) + np.eye(3) * ridge[:, :, None]
    return np.where(both, np.linalg.inv(gram), 0.0)


def _chequered(mesh: TriMesh) -> Floats:
    """Return the share (faces,) of each face's points inside the mesh that have four or eight edges."""
    edges = np.bincount(mesh.edges.ravel(), minlength=len(mesh.points))
    inside = np.ones(len(mesh.points), bool)
    inside[mesh.edges[mesh.edge_use != 2].ravel()] = False
    chequer = inside & ((edges == 4) | (edges == 8))
    count = inside[mesh.faces].sum(axis=1)
    return chequer[mesh.faces].sum(axis=1) / np.maximum(count, 1)


def _flattened(mesh: TriMesh, of_face: NDArray[np.int64], some: slice):  # type: ignore[no-untyped-def]
    """Return some faces' corners in their planes and their neighbours' far points folded flat, (m, 3, 2) both."""
    faces, of_face = mesh.faces[some], of_face[some]
    p = mesh.points[faces]
    u = p[:, 1] - p[:, 0]
    u /= np.linalg.norm(u, axis=1, keepdims=True)
    v = np.cross(mesh.face_normals[some], u)
    flat = np.stack([np.einsum("fki,fi->fk", p - p[:, :1], u), np.einsum("fki,fi->fk", p - p[:, :1], v)], axis=2)
    opposite = np.zeros_like(flat)
    for e in range(3):
        hinge = mesh.hinges[np.maximum(of_face[:, e], 0)]
        own = faces[:, (e + 2) % 3]
        far = mesh.points[np.where(hinge[:, 2] == own, hinge[:, 3], hinge[:, 2])]
        start, along = p[:, e], p[:, (e + 1) % 3] - p[:, e]
        length = np.linalg.norm(along, axis=1)
        along = along / length[:, None]
        run = np.einsum("fi,fi->f", far - start, along)
        height = np.linalg.norm(far - start - along * run[:, None], axis=1)
        height = np.where(of_face[:, e] < 0, length, height)  # a border has no neighbour: any sound number does
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
