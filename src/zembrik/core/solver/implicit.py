"""The implicit step of cloth and soft bodies: BDF2 by Newton's method, with contact inside.

A step looks for places x and velocities v at its end (Gear 1971; for cloth Choi and Ko 2002):

    x = x* + s v        v = v* + s (F(x, v) / m + g)        s = 2/3 dt
    x* = (4 x₀ - x₁) / 3        v* = (4 v₀ - v₁) / 3

with x₀ now and x₁ one step ago: second order, and what is stiffer than the step dies out. What touched something in
the last step, or does as this one begins, takes backward Euler instead (x* = x₀, v* = v₀, s = dt): a blow has no second
derivative. Both are m (x - y) / s² = F(x, v) with y = x* + s v* + s² g, a sum for every point, so they mix freely. BDF2
gives a point two thirds of an impulse at once and the rest in the steps that follow: a point that goes over to the
other order takes the rest along, so that what one gives is what others get.

It is solved by Newton's method, each turn by conjugate gradients (`blocks`), from where everything would go on to.
Contact is in it as stiff planes (`planes`) and ties (`ties`): what it pushes and what the cloth's own forces do settle
together. So what rests has the strain that its load needs, and no more.

**How exactly.** A turn ends when what is left of the forces could speed up the points by ACCURACY, in the mean:
r M⁻¹ r is no less than Σ m/s² times the square of how far they are off. A share of what there was at the beginning will
not do: most of that is strain from going straight on along a turn, and gravity is lost in it. (M is the
preconditioner, so for what is stiff this is a bound in energy, not in acceleration; see SHARE.)
"""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.solver.blocks import (
    block_pattern,
    block_slots,
    invert_diagonal,
    room_for_blocks,
    solve_blocks,
    weigh,
)
from zembrik.core.solver.cloth_forces import add_elastic, note_bent
from zembrik.core.solver.planes import add_planes, find_planes, no_planes
from zembrik.core.solver.ties import (
    BodyBlocks,
    begin_bodies,
    invert_bodies,
    room_for_ties,
    shift_bodies,
    some_ties,
    tie_skin,
    tie_touching,
)
from zembrik.core.solver.world import FIRST_ORDER, SECOND, TO_FIRST, TO_SECOND, World

ACCURACY = 0.02  # m/s²: over a quarter of a second that is 0.6 mm, were it always to the same side
BEGINNING = 0.05  # of what there was at the beginning: the first of several turns need not be exact
LEAST_TURNS, MOST_TURNS, FALLS = 2, 8, 0.5  # a step has two turns; more where they leave more than this share
# What is nearly at rest has little left from the beginning. If that were enough, nothing would answer what pulls it, in
# no step: it would creep. So some must go, down to this share of ACCURACY.
SHARE, LEAST = 0.1, 0.05
SWING = 0.5  # m/s, by which a last turn may still change how fast something goes that touches
MOST_ITERATIONS = 1000
BEHIND = 0.1  # of what is behind a point of a soft body: pairs push FIRMNESS times as hard
OVER, LEAST_SHARE, MOST_CUTS = 0.9, 0.1, 4  # of a turn that goes too far, see `ImplicitStep._shorten`

Floats = NDArray[np.float64]
Bools = NDArray[np.bool_]


@parallel_kernel
def _begin(mass, weight, gravity, x, v, faster, x1, v1, order, dt, step, heavy, aim, goal):  # type: ignore[no-untyped-def]
    """Fill step s (n,), heavy m/s² (n,), aim x* and goal y (n, 3) of points that are at x; see `Past`."""
    for i in numba.prange(len(order)):
        second, was_second = order[i] == SECOND or order[i] == TO_SECOND, order[i] == SECOND or order[i] == TO_FIRST
        s = 2.0 / 3.0 * dt if second else dt
        step[i], heavy[i] = s, mass[i] / (s * s)
        for a in range(3):
            xs, vs = x[i, a], v[i, a]
            pull = weight[i] * gravity[a] + faster[i, a] / dt
            if second:
                if was_second:
                    old, slow = x1[i, a], v1[i, a]
                else:  # as if only what pulls it from without had been there before
                    old, slow = xs - dt * vs + 0.5 * dt * dt * pull, vs - dt * pull
                xs, vs = (4.0 * xs - old) / 3.0, (4.0 * vs - slow) / 3.0
            elif was_second:  # what it has not yet had of the last step's forces
                vs += 0.5 * (vs - v1[i, a] - dt * pull)
            aim[i, a] = xs
            goal[i, a] = xs + s * (vs + s * pull)


@parallel_kernel
def _fly(spans, free, order, heavy, goal, x):  # type: ignore[no-untyped-def]
    """Move whole cloths that touched nothing and are held nowhere to where all that pulls them takes them."""
    for body in numba.prange(len(spans)):
        first, last = spans[body, 0], spans[body, 1]
        total, way = 0.0, np.zeros(3)
        for i in range(first, last):
            if not free[i] or order[i] == FIRST_ORDER or order[i] == TO_FIRST:
                total = 0.0
                break
            total += heavy[i]
            for a in range(3):
                way[a] += heavy[i] * (goal[i, a] - x[i, a])
        if total > 0.0:
            for i in range(first, last):
                for a in range(3):
                    x[i, a] += way[a] / total


@kernel
def _balance(spans, free, planes, ties, heavy, goal, rigid, dt, x):  # type: ignore[no-untyped-def]
    """Move whole cloths by what the solution left over of their momentum, and rigid bodies tied to them alike.

    What is held, or touches a collider, has its momentum from there and is left alone, and so is what is tied to it.
    """
    count = len(spans)
    group, whose = np.arange(count + len(rigid.w)), np.empty(len(heavy), np.int64)
    alone = np.ones(len(group), np.bool_)
    for body in range(count):
        for i in range(spans[body, 0], spans[body, 1]):
            whose[i] = body
            alone[body] &= free[i] and (i >= len(planes) or planes[i] == 0)
    for t in range(len(ties.hold)):
        one = count + ties.body[t] if ties.body[t] >= 0 else -1
        part = ties.part[t] if ties.body[t] >= 0 else 0.0
        for n in range(ties.first[t], ties.first[t + 1]):
            i = ties.points[n]
            part += ties.share[n]
            if one < 0:
                one = whose[i]
            a, b = _root(group, one), _root(group, whose[i])
            group[max(a, b)] = min(a, b)
        if one >= 0 and abs(part) > 1e-6:  # the other side is moved by something
            alone[one] = False
    total, way = np.zeros(len(group)), np.zeros((len(group), 3))
    for k in range(len(group)):
        root = _root(group, k)
        alone[root] &= alone[k]
        if k < count:
            for i in range(spans[k, 0], spans[k, 1]):
                total[root] += heavy[i]
                for a in range(3):
                    way[root, a] += heavy[i] * (goal[i, a] - x[i, a])
        elif root < count and rigid.w[k - count] > 0.0:
            resists = 1.0 / (rigid.w[k - count] * dt * dt)
            total[root] += resists
            for a in range(3):
                way[root, a] -= resists * rigid.shift[k - count, a]
    for k in range(len(group)):
        root = _root(group, k)
        if not alone[root] or not alone[k] or total[root] <= 0.0:
            continue
        if k < count:
            for i in range(spans[k, 0], spans[k, 1]):
                for a in range(3):
                    x[i, a] += way[root, a] / total[root]
        elif root < count:
            for a in range(3):
                rigid.shift[k - count, a] += way[root, a] / total[root]


@kernel
def _root(group, k):  # type: ignore[no-untyped-def]
    while group[k] != k:
        k = group[k]
    return k


@parallel_kernel
def _inertia(x, step, heavy, aim, goal, springs, stiff, v, force, values):  # type: ignore[no-untyped-def]
    """Begin force (n, 3) and blocks with what each point's mass resists and its pin draws; fill v with how fast it is.

    springs: float64 (n, 7), the rate ω of what draws each in 1/s, or 0, where to (m) and how fast that goes (m/s).
    """
    if stiff:
        flat = values.reshape(-1)
        for k in numba.prange(len(flat)):
            flat[k] = 0.0
    for i in numba.prange(len(step)):
        for a in range(3):
            v[i, a] = (x[i, a] - aim[i, a]) / step[i]
            force[i, a] = heavy[i] * (goal[i, a] - x[i, a])
            rate, mass = springs[i, 0], heavy[i] * step[i] * step[i]
            if rate > 0.0:
                to, pace = springs[i, 1 + a], springs[i, 4 + a]
                force[i, a] += mass * rate * (rate * (to - x[i, a]) + 2.0 * (pace - v[i, a]))
            if stiff:
                values[i, 5 * a] = heavy[i] + mass * rate * (rate + 2.0 / step[i])


class ImplicitStep:
    """Takes the particles of a world one step on, and rigid bodies as far as these push them.

    Args:
        world: as it begins; the pattern of the matrix is laid out from its triangles, hinges and cells.
    """

    def __init__(self, world: World) -> None:
        n = len(world.x)
        self.world, self.count = world, n
        groups = [world.membrane.points, world.bend.points, world.cells.points]
        self.pattern = block_pattern(world.x, groups)
        three, hinge, cell = (block_slots(self.pattern, group) for group in groups)
        self.slots = three, hinge, cell
        self.values, self.inverse = room_for_blocks(self.pattern), np.zeros((n, 6))
        self.step, self.heavy = np.zeros(n), np.zeros(n)
        # What each particle resists being pushed, N/m: cloth by its mass alone, for it gives way across itself; soft
        # bodies by what is behind it too, or what is light and bears much would be pressed through.
        self.firm, self.behind = np.zeros(n), np.zeros(n - world.cloth)
        self.aim, self.goal, self.speed, self.solved = (np.zeros((n, 3)) for _ in range(4))
        bodies = len(world.solids.rigid.w)
        self.force, self.way, self.last, self.rest = (np.zeros((n + 2 * bodies, 3)) for _ in range(4))
        self.work = [np.zeros((n + 2 * bodies, 4)) for _ in range(5)]
        self.bodies = BodyBlocks(np.zeros((bodies, 6, 6)), np.zeros((bodies, 6, 6)))
        self.springs = np.zeros((n, 7))
        self.before, self.was, self.faster = world.x.copy(), world.v.copy(), np.zeros((n, 3))
        m = world.cloth
        self.distance, self.normal, self.probe = np.zeros(m), np.zeros((m, 3)), np.zeros((m, 3))
        self.planes, self.room, self.ties = no_planes(m), room_for_ties(0), room_for_ties(0)
        self.free, self.alone, self.touched, self.touching = (np.zeros(n, np.bool_) for _ in range(4))
        whole = [(b.first, b.last) for b in world.bodies if b.rigid is None]
        self.spans = np.array(whole, np.int64).reshape(-1, 2)
        self.had = self.planes.bears, self.planes.on, self.planes.stretch
        self.first = False
        self.iterations, self.through, self.none = 0, 0, np.zeros(0, np.int32)

    def begin(self, faster: Floats, springs: list[Any], dt: float) -> None:
        """Lay out a step of dt seconds from where the particles are, and move them to where they are expected.

        Args:
            faster: float64 (n, 3), how much what is not gravity speeds it up in this step, m/s.
            springs: that draw some, see `handles.Handles.springs`.
        """
        world, past = self.world, self.world.past
        self.had = past.load.copy(), past.on.copy(), past.stretch.copy()
        self.springs[:, 0] = 0.0
        for numbers, rate, place, pace in springs:
            self.springs[numbers] = np.column_stack([rate, place, pace])
        self.alone[:] = (world.w > 0.0) & (self.springs[:, 0] == 0.0)
        self.free[:] = world.w > 0.0
        self.before, self.was, self.faster = world.x.copy(), world.v.copy(), faster
        self._lay_out(dt)
        # As fast as they were. (Sped up as in the last step they would begin nearer, and with two turns what is stiff
        # gains energy then.)
        world.x[self.free] += dt * world.v[self.free]

    def _lay_out(self, dt: float) -> None:
        world, past = self.world, self.world.past
        _begin(
            world.mass, world.weight, world.gravity, self.before, self.was, self.faster, past.x, past.v, past.order, dt,
            self.step, self.heavy, self.aim, self.goal,
        )  # fmt: skip

    def _blunt(self) -> bool:
        """Let what has just come to touch something take this step at first order; return whether anything has."""
        order = self.world.past.order
        new = self.touching & ((order == SECOND) | (order == TO_SECOND))
        order[new] = np.where(order[new] == SECOND, TO_FIRST, FIRST_ORDER)
        return bool(new.any())

    def solve(self, x: Floats, before: Floats, dt: float) -> None:
        """Bring x (n, 3), where the particles are expected, to where they come; they were at before (n, 3)."""
        enough = self._enough(dt)
        self.touched[:] = False
        self.iterations, first = 0, 0.0
        _fly(self.spans, self.alone, self.world.past.order, self.heavy, self.goal, x)
        # Particles begin as if nothing pulled them; what they bear begins alike, or it would fall on them every step.
        rigid, borne = self.world.solids.rigid, self.world.past.borne
        borne &= (rigid.w > 0.0) & ~rigid.asleep
        rigid.shift[borne, :3] -= rigid.weight[borne, None] * self.world.gravity * dt**2
        self.first, pull = True, 0.0
        self._look(x, before, dt, True, False)  # to see what touches; what rests is to be found where it rested
        if self._blunt():
            self._lay_out(dt)
            x[self.free] = self.before[self.free] + dt * self.was[self.free]
        for turn in range(MOST_TURNS + 1):
            over = turn >= LEAST_TURNS  # perhaps: forces alone tell
            self.first = turn == 0
            now = self._look(x, before, dt, False, not over)
            if turn:
                now = self._shorten(x, before, dt, pull, now, not over)
            if not first:
                first = now
                enough = max(min(enough, SHARE**2 * first), LEAST**2 * enough)
            if over:
                settled = not self.through and now <= max(FALLS**2 * first, enough) and self._swing() <= SWING * dt
                if turn == MOST_TURNS or settled:
                    break
                self._look(x, before, dt, False, True)
            done, _ = solve_blocks(
                self.pattern, self.values, self.ties, self.free, self.inverse, self.bodies, self.force, self.way,
                *self.work, 0.0 if turn else BEGINNING**2, enough, MOST_ITERATIONS,
            )  # fmt: skip
            self.last[:] = self.way
            pull = float(np.vdot(self.force, self.last))
            self._go(x, self.last)
            self.iterations += done
        _balance(self.spans, self.alone, self.planes.many, self.ties, self.heavy, self.goal, rigid, dt, x)
        self.solved[:] = x
        past, planes = self.world.past, self.planes
        past.load[:], past.on[:], past.stretch[:] = planes.bears, planes.on, planes.stretch
        borne[:] = False
        borne[self.ties.body[self.ties.body >= 0]] = True
        past.stretch[past.on < 0.0] = 0.0  # what is left there is of some step before

    def _shorten(self, x: Floats, before: Floats, dt: float, pull: float, now: float, stiff: bool) -> float:
        """Take the last turn back in part where it went too far: where forces push back more than they pulled, J.

        After Matthies and Strang (1979). Return what is left then.
        """
        for _ in range(MOST_CUTS):
            push = -float(np.vdot(self.force, self.last))
            if push <= OVER * pull:
                break
            share = min(max(pull / (pull + push), LEAST_SHARE), 0.5)
            self._go(x, -(1.0 - share) * self.last)
            self.last *= share
            pull *= share
            now = self._look(x, before, dt, False, stiff)
        return now

    def _look(self, x: Floats, before: Floats, dt: float, anew: bool, stiff: bool) -> float:
        """Gather forces and, if `stiff`, blocks at x (n, 3); return what is left of those of what touches nothing, J.

        That is r M⁻¹ r. Where hundreds of points touch, some always come in or leave.
        """
        self._gather(x, before, dt, stiff, anew)
        rest = self.rest
        self.touching[:] = False
        np.greater(self.planes.many, 0, out=self.touching[: len(self.planes.many)])
        self.touching[self.ties.points] = True
        self.touched |= self.touching
        if stiff:
            invert_diagonal(self.values, self.free, self.inverse)
            invert_bodies(*self.bodies)
        rest[: self.count] = self.force[: self.count]
        rest[: self.count][self.touching] = 0.0
        left = weigh(self.pattern, self.values, self.free, self.inverse, self.bodies, rest, *self.work[:2])
        return float(left)

    def _swing(self) -> float:
        """Return how far the last turn moved what touches, metres."""
        moved = self.last[: self.count][self.touching]
        return float(np.sqrt(np.einsum("ni,ni->n", moved, moved).max(initial=0.0)))

    def _go(self, x: Floats, way: Floats) -> None:
        """Move points x (n, 3) and rigid bodies by a way (n + 2 R, 3)."""
        x += way[: self.count]
        shift_bodies(way, self.count, self.world.solids.rigid)

    def end(self, x: Floats, v: Floats, pressed: NDArray[np.int32], dt: float) -> None:
        """Set the velocities v (n, 3), m/s, when all is where it comes to, x; `pressed` is added to what touches."""
        where = self.free
        self.touched[: len(pressed)] |= pressed > 0
        # What is moved out after the step gains no speed by it: how fast that would be depends on the step alone.
        v[where] = ((self.solved - self.aim) / self.step[:, None])[where]
        order = self.world.past.order
        past = self.world.past
        past.x[:], past.v[:] = self.before, self.was
        second = (order == SECOND) | (order == TO_SECOND)
        order[:] = np.where(self.touched, np.where(second, TO_FIRST, FIRST_ORDER), np.where(second, SECOND, TO_SECOND))
        pressed[:] = self.touched[: len(pressed)]

    def residual_m(self, before: Floats, dt: float) -> float:
        """Return how far the points are from where their forces would have them, in the mean, metres."""
        total = float(self.heavy[self.free].sum())
        if total <= 0.0:
            return 0.0
        self._gather(self.world.x, before, dt, False, False, settled=True)
        self.force[self.count :] = 0.0  # bodies have gone on
        left = weigh(self.pattern, self.values, self.free, self.inverse, self.bodies, self.force, *self.work[:2])
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
        _inertia(x, self.step, self.heavy, self.aim, self.goal, self.springs, stiff, self.speed, force, values)
        note_bent(world.bend, x)
        add_elastic(
            world.colours, world.membrane, world.bend, world.cells, self.slots, x, self.speed, dt, stiff, force, values
        )
        self.firm[:] = self.heavy
        if stiff:
            self.behind = BEHIND * values[world.cloth : n, [0, 5, 10]].mean(axis=1)
        np.maximum(self.firm[world.cloth :], self.behind, out=self.firm[world.cloth :])
        find_planes(
            world.colliders.fields, touch, world.skin, world.w, x, before, self.planes, self.distance, self.normal,
            self.probe,
        )  # fmt: skip
        add_planes(
            self.planes, touch, world.skin, self.heavy, self.had, x, before, self.first, stiff, force,
            values,
        )  # fmt: skip
        solids, rigid, many, self.through = world.solids, world.solids.rigid, 0, 0
        block = self.bodies.block
        begin_bodies(rigid, dt, stiff, block, force, n)
        hits = touching.touch(x[: world.cloth], rigid, anew) if touching.any and touching.known else self.none
        room = len(hits) + len(solids.contacts.a)
        if room > len(self.room.hold):
            self.room = room_for_ties(room + room // 2)
        if len(hits):
            many, self.through = tie_touching(
                hits, touching.faces, touching.edges, touching.points.near, touching.lines.near, touching.x,
                touching.before, touching.room, touching.grip, touching.slip, world.cloth, touching.guest_end,
                touching.guests, rigid, self.firm, self.free, stiff, self.room, force, values, block, dt,
            )  # fmt: skip
            touching.touched = many
        if len(solids.contacts.a) and not settled:
            many = tie_skin(
                solids.contacts, solids.skin, rigid, x, self.firm, self.free, stiff, many, self.room, force,
                values, block, dt,
            )  # fmt: skip
        self.ties = some_ties(self.room, many)
        force[:n][~self.free] = 0.0
