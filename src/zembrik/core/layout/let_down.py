"""Bodies let down to what is below them, by real distances."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.layout.fall import fall_onto, upright
from zembrik.core.layout.gesture import Gesture, gesture_patch
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.proxy.outline import outline
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh, start_mesh
from zembrik.core.setup.document import Setup
from zembrik.core.setup.resolve import resolve
from zembrik.core.solver.colliders import is_found, proxy_shapes
from zembrik.core.telling import Tell, silent, step

Floats = NDArray[np.float64]
SOON, SOON_POINTS = 1000, 200_000  # pairs of bodies, and points of all of them
ROUND = 96  # sides of a ball or capsule that stands for a body: 0.05 % of the radius


@dataclass(frozen=True)
class LetDown:
    """What letting down does.

    Attributes:
        patch: JSON Patch of the places.
        falls_m: how far each body falls, by name; below 0 rises, out of the room that is kept.
        held: names of bodies that go through what is below, and stay; and of those that have nothing below.
    """

    patch: list[dict[str, Any]]
    falls_m: dict[str, float]
    held: dict[str, str]

    @property
    def words(self) -> str:
        """What was done, for the history."""
        told = [f"'{name}' by {1e3 * fall:.1f} mm" for name, fall in list(self.falls_m.items())[:3]]
        more = f" and {len(self.falls_m) - 3} more" if len(self.falls_m) > 3 else ""
        return f"let down: {', '.join(told)}{more}"


@dataclass(frozen=True)
class _Solid:
    """A body as others touch it: its surface in the world, and the room it keeps, metres."""

    mesh: TriMesh
    room_m: float


def let_down(setup: Setup, numbers: list[int], assets: Assets, tell: Tell = silent) -> LetDown:
    """Let bodies down until they lie on what is below them: others, each other, the ground.

    The lowest goes first. Joined bodies fall as one. What counts is what contact sees: proxies of colliders and rigid
    bodies, meshes of others, with the room that both keep. Down is where gravity pulls, -Y where none does.

    Raises:
        Problem: when none of them can fall. Stopped: when `tell` says so.
    """
    turn = upright(np.array(setup.world.gravity, np.float64))
    values = resolve(setup).document["bodies"]
    solids = {n: _solid(setup, n, values[n], assets, turn) for n in range(len(setup.bodies))}
    ground = setup.world.ground
    level = None
    if ground is not None and abs(turn[1, 1]) > 1.0 - 1e-12:
        level = _ground(ground.height * turn[1, 1], solids, numbers)
    boxes = np.array([solids[n].mesh.bounds for n in range(len(solids))])  # (bodies, 2, 3)
    there = np.ones(len(solids), bool)
    there[numbers] = False
    patch: list[dict[str, Any]] = []
    falls: dict[str, float] = {}
    held: dict[str, str] = {}
    units = sorted(_joined(setup, numbers), key=lambda unit: min(float(boxes[n, 0, 1]) for n in unit))
    for done, unit in enumerate(units):
        step(tell, done, len(units))
        fall, crosses = np.inf, False
        for n in unit:
            low, high = boxes[n]
            near = there & (boxes[:, 0, 0] <= high[0]) & (boxes[:, 1, 0] >= low[0])
            near &= (boxes[:, 0, 2] <= high[2]) & (boxes[:, 1, 2] >= low[2]) & (boxes[:, 0, 1] <= high[1])
            below = [solids[int(k)] for k in np.flatnonzero(near)] + ([level] if level is not None else [])
            for other in below:
                one, through = fall_onto(solids[n].mesh, other.mesh, solids[n].room_m + other.room_m)
                fall, crosses = min(fall, one), crosses or through
        names = [setup.bodies[n].name for n in unit]
        there[unit] = True
        if crosses or not np.isfinite(fall):
            held |= dict.fromkeys(names, "goes through something" if crosses else "has nothing below")
            continue
        for n in unit:
            mesh = solids[n].mesh
            solids[n] = replace(solids[n], mesh=mesh.moved(mesh.points - [0.0, fall, 0.0]))
            boxes[n, :, 1] -= fall
        patch += gesture_patch(setup, unit, Gesture(-fall * turn[1], np.zeros(3)), assets)
        falls |= dict.fromkeys(names, fall)
    if not falls:
        told = ", ".join(f"'{name}' {why}" for name, why in list(held.items())[:3])
        raise Problem(f"nothing can be let down: {told}.", "place", "Lift it clear first, or put something below it.")
    return LetDown(patch, falls, held)


def is_soon_let_down(setup: Setup, numbers: list[int], assets: Assets) -> bool:
    """Tell whether letting bodies down takes so little that a page can wait for it."""
    if len(numbers) * len(setup.bodies) > SOON:
        return False
    values = resolve(setup).document["bodies"]
    points = 0
    for n, body in enumerate(setup.bodies):
        mesh = placed_mesh(body, assets)
        points += len(mesh.points)
        if body.role in ("collider", "rigid") and not is_found(body, values[n]["proxy"], mesh):
            return False
    return points <= SOON_POINTS


def _solid(setup: Setup, number: int, values: dict[str, Any], assets: Assets, turn: Floats) -> _Solid:
    body = setup.bodies[number]
    mesh = placed_mesh(body, assets)
    if body.role in ("collider", "rigid"):
        surface = outline(proxy_shapes(body, values["proxy"], mesh), mesh, ROUND)
    else:
        surface = start_mesh(body, assets)
    mover = mover_of_body(setup, number, assets)
    points = surface.points
    if mover is not None and len(points) == len(mesh.points):
        points = mover.points_at(points, float(setup.frames[0]))
    elif mover is not None and not mover.changes_form:
        way, shift = mover.at(float(setup.frames[0]))
        points = points @ way.T + shift
    thickness = values.get("thickness")
    return _Solid(surface.moved(points @ turn.T), thickness if isinstance(thickness, float) else 0.0)


def _ground(height_m: float, solids: dict[int, _Solid], numbers: list[int]) -> _Solid:
    """Return the ground as two triangles below some bodies."""
    points = np.concatenate([solids[n].mesh.points for n in numbers])
    low, high = points.min(axis=0) - 1.0, points.max(axis=0) + 1.0
    corners = [[low[0], height_m, low[2]], [high[0], height_m, low[2]], [high[0], height_m, high[2]],
               [low[0], height_m, high[2]]]  # fmt: skip
    return _Solid(TriMesh(np.array(corners), np.array([[0, 2, 1], [0, 3, 2]], np.int32)), 0.0)


def _joined(setup: Setup, numbers: list[int]) -> list[list[int]]:
    """Return the chosen bodies in sets that joints hold together."""
    unit = {n: [n] for n in numbers}
    where = {setup.bodies[n].name: n for n in numbers}
    for joint in setup.joints:
        one, other = (where.get(name) if name is not None else None for name in joint.bodies)
        if one is not None and other is not None and unit[one] is not unit[other]:
            both = unit[one] + unit[other]
            for n in both:
                unit[n] = both
    return [sorted(members) for members in {id(u): u for u in unit.values()}.values()]
