"""Figures of every point of a cache at a frame: stretch, speed, what still moves, how deep, how far from another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.reader import Cache
from zembrik.core.distance.tree import build_tree, distances_to_mesh
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, placed_mesh
from zembrik.core.setup.document import Setup
from zembrik.core.solver.build import build_world
from zembrik.core.solver.world import World
from zembrik.core.start.overlap import collider_depths
from zembrik.core.units import turn_matrix

Floats = NDArray[np.float64]
STILL_FRAMES = 12  # up to the frame, over which what still moves is measured
KINDS = {  # what: its words, the unit it is shown in, and what a value is multiplied by for that
    "stretch": ("stretch", "%", 100.0),
    "speed": ("speed", "m/s", 1.0),
    "still moves": ("still moves", "mm/s", 1000.0),
    "penetration": ("penetration", "mm", 1000.0),
}


@dataclass(frozen=True)
class Seen:
    """A cache with the setup it was baked from.

    Attributes:
        cache: the frames. setup: what was baked. assets: gives its meshes.
    """

    cache: Cache
    setup: Setup
    assets: Assets


def values_at(seen: Seen, what: str, frame: int, world: World | None = None) -> list[Floats]:
    """Return for each body of the cache a value for every point (points,): a share, m/s or m.

    Args:
        what: one of KINDS. frame: that is committed.
        world: of the setup, for penetration; built if there is none. It is moved to the frame.

    Raises:
        Problem: when there is no such figure.
    """
    cache = seen.cache
    names = range(len(cache.names))
    if what == "stretch":
        return [_stretch(seen, number, frame) for number in names]
    if what == "speed":
        return [_speed(cache, number, frame, 1) for number in names]
    if what == "still moves":
        return [_speed(cache, number, frame, STILL_FRAMES) for number in names]
    if what == "penetration":
        return _depths(seen, frame, world or build_world(seen.setup, seen.assets))
    raise Problem(f"there is no figure '{what[:40]}'.", "review", f"There are {', '.join(KINDS)}.")


def largest(seen: Seen, what: str) -> float:
    """Return the top of a figure's scale: its peak over all frames, of what still moves that at the last frame."""
    figures = {"stretch": "worst_stretch", "speed": "top_speed", "penetration": "worst_penetration"}
    if what in figures:
        return float(np.nanmax(seen.cache.figure(f"stats/{figures[what]}")))
    assert seen.cache.done is not None
    return max((float(v.max(initial=0.0)) for v in values_at(seen, what, seen.cache.done)), default=0.0)


def apart_at(one: Cache, other: Cache, frame: int) -> list[Floats]:
    """Return for each body of one how far every point (points,) is from the other's, metres.

    Where a body's mesh is not the same in both, it is the distance to the other's surface; nothing, where the other
    has no such body.
    """
    found = []
    for number, name in enumerate(one.names):
        here = one.points(number, frame).astype(np.float64)
        if name not in other.names:
            found.append(np.zeros(len(here)))
            continue
        k = other.body_number(name)
        there = other.points(k, frame).astype(np.float64)
        if len(there) == len(here) and not (one.changes(number) or other.changes(k)):
            found.append(np.linalg.norm(here - there, axis=1))
        else:
            found.append(np.abs(distances_to_mesh(build_tree(TriMesh(there, other.faces(k, frame))), here)))
    return found


def face_stretch(rest: Floats, now: Floats, faces: NDArray[np.int32], warp: Floats) -> Floats:
    """Return each face's larger stretch along warp or weft (faces,), a share, of points rest and now (points, 3).

    Args:
        warp: float64 (3,), where the warp runs at rest; each face takes its part that lies in it, as the solver does.
    """
    a, b, c = (rest[faces[:, k]] for k in range(3))
    u, v = b - a, c - a
    normal = _unit(np.cross(u, v))
    along = warp - np.einsum("ij,j->i", normal, warp)[:, None] * normal
    flat = np.linalg.norm(along, axis=1) < 1e-9  # the warp stands upright on it: one side will do
    along = _unit(np.where(flat[:, None], u, along))
    across = np.cross(normal, along)
    sides = np.stack([u, v], axis=2)  # (faces, 3, 2)
    flat_sides = np.stack([np.einsum("ij,ijk->ik", e, sides) for e in (along, across)], axis=1)
    p, q, r = (now[faces[:, k]] for k in range(3))
    det = np.linalg.det(flat_sides)
    safe = np.where((np.abs(det) > 1e-300)[:, None, None], flat_sides, np.eye(2))
    way = np.stack([q - p, r - p], axis=2) @ np.linalg.inv(safe)
    return np.asarray(np.linalg.norm(way, axis=1).max(axis=1) - 1.0)


def _unit(ways: Floats) -> Floats:
    length = np.linalg.norm(ways, axis=1, keepdims=True)
    return np.asarray(ways / np.where(length > 0.0, length, 1.0))


def _stretch(seen: Seen, number: int, frame: int) -> Floats:
    cache = seen.cache
    now = cache.points(number, frame).astype(np.float64)
    if cache.is_rigid(number):
        return np.zeros(len(now))
    body = next(b for b in seen.setup.bodies if b.name == cache.names[number])
    faces = cache.faces(number)
    warp = turn_matrix(body.place.rotate)[:, 0]
    each = np.maximum(face_stretch(placed_mesh(body, seen.assets).points, now, faces, warp), 0.0)
    found = np.zeros(len(now))
    for k in range(3):  # a point shows the worst of its faces
        np.maximum.at(found, faces[:, k], each)
    return found


def _speed(cache: Cache, number: int, frame: int, span: int) -> Floats:
    """Return the mean speed (points,) along the ways of the last `span` frames, m/s."""
    first = max(cache.first, frame - span)
    total = np.zeros(cache.point_counts[number])
    before = cache.points(number, first).astype(np.float64)
    for f in range(first + 1, frame + 1):
        now = cache.points(number, f).astype(np.float64)
        total += np.linalg.norm(now - before, axis=1)
        before = now
    return total * (cache.fps / max(frame - first, 1))


def _depths(seen: Seen, frame: int, world: World) -> list[Floats]:
    """Return how deep points are in the room of colliders that have a field; what changes its form has none."""
    world.set_dials(frame)
    world.move_to(frame)
    found = []
    for number, name in enumerate(seen.cache.names):
        x = seen.cache.points(number, frame).astype(np.float64)
        sim = next(b for b in world.bodies if b.name == name)
        room = 0.0
        if sim.rigid is not None:
            room = world.solids.room_of(sim.rigid)
        elif sim.masters is None and sim.last > sim.first:
            room = float(world.skin[sim.first, 0])
        faces = sim.faces if sim.rigid is None else np.zeros((0, 3), np.int32)
        asked = np.concatenate([x, x[faces].mean(axis=1)])  # where a face sinks in, its corners may not
        deepest = np.zeros(len(asked))
        for c in range(len(world.colliders.names)):
            if c not in world.colliders.forms:
                deepest = np.maximum(deepest, collider_depths(world, c, asked, np.full(len(asked), room))[0])
        depth, of_faces = deepest[: len(x)], deepest[len(x) :]
        for k in range(3):
            np.maximum.at(depth, faces[:, k], of_faces)
        found.append(depth)
    return found
