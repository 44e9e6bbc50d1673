"""What is measured on every frame, for the ribbon."""

from __future__ import annotations

import numba
import numpy as np

from zembrik.core.compiled import parallel_kernel
from zembrik.core.solver.contact import measure_depth
from zembrik.core.solver.energy import height_energy, momentum, stored_energy, volume
from zembrik.core.solver.membrane import measure_stretch
from zembrik.core.solver.rigid import kinetic_energy
from zembrik.core.solver.step import Stepper
from zembrik.core.solver.world import World


@parallel_kernel
def _face_middles(points, x, middles):  # type: ignore[no-untyped-def]
    for t in numba.prange(len(points)):
        for axis in range(3):
            middles[t, axis] = (x[points[t, 0], axis] + x[points[t, 1], axis] + x[points[t, 2], axis]) / 3.0


class Meter:
    """Measures a world at the end of a frame."""

    def __init__(self, world: World) -> None:
        self.world = world
        triangles = len(world.membrane.points)
        self.strain = np.zeros(triangles)
        self.middles = np.zeros((triangles, 3))
        places = world.cloth + triangles
        self.depth, self.distance, self.normal = np.zeros(places), np.empty(places), np.empty((places, 3))
        self.corner = world.membrane.points[:, 0] if triangles else np.zeros(0, np.int32)

    def measure(self, stepper: Stepper) -> dict[str, float]:
        """Return every figure of `figures.STATS` of what the stepper has come to, in SI units."""
        world = self.world
        speed_sq = np.einsum("ij,ij->i", world.v, world.v)
        stretch = mean = 0.0
        depths = [np.zeros(0)]
        if len(self.strain):
            measure_stretch(world.membrane.points, world.membrane.rest, world.x, self.strain)
            stretch, mean = float(self.strain.max()), float(self.strain.mean())
            _face_middles(world.membrane.points, world.x, self.middles)
            places = np.concatenate([world.x[: world.cloth], self.middles])
            room = np.concatenate([world.skin[:, 0], world.skin[self.corner, 0]])
            measure_depth(
                world.colliders.fields, world.colliders.touch, room, places, self.depth, self.distance, self.normal
            )
            depths.append(self.depth)
        energy, fastest = float(0.5 * (world.mass * speed_sq).sum()), float(np.sqrt(speed_sq.max(initial=0.0)))
        rigid = world.solids.rigid
        if world.solids.any:
            depths.append(world.solids.depths(world.x, world.w))
            energy += float(kinetic_energy(rigid))
            fastest = max(fastest, float(np.linalg.norm(rigid.speed[:, :3], axis=1).max(initial=0.0)))
        depth = np.concatenate(depths)
        depth = depth[depth > 1e-12]  # rounding is no depth
        return {
            "worst_penetration": float(depth.max(initial=0.0)),
            "mean_penetration": float(depth.mean()) if len(depth) else 0.0,
            "worst_stretch": stretch,
            "mean_stretch": mean,
            "residual": stepper.residual_m,
            "passes": stepper.passes,
            "top_speed": fastest,
            "kinetic_energy": energy,
            "stored_energy": stored_energy(world),
            "height_energy": height_energy(world, stepper.dt),
            "energy_balance": stepper.balance.gained_J,
            "momentum": float(np.linalg.norm(momentum(world))),
            "momentum_balance": stepper.balance.drifted_m_per_s,
            "volume": volume(world),
            "asleep": float(rigid.asleep.sum()),
            "contacts": float(stepper.pressed.sum() + world.solids.pressed),
        }
