"""One frame of simulation: small steps, each with few passes (Macklin et al. 2019)."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.track import value_at
from zembrik.core.setup.keyed import is_keyed
from zembrik.core.solver.bend import note_bent
from zembrik.core.solver.coarse import build_coarse, graded, shares_of, step_coarse
from zembrik.core.solver.contact import solve_contacts
from zembrik.core.solver.energy import EnergyBalance, motion_energy
from zembrik.core.solver.membrane import Membrane
from zembrik.core.solver.passes import farthest, nothing_held
from zembrik.core.solver.solids import SWEEPS_A_FRAME, SWEEPS_A_SUBSTEP
from zembrik.core.solver.sound import check_sound
from zembrik.core.solver.sweep import begin_substep, end_substep, sweep_air, sweep_damping, sweep_elastic
from zembrik.core.solver.world import World


class Stepper:
    """Moves a world forward in time, frame by frame.

    Args:
        world: changes with every frame.
        substeps, iterations: steps a frame, and passes a step; numbers or tracks of them, read when a frame begins.
        fps: frames a second.
        enough_m: a step makes no further pass after one that moved nothing farther than this, a number or a track; 0
            makes all.

    After each frame `balance` tells of its energy, `passes` is how many a step made in the mean, and `residual_m` how
    far one more pass would still move a point.
    """

    def __init__(self, world: World, substeps: Any, iterations: Any, fps: float, enough_m: Any = 0.0) -> None:
        self.world, self.fps, self.quality = world, fps, (substeps, iterations, enough_m)
        self.substeps, self.iterations, self.enough_m = 0, 0, 0.0
        self._set_quality(0.0)
        self.passes, self.residual_m = float(self.iterations), 0.0
        self.held = nothing_held(len(world.membrane.points), len(world.bend.points), len(world.tets.points))
        self.last, self.places = np.empty_like(world.x), np.empty((len(world.x), 4))
        world.colliders.leave_forms()
        self.damped = False
        self.balance = EnergyBalance(world)
        self.began = world.membrane, world.x[: world.cloth], world.load_on_cloth()
        self.grades, self.lightness = np.zeros((0, 3)), np.zeros(0)
        if world.handles.changing or world.over_frames.stiffen or any(is_keyed(dial) for dial in self.quality):
            rest, x = world.membrane.rest.copy(), world.x[: world.cloth].copy()
            self.began = world.membrane._replace(rest=rest), x, self.began[2]
        self._build_coarse()
        self.before = np.empty_like(world.x)
        self.distance, self.normal = np.empty(world.cloth), np.empty((world.cloth, 3))
        self.probe = np.empty((world.cloth, 3))
        self.swirl = np.zeros_like(world.x)
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
        self.residual_m = self._left()
        if world.solids.parts:
            world.solids.end_frame(1.0 / world.fps)
        if world.yielding.any:
            world.keep_dents(1.0 / world.fps)
        self.balance.end_frame(self.dt)

    def _begin_frame(self, frame: float) -> None:
        """Take on what the quality and the world's dials are from a frame on, and lay out anew what depends on them."""
        world = self.world
        anew = self._set_quality(frame)
        if world.begin_frame(frame):
            world.touching.w[: world.cloth] = world.w[: world.cloth]
            anew = True
        note_bent(world.bend, world.x)
        self.damped = bool((world.membrane.rest[:, 7] > 0.0).any() or (world.tets.rest[:, 12] > 0.0).any())
        if world.over_frames.stiffen:
            world.touching.w[: world.cloth] = world.w[: world.cloth]
            grades = graded(world.membrane.rest[:, 4:7])
            lightness = graded(world.w[: world.cloth])
            anew |= not (np.array_equal(grades, self.grades) and np.array_equal(lightness, self.lightness))
            self.grades, self.lightness = grades, lightness
        if anew:
            self._build_coarse()
        if world.over_frames.stiffen and self.coarse is not None:
            now = self._as_began(world.membrane.rest[:, 4:7])
            share = shares_of(now, world.w[: world.cloth], self.dt, self.iterations)
            self.coarse.stiff[:, :3] = share[:, None] / now.rest[:, 4:7]

    def _set_quality(self, frame: float) -> bool:
        """Take on what the quality is from a frame on; return whether there are other substeps or passes."""
        substeps, iterations = (round(value_at(dial, frame)) for dial in self.quality[:2])
        self.enough_m = value_at(self.quality[2], frame)
        if (substeps, iterations) == (self.substeps, self.iterations):
            return False
        self.substeps, self.iterations = substeps, iterations
        self.dt = 1.0 / (self.fps * substeps)  # seconds
        self.world.solids.sweeps = max(SWEEPS_A_SUBSTEP, -(-SWEEPS_A_FRAME // substeps))
        return True

    def _as_began(self, compliance: NDArray[np.float64]) -> Membrane:
        """Return the membrane as the bake began, with other compliances (T, 3)."""
        rest = self.began[0].rest.copy()
        rest[:, 4:7] = compliance
        return self.began[0]._replace(rest=rest)

    def _build_coarse(self) -> None:
        """Lay out the coarse step for what is held now, on the cloth as the bake began.

        So it is the same whenever that is done, also by a bake that goes on from a checkpoint.
        """
        membrane, x, load = self.began
        w = self.world.w[: self.world.cloth]
        if len(self.grades):
            membrane, w = self._as_began(self.grades), self.lightness
        self.coarse = build_coarse(membrane, x, w, self.dt, self.iterations, load)

    def _substep(self, begin: float, end: float, shown: bool) -> int:
        """Take one step, and return how many passes it made; `shown` where it ends a frame."""
        world, dt, before = self.world, self.dt, self.before
        x, v, w, cloth, solids, touching = world.x, world.v, world.w, world.cloth, world.solids, world.touching
        blows = world.air.any or (world.blown.any and world.air.thick > 0.0)
        had = motion_energy(world) if blows else 0.0
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
        if self.damped:
            sweep_damping(world.colours, world.membrane, world.tets, w, x, v, dt)
        if world.handles.draws:
            pull = world.weight[:, None] * world.gravity
            world.handles.draw(begin, end, dt, x, v, w, pull)
        lost = world.air.lost_at(begin, dt)
        begin_substep(w, world.weight, world.gravity, 1.0 - lost, dt, x, v, before)
        if solids.any:
            solids.begin(begin, world.gravity, lost, dt)
        moved = world.move_to(end)
        if solids.any:
            solids.drive(end, dt)
        if moved or solids.solids.moving.any() or len(solids.turned):
            self.balance.note_moved()
        check_sound(world, begin)  # before any search: what is found depends on places alone
        if solids.any:
            solids.meet(x, before, w, dt)
        if touching.any:
            touching.begin(x, before, solids.rigid, end)
        if self.coarse is not None:
            membrane = world.membrane
            step_coarse(
                self.coarse, world.colours, membrane.points, membrane.rest, membrane.span, membrane.packed, x[:cloth]
            )
        done = 0
        while done < self.iterations:
            if self.enough_m > 0.0:
                self.last[...] = x
                shift = solids.rigid.shift[:, :3].copy()
            self._pass(done, shown)
            done += 1
            if self.enough_m > 0.0:
                moved = max(farthest(x, self.last), farthest(solids.rigid.shift[:, :3], shift))
                if moved <= self.enough_m:
                    break
        end_substep(x, before, v, dt)
        if solids.any:
            solids.end(world.gravity, dt)
        return done

    def _left(self) -> float:
        """Return how far one more pass over the elastic constraints would move a point now, metres."""
        world = self.world
        if not len(world.x):
            return 0.0
        self.last[...] = world.x
        bend = world.bend._replace(bent=world.bend.bent.copy())
        sweep_elastic(
            world.colours, world.membrane, bend, world.tets, self.held, world.w, self.last, self.places, self.dt, True,
            False,
        )  # fmt: skip
        return float(farthest(world.x, self.last))

    def _pass(self, done: int, shown: bool) -> None:
        """Solve every constraint and contact once, after so many passes; `shown` as in `_substep`."""
        world, dt, before = self.world, self.dt, self.before
        x, w, touching = world.x, world.w, world.touching
        keep = shown or self.iterations > 1
        sweep_elastic(
            world.colours, world.membrane, world.bend, world.tets, self.held, w, x, self.places, dt, done > 0, keep
        )
        if touching.any:
            touching.solve(x, w, world.solids.rigid)
        if world.cloth:
            solve_contacts(
                world.colliders.fields, world.colliders.touch, world.skin, w, x, before, 0.0 if done else dt * dt,
                self.pressed, self.distance, self.normal, self.probe,
            )  # fmt: skip
        if world.solids.any:
            world.solids.solve(x, w, dt)
        if touching.any and (touching.layers or touching.guest_end > touching.count):
            # Once more: what was pushed must not go through another layer. And whatever has crossed when the
            # substep ends would be on its other side from then on.
            touching.mend(x, w, world.solids.rigid, shown)
