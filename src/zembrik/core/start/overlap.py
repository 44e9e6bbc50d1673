"""Overlaps at the first frame, found before anything is simulated."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.build import build_fields
from zembrik.core.distance.field import distances
from zembrik.core.distance.tree import build_tree, closest_places, distances_to_mesh
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.solver.contact import BEHIND
from zembrik.core.solver.world import SimBody, World

Floats = NDArray[np.float64]
UP = np.array([0.0, 1.0, 0.0])
TOUCH_M = 1e-6  # less is no overlap
STEP_M, MOST_STEPS = 1e-4, 1000
A_TOUCH_M = 1e-4  # what lies on something is that deep in it: the solver sees no harm in it


@dataclass(frozen=True)
class Overlap:
    """A simulated body that begins inside the room of a collider.

    Attributes:
        body, collider: names.
        depth_m: how deep the deepest point is, thicknesses included.
        at: float64 (3,), where it is, metres.
        points: how many points are inside.
        lift_m: how far the body must be moved along `direction` to be free; infinity when that was not found.
        direction: float64 (3,), unit.
    """

    body: str
    collider: str
    depth_m: float
    at: NDArray[np.float64]
    points: int
    lift_m: float
    direction: NDArray[np.float64]


def find_overlaps(world: World) -> list[Overlap]:
    """Return every overlapping pair, deepest first; held points count too."""
    found = []
    rigid = world.solids.parts
    for body in world.bodies:
        if body.rigid is not None and rigid[body.rigid].mover is not None:
            continue  # it goes its own way
        x, room = places_of(world, body)
        for c, name in enumerate(world.colliders.names):
            depth, normal = collider_depths(world, c, x, room)
            inside = depth > TOUCH_M
            if not inside.any():
                continue
            worst = int(np.argmax(depth))
            ways = [UP, normal[worst]]
            lifts = [_lift(world, c, x, room, way) for way in ways]
            best = int(np.argmin(lifts))
            count = int(inside.sum())
            found.append(Overlap(body.name, name, float(depth[worst]), x[worst], count, lifts[best], ways[best]))
    return sorted(found, key=lambda o: (-o.depth_m, o.body, o.collider))


@dataclass(frozen=True)
class Meeting:
    """Two simulated bodies, at least one of them cloth or soft, that begin within each other's room.

    Attributes:
        one, other: names.
        depth_m: how deep the deepest place is, thicknesses included.
        at: float64 (3,), where, metres.
    """

    one: str
    other: str
    depth_m: float
    at: Floats


def find_meetings(world: World) -> list[Meeting]:
    """Return every pair of simulated bodies that overlap at the start, but for pairs of rigid ones, deepest first.

    What has an inside is asked how deep the other's places are in it, cloth how near they are to it.
    """
    asked = {body.name: places_of(world, body) for body in world.bodies}
    boxes = {
        name: np.array([x.min(axis=0) - room.max(), x.max(axis=0) + room.max()]) for name, (x, room) in asked.items()
    }
    found = []
    for k, one in enumerate(world.bodies):
        for other in world.bodies[k + 1 :]:
            if one.rigid is not None and other.rigid is not None:
                continue
            a, b = boxes[one.name], boxes[other.name]
            if (a[0] > b[1]).any() or (b[0] > a[1]).any():
                continue
            deepest = max(
                (_deepest(world, *asked[one.name], other), _deepest(world, *asked[other.name], one)),
                key=lambda pair: pair[0],
            )
            if deepest[0] > TOUCH_M:
                found.append(Meeting(one.name, other.name, *deepest))
    return sorted(found, key=lambda m: (-m.depth_m, m.one, m.other))


def _deepest(world: World, x: Floats, room: Floats, body: SimBody) -> tuple[float, Floats]:
    """Return how deep the deepest of places x (m, 3), which keep room (m,), is in a body's room, and where, metres."""
    if body.rigid is not None:
        part = world.solids.parts[body.rigid]
        fields, own = build_fields(part.shapes), world.solids.room_of(body.rigid)
        asked = [distances(fields, k, x) for k in range(len(part.shapes))]
        distance = np.min([d for d, _ in asked], axis=0)
        normal = asked[int(np.argmin([(d - room).min() for d, _ in asked]))][1]
    else:
        own = float(places_of(world, body)[1].max())
        mesh = TriMesh(np.ascontiguousarray(body.points(world.x)), body.faces)
        tree = build_tree(mesh)
        distance = distances_to_mesh(tree, x)
        normal = (x - closest_places(tree, x)) / np.where(distance == 0.0, np.inf, distance)[:, None]
        if body.masters is None:
            distance, normal = np.abs(distance), normal * np.sign(distance)[:, None]  # cloth has no inside
    depth = room + own - distance
    worst = int(np.argmax(depth))
    # Halfway between the two surfaces that went through each other.
    back = 0.5 * (distance[worst] - own + room[worst])
    return float(depth[worst]), x[worst] - back * normal[worst]


def places_of(world: World, body: SimBody) -> tuple[Floats, Floats]:
    """Return where a body asks for contact (m, 3), and the room it keeps there (m,), metres."""
    skin = world.solids.skin
    if body.rigid is not None:
        mine = np.flatnonzero(skin.owner == body.rigid)
        part = world.solids.parts[body.rigid]
        return skin.local[mine] @ part.mass.axes.T + part.mass.centre, skin.room[mine] + skin.radius[mine]
    if body.masters is not None:
        first = int(np.flatnonzero((skin.owner == -1) & (skin.masters == body.masters[0]).all(axis=1))[0])
        return body.points(world.x), np.full(body.count, skin.room[first])
    return world.x[body.first : body.last], world.skin[body.first : body.last, 0]


def collider_depths(world: World, c: int, x: Floats, room: Floats) -> tuple[Floats, Floats]:
    """Return how deep points are in collider c's room (m, 0 or less outside), and the way out."""
    fields, touch = world.colliders.fields, world.colliders.touch
    distance, normal = distances(fields, c, x)
    distance = np.abs(distance) if touch.both[c] else distance
    # A point further than the box of a collider is free whatever a bound says.
    near = ((x >= fields.low[c]) & (x <= fields.high[c])).all(axis=1)
    rooms = touch.room[c] + room
    if fields.open[c] and not touch.both[c] and distances(fields, c, x.mean(axis=0)[None])[0][0] < 0.0:
        near &= distance >= -BEHIND * rooms  # it is behind an open sheet, and free there (see `solver.contact`)
    return np.where(near, rooms - distance, 0.0), normal


def _lift(world: World, c: int, x: Floats, room: Floats, way: Floats) -> float:
    """Return how far (m) all points must go along `way` until none is inside; infinity when that way is not out.

    The deepest point needs at least its depth, so stepping by that never steps too far.
    """
    lift = 0.0
    for _ in range(MOST_STEPS):
        deepest = float(collider_depths(world, c, x + lift * way, room)[0].max())
        if deepest <= TOUCH_M:
            return lift
        lift += max(deepest, STEP_M)
    return float("inf")
