"""Several hulls: a hollow shape cut into parts that have few hollows, each in its own hull.

The part with the deepest hollow is cut by the plane that leaves the smallest hulls, again
and again, until no hollow is deeper than asked or there are as many parts as allowed. Of a
mesh with very many faces a coarser one says where to cut; the cuts are then made in the mesh itself.
"""

from __future__ import annotations

from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import ConvexHull, QhullError

from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.proxy.reduce import reduced
from zembrik.core.telling import Tell, silent, step

Floats = NDArray[np.float64]
MANY_FACES = 5000
CHUNK = 1024  # places that are held against all planes at once
DEEP = 4.0  # times the hollow that may be left
CUTS = 9  # places tried along each axis
LEAST_SHARE = 0.02  # of the whole volume: a smaller part is not worth a hull


class _Part:
    """A piece of the surface: its triangles' corners (t, 3, 3), its hull, and how deep its hollows are (m).

    `cuts` are the planes (axis, offset) above which it lies, in the order they were made.
    """

    def __init__(self, corners: Floats, cuts: tuple[tuple[Floats, float], ...] = ()) -> None:
        self.corners, self.cuts = corners, cuts
        self.all_points = np.unique(corners.reshape(-1, 3).round(12), axis=0)
        self.hull = ConvexHull(self.all_points)  # Barber, Dobkin and Huhdanpaa 1996
        self.points = self.all_points[self.hull.vertices]
        self.volume = float(self.hull.volume)

    @cached_property
    def hollow(self) -> float:
        """How far the place of the surface that is deepest inside the hull is from the hull's surface, metres."""
        seen, planes, deepest = np.concatenate([self.all_points, self.corners.mean(axis=1)]), self.hull.equations, 0.0
        for first in range(0, len(seen), CHUNK):
            inside = -(seen[first : first + CHUNK] @ planes[:, :3].T + planes[:, 3]).max(axis=1)
            deepest = max(deepest, float(inside.max()))
        return deepest


def several_hulls(mesh: TriMesh, most: int, hollow_share: float, name: str = "", tell: Tell = silent) -> list[Floats]:
    """Return the corners of each part's hull, float64 (k, 3), metres.

    Args:
        mesh: a closed mesh, metres.
        most: how many hulls there may be.
        hollow_share: the deepest hollow left, as a share of the mesh's size.
        name: of the body, for errors.
        tell: is called before every cut, with the parts so far.

    Raises:
        Problem: when the mesh is flat.
        Stopped: when `tell` says so.
    """
    bound = hollow_share * float(np.linalg.norm(mesh.size))
    whole_corners = mesh.points[mesh.faces[mesh.face_areas > 0]]
    coarse = whole_corners
    if len(mesh.faces) > MANY_FACES:
        fewer = reduced(mesh, MANY_FACES / len(mesh.faces), name)
        coarse = fewer.points[fewer.faces[fewer.face_areas > 0]]
    try:
        parts = [_Part(coarse)]
    except (QhullError, ValueError):
        raise Problem("the mesh is flat, so hulls would have no inside.", name, "Choose box or surface.") from None
    whole = parts[0].volume
    settled: set[int] = set()
    while len(parts) < most:
        step(tell, len(parts), most)
        open_parts = [p for p in parts if p.hollow > bound and id(p) not in settled]
        if not open_parts:
            break
        worst = max(open_parts, key=lambda p: p.hollow)
        halves = _best_cut(worst, whole, worst.hollow > DEEP * bound)
        if halves is None:
            settled.add(id(worst))
            continue
        at = parts.index(worst)
        parts[at : at + 1] = halves
    if coarse is whole_corners:
        return [p.points for p in parts]
    return [_cut_out(whole_corners, p) for p in parts]


def _cut_out(corners: Floats, part: _Part) -> Floats:
    """Return the corners (k, 3) of the hull of what a part's cuts leave of the whole mesh."""
    for axis, offset in part.cuts:
        corners = _clip(corners, axis, offset)
    points = np.unique(corners.reshape(-1, 3).round(12), axis=0)
    try:
        return np.asarray(points[ConvexHull(points).vertices])
    except (QhullError, ValueError):  # a sliver of the coarser mesh only
        return part.points


def _best_cut(part: _Part, whole: float, deep: bool) -> list[_Part] | None:
    """Return the two parts whose hulls are smallest together, or None when no cut helps.

    With a deep hollow the part is halved even so: of a ring only the second cut makes the hulls smaller.
    """
    middle = part.points.mean(axis=0)
    axes = np.linalg.eigh(np.cov((part.points - middle).T))[1].T[::-1]  # the longest first
    best, least, half = None, part.volume * 0.995, None
    for axis in axes:
        along = part.points @ axis
        for share in np.linspace(0.1, 0.9, CUTS):
            offset = float(along.min() + share * np.ptp(along))
            ways = [(axis, offset), (-axis, -offset)]
            sides = [_clip(part.corners, *way) for way in ways]
            if min(len(s) for s in sides) < 4:
                continue
            try:
                halves = [_Part(side, (*part.cuts, way)) for side, way in zip(sides, ways, strict=True)]
            except (QhullError, ValueError):
                continue
            if min(h.volume for h in halves) < LEAST_SHARE * whole:
                continue
            total = sum(h.volume for h in halves)
            if total < least:
                best, least = halves, total
            elif half is None and abs(share - 0.5) < 1e-9:
                half = halves  # across its longest axis, which comes first
    return half if best is None and deep else best


def _clip(corners: Floats, axis: Floats, offset: float) -> Floats:
    """Return the triangles (t, 3, 3) of what lies above the plane axis · x = offset."""
    height = corners @ axis - offset
    above = height > 0
    count = above.sum(axis=1)
    kept = [corners[count == 3]]
    for k in range(3):
        i, j = (k + 1) % 3, (k + 2) % 3
        lone, pair = above[:, k] & (count == 1), ~above[:, k] & (count == 2)
        for group, only in ((lone, True), (pair, False)):
            t, h = corners[group], height[group]
            if not len(t):
                continue
            one = t[:, k] + (t[:, i] - t[:, k]) * (h[:, k] / (h[:, k] - h[:, i]))[:, None]
            two = t[:, k] + (t[:, j] - t[:, k]) * (h[:, k] / (h[:, k] - h[:, j]))[:, None]
            if only:
                kept.append(np.stack([t[:, k], one, two], axis=1))
            else:
                kept.append(np.stack([one, t[:, i], t[:, j]], axis=1))
                kept.append(np.stack([one, t[:, j], two], axis=1))
    return np.concatenate(kept)
