"""Building the world of a setup."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.motion.carried import Carried
from zembrik.core.motion.deform import Deform
from zembrik.core.motion.rigid import Mover
from zembrik.core.motion.track import value_at
from zembrik.core.motion.turbulence import Turbulence
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh
from zembrik.core.setup.document import Pin, Place, Setup
from zembrik.core.setup.handover import spells_of
from zembrik.core.setup.limits import refuse_too_many_points
from zembrik.core.setup.resolve import Resolved, resolve
from zembrik.core.solver.bend import Bend, bend_rows
from zembrik.core.solver.bend_form import BendForm
from zembrik.core.solver.blown import Blown, rigid_skin, soft_skin
from zembrik.core.solver.cloth_parts import LEAST_BEND, ClothPart, cloth_parts
from zembrik.core.solver.colliders import build_colliders
from zembrik.core.solver.colour import Layout, lay_out
from zembrik.core.solver.dials import Owners, dials_over_frames
from zembrik.core.solver.guest_parts import rigid_guests, soft_guests
from zembrik.core.solver.handles import FIRM, Handle, Handles
from zembrik.core.solver.hexahedra import Cells
from zembrik.core.solver.membrane import Membrane, membrane_rows
from zembrik.core.solver.pins import meshes_of, pin_weights
from zembrik.core.solver.plastic import Yielding
from zembrik.core.solver.rigid_parts import joints_of, rigid_parts
from zembrik.core.solver.soft_parts import SoftPart, soft_parts
from zembrik.core.solver.solids import ParticleSkin, RigidPart, build_solids, own_points
from zembrik.core.solver.touching import Touching
from zembrik.core.solver.world import Air, Pull, Shrinking, SimBody, World
from zembrik.core.units import turn_matrix

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]


def _stacked(arrays: list[Any], width: int | None = None, dtype: Any = np.float64) -> NDArray[Any]:
    """Return arrays one after the other, even if there are none."""
    return np.concatenate([np.zeros((0,) if width is None else (0, width), dtype), *arrays]).astype(dtype)


def build_world(setup: Setup, assets: Assets) -> World:
    """Return the world at the first frame.

    Raises:
        Problem: naming the body that cannot be simulated, and why.
    """
    refuse_too_many_points(setup, lambda body: 0 if body.role == "left out" else len(placed_mesh(body, assets).points))
    resolved = resolve(setup)
    cloths, softs = cloth_parts(setup, resolved, assets), soft_parts(setup, resolved, assets)
    parts = rigid_parts(setup, resolved, assets)
    counts = [len(c.mesh.points) for c in cloths] + [len(s.mass) for s in softs]
    starts = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    cloth_starts, soft_starts, points_of_cloth = starts[: len(cloths)], starts[len(cloths) :], int(starts[len(cloths)])
    x = _stacked([c.begin for c in cloths] + [s.begin for s in softs], 3)
    # What everything is measured against: a cloth may begin in another form than its mesh has.
    rest = _stacked([c.mesh.points for c in cloths] + [s.lattice.points for s in softs], 3)
    mass = _stacked([c.mass for c in cloths] + [s.mass for s in softs])
    held = _stacked([c.held for c in cloths] + [s.held for s in softs], dtype=np.bool_)
    w = np.where(held, 0.0, 1.0 / np.maximum(mass, 1e-300))
    begin = setup.frames[0] - setup.preroll
    loose: list[ClothPart | SoftPart] = [*cloths, *softs]
    faces = _stacked([c.mesh.faces + s for c, s in zip(cloths, cloth_starts, strict=True)], 3, np.int32)
    hinges = _stacked([c.mesh.hinges + s for c, s in zip(cloths, cloth_starts, strict=True)], 4, np.int32)
    cells = _stacked([p.lattice.cells + s for p, s in zip(softs, soft_starts, strict=False)], 8, np.int32)
    owner = np.repeat(np.arange(len(counts)), counts)
    # Bodies must not share clusters: set them apart before laying out.
    layout = lay_out([faces, hinges, cells], rest + np.array([1e5, 0.0, 0.0]) * owner[:, None])
    triangles, folds, blocks = layout.orders
    skin = _skin_of(cloths)
    reach = max([float(skin[:, 0].max(initial=0.0)), *[_reach(p) for p in parts], *[s.surface.room for s in softs]])
    colliders = build_colliders(setup, resolved, assets, reach, [s for part in parts for s in part.shapes])
    skins = [own_points(int(s), int(s) + len(c.mass), c.surface) for c, s in zip(cloths, cloth_starts, strict=True)]
    skins = (skins if parts else []) + [
        ParticleSkin(p.lattice.masters + np.int32(s), p.lattice.shares, p.surface, wide=True)
        for p, s in zip(softs, soft_starts, strict=False)
    ]
    joints = joints_of(setup, parts)
    apart = [(int(a), int(b)) for (a, b), j in zip(joints.bodies, setup.joints, strict=True) if b >= 0 and not j.touch]
    solids = build_solids(parts, joints, skins, colliders, apart)
    face_owner = np.repeat(np.arange(len(cloths)), [len(c.mesh.faces) for c in cloths])
    warp = np.array([c.warp for c in cloths]).reshape(-1, 3)[face_owner]
    stiff = np.array([c.stiff for c in cloths]).reshape(-1, 4)[face_owner]
    membrane = Membrane(
        faces[triangles], membrane_rows(rest, faces, warp, stiff)[triangles], layout.spans[0], layout.packed[0]
    )
    bend = bend_rows(rest, hinges, _stacked([c.bend.own * max(c.material["bend"], LEAST_BEND) for c in cloths]))
    face_owner = face_owner[triangles]
    owners = Owners(
        face_owner,
        np.repeat(np.arange(len(cloths)), [len(c.mesh.hinges) for c in cloths])[folds],
        np.repeat(np.arange(len(softs)), [len(s.rows) for s in softs])[blocks],
    )
    quality = resolved.document["quality"]
    edges = [c.mesh.edges + s for c, s in zip(cloths, cloth_starts, strict=True)]
    spacing = _spacing([c.mesh for c in cloths] + [s.mesh for s in softs])
    surfaces = cloths or softs or colliders.forms  # what rigid bodies' corners could meet
    world = World(
        bodies=_bodies(setup, cloths, softs, parts, starts),
        cloth=points_of_cloth,
        x=x,
        v=np.zeros_like(x),
        w=w,
        mass=mass,
        weight=np.repeat([value_at(p.weight, begin) for p in loose], counts).astype(np.float64),
        skin=skin,
        membrane=membrane,
        bend=_bend(hinges, bend, [c.bend for c in cloths], layout),
        cells=Cells(cells[blocks], _stacked([p.rows for p in softs], 13)[blocks], layout.spans[2]),
        colours=layout.colours,
        colliders=colliders,
        handles=Handles(_handles(setup, cloths, softs, starts, assets), mass),
        shrinking=[
            Shrinking(mine, membrane.rest[mine, :4].copy(), cloth.material["rest_length"])
            for k, cloth in enumerate(cloths)
            if cloth.material["rest_length"] != 1.0 and len(mine := np.flatnonzero(face_owner == k))
        ],
        yielding=_yielding(cloths, softs, owners),
        touching=Touching(
            rest[:points_of_cloth],
            faces,
            _stacked(edges, 2, np.int32),
            w[:points_of_cloth],
            skin,
            owner[:points_of_cloth].astype(np.int32),
            quality["contact"],
            quality["self_collision"],
            [*soft_guests(softs, soft_starts), *(rigid_guests(parts, spacing) if surfaces else [])],
            len(x),
            len(parts),
            colliders.corners(spacing),
        ),
        solids=solids,
        air=_air(setup, resolved, cloths, triangles, face_owner),
        gravity=np.array(setup.world.gravity),
        fps=setup.fps,
        pull=_pull(resolved, loose, parts, starts),
    )
    world.closed = [b for b in world.bodies if b.rigid is None and TriMesh(b.points(x), b.faces).is_closed]
    materials = {b["name"]: b.get("material") or {} for b in resolved.document["bodies"]}
    world.blown = Blown(
        soft_skin(softs, soft_starts, [materials[p.name] for p in softs]),
        rigid_skin(parts, [materials[p.name] for p in parts]),
    )
    world.over_frames = dials_over_frames(setup, resolved, world, cloths, softs, parts, owners)
    world.set_dials(begin)
    if world.pull is not None:
        world.set_pull(begin)
    if world.handles.hold(begin, setup.fps, world.x, world.v, world.w, world.past.order):
        world.touching.w[:points_of_cloth] = w[:points_of_cloth]
    for _ in range(2):  # the second time, so that nothing has come from anywhere
        world.move_to(begin)
        solids.drive(begin, 0.0, setup.fps)
    solids.calm_place[:] = solids.rigid.place
    return world


def _bend(hinges: Whole, rest: Floats, forms: list[BendForm], layout: Layout) -> Bend:
    """Return the hinges of all cloths in the layout's order, the numbers of neighbours with them."""
    order = layout.orders[1]
    near, share, bent = np.zeros((0, 4), np.int32), np.zeros((0, 5)), np.zeros(0)
    if any(form.coupled for form in forms):
        forms = [form.full for form in forms]
        starts = np.cumsum([0, *[len(form.own) for form in forms]])
        place = np.empty(len(order), np.int32)  # where each hinge has come to
        place[order] = np.arange(len(order))
        near = place[np.concatenate([form.near + start for form, start in zip(forms, starts, strict=False)])][order]
        share, bent = np.concatenate([form.share for form in forms])[order], np.zeros(len(order))
    return Bend(hinges[order], rest[order], layout.spans[1], near, share, bent)


def _bodies(
    setup: Setup, cloths: list[ClothPart], softs: list[SoftPart], parts: list[RigidPart], starts: NDArray[np.int64]
) -> list[SimBody]:
    """Return the simulated bodies in the setup's order."""
    found: dict[str, SimBody] = {}
    for k, cloth in enumerate(cloths):
        found[cloth.name] = SimBody(cloth.name, int(starts[k]), int(starts[k + 1]), cloth.mesh.faces)
    for n, soft in enumerate(softs, len(cloths)):
        masters = soft.masters + np.int32(starts[n])
        found[soft.name] = SimBody(
            soft.name, int(starts[n]), int(starts[n + 1]), soft.mesh.faces, masters=masters, shares=soft.shares
        )
    for r, part in enumerate(parts):
        found[part.name] = SimBody(part.name, 0, 0, part.faces, r, part.points)
    return [found[body.name] for body in setup.bodies if body.name in found]


def _skin_of(cloths: list[ClothPart]) -> Floats:
    """Return `World.skin` of all cloth points."""
    rows = []
    for part in cloths:
        surface, count = part.surface, len(part.mass)
        fixed = np.tile([surface.room, surface.grip, surface.slip], (count, 1))
        distance = np.full(count, part.material["tack_distance"])
        rows.append(np.column_stack([fixed, part.area * part.material["tack"], distance]))
    return np.ascontiguousarray(_stacked(rows, 5))


def _reach(part: RigidPart) -> float:
    """Return how far from a rigid body's asking places something may touch it, metres."""
    return part.surface.room + float(part.samples[1].max(initial=0.0))


def _spacing(meshes: list[TriMesh]) -> float:
    """Return the middle length of all edges, metres."""
    return float(np.median(np.concatenate([m.edge_lengths for m in meshes]))) if meshes else 1.0


def _yielding(cloths: list[ClothPart], softs: list[SoftPart], owners: Owners) -> Yielding:
    creeps = np.array([c.material["creep"] for c in cloths])

    def bounds(name: str, scale: float = 1.0) -> Floats:
        return np.array([scale * c.material[name] if c.material["creep"] > 0 else np.inf for c in cloths])

    form = np.array([s.yields[0] if s.yields else np.inf for s in softs])
    form_rate = np.array([s.yields[1] if s.yields else 0.0 for s in softs])
    return Yielding(
        bounds("yield_strain")[owners.triangles], creeps[owners.triangles],
        bounds("yield_angle", np.pi / 180)[owners.hinges], creeps[owners.hinges],
        form[owners.cells], form_rate[owners.cells],
    )  # fmt: skip


def _pull(
    resolved: Resolved, loose: list[ClothPart | SoftPart], parts: list[RigidPart], starts: NDArray[np.int64]
) -> Pull | None:
    """Return gravity over frames, or None where it is always the same."""
    world = resolved.document["world"]
    tracks: list[tuple[tuple[int, int] | int, Any]] = [
        ((int(starts[n]), int(starts[n + 1])), part.weight) for n, part in enumerate(loose)
    ]
    tracks += list(enumerate(part.weight for part in parts))
    weights = [(whose, track) for whose, track in tracks if isinstance(track, dict)]
    if not weights and world["gravity_strength"] == 1.0 and not world.get("gravity_turn"):
        return None
    gravity = np.array(world["gravity"], dtype=np.float64)
    return Pull(gravity, world["gravity_strength"], weights, world.get("gravity_turn"))


def _air(
    setup: Setup, resolved: Resolved, cloths: list[ClothPart], triangles: NDArray[np.int64],
    face_owner: NDArray[np.int64],
) -> Air:  # fmt: skip
    forces = resolved.document["forces"]
    inflated = [
        (np.flatnonzero(face_owner == k), cloth.material["pressure"])
        for k, cloth in enumerate(cloths)
        if cloth.material["pressure"] != 0.0
    ]
    air = Air(
        density=resolved.document["world"]["air_density"],
        rows=_stacked([c.air for c in cloths], 4)[triangles],
        winds=[(np.array(f["velocity"]), f["strength"], f["veer"]) for f in forces if f["kind"] == "wind"],
        swirls=[
            (Turbulence(f["speed"], f["size"], f["rate"], f["seed"]), f["strength"])
            for f in forces
            if f["kind"] == "turbulence"
        ],
        slowing=[(f["rate"], f["strength"]) for f in forces if f["kind"] == "air damping"],
        inflated=inflated,
    )
    return air


def _handles(
    setup: Setup, cloths: list[ClothPart], softs: list[SoftPart], starts: NDArray[np.int64], assets: Assets
) -> list[Handle]:
    """Return what holds and moves pinned points."""
    found, mesh_of = [], meshes_of(setup, assets)
    every: list[ClothPart | SoftPart] = [*cloths, *softs]
    for part, start in zip(every, starts, strict=False):
        if setup.bodies[part.number].handovers:
            found.append(_led(setup, part, int(start), assets))
        for n, pin in enumerate(setup.bodies[part.number].pins):
            where = f"bodies[{part.number}] '{part.name}', pins[{n}]"
            surface = part.begin
            if isinstance(part, SoftPart):
                surface = np.einsum("mk,mki->mi", part.shares, part.begin[part.masters])
            weights = pin_weights(pin, part.mesh, surface, where, mesh_of)
            middle = surface[weights >= FIRM].mean(axis=0)
            if isinstance(part, SoftPart):  # the particles that carry a point are held as firmly as it is
                on_all = np.zeros(len(part.begin))
                carry = part.shares > 1e-6
                np.maximum.at(on_all, part.masters[carry], np.repeat(weights, carry.sum(axis=1)))
                weights = on_all
            held = np.flatnonzero(weights > 0.0)
            mover = _mover_of_pin(setup, pin, setup.bodies[part.number].place, middle, part.begin[held], assets)
            strength = pin.strength if isinstance(pin.strength, float) else pin.strength.model_dump(mode="json")
            spells = spells_of(None, pin.release)
            found.append(Handle(held + start, weights[held], part.begin[held].copy(), mover, strength, spells))
    if all(handle.is_fast for handle in found):  # then what stays is held by having no inverse mass
        return [handle for handle in found if handle.mover is not None]
    return found


def _led(setup: Setup, part: ClothPart | SoftPart, start: int, assets: Assets) -> Handle:
    """Return what leads a whole body until it is handed over."""
    body, mover = setup.bodies[part.number], mover_of_body(setup, part.number, assets)
    assert mover is not None
    if isinstance(part, SoftPart) and mover.changes_form:  # its lattice goes along with its surface
        mover = Carried(mover, part.mesh, TriMesh(part.begin.copy(), np.zeros((0, 3), np.int32)), body.name)
    numbers = start + np.arange(len(part.begin))
    return Handle(numbers, np.ones(len(numbers)), part.begin.copy(), mover, 1.0, body.spells)


def _mover_of_pin(setup: Setup, pin: Pin, place: Place, middle: Floats, places: Floats, assets: Assets) -> Mover | None:
    """Return what moves held points (h, 3), metres; None where they stay.

    Of what changes its form each keeps to the place of the surface that it is nearest to. What moves by itself, about
    its middle (3,), follows as a whole.
    """
    leader, number = None, next((k for k, b in enumerate(setup.bodies) if b.name == pin.follow), None)
    if number is not None:
        leader = mover_of_body(setup, number, assets)
    if pin.motion is not None:
        motion = pin.motion.model_dump(mode="json")
        if spin := motion.get("spin"):
            spin["axis"] = (turn_matrix(place.rotate) @ spin["axis"]).tolist()
        return Mover(motion, middle, leader)
    if number is not None and isinstance(leader, Deform):
        mesh, body = placed_mesh(setup.bodies[number], assets), setup.bodies[number]
        return Carried(leader, mesh, TriMesh(places.copy(), np.zeros((0, 3), np.int32)), body.name)
    return leader
