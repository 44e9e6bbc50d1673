"""What is told of a trial: how long it took, how good it is, how it looks, how far it is from another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.reader import Cache
from zembrik.core.mesh.trimesh import TriMesh

Floats = NDArray[np.float64]
LAST_FRAMES = 6  # over which what still moves is measured
MOST_COMPARED = 12  # frames, evenly picked, over which two caches are compared


@dataclass(frozen=True)
class Figures:
    """Of one trial's cache.

    Attributes:
        frame_s: seconds a frame, the median. whole_s: all frames together. These and the next two are None of a cache
            that was handed in: nobody knows.
        penetration_m: the deepest of all frames. stretch: the largest of all frames, a share.
        wrinkle_per_m: how much the cloth is bent at the last frame: its mean curvature over its area, 1/m.
        moving_m_per_s: how fast its points still go in the last frames, root mean square.
    """

    frame_s: float | None
    whole_s: float | None
    penetration_m: float | None
    stretch: float | None
    wrinkle_per_m: float | None
    moving_m_per_s: float


def figures_of(cache: Cache) -> Figures | None:
    """Return what is told of a cache; None while it has no frame beside the first."""
    if cache.done is None or cache.done <= cache.first:
        return None
    seconds, ours = cache.figure("timing/seconds")[1:].astype(np.float64), cache.foreign is None
    bent, area = 0.0, 0.0
    total, count = 0.0, 0
    before = max(cache.first, cache.done - LAST_FRAMES)
    for number in range(len(cache.names)):
        last = cache.points(number, cache.done).astype(np.float64)
        if not cache.is_rigid(number):
            mesh = TriMesh(last, cache.faces(number, cache.done))
            bent += bending_m(mesh)
            area += float(mesh.face_areas.sum())
        if cache.changes(number):
            continue  # its points are others from frame to frame: none of them moves
        way = (last - cache.points(number, before)) * (cache.fps / max(cache.done - before, 1))
        total, count = total + float((way * way).sum()), count + len(way)
    return Figures(
        float(np.median(seconds)) if ours else None,
        float(seconds.sum()) if ours else None,
        float(np.nanmax(cache.figure("stats/worst_penetration"))) if ours else None,
        float(np.nanmax(cache.figure("stats/worst_stretch"))) if ours else None,
        bent / area if area > 0.0 else None,
        float(np.sqrt(total / max(count, 1))),
    )


def bending_m(mesh: TriMesh) -> float:
    """Return a mesh's mean curvature summed over its area, metres: half of each edge's angle times its length.

    (The discrete total mean curvature, without sign; Cohen-Steiner and Morvan 2003.) A cylinder of radius r and
    length l has 2π r l / (2 r) = π l.
    """
    hinges = mesh.hinges
    if not len(hinges):
        return 0.0
    a, b, c, d = (mesh.points[hinges[:, k]] for k in range(4))
    one, two = np.cross(b - a, c - a), np.cross(d - a, b - a)
    across = np.cross(one, two)
    angle = np.arctan2(np.linalg.norm(across, axis=1), np.einsum("ij,ij->i", one, two))
    return float((0.5 * angle * np.linalg.norm(b - a, axis=1)).sum())


@dataclass(frozen=True)
class Apart:
    """How far two caches are from each other, metres.

    Attributes:
        mean_m, most_m: over all points of all compared frames.
        pointwise: whether point was held against point; else each point against the other's nearest surface.
        frames: how many frames were compared.
    """

    mean_m: float
    most_m: float
    pointwise: bool
    frames: int


def apart(one: Cache, other: Cache) -> Apart | None:
    """Return how far two caches of the same bodies are from each other over the frames that both have.

    None when they share no frame or no body.
    """
    if one.done is None or other.done is None:
        return None
    first, last = max(one.first, other.first), min(one.done, other.done)
    shared = [name for name in one.names if name in other.names]
    if first > last or not shared:
        return None
    frames = np.unique(np.linspace(first, last, min(last - first + 1, MOST_COMPARED)).round().astype(int)).tolist()
    total, count, most, pointwise = 0.0, 0, 0.0, True
    for name in shared:
        a, b = one.body_number(name), other.body_number(name)
        same = one.point_counts[a] == other.point_counts[b] and not (one.changes(a) or other.changes(b))
        pointwise = pointwise and same
        for frame in frames:
            p, q = one.points(a, frame).astype(np.float64), other.points(b, frame).astype(np.float64)
            if same:
                way = np.linalg.norm(p - q, axis=1)
            else:
                way = np.concatenate([_to_surface(p, q, other.faces(b, frame)), _to_surface(q, p, one.faces(a, frame))])
            total, count, most = total + float(way.sum()), count + len(way), max(most, float(way.max()))
    return Apart(total / count, most, pointwise, len(frames))


def _to_surface(points: Floats, of: Floats, faces: NDArray[np.int32]) -> Floats:
    """Return how far points (n, 3) are from a surface (n,), metres."""
    from zembrik.core.distance.tree import build_tree, closest_places  # brings the compiler, which no page waits for

    return np.linalg.norm(points - closest_places(build_tree(TriMesh(of, faces)), points), axis=1)
