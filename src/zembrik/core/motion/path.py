"""A way through the shot: a round curve through places, measured by its length, and a frame that looks along it."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.track import value_at

Floats = NDArray[np.float64]
SAMPLES = 64  # of the curve from place to place, for its length
UP = np.array([0.0, 1.0, 0.0])
# Columns: where the body's own X, Y, Z lie when the way's side, up and ahead are X, Y and Z.
LOOKS = {
    "z": np.eye(3),
    "-z": np.diag([-1.0, 1.0, -1.0]),
    "x": np.array([[0.0, 0.0, -1.0], [0.0, 1.0, 0.0], [1.0, 0.0, 0.0]]),
    "-x": np.array([[0.0, 0.0, 1.0], [0.0, 1.0, 0.0], [-1.0, 0.0, 0.0]]),
}


class Path:
    """A curve through places: centripetal Catmull and Rom (Yuksel, Schaefer and Keyser 2011), which makes no loops.

    Args:
        points: float64 (k, 3), k >= 2, metres. closed: whether it leads on from the last to the first.
    """

    def __init__(self, points: Any, closed: bool) -> None:
        places = np.asarray(points, dtype=np.float64)
        if closed and np.linalg.norm(places[0] - places[-1]) < 1e-9:
            places = places[:-1]
        self.closed = closed and len(places) > 2
        if self.closed:
            places = np.concatenate([places[-1:], places, places[:2]])
        else:  # beyond its ends it would go on as it came
            places = np.concatenate([2 * places[:1] - places[1:2], places, 2 * places[-1:] - places[-2:-1]])
        self.places = places
        self.count = len(places) - 3  # stretches from place to place
        step = np.arange(self.count * SAMPLES + 1) / SAMPLES
        self._step = step
        at = np.array([self._curve(s)[0] for s in step])
        self._far = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(at, axis=0), axis=1))])

    @property
    def length_m(self) -> float:
        """How long the way is, metres."""
        return float(self._far[-1])

    def at(self, progress: float) -> tuple[Floats, Floats]:
        """Return the place (3,) in metres and the direction (3,), of length 1, after a share of the way's length."""
        share = progress % 1.0 if self.closed else min(max(progress, 0.0), 1.0)
        place, ahead = self._curve(float(np.interp(share * self.length_m, self._far, self._step)))
        return place, ahead / max(float(np.linalg.norm(ahead)), 1e-300)

    def _curve(self, step: float) -> tuple[Floats, Floats]:
        """Return place and derivative at a number of stretches from the start (Barry and Goldman 1988)."""
        k = min(int(step), self.count - 1)
        p = self.places[k : k + 4]
        t = np.concatenate([[0.0], np.cumsum(np.sqrt(np.linalg.norm(np.diff(p, axis=0), axis=1)))])
        u = t[1] + (step - k) * (t[2] - t[1])
        # The slopes at the stretch's two ends, and the cubic that has them.
        span = t[2] - t[1]
        one = (p[1] - p[0]) / (t[1] - t[0]) - (p[2] - p[0]) / (t[2] - t[0]) + (p[2] - p[1]) / span
        two = (p[2] - p[1]) / span - (p[3] - p[1]) / (t[3] - t[1]) + (p[3] - p[2]) / (t[3] - t[2])
        s = (u - t[1]) / span
        a, b = span * one, span * two
        place = (
            (2 * s**3 - 3 * s**2 + 1) * p[1] + (s**3 - 2 * s**2 + s) * a
            + (3 * s**2 - 2 * s**3) * p[2] + (s**3 - s**2) * b
        )  # fmt: skip
        slope = (
            (6 * s**2 - 6 * s) * (p[1] - p[2]) + (3 * s**2 - 4 * s + 1) * a + (3 * s**2 - 2 * s) * b
        )  # fmt: skip
        return np.asarray(place), np.asarray(slope)


class PathFollower:
    """Where a body is on its way, and how it is turned there.

    Args:
        path: the resolved "path" of a motion.
    """

    def __init__(self, path: dict[str, Any]) -> None:
        self.path = Path(path["points"], path["closed"])
        self.values = path

    def at(self, frame: float) -> tuple[Floats, Floats]:
        """Return the turn (3, 3) that the way gives the body, and the place (3,) of its origin, metres.

        The frame stands upright: its side is level. Where the way goes straight up, it is as it would be for a way
        that leans a little towards +Z.
        """
        place, ahead = self.path.at(value_at(self.values["progress"], frame))
        side = np.cross(UP, ahead)
        if np.linalg.norm(side) < 1e-6:
            side = np.array([1.0, 0.0, 0.0])
        side /= np.linalg.norm(side)
        axes = np.column_stack([side, np.cross(ahead, side), ahead])
        bank = np.radians(value_at(self.values["bank"], frame))
        c, s = np.cos(bank), np.sin(bank)
        leant = axes @ np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
        where = place + axes @ np.asarray(self.values["offset"], dtype=np.float64)
        forward = self.values["forward"]
        if forward == "none":
            return np.eye(3), where
        return leant @ LOOKS[forward], where
