"""Everything that meets solids in a world: rigid bodies, colliders, and the skins that touch them."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.build import Shape
from zembrik.core.distance.field import Fields
from zembrik.core.mesh.inertia import MassOf
from zembrik.core.motion.handover import Spells, fade, is_free, returning
from zembrik.core.motion.rates import CAME, GOES, pose_rates
from zembrik.core.motion.rigid import Mover
from zembrik.core.motion.track import most_of, value_at
from zembrik.core.solver.arrays import CARRIERS, GAP, LOAD, ROOM, Contacts, Joints, Rigid, Skin, Slots, Solids
from zembrik.core.solver.colliders import Colliders, shape_outline, slim_of
from zembrik.core.solver.halves import halve
from zembrik.core.solver.joints import begin_joints, joint_system, solve_joints
from zembrik.core.solver.meeting import look_at_pairs, make_slots
from zembrik.core.solver.pairing import NearPairs
from zembrik.core.solver.pressing import body_table, give_back, press
from zembrik.core.solver.rigid import make_rigid, predict, quaternion_of, settle_places
from zembrik.core.solver.rolling import resist_rolling
from zembrik.core.solver.samples import samples_of
from zembrik.core.solver.skin import CHUNK, place_skin, place_solids
from zembrik.core.solver.sleep import fall_asleep, wake
from zembrik.core.solver.solid_contact import gather, no_contacts, runs_of
from zembrik.core.units import quaternion_turn

Floats = NDArray[np.float64]
SWEEPS_A_SUBSTEP, SWEEPS_A_FRAME = 3, 48  # at least: with fewer, a tower of ten boxes leans


@dataclass(frozen=True)
class Surface:
    """How a body meets others.

    Attributes:
        room: thickness in metres.
        grip, slip: static and sliding friction.
        bounce: share of the speed given back, 0..1.
    """

    room: float
    grip: float
    slip: float
    bounce: float = 0.0


@dataclass(frozen=True)
class RigidPart:
    """A rigid body before the world is built.

    Attributes:
        name: of the body.
        points, faces: its placed mesh, metres.
        mass: of it.
        shapes: what others touch, in world space.
        surface: how they do. density: kg/m³, as its mass is of.
        rolling_m: lever of its rolling resistance, metres, see `rolling`.
        weight: factor on gravity, a number or a track.
        mover: what drives it, if anything does. spells: when nothing does.
    """

    name: str
    points: Floats
    faces: NDArray[np.int32]
    mass: MassOf
    shapes: list[Shape]
    surface: Surface
    density: float = 1.0
    rolling_m: float = 0.0
    weight: Any = 1.0
    mover: Mover | None = None
    spells: Spells = ()

    @cached_property
    def samples(self) -> tuple[Floats, Floats]:
        """Its places (k, 3) and their balls' radius (k,), metres; see `samples_of`."""
        return samples_of(self.shapes)


@dataclass(frozen=True)
class ParticleSkin:
    """Skin points that go with particles.

    Attributes:
        masters: int32 (m, CARRIERS), shares: float64 (m, CARRIERS): what carries each point.
        surface: how they meet others.
        wide: whether they ask colliders too.
    """

    masters: NDArray[np.int32]
    shares: Floats
    surface: Surface
    wide: bool


@dataclass
class SolidWorld:
    """Rigid bodies, their joints, and all contacts of skins with solids.

    Attributes:
        parts: the rigid bodies.
        rigid, joints, skin, solids: the arrays of them.
        fields: of colliders, then of rigid bodies.
        colliders: for their movement within a substep.
        size: float64 (R,), extents in metres.
        contacts: of the last substep. table: the room they are in.
        sweeps: how often contacts are solved in one pass over all constraints.
        runs: where each run of contacts of the same two sides begins.
        order, ends: in which order runs are solved, see `halves`.
        body: what `pressing` knows of each rigid body.
        apart: pairs of rigid bodies that do not touch each other, as a joint holds them.
        pressed: how many contacts carried load in the last substep.
        lever: float64 (R,), of rolling resistance, metres.
        off: float64 (R, 4, 3), by how much each was off its motion when that took it back: place (m) and turn (a
            rotation vector, rad), and how fast both changed, a second.
        lighter: float64 (R,), how many times lighter than built each is in this frame.
    """

    parts: list[RigidPart]
    rigid: Rigid
    joints: Joints
    skin: Skin
    solids: Solids
    fields: Fields
    colliders: Colliders
    size: Floats
    calm_place: Floats
    contacts: Contacts = field(default_factory=no_contacts)
    table: Contacts = field(default_factory=no_contacts)
    slots: Slots = field(default_factory=lambda: make_slots(64))
    near: NearPairs = field(default_factory=NearPairs)
    any: bool = True
    sweeps: int = SWEEPS_A_SUBSTEP
    runs: NDArray[np.int64] = field(default_factory=lambda: np.zeros(1, np.int64))
    order: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    ends: tuple[int, int, int] = (0, 0, 0)
    body: Floats = field(default_factory=lambda: np.zeros((1, 10)))
    apart: list[tuple[int, int]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.lighter = np.ones(len(self.parts))
        self.lever = np.array([most_of(part.rolling_m) for part in self.parts], dtype=np.float64).reshape(-1)
        free = [part.mover is None or bool(part.spells) for part in self.parts]
        self.system = joint_system(self.joints.bodies, np.array(free, np.bool_).reshape(-1))
        turned = self.joints.bodies[self.joints.speed != 0.0]
        self.turned = np.unique(turned[turned >= 0])  # by motors
        self.near.leave_out(self.apart, self.solids)
        self.carried = np.zeros(len(self.parts), np.bool_)
        self.driven = [r for r, part in enumerate(self.parts) if part.mover is not None]
        self.off = np.zeros((len(self.parts), 4, 3))

    @property
    def pressed(self) -> int:
        """How many contacts carried load in the last substep."""
        return int((self.contacts.row[:, LOAD] > 0).sum())

    def drive(self, frame: float, seconds: float, fps: float) -> None:
        """Put the driven bodies where they are at a frame, `seconds` after they were where they are now.

        The colliders are there already. What begins to move wakes all that sleeps.
        """
        rigid, moved = self.rigid, self.solids.moving.copy()
        for r in self.driven:
            if self.parts[r].mover is None or rigid.w[r] > 0.0:
                continue
            old = rigid.place[r].copy()
            self._put(r, frame, fps)
            if seconds > 0.0:
                rigid.speed[r, :3] = (rigid.place[r, :3] - old[:3]) / seconds
                spin = quaternion_turn(rigid.place[r, 3:]) @ quaternion_turn(old[3:]).T
                rigid.speed[r, 3:] = rotation_vector(spin) / seconds
            s = int(np.flatnonzero(self.solids.owner == r)[0])
            self.solids.moving[s] = bool((rigid.place[r] != old).any())
        for c, _ in self.colliders.movers:
            self.solids.moving[c] = self.colliders.moved[c]
        if (self.solids.moving & ~moved).any():
            self.wake_all()

    def _put(self, number: int, frame: float, fps: float) -> None:
        """Put a body where its motion has it at a frame, and as far off that as it still is."""
        part, place = self.parts[number], self.rigid.place[number]
        assert part.mover is not None
        turn, shift = part.mover.at(frame)
        centre = turn @ part.mass.centre + shift
        if (spell := returning(part.spells, frame)) is not None:
            off, turned, pace, turning = self.off[number]
            centre = centre + fade(spell, frame, fps, off, pace)
            turn = quaternion_turn(vector_quaternion(fade(spell, frame, fps, turned, turning))) @ turn
        place[:3], place[3:] = centre, quaternion_of(turn @ part.mass.axes)

    def _hand_over(self, number: int, frame: float, fps: float, gravity: Floats, dt: float) -> None:
        """Let a body go on freely as its motion had it at a frame.

        Places and speeds of free bodies are half a step apart (see `predict`): the first step speeds it up by what
        gravity gives it in half a step, not in a whole one.
        """
        part, rigid = self.parts[number], self.rigid
        assert part.mover is not None
        self._put(number, frame, fps)
        speed, spin = pose_rates(part.mover, part.mass.centre, frame, fps, CAME)
        rigid.speed[number, :3] = speed - 0.5 * dt * rigid.weight[number] * gravity
        rigid.speed[number, 3:] = spin
        self.set_free(number)

    def _take_back(self, number: int, frame: float, fps: float) -> None:
        """Let a body be driven again, and keep by how much it is off its motion."""
        part, rigid = self.parts[number], self.rigid
        assert part.mover is not None
        turn, shift = part.mover.at(frame)
        speed, spin = pose_rates(part.mover, part.mass.centre, frame, fps, GOES)
        away = quaternion_turn(rigid.place[number, 3:]) @ part.mass.axes.T @ turn.T
        turned = rotation_vector(away)
        self.off[number] = [
            rigid.place[number, :3] - turn @ part.mass.centre - shift, turned, rigid.speed[number, :3] - speed,
            vector_rate(turned, rigid.speed[number, 3:] - away @ spin),
        ]  # fmt: skip
        rigid.w[number], rigid.inverse[number], rigid.asleep[number] = 0.0, 0.0, False

    def set_free(self, number: int) -> None:
        """Give a rigid body the inverse mass and moments that it has when nothing drives it."""
        mass = self.parts[number].mass
        self.rigid.w[number] = self.lighter[number] / mass.mass
        self.rigid.inverse[number] = self.lighter[number] / mass.moments

    def wake_all(self) -> None:
        """Wake every body that sleeps."""
        self.rigid.asleep[:] = False
        self.rigid.still[:] = 0.0

    def begin(self, frame: float, gravity: Floats, slowing: float, dt: float, fps: float) -> bool:
        """Let go of bodies driven until a frame, or take them back; move the free ones for dt seconds.

        Return whether any was let go or taken back.
        """
        changed = False
        for r in self.driven:
            free = is_free(self.parts[r].spells, frame)
            if free == (self.rigid.w[r] > 0.0):
                continue
            if free:
                self._hand_over(r, frame, fps, gravity, dt)
                self.solids.moving[np.flatnonzero(self.solids.owner == r)] = False
            else:
                self._take_back(r, frame, fps)
            self.wake_all()
            changed = True
        predict(self.rigid, gravity, slowing, dt)
        return changed

    def meet(self, x: Floats, before: Floats, w: Floats, dt: float) -> None:
        """Find this substep's contacts; x, before (n, 3) are the particles', w (n,) their inverse masses."""
        place_solids(self.solids, self.fields, self.rigid)
        place_skin(self.skin, self.solids, self.fields, self.rigid, x, before)
        if len(self.joints.kind):
            begin_joints(self.joints, self.system, self.rigid, dt)
        pairs, number = self.near.find(self.skin, self.solids, self.rigid)
        if len(pairs) > len(self.slots.filled):
            self.slots = make_slots(len(pairs) + len(pairs) // 2)
        look_at_pairs(pairs, number, self.near.until, self.fields, self.skin, self.solids, self.slots)
        things = (self.skin, self.solids, self.rigid)
        self.contacts, self.table = gather(pairs, self.slots, *things, w, dt, self.table)
        self.runs, self.body = runs_of(self.contacts), body_table(self.rigid)
        self.order, self.ends = halve(self.contacts, self.runs, self.body, self.rigid.place)

    def solve(self, x: Floats, w: Floats, dt: float) -> None:
        """Solve joints and contacts of dt seconds once; x (n, 3) changes."""
        jointed, touches = len(self.joints.kind) > 0, len(self.contacts.a) > 0
        for _ in range(2 if jointed and touches else 1):
            if jointed:
                solve_joints(self.joints, self.system, self.rigid, dt)
            if touches:
                halves = self.runs, self.order, self.ends
                press(self.contacts, *halves, self.body, self.skin, self.rigid, w, x, self.sweeps)
        if jointed and touches:  # an open joint is seen at once, a contact that is off by as much is not
            solve_joints(self.joints, self.system, self.rigid, dt)

    def end(self, gravity: Floats, dt: float) -> None:
        """Take what was solved into places and velocities."""
        settle_places(self.rigid, dt)
        slow = 2.0 * dt * float(np.linalg.norm(gravity)) + 1e-4
        give_back(self.contacts, self.runs, self.order, self.ends, self.body, self.rigid, slow, dt)
        resist_rolling(self.contacts, self.rigid, self.lever, dt)
        wake(self.contacts, self.joints.bodies, self.rigid, self.size, self.solids.moving, self.carried)

    def end_frame(self, seconds: float) -> None:
        """Let calm groups fall asleep; what a motor turns is not calm, however slow."""
        self.rigid.still[self.turned] = 0.0
        fall_asleep(self.rigid, self.size, self.calm_place, self.contacts, self.joints.bodies, seconds)

    def poses(self) -> Floats:
        """Return for every body (R, 7) the shift (m) and quaternion x y z w that take its placed mesh to it."""
        found = np.zeros((len(self.parts), 7))
        for r, part in enumerate(self.parts):
            turn = quaternion_turn(self.rigid.place[r, 3:]) @ part.mass.axes.T
            found[r, :3] = self.rigid.place[r, :3] - turn @ part.mass.centre
            found[r, 3:] = quaternion_of(turn)
        return found

    def depths(self, x: Floats, w: Floats) -> Floats:
        """Return how deep (m) each contact is within the room kept free, as everything stands now; for statistics."""
        rigid, asleep = self.rigid, self.rigid.asleep.copy()
        rigid.before[:], rigid.asleep[:] = rigid.place, False
        kept = self.contacts, self.runs, self.order, self.ends, self.body, self.table
        self.table = no_contacts()  # so that those of the last substep stay
        self.meet(x, x, w, 1.0)
        found = self.contacts.row[:, ROOM] - self.contacts.row[:, GAP]
        self.contacts, self.runs, self.order, self.ends, self.body, self.table = kept
        rigid.asleep[:] = asleep
        return found[found > 0.0]

    def room_of(self, number: int) -> float:
        """Return a rigid body's thickness as it is now, metres."""
        return float(self.solids.room[self.solids.owner == number][0])

    def state(self) -> list[NDArray[Any]]:
        """Return the arrays that say how it goes on from here; they are the world's own."""
        r = self.rigid
        returns = any(np.isfinite(spell.end) for part in self.parts for spell in part.spells)
        own = [r.place, r.speed, r.w, r.inverse, r.still, r.asleep, self.calm_place, self.solids.moving]
        return [*own, self.off] if returns else own


STILL = np.concatenate([np.eye(3).ravel(), np.zeros(3)])


def rotation_vector(turn: Floats) -> Floats:
    """Return the rotation vector (3,) in radians of a turn (3, 3) by less than half a turn."""
    q = quaternion_of(turn)
    sine = float(np.linalg.norm(q[:3]))
    return q[:3] * (2.0 * np.arctan2(sine, q[3]) / sine) if sine > 1e-12 else 2.0 * q[:3]


def vector_quaternion(vector: Floats) -> Floats:
    """Return the unit quaternion x y z w (4,) of a rotation vector (3,) in radians."""
    angle = float(np.linalg.norm(vector))
    return np.append(vector * (0.5 * np.sinc(angle / (2.0 * np.pi))), np.cos(0.5 * angle))


def vector_rate(vector: Floats, spin: Floats) -> Floats:
    """Return how fast a rotation vector (3,) changes, rad/s, where what it turns spins by a spin (3,), rad/s.

    The inverse of the exponential map's left Jacobian (Bullo and Murray 1995).
    """
    angle = float(np.linalg.norm(vector))
    across = np.cross(vector, spin)
    share = 1.0 / 12.0 if angle < 1e-4 else (1.0 - 0.5 * angle / np.tan(0.5 * angle)) / angle**2
    return np.asarray(spin - 0.5 * across + share * np.cross(vector, across))


def own_points(first: int, last: int, surface: Surface) -> ParticleSkin:
    """Return the skin of a cloth: its own points first .. last - 1."""
    masters, shares = np.zeros((last - first, CARRIERS), np.int32), np.zeros((last - first, CARRIERS))
    masters[:] = np.arange(first, last)[:, None]
    shares[:, 0] = 1.0
    return ParticleSkin(masters, shares, surface, wide=False)


def build_solids(
    parts: list[RigidPart], joints: Joints, skins: list[ParticleSkin], colliders: Colliders,
    apart: list[tuple[int, int]],
) -> SolidWorld:  # fmt: skip
    """Return the world of solids.

    Args:
        parts: the rigid bodies; their fields follow the colliders' in `colliders.fields`.
        joints: between them.
        skins: of particles that meet solids.
        colliders: the others; they get to share the array of drifts.
        apart: pairs of rigid bodies that do not touch each other.
    """
    touch, count = colliders.touch, len(colliders.touch.room)
    place = np.array([[*p.mass.centre, *quaternion_of(p.mass.axes)] for p in parts]).reshape(-1, 7)
    driven = np.array([p.mover is not None for p in parts], dtype=bool)
    mass = np.where(driven, 0.0, [p.mass.mass for p in parts])
    rigid = make_rigid(place, mass, np.array([p.mass.moments for p in parts]).reshape(-1, 3),
                       np.array([value_at(p.weight, 0.0) for p in parts], dtype=np.float64).reshape(-1))  # fmt: skip
    first = count + np.concatenate([[0], np.cumsum([len(p.shapes) for p in parts])]).astype(np.int64)
    span = np.concatenate([np.stack([np.arange(count), np.arange(count) + 1], 1), np.stack([first[:-1], first[1:]], 1)])
    boxes = np.zeros((count + len(parts), 6))
    owner = np.concatenate([np.full(count, -1), np.arange(len(parts))]).astype(np.int64)
    points: list[Floats] = [np.zeros((0, 3))]
    columns: list[Floats] = [np.zeros((0, 5))]  # radius, room, grip, slip, bounce
    owners: list[NDArray[np.int64]] = [np.zeros(0, np.int64)]
    masters: list[NDArray[np.int32]] = [np.zeros((0, CARRIERS), np.int32)]
    shares: list[Floats] = [np.zeros((0, CARRIERS))]
    starts, own, wide = [0], [], []

    def add(at: Floats, radius: Floats, surface: Surface, whose: int, of: Any, by: Any, solid: int, asks: bool) -> None:
        n = len(at)
        points.append(at)
        rest = np.tile([surface.room, surface.grip, surface.slip, surface.bounce], (n, 1))
        columns.append(np.column_stack([radius, rest]))
        owners.append(np.full(n, whose, np.int64))
        masters.append(np.zeros((n, CARRIERS), np.int32) if of is None else of.astype(np.int32))
        shares.append(np.zeros((n, CARRIERS)) if by is None else by)
        for k in range(0, n, CHUNK):
            starts.append(starts[-1] + min(CHUNK, n - k))
            own.append(solid)
            wide.append(asks)

    for r, part in enumerate(parts):
        at, radius = part.samples
        local = (at - part.mass.centre) @ part.mass.axes
        low, high = np.full(3, np.inf), np.full(3, -np.inf)
        for shape in part.shapes:
            corners = (shape_outline(shape) - part.mass.centre) @ part.mass.axes
            low, high = np.minimum(low, corners.min(axis=0)), np.maximum(high, corners.max(axis=0))
        boxes[count + r] = np.concatenate([low, high])
        add(local, radius, part.surface, r, None, None, count + r, True)
    for c, (at, radius) in colliders.samples.items():
        surface = Surface(*(float(getattr(touch, name)[c]) for name in ("room", "grip", "slip", "bounce")))
        add(at, radius, surface, -2 - c, None, None, c, True)
    for skin_part in skins:
        n = len(skin_part.masters)
        add(np.zeros((n, 3)), np.zeros(n), skin_part.surface, -1, skin_part.masters, skin_part.shares, -1,
            skin_part.wide)  # fmt: skip
    table = np.concatenate(columns)
    total = len(table)
    radius, room, grip, slip, bounce = (np.ascontiguousarray(table[:, k]) for k in range(5))
    skin = Skin(
        np.concatenate(owners), np.concatenate(masters), np.concatenate(shares), np.concatenate(points),
        radius, room, grip, slip, bounce, np.zeros((total, 3)), np.zeros((total, 3)), np.zeros((3, total + 3)),
        np.array(starts, np.int64), np.array(own, np.int64).reshape(-1), np.array(wide, np.bool_).reshape(-1),
        np.zeros((len(own), 6)), np.zeros(len(own)),
    )  # fmt: skip
    surfaces = [p.surface for p in parts]

    def joined(old: Floats, name: str) -> Floats:
        return np.concatenate([old, [getattr(s, name) for s in surfaces]]).astype(np.float64)

    solids = Solids(
        span.astype(np.int64), owner, joined(touch.room, "room"), joined(touch.grip, "grip"),
        joined(touch.slip, "slip"), joined(touch.bounce, "bounce"),
        np.concatenate([touch.slim, [min(slim_of(s) for s in p.shapes) for p in parts]]).astype(np.float64),
        np.concatenate([touch.both, np.zeros(len(parts), np.bool_)]), np.zeros(count + len(parts), np.bool_),
        np.concatenate([touch.drift, np.tile(STILL, (len(parts), 1))]), np.zeros((count + len(parts), 13)),
        np.zeros(count + len(parts)), np.zeros((count + len(parts), 6)), boxes,
        np.concatenate([np.zeros((count, 12)), *[_in_body(s, p.mass) for p in parts for s in p.shapes]]),
    )  # fmt: skip
    colliders.touch = touch._replace(drift=solids.drift[:count])
    size = np.array([float(np.linalg.norm(np.ptp(p.points, axis=0))) for p in parts]).reshape(-1)
    world = SolidWorld(parts, rigid, joints, skin, solids, colliders.fields, colliders, size, place.copy(), apart=apart)
    world.any = total > 0
    return world


def _in_body(shape: Shape, mass: MassOf) -> Floats:
    """Return a shape's turn and origin (1, 12) in its body's frame."""
    return np.concatenate([(mass.axes.T @ shape.turn).ravel(), mass.axes.T @ (shape.origin - mass.centre)])[None, :]
