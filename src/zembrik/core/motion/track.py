"""Numbers keyed over frames."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


def track_values(keys: list[Any], ease: str, frames: NDArray[np.float64] | float) -> NDArray[np.float64]:
    """Return a track's values at m frames (fractions allowed): (m,), or (m, 3) of vectors.

    Args:
        keys: (frame, value) pairs in rising order of frames; a value is a number or three.
        ease: "hold" keeps a value until the next key, "straight" goes in a line, "smooth"
            leaves and arrives at rest (the cubic 3t² - 2t³).
        frames: where to read; before the first and after the last key the value holds.
    """
    at = np.atleast_1d(np.asarray(frames, dtype=np.float64))
    places = np.array([k[0] for k in keys], dtype=np.float64)
    values = np.array([k[1] for k in keys], dtype=np.float64)
    if len(keys) == 1:
        return np.repeat(values, len(at), axis=0)
    left = np.clip(np.searchsorted(places, at, side="right") - 1, 0, len(keys) - 2)
    t = np.clip((at - places[left]) / (places[left + 1] - places[left]), 0.0, 1.0)
    if ease == "hold":
        t = np.floor(t)
    elif ease == "smooth":
        t = t * t * (3 - 2 * t)
    t = t.reshape(-1, *[1] * (values.ndim - 1))
    return values[left] + t * (values[left + 1] - values[left])
