"""Another spacing of points on the same surface: finer by cutting edges, coarser by taking faces away."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.refine import refine
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem

OVER = 1.3  # edges may be this much longer than the spacing that is asked for: halving cuts them to 0.65 to 1.3 of it
MOST_FACES = 2_000_000


def spacing_of(mesh: TriMesh) -> float:
    """Return the middle length of a mesh's edges, in its unit."""
    return float(np.median(mesh.edge_lengths)) if len(mesh.faces) else 0.0


def respaced(mesh: TriMesh, spacing: float, name: str = "") -> TriMesh:
    """Return the surface with points about `spacing` apart (the mesh's unit).

    Finer meshes keep all old points as their first ones and have exactly the same surface; coarser ones come near it.

    Raises:
        Problem: naming the body, for a spacing that cannot be.
    """
    now = spacing_of(mesh)
    if not 0.0 < spacing < np.inf or now <= 0.0:
        raise Problem("a spacing is more than nothing.", name, "Type one, as in 20 mm.")
    if spacing >= now:
        from zembrik.core.proxy.reduce import reduced

        keep = (now / spacing) ** 2
        if keep * len(mesh.faces) < 8:
            raise Problem("hardly a face would be left.", name, "Choose a smaller spacing.")
        return reduced(mesh, keep, name)
    try:
        return refine(mesh, OVER * spacing, MOST_FACES)
    except ValueError:
        raise Problem(f"that would take more than {MOST_FACES:,} faces.", name, "Choose a larger spacing.") from None


def points_at(mesh: TriMesh, spacing: float) -> int:
    """Return about how many points a surface has at a spacing: they grow with one over its square."""
    return round(len(mesh.points) * (spacing_of(mesh) / spacing) ** 2) if spacing > 0 else 0


def nearest_points(old: NDArray[np.float64], numbers: list[int], new: NDArray[np.float64]) -> list[int]:
    """Return the points of new (m, 3) that lie nearest to some of old (n, 3): pins stay where they are."""
    from scipy.spatial import cKDTree

    inside = [n for n in numbers if n < len(old)]
    return sorted({int(k) for k in cKDTree(new).query(old[inside])[1]}) if inside else []
