"""Turbulent air without sources or sinks: the curl of a random potential, as a sum of waves.

Each wave's velocity is at right angles to its wave vector, so the sum has no divergence
anywhere (random Fourier modes: Kraichnan 1970; as a curl of noise: Bridson, Hourihan and
Nordenstam 2007). Wave lengths lie around the asked size; every wave turns over at the asked rate.
"""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import parallel_kernel
from zembrik.core.motion.track import extremes_of, integral_of, value_at

WAVES = 32
Floats = NDArray[np.float64]


class Turbulence:
    """A turbulent wind.

    Args:
        speed_m_s: root of the mean square of the velocity.
        size_m: the middle wave length.
        rate_hz: how often the pattern turns over, times a second; 0 keeps it still. These three are numbers or tracks.
        seed: equal seeds give equal air.
    """

    def __init__(self, speed_m_s: Any, size_m: Any, rate_hz: Any, seed: int) -> None:
        self.dials = speed_m_s, size_m, rate_hz
        speed_m_s, size_m, rate_hz = (extremes_of(dial)[1] for dial in self.dials)
        self.built_with = speed_m_s, size_m, rate_hz
        random = np.random.Generator(np.random.PCG64(seed))
        way = random.normal(size=(WAVES, 3))
        way /= np.linalg.norm(way, axis=1, keepdims=True)
        length = size_m * 2.0 ** random.uniform(-0.5, 0.5, WAVES)
        self.speed = speed_m_s
        self.wave = way * (2 * np.pi / length)[:, None]
        across = np.cross(way, random.normal(size=(WAVES, 3)))
        across /= np.linalg.norm(across, axis=1, keepdims=True)
        # A wave a cos(...) has the mean square a²/2.
        self.push = across * speed_m_s * np.sqrt(2.0 / WAVES)
        self.phase = random.uniform(0, 2 * np.pi, WAVES)
        self.turn = 2 * np.pi * rate_hz * random.normal(1.0, 0.25, WAVES)

    def add(self, places: Floats, frame: float, fps: float, strength: float, velocity: Floats) -> None:
        """Add the air's velocity (n, 3) in m/s, times a strength, at places (n, 3) in metres and a frame."""
        (speed, size, rate), (built_speed, built_size, built_rate) = self.dials, self.built_with
        wave, push, time_s = self.wave, self.push * strength, frame / fps
        if isinstance(speed, dict):
            push = push * (value_at(speed, frame) / max(built_speed, 1e-300))
        if isinstance(size, dict):
            wave = wave * (built_size / value_at(size, frame))
        if isinstance(rate, dict):  # what has turned over so far goes on from there, however fast
            time_s = integral_of(rate, frame) / (fps * max(built_rate, 1e-300))
        _add_waves(places, wave, push, self.phase + self.turn * time_s, velocity)


@parallel_kernel
def _add_waves(places, wave, push, phase, velocity):  # type: ignore[no-untyped-def]
    for i in numba.prange(len(places)):
        x, y, z = places[i, 0], places[i, 1], places[i, 2]
        u, v, w = 0.0, 0.0, 0.0
        for k in range(len(wave)):
            c = np.cos(wave[k, 0] * x + wave[k, 1] * y + wave[k, 2] * z + phase[k])
            u += push[k, 0] * c
            v += push[k, 1] * c
            w += push[k, 2] * c
        velocity[i, 0] += u
        velocity[i, 1] += v
        velocity[i, 2] += w
