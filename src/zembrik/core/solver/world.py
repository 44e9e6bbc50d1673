"""Everything the solver works on, as arrays."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.track import most_of, track_values, value_at
from zembrik.core.motion.turbulence import Turbulence
from zembrik.core.motion.wind import wind_velocity
from zembrik.core.solver.bend import Bend
from zembrik.core.solver.blown import Blown
from zembrik.core.solver.colliders import Colliders
from zembrik.core.solver.handles import TO_SECOND as TO_SECOND
from zembrik.core.solver.handles import Handles
from zembrik.core.solver.hexahedra import Cells
from zembrik.core.solver.membrane import Membrane
from zembrik.core.solver.over_frames import OverFrames
from zembrik.core.solver.plastic import Yielding
from zembrik.core.solver.solids import SolidWorld
from zembrik.core.solver.touching import Touching
from zembrik.core.units import turn_matrix

Floats = NDArray[np.float64]


@dataclass
class SimBody:
    """A simulated body's part of the world.

    Attributes:
        name: of the body.
        first, last: its particles are first .. last - 1 of the world's.
        faces: int32 (faces, 3), numbered from 0 within the body.
        rigid: its number among the rigid bodies; None for one whose points move by themselves.
        rest: float64 (points, 3), a rigid body's placed mesh, metres.
        masters, shares: int32 and float64 (points, 8), the particles that carry a soft body's points.
    """

    name: str
    first: int
    last: int
    faces: NDArray[np.int32]
    rigid: int | None = None
    rest: Floats | None = None
    masters: NDArray[np.int32] | None = None
    shares: Floats | None = None

    @property
    def count(self) -> int:
        """How many points its surface has."""
        if self.rest is not None:
            return len(self.rest)
        return self.last - self.first if self.masters is None else len(self.masters)

    def points(self, x: Floats) -> Floats:
        """Return its surface's points (count, 3) from the world's particles x (n, 3), metres."""
        if self.masters is None or self.shares is None:
            return x[self.first : self.last]
        return np.einsum("mk,mki->mi", self.shares, x[self.masters])


@dataclass
class Pull:
    """Gravity that changes over frames.

    Attributes:
        gravity: float64 (3,), m/s², to be multiplied and turned. strength: the number or track to do so by.
        weights: of bodies whose share changes: their particles (first, last) or their number among the rigid bodies,
            and the track.
        turn: a track of three angles in degrees that gravity is turned by, about X, then Y, then Z; None for none.
    """

    gravity: Floats
    strength: Any
    weights: list[tuple[tuple[int, int] | int, Any]]
    turn: Any = None

    def at(self, frame: float) -> Floats:
        """Return gravity (3,) at a frame, m/s²."""
        gravity = self.gravity * value_at(self.strength, frame)
        if self.turn is None:
            return gravity
        return turn_matrix(track_values(self.turn["keys"], self.turn["ease"], frame)[0]) @ gravity

    def changes_at(self, frame: float) -> bool:
        """Whether anything is unlike a frame before."""
        every = [self.strength, *[track for _, track in self.weights]]
        turns = bool((self.at(frame) != self.at(frame - 1.0)).any())
        return turns or any(value_at(v, frame) != value_at(v, frame - 1.0) for v in every)


@dataclass
class Shrinking:
    """Triangles of a cloth whose rest length changes over frames.

    Attributes:
        numbers: int64 (t,), of the membrane's triangles.
        rest: float64 (t, 4), their inverse edge matrices at the mesh's own length, 1/m.
        factor: the number or track to multiply lengths by.
    """

    numbers: NDArray[np.int64]
    rest: Floats
    factor: Any


@dataclass
class Air:
    """What the air does.

    Attributes:
        density: kg/m³, a number or a track.
        rows: float64 (T, 4), see `cloth_parts.ClothPart.air`, in the membrane's order.
        winds: velocity (3,) in m/s with strength and veer (degrees) over frames.
        swirls: turbulence with its strength over frames.
        slowing: rates (1/s) with their strength over frames.
        inflated: triangles (numbers) of closed sheets with the pressure inside over frames, Pa.
        thick: kg/m³, what the density is in this frame.
    """

    density: Any
    rows: Floats
    winds: list[tuple[Floats, Any, Any]]
    swirls: list[tuple[Turbulence, Any]]
    slowing: list[tuple[Any, Any]]
    inflated: list[tuple[NDArray[np.int64], Any]]
    thick: float = 0.0

    @property
    def any(self) -> bool:
        """Whether it does anything to cloth."""
        return bool(len(self.rows)) and (most_of(self.density) > 0.0 or bool(self.inflated))

    def wind_at(self, frame: float) -> Floats:
        """Return the even wind's velocity (3,) in m/s at a frame."""
        return sum((wind_velocity(*wind, frame) for wind in self.winds), np.zeros(3))

    def lost_at(self, frame: float, dt: float) -> float:
        """Return the share (0..1) of all speed that a step of dt seconds loses to the air at a frame."""
        rates = (value_at(rate, frame) * value_at(strength, frame) for rate, strength in self.slowing)
        return 1.0 - float(np.exp(-dt * sum(rates)))

    def swirl_at(self, frame: float, fps: float, x: Floats, swirl: Floats) -> None:
        """Fill swirl (n, 3) with the turbulent air's velocity at every particle of x (n, 3), m/s, at a frame."""
        swirl[:] = 0.0
        for turbulence, strength in self.swirls:
            turbulence.add(x, frame, fps, value_at(strength, frame), swirl)

    def set_rows(self, frame: float) -> None:
        """Set pressures inside closed sheets, and how dense the air is, to what they are at a frame."""
        self.thick = value_at(self.density, frame)
        for numbers, pressure in self.inflated:
            self.rows[numbers, 3] = value_at(pressure, frame)


FIRST_ORDER, TO_FIRST, SECOND = 0.0, 2.0, 3.0  # of a point's last step and its next: the same, or not


@dataclass
class Past:
    """Where the particles were one step ago, for the second order of their step.

    Attributes:
        x, v: float64 (n, 3), metres and m/s.
        order: float64 (n,), of the last step and the next, one of those above.
        load, on, stretch: float64 (m,), (m,) and (m, 3), of what colliders did to each point of cloth, see `planes`.
        borne: bool (R,), the rigid bodies that particles pushed.
    """

    x: Floats
    v: Floats
    order: Floats
    load: Floats
    on: Floats
    stretch: Floats
    borne: NDArray[np.bool_]


@dataclass
class World:
    """All bodies of a setup as arrays; n particles, of which the first m are cloth; T triangles, C colliders.

    Attributes:
        bodies: the simulated ones.
        cloth: m, how many particles are points of cloth.
        x, v: float64 (n, 3), metres and m/s.
        w: float64 (n,), inverse masses in 1/kg; 0 holds a particle.
        mass: float64 (n,), kg. weight: float64 (n,), factor on gravity.
        skin: float64 (m, 5), of cloth points: thickness in metres, static and sliding friction, and for
            tack the pull in N and the distance in metres.
        membrane, bend, cells, colours: the constraints and their clusters' colours.
        colliders: what it touches.
        handles: what holds particles and moves them.
        shrinking: the cloths whose rest length changes.
        yielding: what keeps its dents and creases.
        touching: what keeps cloth apart from itself and from colliders' edges.
        solids: the rigid bodies, and what meets them and the colliders through a skin.
        air: wind and what else the air does.
        gravity: float64 (3,), m/s².
        fps: frames a second.
        pull: gravity that changes over frames, if it does.
        over_frames: all other dials that change.
        blown: the surfaces of soft and rigid bodies that feel the air.
        closed: those of cloth and soft bodies that are closed.
        changed: whether gravity or a dial is another in this frame than before.
        past: of the particles.
    """

    bodies: list[SimBody]
    cloth: int
    x: Floats
    v: Floats
    w: Floats
    mass: Floats
    weight: Floats
    skin: Floats
    membrane: Membrane
    bend: Bend
    cells: Cells
    colours: NDArray[np.int64]
    colliders: Colliders
    handles: Handles
    shrinking: list[Shrinking]
    yielding: Yielding
    touching: Touching
    solids: SolidWorld
    air: Air
    gravity: Floats
    fps: float
    pull: Pull | None = None
    over_frames: OverFrames = field(default_factory=OverFrames)
    blown: Blown = field(default_factory=Blown)
    closed: list[SimBody] = field(default_factory=list)
    changed: bool = False

    def __post_init__(self) -> None:
        no_load = np.zeros(self.cloth), np.full(self.cloth, -1.0), np.zeros((self.cloth, 3))
        borne = np.zeros(len(self.solids.rigid.w), np.bool_)
        self.past = Past(self.x.copy(), self.v.copy(), np.full(len(self.x), TO_SECOND), *no_load, borne)

    def state(self) -> list[NDArray[Any]]:
        """Return the arrays that say how it goes on from here; they are the world's own."""
        past = self.past
        kept = [
            self.x,
            self.v,
            past.x,
            past.v,
            past.order,
            past.load,
            past.on,
            past.stretch,
            past.borne,
            *self.solids.state(),
            *self.handles.state(),
        ]
        if self.yielding.any:
            kept += [self.membrane.rest, self.bend.rest, self.cells.rest, *[cloth.rest for cloth in self.shrinking]]
        return kept

    def move_to(self, frame: float) -> bool:
        """Put colliders and held points where they are at a frame, and rest lengths to what they are then.

        Return whether anything went anywhere, or changed.
        """
        self.colliders.move_to(frame)
        moved = bool(self.colliders.moved.any() or self.shrinking)
        for cloth in self.shrinking:
            self.membrane.rest[cloth.numbers, :4] = cloth.rest / value_at(cloth.factor, frame)
        return self.handles.move_to(frame, self.fps, self.x, self.w) or moved

    def begin_frame(self, frame: float) -> bool:
        """Set all dials and what is held to what they are from a frame on; return whether other points are held."""
        self.set_dials(frame)
        changes = self.over_frames.changes_at(frame)
        if self.pull is not None:
            self.set_pull(frame)
            changes |= self.pull.changes_at(frame)
        self.changed = changes
        if changes:  # what rests may rest no longer
            self.solids.wake_all()
        return self.handles.hold(frame, self.fps, self.x, self.v, self.w, self.past.order)

    def set_dials(self, frame: float) -> None:
        """Set all dials but gravity to what they are at a frame."""
        self.over_frames.set(frame)
        self.air.set_rows(frame)

    def set_pull(self, frame: float) -> None:
        """Set gravity to what it is at a frame."""
        assert self.pull is not None
        self.gravity[:] = self.pull.at(frame)
        for whose, track in self.pull.weights:
            if isinstance(whose, int):
                self.solids.rigid.weight[whose] = value_at(track, frame)
            else:
                self.weight[slice(*whose)] = value_at(track, frame)

    def keep_dents(self, seconds: float) -> None:
        """Let what yields take on some of the form it was forced into."""
        self.yielding.creep(self.membrane, self.bend, self.cells, self.shrinking, self.x, seconds)
