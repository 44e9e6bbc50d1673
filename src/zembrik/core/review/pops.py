"""What is visible where a body is handed over: jumps of place, turn, speed and spin, as the cached frames have them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from zembrik.core.cache.reader import Cache
from zembrik.core.motion.rates import CAME, GOES, point_rates, pose_rates
from zembrik.core.motion.rigid import Mover
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh
from zembrik.core.setup.document import Setup

Floats = NDArray[np.float64]
MOST_MM, MOST_DEG, MOST_SHARE = 1.0, 0.5, 0.05  # more is told
LEAST_M_PER_S = 0.05  # of a change of speed: less is not seen, however slow the body is
AROUND = 2  # frames beside one that a cached speed is taken from


@dataclass(frozen=True)
class Pop:
    """A handover, and what jumps there.

    Attributes:
        body: its name. number: in the setup. handover: which of the body's.
        frame: where. back: whether the motion takes it back there, or physics takes it over.
        jump_mm: handed over, how far its middle is a frame later from where it would have gone by itself, falling or
            not; taken back, how far it is from its motion. turn_deg: the same of its turn; 0 of what changes its form.
        speed_m_per_s: by which its fastest changing point goes otherwise at once.
        share: that, of how fast its fastest point went.
        spin_rad_per_s: by which its spin changes at once; 0 of what changes its form.
        at: float64 (3,), where that point is, metres.
    """

    body: str
    number: int
    handover: int
    frame: int
    back: bool
    jump_mm: float
    turn_deg: float
    speed_m_per_s: float
    share: float
    spin_rad_per_s: float
    at: tuple[float, float, float]

    @property
    def seen(self) -> bool:
        """Whether it jumps by more than is let pass."""
        speeds = self.share > MOST_SHARE and self.speed_m_per_s > LEAST_M_PER_S
        return self.jump_mm > MOST_MM or self.turn_deg > MOST_DEG or speeds


def pops_of(setup: Setup, cache: Cache, assets: Assets) -> list[Pop]:
    """Return what jumps at every handover whose frame, and two after it, are cached.

    What is drawn back over some frames goes on with its place and speed (see `motion.handover.fade`): nothing jumps.
    """
    found = []
    for number, body in enumerate(setup.bodies):
        if not body.spells or body.name not in cache.names or cache.done is None:
            continue
        mover = mover_of_body(setup, number, assets)
        assert mover is not None
        seen = _Seen(setup, cache, cache.names.index(body.name), mover, placed_mesh(body, assets).points)
        for n, spell in enumerate(body.spells):
            if cache.first <= spell.begin <= cache.done - AROUND:
                found.append(Pop(body.name, number, n, int(spell.begin), False, *seen.handed_over(int(spell.begin))))
            if spell.over == 0.0 and cache.first + AROUND <= spell.end <= cache.done:
                found.append(Pop(body.name, number, n, int(spell.end), True, *seen.taken_back(int(spell.end))))
    return sorted(found, key=lambda pop: pop.frame)


Measured = tuple[float, float, float, float, float, tuple[float, float, float]]  # what `Pop` has from `jump_mm` on


@dataclass(frozen=True)
class _Seen:
    """A body's motion, and its cached frames.

    How the motion goes is known exactly. How the cached frames do is a one-sided difference of three of them: exact for
    what falls freely, and of rotation vectors, which is exact for an even spin.
    """

    setup: Setup
    cache: Cache
    number: int
    mover: Mover
    placed: Floats  # (n, 3), its mesh in its place, metres

    def handed_over(self, frame: int) -> Measured:
        dt = 1.0 / self.setup.fps
        now, after = self._points(frame), self._cached_rates(frame, GOES)
        before = point_rates(self.mover, self.placed, frame, self.setup.fps, CAME)
        middle, pace = now.mean(axis=0), before.mean(axis=0)
        drop = 0.5 * dt * dt * np.array(self.setup.world.gravity, np.float64)
        off = self._points(frame + 1).mean(axis=0) - middle - dt * pace
        fell = float(np.clip(off @ drop / max(float(drop @ drop), 1e-30), 0.0, 1.0))
        spins, turned = (np.zeros(3), np.zeros(3)), 0.0
        if self.cache.is_rigid(self.number):
            _, spin = pose_rates(self.mover, middle, frame, self.setup.fps, CAME)
            spins = spin, self._cached_spin(frame, GOES)
            led = Rotation.from_rotvec(spin * dt) * self._turn(frame)
            turned = float(np.degrees((self._turn(frame + 1) * led.inv()).magnitude()))
        return self._measured(now, 1e3 * float(np.linalg.norm(off - fell * drop)), turned, before, after, spins)

    def taken_back(self, frame: int) -> Measured:
        now, before = self._points(frame), self._cached_rates(frame, CAME)
        after = point_rates(self.mover, self.placed, frame, self.setup.fps, GOES)
        away = (self.mover.points_at(self.placed, frame) - now).mean(axis=0)
        spins, turned = (np.zeros(3), np.zeros(3)), 0.0
        if self.cache.is_rigid(self.number):
            _, spin = pose_rates(self.mover, self.placed.mean(axis=0), frame, self.setup.fps, GOES)
            spins = self._cached_spin(frame, CAME), spin
            there = Rotation.from_matrix(self.mover.at(frame)[0])
            turned = float(np.degrees((there * self._turn(frame).inv()).magnitude()))
        return self._measured(now, 1e3 * float(np.linalg.norm(away)), turned, before, after, spins)

    def _measured(
        self, now: Floats, jump_mm: float, turned: float, before: Floats, after: Floats, spins: tuple[Floats, Floats]
    ) -> Measured:
        change = np.linalg.norm(after - before, axis=1)
        worst, fastest = int(np.argmax(change)), float(np.linalg.norm(before, axis=1).max())
        x, y, z = map(float, now[worst])
        share = float(change[worst]) / max(fastest, 1e-9)
        return jump_mm, turned, float(change[worst]), share, float(np.linalg.norm(spins[1] - spins[0])), (x, y, z)

    def _points(self, frame: int) -> Floats:
        return self.cache.points(self.number, frame).astype(np.float64)

    def _turn(self, frame: int) -> Rotation:
        return Rotation.from_quat(self.cache.pose(self.number, frame)[3:])

    def _cached_spin(self, frame: int, side: int) -> Floats:
        now = self._turn(frame).inv()
        one, two = ((self._turn(frame + k * side) * now).as_rotvec() for k in (1, 2))
        return np.asarray((4.0 * one - two) * (side * self.setup.fps / 2.0))

    def _cached_rates(self, frame: int, side: int) -> Floats:
        """Return how fast the points (n, 3) go at a frame by those on one side of it, m/s."""
        zero, one, two = (self._points(frame + k * side) for k in range(AROUND + 1))
        if not self.cache.is_rigid(self.number):
            return np.asarray((4.0 * one - two - 3.0 * zero) * (side * self.setup.fps / 2.0))
        middles = [points.mean(axis=0) for points in (zero, one, two)]
        pace = (4.0 * middles[1] - middles[2] - 3.0 * middles[0]) * (side * self.setup.fps / 2.0)
        return np.asarray(pace + np.cross(self._cached_spin(frame, side), zero - middles[0]))
