"""How far a proxy stands off its mesh (gap), and how far the mesh sticks out of it (overhang)."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.build import Shape, build_fields
from zembrik.core.distance.field import Fields, distances
from zembrik.core.distance.tree import build_tree, distances_to_mesh
from zembrik.core.mesh.trimesh import TriMesh, volume_m3
from zembrik.core.proxy.outline import outline

SAMPLES = 6000
QUERIES = 4000
MANY_FACES = 300
LONG_S = 0.05  # all queries are asked only where they take less
MESHES = ("surface", "reduced", "shell")  # kinds that are asked as a mesh, exactly and slowly
NEAR = 0.01  # of a body's size that a proxy may be off


@dataclass(frozen=True)
class Fit:
    """A proxy held against its mesh; metres.

    Attributes:
        gap_m, mean_gap_m: largest and mean distance from the proxy's surface to the mesh.
        gap_at: float64 (3,), where the largest is.
        overhang_m, mean_overhang_m: how far the mesh sticks out of the proxy at most, and in the mean of all of it.
        overhang_at: float64 (3,).
        volume_ratio: the proxy's volume over the mesh's; None where either has none.
        faces: of the proxy as it is drawn.
        watertight: whether the proxy has an inside.
        query_ns: what asking it for a distance takes, nanoseconds, on this machine.
    """

    gap_m: float
    mean_gap_m: float
    gap_at: NDArray[np.float64]
    overhang_m: float
    mean_overhang_m: float
    overhang_at: NDArray[np.float64]
    volume_ratio: float | None
    faces: int
    watertight: bool
    query_ns: float

    def plain(self) -> dict[str, Any]:
        """Return it as JSON."""
        return {k: v.tolist() if isinstance(v, np.ndarray) else v for k, v in vars(self).items()}

    @classmethod
    def of(cls, plain: dict[str, Any]) -> Fit:
        """Return it from JSON."""
        at: dict[str, Any] = {name: np.asarray(plain[name]) for name in ("gap_at", "overhang_at")}
        return cls(**(plain | at))


def measure_fit(parts: list[Shape], mesh: TriMesh) -> Fit:
    """Return what a proxy of one or more parts is to its mesh, sampled evenly over both surfaces (seeded)."""
    drawn, fields = outline(parts, mesh), build_fields(parts)
    # As the solver asks: exact near the proxy, whatever is below farther off.
    query_ns = _query_ns(build_fields(parts, NEAR * float(np.linalg.norm(mesh.size))), len(parts), mesh)
    tight = parts[0].kind != "surface" or drawn.is_closed
    ratio = None
    if mesh.is_closed and parts[0].kind != "plane" and tight:
        # Parts of several hulls overlap a little where they were cut: their volumes add up to slightly too much.
        ratio = sum(volume_m3(outline([part], mesh)) for part in parts) / (volume_m3(mesh) or np.inf)
    if parts[0].kind == "surface" and parts[0].mesh is mesh:
        at = mesh.points[0]
        return Fit(0.0, 0.0, at, 0.0, 0.0, at, ratio, len(mesh.faces), tight, query_ns)
    on_proxy = _outer_places(parts, fields, mesh)
    gap = np.abs(distances_to_mesh(build_tree(mesh), on_proxy))
    on_mesh = np.concatenate([mesh.points, sample_surface(mesh, SAMPLES)])
    out = np.min([_off(part, fields, k, on_mesh) for k, part in enumerate(parts)], axis=0)
    if parts[0].kind == "surface":
        # An open sheet has no inside to stick out of: how far it is, on either side.
        out = np.maximum(out, 0.0) if tight else np.abs(distances_to_mesh(build_tree(drawn), on_mesh))
    worst, far = int(np.argmax(gap)), int(np.argmax(out))
    overhang = max(float(out[far]), 0.0)
    return Fit(
        float(gap[worst]), float(gap.mean()), on_proxy[worst], overhang if overhang > 1e-9 else 0.0,
        float(np.maximum(out, 0.0).mean()), on_mesh[far], ratio, len(drawn.faces), tight, query_ns,
    )  # fmt: skip


def _off(part: Shape, fields: Fields, k: int, places: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the signed distances (n,) of places (n, 3) to part number k; of a hull of many faces, by a tree."""
    if part.kind == "hull" and part.mesh is not None and len(part.mesh.faces) > MANY_FACES:
        return distances_to_mesh(build_tree(part.mesh), places)
    return distances(fields, k, places)[0]


def _outer_places(parts: list[Shape], fields: Fields, mesh: TriMesh) -> NDArray[np.float64]:
    """Return places (k, 3) spread over the outside of a proxy; where one part touches another is inside of it."""
    found, near = [], 1e-4 * (float(np.linalg.norm(mesh.size)) or 1.0)
    for own, part in enumerate(parts):
        drawn = outline([part], mesh)
        places = np.concatenate([drawn.points, sample_surface(drawn, max(SAMPLES // len(parts), 500))])
        for other in range(len(parts)):
            if other != own:
                places = places[distances(fields, other, places)[0] > near]
        found.append(places)
    every = np.concatenate(found)
    return every if len(every) else outline(parts, mesh).points


def _query_ns(fields: Fields, count: int, mesh: TriMesh) -> float:
    """Return how long it takes to ask all parts once, by the fastest of three tries near the mesh."""
    low, size = mesh.points.min(axis=0), np.maximum(mesh.size, 1e-6)
    places = low - 0.1 * size + 1.2 * size * np.random.default_rng(1).random((QUERIES, 3))
    best = np.inf
    few = QUERIES // 20
    for asked in (few, few, few, QUERIES, QUERIES, QUERIES):
        if asked > few and best * QUERIES > LONG_S:
            break  # where even the fastest of a few takes long, they tell enough
        start = time.perf_counter()
        for k in range(count):
            distances(fields, k, places[:asked])
        best = min(best, (time.perf_counter() - start) / asked)
    return 1e9 * best


def recommend(fits: dict[str, Fit], role: str, size_m: float, chosen: str = "") -> tuple[str, str]:
    """Return the kind of proxy to take for a body, and why: the fastest that is near enough everywhere.

    Args:
        fits: by kind. role: "collider" or "rigid". size_m: of the body.
        chosen: what it has now; kept where it is near enough and not twice as slow as the fastest.
    """
    bound = max(NEAR * size_m, 0.001)
    usable = {
        k: f
        for k, f in fits.items()
        if k != "plane" and (role == "collider" or k not in ("surface", "reduced", "shell"))
    }
    near = {k: f for k, f in usable.items() if f.gap_m <= bound and f.overhang_m <= bound}
    if near:
        kind = min(near, key=lambda k: (near[k].query_ns * (1.0 if k != "surface" else 1.2), k))
        words = "the fastest that is"
        if chosen in near and near[chosen].query_ns <= 2.0 * near[kind].query_ns and chosen != kind:
            kind, words = chosen, "fast, and"
        fit = near[kind]
        return kind, (
            f"{words} nowhere more than {bound * 1000:.1f} mm (1% of its size) off the mesh: "
            f"{max(fit.gap_m, fit.overhang_m) * 1000:.1f} mm at worst, {fit.query_ns / 1000:.2f} µs a query."
        )
    if role == "rigid" and "surface" in fits and usable and min(f.gap_m for f in usable.values()) > 3 * bound:
        return "surface", "its hollows are too deep for hulls: things would rest on air. It is the slowest."
    kind = min(usable, key=lambda k: (max(usable[k].gap_m, usable[k].overhang_m), k)) if usable else "surface"
    return kind, "the nearest to the mesh of what it can be."


def sample_surface(mesh: TriMesh, count: int, seed: int = 1) -> NDArray[np.float64]:
    """Return `count` points (count, 3) spread over a mesh by area, the same for the same seed."""
    rng = np.random.default_rng(seed)
    total = mesh.face_areas.cumsum()
    face = np.searchsorted(total, (np.arange(count) + rng.random(count)) / count * total[-1])
    a, b, c = (mesh.points[mesh.faces[np.minimum(face, len(mesh.faces) - 1), k]] for k in range(3))
    r, s = np.sqrt(rng.random(count))[:, None], rng.random(count)[:, None]
    return np.asarray((1 - r) * a + r * (1 - s) * b + r * s * c)
