"""Turbulent air without sources or sinks: the curl of a random potential, as a sum of waves.

Each wave's velocity is at right angles to its wave vector, so the sum has no divergence
anywhere (random Fourier modes: Kraichnan 1970; as a curl of noise: Bridson, Hourihan and
Nordenstam 2007). Wave lengths lie around the asked size; every wave turns over at the asked rate.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import parallel_kernel

WAVES = 32
Floats = NDArray[np.float64]


class Turbulence:
    """A turbulent wind.

    Args:
        speed_m_s: root of the mean square of the velocity.
        size_m: the middle wave length.
        rate_hz: how often the pattern turns over, times a second; 0 keeps it still.
        seed: equal seeds give equal air.
    """

    def __init__(self, speed_m_s: float, size_m: float, rate_hz: float, seed: int) -> None:
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

    def add(self, places: Floats, time_s: float, strength: float, velocity: Floats) -> None:
        """Add the air's velocity (n, 3) in m/s, times a strength, at places (n, 3) in metres and a time."""
        _add_waves(places, self.wave, self.push * strength, self.phase + self.turn * time_s, velocity)


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
