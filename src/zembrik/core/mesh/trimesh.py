"""The triangle mesh and its adjacency."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, eq=False)
class TriMesh:
    """Points and triangles.

    Attributes:
        points: float64 (points, 3), metres with Y up unless a caller says otherwise.
        faces: int32 (faces, 3), counter-clockwise seen from outside.
        groups: names of the parts found in the file, in order.
    """

    points: NDArray[np.float64]
    faces: NDArray[np.int32]
    groups: tuple[str, ...] = field(default=())

    @cached_property
    def bounds(self) -> NDArray[np.float64]:
        """The box (2, 3) around the points: lowest corner, highest corner."""
        return np.array([self.points.min(axis=0), self.points.max(axis=0)])

    @cached_property
    def size(self) -> NDArray[np.float64]:
        """The extent (3,) along each axis."""
        return self.bounds[1] - self.bounds[0]

    @cached_property
    def face_vectors(self) -> NDArray[np.float64]:
        """The normals (faces, 3) with the length of twice each face's area."""
        a, b, c = (self.points[self.faces[:, k]] for k in range(3))
        return np.cross(b - a, c - a)

    @cached_property
    def face_areas(self) -> NDArray[np.float64]:
        """The areas (faces,)."""
        return 0.5 * np.linalg.norm(self.face_vectors, axis=1)

    @cached_property
    def face_normals(self) -> NDArray[np.float64]:
        """The unit normals (faces, 3); zero for a face without area."""
        length = np.linalg.norm(self.face_vectors, axis=1, keepdims=True)
        return self.face_vectors / np.where(length > 0, length, 1.0)

    @cached_property
    def _edge_table(self) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
        sides = np.sort(self.faces[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2).astype(np.int64), axis=1)
        stride = np.int64(max(len(self.points), 1))  # one number a side: sorting those is much faster than rows
        keys, inverse, counts = np.unique(sides[:, 0] * stride + sides[:, 1], return_inverse=True, return_counts=True)
        return np.stack([keys // stride, keys % stride], axis=1), inverse.reshape(-1, 3), counts

    @property
    def edges(self) -> NDArray[np.int64]:
        """The edges (edges, 2), each once, lower point first, sorted."""
        return self._edge_table[0]

    @property
    def face_edges(self) -> NDArray[np.int64]:
        """For each face (faces, 3) the edges from its corner k to its corner k + 1."""
        return self._edge_table[1]

    @property
    def edge_use(self) -> NDArray[np.int64]:
        """How many faces each edge (edges,) has: 1 is a border, 2 is inside, more is non-manifold."""
        return self._edge_table[2]

    @cached_property
    def edge_lengths(self) -> NDArray[np.float64]:
        """The lengths (edges,)."""
        a, b = self.points[self.edges[:, 0]], self.points[self.edges[:, 1]]
        return np.linalg.norm(b - a, axis=1)

    @cached_property
    def is_closed(self) -> bool:
        """Whether every edge has exactly two faces."""
        return bool(len(self.faces) and (self.edge_use == 2).all())

    @cached_property
    def hinges(self) -> NDArray[np.int32]:
        """The inner edges with the points opposite them: int32 (hinges, 4).

        Columns: edge start, edge end, opposite point of the face in which the edge runs
        from start to end, opposite point of the other face. Edges of more than two faces
        and edges whose two faces run the same way are left out.
        """
        flat = self.face_edges.reshape(-1)
        order = np.argsort(flat, kind="stable")
        inner = np.flatnonzero(self.edge_use == 2)
        first = np.searchsorted(flat[order], inner)
        one, two = order[first], order[first + 1]
        corners = self.faces.astype(np.int64)

        def side(slot: NDArray[np.int64]) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
            face, k = slot // 3, slot % 3
            return corners[face, k], corners[face, (k + 1) % 3], corners[face, (k + 2) % 3]

        a, b, c = side(one)
        a2, b2, d = side(two)
        fits = (a == b2) & (b == a2) & (c != d)
        return np.stack([a, b, c, d], axis=1)[fits].astype(np.int32)

    @cached_property
    def content_hash(self) -> str:
        """A hash of points and faces: equal meshes have equal hashes."""
        digest = hashlib.sha256()
        digest.update(np.ascontiguousarray(self.points, dtype="<f8").tobytes())
        digest.update(np.ascontiguousarray(self.faces, dtype="<i4").tobytes())
        return digest.hexdigest()

    def moved(self, points: NDArray[np.float64]) -> TriMesh:
        """Return the same faces on other points (points, 3)."""
        mesh = TriMesh(np.ascontiguousarray(points, dtype=np.float64), self.faces, self.groups)
        for name in ("_edge_table", "is_closed", "hinges"):  # these know only the faces
            if name in self.__dict__:
                mesh.__dict__[name] = self.__dict__[name]
        return mesh


def point_normals(points: NDArray[np.floating], faces: NDArray[np.int32]) -> NDArray[np.float64]:
    """Return unit normals (points, 3): the faces' normals averaged by area."""
    a, b, c = (points[faces[:, k]].astype(np.float64) for k in range(3))
    vectors = np.cross(b - a, c - a)
    total = np.zeros((len(points), 3))
    for k in range(3):
        for axis in range(3):
            total[:, axis] += np.bincount(faces[:, k], weights=vectors[:, axis], minlength=len(points))
    length = np.linalg.norm(total, axis=1, keepdims=True)
    return np.where(length > 1e-300, total / np.where(length > 0, length, 1.0), np.array([0.0, 1.0, 0.0]))


def volume_m3(mesh: TriMesh) -> float:
    """Return the volume (m³) inside a closed mesh, by the divergence theorem."""
    a, b, c = (mesh.points[mesh.faces[:, k]] for k in range(3))
    return float(np.einsum("ij,ij->", a, np.cross(b, c)) / 6.0)
