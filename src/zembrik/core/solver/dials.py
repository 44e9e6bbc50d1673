"""Where in a world each dial lies that a setup keys over frames."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from zembrik.core.setup.document import Setup
from zembrik.core.setup.keyed import is_keyed
from zembrik.core.setup.resolve import Resolved
from zembrik.core.solver.cloth_parts import LEAST_BEND, ClothPart
from zembrik.core.solver.hexahedra import lame
from zembrik.core.solver.over_frames import Lay, OverFrames, compliance, into, times
from zembrik.core.solver.soft_parts import SoftPart
from zembrik.core.solver.solids import RigidPart
from zembrik.core.solver.world import World

Numbers = NDArray[np.int64]
Floats = NDArray[np.float64]


class Owners(NamedTuple):
    """Whose each constraint is, in the constraints' own order: numbers among the cloths or the soft bodies."""

    triangles: Numbers
    hinges: Numbers
    cells: Numbers


def dials_over_frames(
    setup: Setup, resolved: Resolved, world: World, cloths: list[ClothPart], softs: list[SoftPart],
    parts: list[RigidPart], owners: Owners,
) -> OverFrames:  # fmt: skip
    """Return all dials of a setup that change over frames, for a world that was built of it."""
    found, bodies = OverFrames(), resolved.document["bodies"]
    spans = {body.name: (body.first, body.last) for body in world.bodies}
    # Looking for where a body lies goes through all that there is: only for those that need it.
    by_name = {body["name"]: body for body in bodies if _any_keyed(body)}
    for k, cloth in enumerate(cloths):
        if cloth.name not in by_name:
            continue
        values, span = by_name[cloth.name], spans[cloth.name]
        mine = np.flatnonzero(owners.triangles == k)
        found.add(
            _weight(world, span, cloth.material["area_density"], mine), values["material"]["area_density"],
            stiffens=True,
        )  # fmt: skip
        _cloth_dials(found, world, values["material"], k, cloth, owners, span)
        _surface_dials(found, world, values, _of_particles(world, *span), span)
    for n, soft in enumerate(softs):
        if soft.name not in by_name:
            continue
        values = by_name[soft.name]
        found.add(_weight(world, spans[soft.name], soft.density), values["material"]["density"], stiffens=True)
        _soft_dials(found, world, values["material"], np.flatnonzero(owners.cells == n))
        _air_dials(found, world.blown.soft.rows, np.flatnonzero(world.blown.soft.of == n), values["material"])
        _surface_dials(found, world, values, _of_particles(world, *spans[soft.name]))
    for r, part in enumerate(parts):
        if part.name not in by_name:
            continue
        _surface_dials(found, world, by_name[part.name], _of_rigid(world, r))
        found.add(_lightness(world, r, part.density), by_name[part.name]["material"]["density"])
        found.add(into((world.solids.lever, r)), by_name[part.name]["material"]["rolling_resistance"])
        blown = world.blown.rigid
        mine = np.repeat(blown.bodies, np.diff(blown.span)) == r
        _air_dials(found, blown.rows, np.flatnonzero(mine), by_name[part.name]["material"])
    ground = setup.world.ground is not None
    for name, body in by_name.items():
        if body["role"] == "collider":
            numbers = [c for c, of in enumerate(world.colliders.names) if of == name and not (ground and c == 0)]
            _surface_dials(found, world, body, _of_colliders(world, numbers))
    if ground:
        _surface_dials(
            found, world, resolved.document["world"]["ground"] | {"thickness": 0.0}, _of_colliders(world, [0])
        )
    return found


def _any_keyed(body: dict[str, Any]) -> bool:
    """Tell whether a resolved body has a dial that is keyed, of its own or of its material."""
    return any(is_keyed(value) for value in [*body.values(), *(body.get("material") or {}).values()])


def _cloth_dials(
    found: OverFrames, world: World, stuff: dict[str, Any], n: int, cloth: ClothPart, owners: Owners,
    span: tuple[int, int],
) -> None:  # fmt: skip
    faces, hinges = np.flatnonzero(owners.triangles == n), np.flatnonzero(owners.hinges == n)
    rest, built = world.membrane.rest, cloth.material
    for column, name in enumerate(("stretch", "compression", "shear"), 4):
        found.add(compliance(rest, (faces, column), built[name]), stuff[name], stiffens=True)
    found.add(into((rest, (faces, 7))), stuff["damping"])
    found.add(compliance(world.bend.rest, (hinges, 1), max(built["bend"], LEAST_BEND), LEAST_BEND), stuff["bend"])
    yielding = world.yielding
    found.add(into((yielding.strain, faces)), stuff["yield_strain"])
    found.add(times(yielding.angle, hinges, np.full(len(hinges), np.pi / 180)), stuff["yield_angle"])
    found.add(into((yielding.strain_rate, faces), (yielding.angle_rate, hinges)), stuff["creep"])
    _air_dials(found, world.air.rows, faces, stuff)
    found.add(times(world.skin, (slice(*span), 3), cloth.area), stuff["tack"])
    found.add(into((world.skin, (slice(*span), 4))), stuff["tack_distance"])


def _air_dials(found: OverFrames, rows: Floats, mine: Numbers, stuff: dict[str, Any]) -> None:
    found.add(into((rows, (mine, 0))), stuff["drag"])
    found.add(into((rows, (mine, 2))), stuff["lift"])


def _soft_dials(found: OverFrames, world: World, stuff: dict[str, Any], cells: Numbers) -> None:
    rest, yielding = world.cells.rest, world.yielding

    def stiffness(young: float, poisson: float) -> None:
        rest[cells, 10], rest[cells, 11] = lame(young, poisson)

    found.add(stiffness, stuff["young"], stuff["poisson"])
    found.add(into((rest, (cells, 12))), stuff["damping"])
    found.add(into((yielding.form, cells)), stuff["yield_strain"])
    found.add(into((yielding.form_rate, cells)), stuff["creep"])


def _weight(world: World, span: tuple[int, int], built_with: float, faces: Numbers | None = None) -> Lay:
    """Return what writes a body's particles' masses for a density; they are there for `built_with`."""
    mine, rows = slice(*span), world.air.rows
    for_one, air_for_one = world.mass[mine] / built_with, rows[faces, 1] / built_with if faces is not None else 0.0

    def lay(value: float) -> None:
        world.mass[mine] = for_one * value
        world.w[mine] = np.where(world.w[mine] > 0.0, 1.0 / np.maximum(world.mass[mine], 1e-300), 0.0)
        if faces is not None:
            rows[faces, 1] = air_for_one * value

    return lay


def _lightness(world: World, number: int, built_with: float) -> Lay:
    """Return what writes a rigid body's inverse mass and moments for a density; its own are for `built_with`."""

    def lay(value: float) -> None:
        world.solids.lighter[number] = built_with / value
        if world.solids.rigid.w[number] > 0.0:
            world.solids.set_free(number)

    return lay


class _Places(NamedTuple):
    """Where a body's surface is: skin points, solids, points of `touching`, and colliders, by their numbers."""

    skin: Numbers
    solids: list[int]
    touching: Numbers
    colliders: list[int]


def _of_particles(world: World, first: int, last: int) -> _Places:
    skin, touching = world.solids.skin, world.touching
    of_skin = (skin.owner == -1) & (skin.masters[:, 0] >= first) & (skin.masters[:, 0] < last)
    guests = touching.guests
    carried = (guests.rigid < 0) & (guests.masters[:, 0] >= first) & (guests.masters[:, 0] < last)
    own = np.arange(first, min(last, touching.count))
    return _Places(np.flatnonzero(of_skin), [], np.concatenate([own, touching.count + np.flatnonzero(carried)]), [])


def _of_rigid(world: World, number: int) -> _Places:
    skin, touching = world.solids.skin, world.touching
    solid = int(np.flatnonzero(world.solids.solids.owner == number)[0])
    guests = touching.count + np.flatnonzero(touching.guests.rigid == number)
    return _Places(np.flatnonzero(skin.owner == number), [solid], guests, [])


def _of_colliders(world: World, numbers: list[int]) -> _Places:
    touching = world.touching
    mine = [
        np.arange(first, first + len(corner.points))
        for corner, first in zip(touching.corners, touching.first, strict=False)
        if corner.collider in numbers
    ]
    skin = np.flatnonzero(np.isin(-2 - world.solids.skin.owner, numbers))
    return _Places(skin, numbers, np.concatenate([np.zeros(0, np.int64), *mine]), numbers)


def _surface_dials(
    found: OverFrames, world: World, values: dict[str, Any], at: _Places, cloth: tuple[int, int] | None = None
) -> None:
    """Add what a body's surface has over frames: thickness, friction at rest and sliding, bounce."""
    stuff = values.get("material") or values
    grip = stuff["friction"]
    named = {
        "room": values["thickness"], "grip": grip, "slip": stuff.get("sliding_friction", grip),
        "bounce": stuff.get("bounce", 0.0),
    }  # fmt: skip
    for column, (name, track) in enumerate(named.items()):
        places = [
            (getattr(world.solids.skin, name), at.skin), (getattr(world.solids.solids, name), at.solids),
            (getattr(world.colliders.touch, name), at.colliders),
        ]  # fmt: skip
        if name != "bounce":
            places.append((getattr(world.touching, name), at.touching))
            if cloth is not None:
                places.append((world.skin, (slice(*cloth), column)))
        lay: Lay = into(*places)
        found.add(lay, track)
