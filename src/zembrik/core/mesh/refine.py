"""Cutting long edges, so that no edge of a mesh is longer than wanted."""

from __future__ import annotations

import numpy as np

from zembrik.core.mesh.trimesh import TriMesh

# How a face with corners 0 1 2 and midpoints 3 (of 0-1), 4 (of 1-2), 5 (of 2-0) is cut when those edges are.
ONE = np.array([[0, 3, 2], [3, 1, 2]])
TWO = np.array([[0, 3, 2], [3, 4, 2], [3, 1, 4]])
THREE = np.array([[0, 3, 5], [3, 1, 4], [5, 4, 2], [3, 4, 5]])


def refine(mesh: TriMesh, longest_m: float, most_faces: int = 4_000_000) -> TriMesh:
    """Return a mesh of the same surface whose edges are no longer than `longest_m`; its first points are the old ones.

    Every edge that is too long is halved, again and again; neighbours share the new points, so no crack opens.

    Raises:
        ValueError: when that would take more than `most_faces`.
    """
    points, faces = mesh.points, mesh.faces.astype(np.int64)
    while True:
        sides = np.sort(faces[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1)
        edges, of_face = np.unique(sides, axis=0, return_inverse=True)
        of_face = of_face.reshape(-1, 3)
        long = np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1) > longest_m * (1 + 1e-9)
        if not long.any():
            return TriMesh(points, faces.astype(np.int32), mesh.groups)
        if len(faces) + 2 * int(long.sum()) > most_faces:
            raise ValueError("too many faces")
        middle = np.full(len(edges), -1, dtype=np.int64)
        middle[long] = len(points) + np.arange(int(long.sum()))
        points = np.concatenate([points, points[edges[long]].mean(axis=1)])
        cut = long[of_face]
        count = cut.sum(axis=1)
        # Turn each face so that its cut edges come first: of one, it is edge 0-1; of two, 0-1 and 1-2.
        first = np.where(count == 1, cut.argmax(axis=1), np.where(count == 2, (cut.argmin(axis=1) + 1) % 3, 0))
        turn = (first[:, None] + np.arange(3)) % 3
        six = np.concatenate([np.take_along_axis(faces, turn, 1), middle[np.take_along_axis(of_face, turn, 1)]], axis=1)
        pieces = [six[count == n][:, how].reshape(-1, 3) for n, how in ((1, ONE), (2, TWO), (3, THREE))]
        faces = np.concatenate([faces[count == 0], *pieces])
