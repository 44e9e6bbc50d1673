"""Taking defects out of meshes. Each mend takes away its own kind and leaves everything else as it is."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.audit import NO_AREA, consistent_turns, doubled_points, inward_parts, open_loops
from zembrik.core.mesh.polygons import triangulate
from zembrik.core.mesh.trimesh import TriMesh

MOST_RIM = 5000  # corners of a hole that is filled


def _kept(points: NDArray[np.float64], faces: NDArray[np.integer], groups: tuple[str, ...]) -> TriMesh:
    """Return a mesh of those faces, with the points they use."""
    used = np.zeros(len(points), bool)
    used[faces] = True
    return TriMesh(
        np.ascontiguousarray(points[used]), np.ascontiguousarray((np.cumsum(used) - 1)[faces], dtype=np.int32), groups
    )


def join_points(mesh: TriMesh) -> TriMesh:
    """Return the mesh with points in one place made one; faces that lose a corner by it go."""
    faces = doubled_points(mesh)[mesh.faces]
    whole = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])
    return _kept(mesh.points, faces[whole], mesh.groups)


def drop_loose(mesh: TriMesh) -> TriMesh:
    """Return the mesh without points that no face uses."""
    return _kept(mesh.points, mesh.faces, mesh.groups)


def drop_empty(mesh: TriMesh) -> TriMesh:
    """Return the mesh without faces that have no area.

    A face whose three corners lie in a line has a long side; the face beyond that side is cut at the middle corner, so
    that no slit is left.
    """
    size = float(np.linalg.norm(np.ptp(mesh.points, axis=0))) or 1.0
    for _ in range(20):
        none = mesh.face_areas <= NO_AREA * size * size
        if not none.any():
            return mesh
        faces = [tuple(f) for f in mesh.faces.tolist()]
        of_edge: dict[tuple[int, int], list[int]] = {}
        for n, (a, b, c) in enumerate(faces):
            for edge in ((a, b), (b, c), (c, a)):
                of_edge.setdefault((min(edge), max(edge)), []).append(n)
        gone: set[int] = set()
        more: list[tuple[int, int, int]] = []
        for n in np.flatnonzero(none).tolist():
            face = faces[n]
            lengths = [float(np.linalg.norm(mesh.points[face[k]] - mesh.points[face[k - 1]])) for k in range(3)]
            k = int(np.argmax(lengths))
            a, b, middle = face[k - 1], face[k], face[(k + 1) % 3]
            others = [m for m in of_edge[min(a, b), max(a, b)] if m != n]
            if n in gone or any(m in gone for m in others):
                continue
            gone.add(n)
            if min(lengths) <= 1e-9 * size:
                continue  # it is a point or a line of two points: nothing to cut
            for m in others:
                gone.add(m)
                at = next(i for i in range(3) if {faces[m][i], faces[m][(i + 1) % 3]} == {a, b})
                one, two, top = faces[m][at], faces[m][(at + 1) % 3], faces[m][(at + 2) % 3]
                more += [(one, middle, top), (middle, two, top)]
        left = [f for n, f in enumerate(faces) if n not in gone] + more
        mesh = _kept(mesh.points, np.array(left, dtype=np.int64).reshape(-1, 3), mesh.groups)
    return mesh


def drop_copies(mesh: TriMesh) -> TriMesh:
    """Return the mesh with each face once, whichever way its copies run."""
    _, first = np.unique(np.sort(mesh.faces, axis=1), axis=0, return_index=True)
    return _kept(mesh.points, mesh.faces[np.sort(first)], mesh.groups)


def turn_faces(mesh: TriMesh) -> TriMesh:
    """Return the mesh with all faces of a part running the same way, as most of them do."""
    turn = consistent_turns(mesh)[1]
    faces = np.where(turn[:, None], mesh.faces[:, ::-1], mesh.faces)
    return TriMesh(mesh.points, np.ascontiguousarray(faces), mesh.groups)


def turn_outwards(mesh: TriMesh) -> TriMesh:
    """Return the mesh with closed parts that look inwards turned."""
    label, inward = inward_parts(mesh)
    faces = np.where(np.isin(label, inward)[:, None], mesh.faces[:, ::-1], mesh.faces)
    return TriMesh(mesh.points, np.ascontiguousarray(faces), mesh.groups)


def fill_holes(mesh: TriMesh) -> TriMesh:
    """Return the mesh with every open border closed by a lid of its own points, facing as its neighbours do."""
    lids: list[tuple[int, int, int]] = []
    for loop in open_loops(mesh)[0]:
        if 3 <= len(loop) <= MOST_RIM:
            lids += triangulate(mesh.points, loop[::-1].tolist())
    if not lids:
        return mesh
    return TriMesh(mesh.points, np.concatenate([mesh.faces, np.array(lids, dtype=np.int32)]), mesh.groups)


MENDS: dict[str, tuple[str, Callable[[TriMesh], TriMesh]]] = {
    "doubled points": ("Join them", join_points),
    "loose points": ("Drop them", drop_loose),
    "empty faces": ("Take them out", drop_empty),
    "doubled faces": ("Keep one of each", drop_copies),
    "turned faces": ("Turn them round", turn_faces),
    "inside out": ("Turn them outwards", turn_outwards),
    "holes": ("Close them", fill_holes),
}
