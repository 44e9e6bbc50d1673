"""Energy, momentum and volume of a whole world, and what a frame gained or lost that nothing explains.

The balance of a frame is the change of all energy (of motion, of height, and stored in strain) less the work of the
air. Friction, damping and the integrator only take from it: what is above zero has come from nowhere. While something
is moved by a track, or a parameter changes, work is done that is not measured, and no balance is drawn.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel
from zembrik.core.solver.bend import rest_angles
from zembrik.core.solver.rigid import kinetic_energy
from zembrik.core.solver.soft_forces import cell_energy
from zembrik.core.solver.world import World

Floats = NDArray[np.float64]


@kernel
def _membrane_energy(points, rest, x):  # type: ignore[no-untyped-def]
    """Return the energy in stretch and shear, J: ½ C² / α of each constraint, see `membrane`."""
    total = 0.0
    for t in range(len(points)):
        i, j, k = points[t, 0], points[t, 1], points[t, 2]
        uu, vv, uv = 0.0, 0.0, 0.0
        for a in range(3):
            to_j, to_k = x[j, a] - x[i, a], x[k, a] - x[i, a]
            u, v = rest[t, 0] * to_j + rest[t, 2] * to_k, rest[t, 1] * to_j + rest[t, 3] * to_k
            uu, vv, uv = uu + u * u, vv + v * v, uv + u * v
        c_u, c_v = np.sqrt(uu) - 1.0, np.sqrt(vv) - 1.0
        total += 0.5 * c_u * c_u / (rest[t, 4] if c_u >= 0.0 else rest[t, 5])
        total += 0.5 * c_v * c_v / (rest[t, 4] if c_v >= 0.0 else rest[t, 5])
        total += 0.5 * uv * uv / rest[t, 6]
    return total


def _bend_energy(world: World) -> float:
    """Return the energy in folds, J: ½ e K e, see `bend_form`."""
    bend = world.bend
    if not len(bend.points):
        return 0.0
    e = 2.0 * np.tan(np.clip(rest_angles(world.x, bend.points) / 2.0, -1.5, 1.5)) - bend.rest[:, 0]
    asked = np.zeros(len(e))
    if len(bend.near):
        asked = bend.share[:, 0] * e + (bend.share[:, 1:] * e[bend.near]).sum(axis=1)
    return float(0.5 * (e * (e - asked) / bend.rest[:, 1]).sum())


def motion_of_points(world: World) -> float:
    """Return the energy of all particles' motion, J."""
    return float(0.5 * (world.mass * np.einsum("ij,ij->i", world.v, world.v)).sum())


def motion_energy(world: World) -> float:
    """Return the energy of all motion, J."""
    moving = motion_of_points(world)
    return moving + (float(kinetic_energy(world.solids.rigid)) if world.solids.any else 0.0)


def stored_energy(world: World) -> float:
    """Return the energy that strain and folds store, J."""
    stored = _bend_energy(world)
    if len(world.membrane.points):
        stored += float(_membrane_energy(world.membrane.points, world.membrane.rest, world.x))
    if len(world.cells.points):
        stored += float(cell_energy(world.cells.points, world.cells.rest, world.x))
    return stored


def height_energy(world: World, dt: float) -> float:
    """Return the energy of height, J, 0 at the world's origin.

    Velocities of rigid bodies are those of half a substep ago, so heights are taken there: then a free fall keeps its
    energy exactly. Those of particles are of now.
    """
    gravity, free = world.gravity, world.w > 0.0
    total = -float(((world.mass * world.weight)[free] * (world.x[free] @ gravity)).sum())
    rigid = world.solids.rigid
    awake = rigid.w > 0.0
    if awake.any():
        places = rigid.place[awake, :3] - 0.5 * dt * rigid.speed[awake, :3]
        total -= float((rigid.weight[awake] / rigid.w[awake] * (places @ gravity)).sum())
    return total


def momentum(world: World) -> Floats:
    """Return the momentum (3,) of all that moves freely, kg·m/s."""
    free, rigid = world.w > 0.0, world.solids.rigid
    total = (world.mass[free, None] * world.v[free]).sum(axis=0)
    awake = rigid.w > 0.0
    if awake.any():
        total = total + (rigid.speed[awake, :3] / rigid.w[awake, None]).sum(axis=0)
    return np.asarray(total, dtype=np.float64)


def volume(world: World) -> float:
    """Return what all closed surfaces of cloth and soft bodies hold, m³ (the divergence theorem, face by face)."""
    total = 0.0
    for body in world.closed:
        points = body.points(world.x)
        a, b, c = (points[body.faces[:, k]] for k in range(3))
        total += float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum()) / 6.0
    return total


class EnergyBalance:
    """The balance of one frame after the other.

    `gained_J` is the energy that the last frame gained; 0 where work was done that is not measured. `drifted_m_per_s`
    is how much faster all mass together goes than gravity makes it go; 0 where anything else may hold or push it.
    """

    def __init__(self, world: World) -> None:
        self.world = world
        joined = world.solids.joints.bodies
        outside = world.colliders.names or world.air.any or world.blown.any or world.air.slowing or world.handles.every
        self._alone = not outside and bool((world.w > 0.0).all()) and not (joined < 0).any()
        self._alone &= not world.solids.driven and all(part.weight == 1.0 for part in world.solids.parts)
        self._alone &= bool((world.weight == 1.0).all()) and world.pull is None
        self.drifted_m_per_s, self._momentum = 0.0, np.zeros(3)
        self.gained_J, self._before, self._worked, self._measured = 0.0, 0.0, 0.0, True

    def _all(self, dt: float) -> float:
        return motion_energy(self.world) + height_energy(self.world, dt) + stored_energy(self.world)

    def begin_frame(self, dt: float, measured: bool) -> None:
        """Take down what there is; `measured` tells whether nothing does work but the air."""
        self._before, self._worked, self._measured = self._all(dt), 0.0, measured
        self._momentum = momentum(self.world)

    def note_work(self, joules: float) -> None:
        """Add work of the air."""
        self._worked += joules

    def note_moved(self) -> None:
        """Draw no balance for this frame: something was moved."""
        self._measured = False

    def end_frame(self, dt: float) -> None:
        """Draw the balance."""
        world = self.world
        self.gained_J = self._all(dt) - self._before - self._worked if self._measured else 0.0
        if self._alone:
            mass = float(world.mass.sum()) + sum(part.mass.mass for part in world.solids.parts)
            fall = world.gravity / world.fps
            self.drifted_m_per_s = float(np.linalg.norm((momentum(world) - self._momentum) / mass - fall))
