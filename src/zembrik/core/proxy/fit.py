"""Fitting a stand-in shape around a mesh."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import ConvexHull, QhullError

from zembrik.core.distance.build import Shape
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem

OWN_AXES = 1.02  # a box along the body's own axes may be this much larger than the smallest
MOST_NORMALS = 400  # directions that are tried for a box


def fit_proxy(kind: str, mesh: TriMesh, turn: NDArray[np.float64] | None = None, name: str = "") -> Shape:
    """Return the proxy of a kind that encloses a placed mesh (plane: lies on top of it).

    Args:
        kind: one of `words.PROXY_WORDS`.
        mesh: the body's mesh in world space, metres.
        turn: (3, 3), the body's own axes, which a box follows.
        name: of the body, for errors.

    Raises:
        Problem: when the mesh is too flat or too small for that kind.
    """
    if not len(mesh.faces):
        raise Problem("the body has no faces.", name, "Give it a mesh with a surface.")
    turn = np.eye(3) if turn is None else turn
    points = mesh.points
    if kind == "surface":
        return Shape("surface", mesh=mesh)
    if kind == "ball":
        centre, radius = enclosing_ball(points)
        return Shape("ball", origin=centre, radius_m=radius)
    if kind == "box":
        own, smallest = _box_along(turn, points), smallest_box(points)
        # Along the body's own axes where that is as good: a box that was modelled as one stays as it is.
        return own if own.half_m.prod() <= OWN_AXES * smallest.half_m.prod() else smallest
    if kind == "capsule":
        return _capsule(points)
    if kind == "plane":
        return _plane(points)
    return Shape("hull", mesh=convex_hull(points, name))


def _box_along(turn: NDArray[np.float64], points: NDArray[np.float64]) -> Shape:
    local = points @ turn
    low, high = local.min(axis=0), local.max(axis=0)
    return Shape("box", turn=turn, origin=turn @ ((low + high) / 2), half_m=(high - low) / 2)


def smallest_box(points: NDArray[np.float64]) -> Shape:
    """Return a turned box around points (n, 3), metres, that no box with a side on a face of their hull undercuts.

    For each direction of a hull face, the smallest rectangle around the shadow has a side along an edge of
    the shadow's outline (Freeman and Shapira 1975). The very smallest box need not lie on a face (O'Rourke
    1985), but hardly ever is smaller by more than a few per cent.
    """
    middle = points.mean(axis=0)
    try:
        hull = ConvexHull(points)
    except QhullError:  # flat: its plane is one side
        axes = np.linalg.eigh(np.cov((points - middle).T))[1]
        normals, corners = axes[:, :1].T, points
    else:
        normals, corners = hull.equations[:, :3], points[hull.vertices]
        normals = normals * np.where(normals @ np.array([1.0, 1e-3, 1e-6]) < 0, -1.0, 1.0)[:, None]
        normals = np.unique(np.round(normals, 6), axis=0)
        normals = normals[:: -(-len(normals) // MOST_NORMALS)]
    best, least = _box_along(np.eye(3), points), np.inf
    for normal in normals:
        normal = normal / np.linalg.norm(normal)
        frame = _frame_with_y(normal)
        shadow = (corners - middle) @ frame[:, [2, 0]]
        try:
            outline = shadow[ConvexHull(shadow).vertices]
        except QhullError:
            continue
        sides = np.roll(outline, -1, axis=0) - outline
        angles = np.unique(np.round(np.arctan2(sides[:, 1], sides[:, 0]) % (np.pi / 2), 9))
        c, s = np.cos(angles), np.sin(angles)
        along, across = outline @ np.stack([c, s]), outline @ np.stack([-s, c])
        area = np.ptp(along, axis=0) * np.ptp(across, axis=0)
        k = int(np.argmin(area))
        volume = float(area[k]) * float(np.ptp(corners @ normal))
        if volume < least * (1 - 1e-9):
            u, v = frame[:, 2] * c[k] + frame[:, 0] * s[k], frame[:, 0] * c[k] - frame[:, 2] * s[k]
            best, least = _box_along(np.stack([u, v, np.cross(u, v)], axis=1), points), volume
    return best


def enclosing_ball(points: NDArray[np.float64]) -> tuple[NDArray[np.float64], float]:
    """Return centre (3,) and radius of a small ball around points (n, 3), in their unit.

    Starts from the middle of the bounding box and walks towards the farthest point with
    shrinking steps (Bădoiu and Clarkson 2003); the radius covers every point exactly.
    """
    centre = (points.min(axis=0) + points.max(axis=0)) / 2
    best, radius = centre, float(np.linalg.norm(points - centre, axis=1).max())
    for step in range(1, 200):
        far = int(np.argmax(((points - centre) ** 2).sum(axis=1)))
        centre = centre + (points[far] - centre) / (step + 1)
        reach = float(np.linalg.norm(points - centre, axis=1).max())
        if reach < radius:
            best, radius = centre, reach
    return best, radius


def _capsule(points: NDArray[np.float64]) -> Shape:
    middle = points.mean(axis=0)
    axis = np.linalg.eigh(np.cov((points - middle).T))[1][:, -1]
    axis = axis if axis[np.argmax(np.abs(axis))] > 0 else -axis
    along = (points - middle) @ axis
    off = points - middle - np.outer(along, axis)
    # The smallest circle around the shadow along the axis, by the same walk as for a ball.
    shift, radius = enclosing_ball(off)
    shift = shift - axis * (shift @ axis)
    radius = max(float(np.linalg.norm(off - shift, axis=1).max()), 1e-6)
    inset = np.sqrt(np.maximum(radius**2 - ((off - shift) ** 2).sum(axis=1), 0.0))
    high, low = float((along - inset).max()), float((along + inset).min())
    if high < low:
        high = low = (high + low) / 2
    # Points near the rims may stick out of a core that short: widen until all are inside.
    origin = middle + shift + axis * (high + low) / 2
    half = (high - low) / 2
    rest = (points - origin) - np.outer(np.clip((points - origin) @ axis, -half, half), axis)
    radius = float(np.linalg.norm(rest, axis=1).max())
    return Shape("capsule", turn=_frame_with_y(axis), origin=origin, radius_m=radius, half_m=np.array([0, half, 0]))


def _plane(points: NDArray[np.float64]) -> Shape:
    middle = points.mean(axis=0)
    normal = np.linalg.eigh(np.cov((points - middle).T))[1][:, 0]
    normal = normal if normal[1] > 0 or (normal[1] == 0 and normal[0] > 0) else -normal
    top = float(((points - middle) @ normal).max())
    return Shape("plane", turn=_frame_with_y(normal), origin=middle + normal * top)


def _frame_with_y(axis: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return a right-handed frame (3, 3) whose second column is the unit axis."""
    side = np.cross(axis, np.eye(3)[int(np.argmin(np.abs(axis)))])
    side /= np.linalg.norm(side)
    return np.stack([side, axis, np.cross(side, axis)], axis=1)


def convex_hull(points: NDArray[np.float64], name: str = "") -> TriMesh:
    """Return the convex hull of points (n, 3) as a closed mesh facing out (Qhull; Barber et al. 1996)."""
    try:
        hull = ConvexHull(points)
    except QhullError:
        raise Problem(
            "the mesh is flat, so a hull around it would have no inside.", name, "Choose plane, box or surface."
        ) from None
    used = np.unique(hull.simplices)
    renumber = np.zeros(len(points), dtype=np.int32)
    renumber[used] = np.arange(len(used))
    corners = points[hull.simplices]
    facing = np.einsum(
        "ij,ij->i", np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), hull.equations[:, :3]
    )
    faces = np.where((facing < 0)[:, None], hull.simplices[:, ::-1], hull.simplices)
    return TriMesh(points[used], np.ascontiguousarray(renumber[faces]))
