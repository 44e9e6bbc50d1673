"""The implicit step of cloth: BDF2 by Newton's method, with contact inside.

A step looks for places x and velocities v at its end (Gear 1971; for cloth Choi and Ko 2002):

    x = x* + s v        v = v* + s (F(x, v) / m + g)        s = 2/3 dt
    x* = (4 x₀ - x₁) / 3        v* = (4 v₀ - v₁) / 3

with x₀ now and x₁ one step ago: second order, and what is stiffer than the step dies out. What touched something in
the last step takes backward Euler instead (x* = x₀, v* = v₀, s = dt): a blow has no second derivative. Both are
m (x - y) / s² = F(x, v) with y = x* + s v* + s² g, a sum for every point, so they mix freely.

It is solved by Newton's method, each turn by conjugate gradients (`blocks`), from x₀ + dt v₀. Contact is in it as
stiff planes (`planes`) and ties (`ties`): what it pushes and what the cloth's own forces do settle together. So what
rests has the strain that its load needs, and no more.

**How exactly.** A turn ends when what is left of the forces could speed up the points by ACCURACY, in the mean:
r M⁻¹ r is no less than Σ m/s² times the square of how far they are off. A share of what there was at the beginning will
not do: most of that is strain from going straight on along a turn, and gravity is lost in it.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import parallel_kernel
from zembrik.core.solver.blocks import CHUNK, block_pattern, block_slots, invert_diagonal, solve_blocks, weigh
from zembrik.core.solver.cloth_forces import add_elastic, note_bent
from zembrik.core.solver.planes import add_planes, find_planes, no_planes
from zembrik.core.solver.ties import (
    BodyBlocks,
    Ties,
    begin_bodies,
    invert_bodies,
    room_for_ties,
    shift_bodies,
    tie_bodies,
    tie_touching,
)
from zembrik.core.solver.world import World

ACCURACY = 0.1  # m/s²
FIRST = 0.05  # of what there was at the beginning: the first of several turns need not be exact
MOST_TURNS, FALLS = 4, 0.5  # a step has two turns; more where the second began with more than this share of the first
MOST_ITERATIONS = 1000

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]


@parallel_kernel
def _begin(w, mass, weight, gravity, x, v, faster, x1, v1, smooth, dt, step, heavy, aim, goal):  # type: ignore[no-untyped-def]
    """Fill step s (n,), heavy m/s² (n,), aim x* and goal y (n, 3), and let the past be what is now."""
    for i in numba.prange(len(smooth)):
        second = smooth[i] > 0.0
        s = 2.0 / 3.0 * dt if second else dt
        step[i], heavy[i] = s, mass[i] / (s * s)
        for a in range(3):
            xs, vs = x[i, a], v[i, a]
            if second:
                xs, vs = (4.0 * xs - x1[i, a]) / 3.0, (4.0 * vs - v1[i, a]) / 3.0
            x1[i, a], v1[i, a] = x[i, a], v[i, a]
            aim[i, a] = xs
            goal[i, a] = xs + s * (vs + s / dt * faster[i, a] + s * weight[i] * gravity[a])


@parallel_kernel
def _inertia(x, step, heavy, aim, goal, stiff, v, force, values):  # type: ignore[no-untyped-def]
    """Begin force (n, 3) and blocks with what each point's mass resists, and fill v with how fast it is."""
    if stiff:
        flat = values.reshape(-1)
        for k in numba.prange(len(flat)):
            flat[k] = 0.0
    for i in numba.prange(len(step)):
        for a in range(3):
            v[i, a] = (x[i, a] - aim[i, a]) / step[i]
            force[i, a] = heavy[i] * (goal[i, a] - x[i, a])
            if stiff:
                values[i, 4 * a] = heavy[i]


class ClothStep:
    """Takes the cloth of a world, its first points, one step on.

    Args:
        world: as it begins; the pattern of the matrix is laid out from its triangles and hinges.
    """

    def __init__(self, world: World) -> None:
        n = world.cloth
        self.world, self.count = world, n
        self.pattern = block_pattern(world.x[:n], [world.membrane.points, world.bend.points])
        self.three = block_slots(self.pattern, world.membrane.points)
        self.four = block_slots(self.pattern, world.bend.points)
        self.values, self.inverse = np.zeros((len(self.pattern.row), 9)), np.zeros((n, 6))
        self.step, self.heavy, self.sums = np.zeros(n), np.zeros(n), np.zeros(n // CHUNK + 1)
        self.aim, self.goal, self.speed, self.solved = (np.zeros((n, 3)) for _ in range(4))
        bodies = len(world.solids.rigid.w)
        self.force, self.way, *self.work = (np.zeros((n + 2 * bodies, 3)) for _ in range(7))
        self.bodies = BodyBlocks(np.zeros((bodies, 6, 6)), np.zeros((bodies, 6, 6)))
        self.distance, self.normal, self.probe = np.zeros(n), np.zeros((n, 3)), np.zeros((n, 3))
        self.planes, self.room, self.ties = no_planes(n), room_for_ties(0), room_for_ties(0)
        self.free, self.touched = np.zeros(n, np.bool_), np.zeros(n, np.bool_)
        self.iterations, self.none = 0, np.zeros(0, np.int32)

    def begin(self, faster: Floats, dt: float) -> None:
        """Lay out a step of dt seconds from where the cloth is; `faster` (n, 3) is what else speeds it up, m/s."""
        world, n, past = self.world, self.count, self.world.past
        self.free[:] = world.w[:n] > 0.0
        _begin(
            world.w, world.mass, world.weight, world.gravity, world.x, world.v, faster, past.x, past.v, past.smooth, dt,
            self.step, self.heavy, self.aim, self.goal,
        )  # fmt: skip

    def solve(self, x: Floats, before: Floats, dt: float) -> None:
        """Bring x (n, 3), where the cloth is expected, to where it comes; it was at before (n, 3)."""
        enough = self._enough(dt)
        self.touched[:] = False
        self.iterations, first = 0, 0.0
        for turn in range(MOST_TURNS):
            self._gather(x, before, dt, True, turn == 0)
            self.touched |= self.planes.count > 0
            self.touched[self.ties.points[self.ties.points >= 0]] = True
            invert_diagonal(self.values, self.free, self.inverse)
            invert_bodies(*self.bodies)
            done, began = solve_blocks(
                self.pattern, self.values, self.ties, self.free, self.inverse, self.bodies, self.force, self.way, *self.work,
                self.sums, 0.0 if turn else FIRST**2, enough, MOST_ITERATIONS,
            )  # fmt: skip
            x += self.way[: self.count]
            shift_bodies(self.way, self.count, self.world.solids.rigid)
            self.iterations += done
            first = first or began
            if turn and began <= max(FALLS**2 * first, enough):
                break
        self.solved[:] = x

    def end(self, x: Floats, v: Floats, pressed: NDArray[np.int32], dt: float) -> None:
        """Set the velocities v (n, 3), m/s, when all is where it comes to, x; `pressed` is added to what touches."""
        where = self.free
        self.touched |= pressed > 0
        v[where] = ((self.solved - self.aim) / self.step[:, None] + (x - self.solved) / dt)[where]
        self.world.past.smooth[:] = ~self.touched
        pressed[:] = self.touched

    def residual_m(self, before: Floats, dt: float) -> float:
        """Return how far the points are from where their forces would have them, in the mean, metres."""
        total = float(self.heavy[self.free].sum())
        if total <= 0.0:
            return 0.0
        self._gather(self.world.x[: self.count], before, dt, False, False, settled=True)
        self.force[self.count :] = 0.0  # bodies have gone on
        left = weigh(
            self.pattern, self.values, self.free, self.inverse, self.bodies, self.force, *self.work[:2], self.sums
        )
        return float(np.sqrt(left / total))

    def _enough(self, dt: float) -> float:
        """Return what may be left of r M⁻¹ r, J."""
        return float((ACCURACY * (2.0 / 3.0 * dt) ** 2) ** 2 * self.heavy[self.free].sum())

    def _gather(self, x: Floats, before: Floats, dt: float, stiff: bool, anew: bool, settled: bool = False) -> None:
        """Fill the force at x (n, 3) and, if `stiff`, the blocks; `anew` the first time in a step.

        `settled` when the step is over, and rigid bodies have gone on.
        """
        world, n, touching, touch = self.world, self.count, self.world.touching, self.world.colliders.touch
        force, values = self.force, self.values
        _inertia(x, self.step, self.heavy, self.aim, self.goal, stiff, self.speed, force, values)
        note_bent(world.bend, x)
        add_elastic(
            world.colours, world.membrane, world.bend, self.three, self.four, x, self.speed, dt, stiff, force, values
        )
        find_planes(
            world.colliders.fields, touch, world.skin, world.w, x, before, *self.planes, self.distance, self.normal,
            self.probe,
        )  # fmt: skip
        add_planes(self.planes, touch, world.skin, self.heavy, x, before, stiff, force, values)
        solids, rigid, many = world.solids, world.solids.rigid, 0
        block = self.bodies.block
        begin_bodies(rigid, dt, block, force, n)
        hits = touching.touch(x, rigid, anew) if touching.any and touching.known else self.none
        room = len(hits) + len(solids.contacts.a)
        if room > len(self.room.hold):
            self.room = room_for_ties(room + room // 2)
        if len(hits):
            many = tie_touching(
                hits, touching.faces, touching.edges, touching.points.near, touching.lines.near, touching.x,
                touching.before, touching.room, touching.grip, touching.slip, n, touching.guest_end, touching.guests,
                rigid, self.heavy, self.free, stiff, self.room, force, values, block, dt,
            )  # fmt: skip
            touching.touched = many
        if len(solids.contacts.a) and not settled:
            many = tie_bodies(
                solids.contacts, solids.skin, rigid, x, self.heavy, self.free, stiff, many, self.room, force, values,
                block, dt,
            )  # fmt: skip
        self.ties = Ties(*(array[:many] for array in self.room))
        force[: self.count][~self.free] = 0.0
