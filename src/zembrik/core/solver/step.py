"""One frame of simulation in small steps: particles implicitly (`implicit`), rigid bodies by passes over contacts."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.track import value_at
from zembrik.core.solver.arrays import ROOM
from zembrik.core.solver.contact import solve_contacts
from zembrik.core.solver.energy import EnergyBalance, motion_energy
from zembrik.core.solver.implicit import ImplicitStep
from zembrik.core.solver.solids import SWEEPS_A_FRAME, SWEEPS_A_SUBSTEP
from zembrik.core.solver.sound import check_sound
from zembrik.core.solver.sweep import end_substep, farthest, sweep_air
from zembrik.core.solver.world import TO_SECOND, World

GUARDED = 0.9  # of its thickness: a point that is nearer to a surface once its step is solved is moved out


class Stepper:
    """Moves a world forward in time, frame by frame.

    Args:
        world: changes with every frame.
        substeps, iterations: steps a frame, and passes a step over what is not cloth; numbers or tracks of them, read
            when a frame begins.
        fps: frames a second.
        enough_m: a step makes no further pass after one that moved nothing farther than this, a number or a track; 0
            makes all.

    After each frame `balance` tells of its energy, `passes` is how many a step made in the mean, and `residual_m` how
    far points still are from where their forces would have them.
    """

    def __init__(self, world: World, substeps: Any, iterations: Any, fps: float, enough_m: Any = 0.0) -> None:
        self.world, self.fps, self.quality = world, fps, (substeps, iterations, enough_m)
        self.substeps, self.iterations, self.enough_m = 0, 0, 0.0
        self._set_quality(0.0)
        self.passes, self.residual_m = float(self.iterations), 0.0
        self.last = np.empty_like(world.x)
        world.colliders.leave_forms()
        self.balance = EnergyBalance(world)
        self.implicit = ImplicitStep(world)
        self.before, self.swirl = np.empty_like(world.x), np.zeros_like(world.x)
        self.distance, self.normal = np.empty(world.cloth), np.empty((world.cloth, 3))
        self.probe, self.guarded = np.empty((world.cloth, 3)), world.skin.copy()
        self.pressed: NDArray[np.int32] = np.zeros(world.cloth, dtype=np.int32)

    def advance(self, frame: float) -> None:
        """Compute the motion from `frame` to `frame + 1`."""
        world = self.world
        # The swirls and the dials change little within a frame: they are read once.
        world.air.swirl_at(frame, world.fps, world.x, self.swirl)
        self._begin_frame(frame)
        measured = not (world.changed or world.colliders.forms or world.handles.draws)
        self.balance.begin_frame(self.dt, measured)
        world.blown.begin_frame(frame, world.fps, world.air, world.solids.rigid)
        # So that a bake that goes on from a checkpoint here has everything as one that never stopped.
        world.move_to(frame)
        world.touching.begin_frame(frame)
        passes = 0
        for s in range(self.substeps):
            begin, end = frame + s / self.substeps, frame + (s + 1) / self.substeps
            passes += self._substep(begin, end, s == self.substeps - 1)
        self.passes = passes / self.substeps
        self.residual_m = self.implicit.residual_m(self.before, self.dt) if len(world.x) else 0.0
        if world.solids.parts:
            world.solids.end_frame(1.0 / world.fps)
        if world.yielding.any:
            world.keep_dents(1.0 / world.fps)
        self.balance.end_frame(self.dt)

    def _begin_frame(self, frame: float) -> None:
        """Take on what the quality and the world's dials are from a frame on."""
        world = self.world
        self._set_quality(frame)
        if world.begin_frame(frame):
            world.touching.w[: world.cloth] = world.w[: world.cloth]
        if world.over_frames.stiffen:
            world.touching.w[: world.cloth] = world.w[: world.cloth]
        self.guarded[...] = world.skin
        self.guarded[:, 0] *= GUARDED
        self.guarded[:, 3] = 0.0

    def _set_quality(self, frame: float) -> None:
        """Take on what the quality is from a frame on."""
        substeps, iterations = (round(value_at(dial, frame)) for dial in self.quality[:2])
        self.enough_m = value_at(self.quality[2], frame)
        if substeps != self.substeps:  # a step of another length has no past
            self.world.past.order[:] = TO_SECOND
        self.substeps, self.iterations = substeps, iterations
        self.dt = 1.0 / (self.fps * substeps)  # seconds
        self.world.solids.sweeps = max(SWEEPS_A_SUBSTEP, -(-SWEEPS_A_FRAME // substeps))

    def _substep(self, begin: float, end: float, shown: bool) -> int:
        """Take one step, and return how many passes it made; `shown` where it ends a frame."""
        world, dt, before = self.world, self.dt, self.before
        x, v, w, solids, touching = world.x, world.v, world.w, world.solids, world.touching
        blows = world.air.any or (world.blown.any and world.air.thick > 0.0)
        had = motion_energy(world) if blows else 0.0
        was = v.copy()
        if world.air.any:
            # The air meets the cloth as gravity will have sped it up, so that a steady fall is steady.
            against = world.air.wind_at(begin) - dt * world.gravity
            sweep_air(
                world.colours, world.membrane, world.air.rows, w, x, v, against, bool(world.air.swirls), self.swirl,
                world.air.thick, dt,
            )  # fmt: skip
        if world.blown.any and world.air.thick > 0.0:
            against = world.air.wind_at(begin) - dt * world.gravity
            world.blown.blow(x, v, w, solids.rigid, against, self.swirl, world.air.thick, dt)
        if blows:
            self.balance.note_work(motion_energy(world) - had)
        springs = world.handles.springs(begin, end, dt)
        lost = world.air.lost_at(begin, dt)
        faster = (1.0 - lost) * v - was
        v[...], before[...] = was, x
        if len(x):
            self.implicit.begin(faster, springs, dt)
        if solids.any and solids.begin(begin, world.gravity, lost, dt, world.fps):
            self.balance.note_moved()
        moved = world.move_to(end)
        if solids.any:
            solids.drive(end, dt, world.fps)
        if moved or solids.solids.moving.any() or len(solids.turned):
            self.balance.note_moved()
        check_sound(world, begin)  # before any search: what is found depends on places alone
        if solids.any:
            solids.meet(x, before, w, dt)
        if touching.any:
            touching.begin(x, before, solids.rigid, end)
        if len(x):
            self.implicit.solve(x, before, dt)
            contacts = solids.contacts
            contacts.row[contacts.a < 0, ROOM] *= GUARDED
        done = 0
        while done < self.iterations:
            if self.enough_m > 0.0:
                self.last[...] = x
                shift = solids.rigid.shift[:, :3].copy()
            self._pass(shown)
            done += 1
            if self.enough_m > 0.0:
                moved = max(farthest(x, self.last), farthest(solids.rigid.shift[:, :3], shift))
                if moved <= self.enough_m:
                    break
        end_substep(x, before, v, dt)
        if len(x):
            self.implicit.end(x, v, self.pressed, dt)
        if solids.any:
            solids.end(world.gravity, dt)
        return done

    def _pass(self, shown: bool) -> None:
        """Solve once what the particles' own step leaves to passes; `shown` as in `_substep`."""
        world, dt, before = self.world, self.dt, self.before
        x, w, touching = world.x, world.w, world.touching
        if touching.any and not len(x):  # rigid bodies alone: particles have met everything within their step
            touching.solve(x, w, world.solids.rigid)
        if world.cloth:  # what the step did not foresee
            solve_contacts(
                world.colliders.fields, world.colliders.touch, self.guarded, w, x, before, 0.0,
                self.pressed, self.distance, self.normal, self.probe,
            )  # fmt: skip
        if world.solids.any:
            world.solids.solve(x, w, dt)
        moved = not len(x) or not np.array_equal(x, self.implicit.solved)
        if touching.any and (moved or self.implicit.through):
            # What was pushed since may not go through another layer. And whatever has crossed when the substep ends
            # would be on its other side from then on. What the step itself left is better left alone.
            touching.mend(x, w, world.solids.rigid, shown)
