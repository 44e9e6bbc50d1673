"""How far a proxy stands off its mesh (gap), and how far the mesh sticks out of it (overhang)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.build import Shape, build_fields
from zembrik.core.distance.field import distances
from zembrik.core.distance.tree import build_tree, distances_to_mesh
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.proxy.outline import outline

SAMPLES = 6000


@dataclass(frozen=True)
class Fit:
    """A proxy held against its mesh; metres.

    Attributes:
        gap_m, mean_gap_m: largest and mean distance from the proxy's surface to the mesh.
        gap_at: float64 (3,), where the largest is.
        overhang_m: how far the mesh sticks out of the proxy at most.
        overhang_at: float64 (3,).
    """

    gap_m: float
    mean_gap_m: float
    gap_at: NDArray[np.float64]
    overhang_m: float
    overhang_at: NDArray[np.float64]


def measure_fit(parts: list[Shape], mesh: TriMesh) -> Fit:
    """Return the gap and overhang of a proxy of one or more parts, sampled evenly over both surfaces (seeded)."""
    if parts[0].kind == "surface":
        at = mesh.points[0]
        return Fit(0.0, 0.0, at, 0.0, at)
    drawn = outline(parts, mesh)
    fields = build_fields(parts)
    on_proxy = np.concatenate([drawn.points, sample_surface(drawn, SAMPLES)])
    if len(parts) > 1:  # what lies inside another part is no surface of the proxy
        deep = np.min([distances(fields, k, on_proxy)[0] for k in range(len(parts))], axis=0)
        on_proxy = on_proxy[deep > -1e-6]
    gap = np.abs(distances_to_mesh(build_tree(mesh), on_proxy))
    on_mesh = np.concatenate([mesh.points, sample_surface(mesh, SAMPLES)])
    out = np.min([distances(fields, k, on_mesh)[0] for k in range(len(parts))], axis=0)
    worst, far = int(np.argmax(gap)), int(np.argmax(out))
    overhang = max(float(out[far]), 0.0)
    return Fit(
        float(gap[worst]),
        float(gap.mean()),
        on_proxy[worst],
        overhang if overhang > 1e-9 else 0.0,
        on_mesh[far],
    )


def sample_surface(mesh: TriMesh, count: int, seed: int = 1) -> NDArray[np.float64]:
    """Return `count` points (count, 3) spread over a mesh by area, the same for the same seed."""
    rng = np.random.default_rng(seed)
    total = mesh.face_areas.cumsum()
    face = np.searchsorted(total, (np.arange(count) + rng.random(count)) / count * total[-1])
    a, b, c = (mesh.points[mesh.faces[np.minimum(face, len(mesh.faces) - 1), k]] for k in range(3))
    r, s = np.sqrt(rng.random(count))[:, None], rng.random(count)[:, None]
    return np.asarray((1 - r) * a + r * (1 - s) * b + r * s * c)
