"""How far each place of a mesh is outside of a proxy (overhang) or inside of it (gap), to be drawn on the mesh."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.build import Shape, build_fields
from zembrik.core.distance.field import distances
from zembrik.core.distance.tree import build_tree, distances_to_mesh
from zembrik.core.mesh.refine import refine
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.proxy.outline import outline

PARTS = 40  # an edge of the drawn mesh is no longer than the body's size over this
MOST_FACES = 120_000


def deviations(parts: list[Shape], mesh: TriMesh) -> tuple[TriMesh, NDArray[np.float64]]:
    """Return a finer mesh of the same surface, and for its points (n,) the signed distance to the proxy, metres.

    Positive where the mesh sticks out of the proxy, negative where the proxy stands off it. An open proxy has
    no inside: there all is counted as standing off.
    """
    longest = float(np.linalg.norm(mesh.size)) / PARTS
    while True:
        try:
            finer = refine(mesh, longest, MOST_FACES)
            break
        except ValueError:
            longest *= 2.0
    drawn = outline(parts, mesh)
    if parts[0].kind == "surface":
        if parts[0].mesh is mesh:
            return finer, np.zeros(len(finer.points))
        if not drawn.is_closed:
            return finer, -np.abs(distances_to_mesh(build_tree(drawn), finer.points))
    fields = build_fields(parts)
    return finer, np.min([distances(fields, k, finer.points)[0] for k in range(len(parts))], axis=0)
