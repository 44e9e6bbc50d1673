"""A body that moves by itself: its turn, size and shift at any moment."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.angles import matrix_of
from zembrik.core.motion.path import PathFollower
from zembrik.core.motion.track import Track, value_at
from zembrik.core.units import quaternion_turn

Floats = NDArray[np.float64]


class Mover:
    """How far a body is from its place at any frame.

    It spins first, then turns by its keys, then as its path has it, all about its origin; then it is shifted; then
    it goes along with its parent.

    Attributes:
        motion: the resolved document's "motion": tracks of metres and degrees.
        pivot: float64 (3,), the body's origin in the world, which it turns about, metres.
        parent: what it goes along with.
        changes_form: whether more than its place and turn change.
    """

    def __init__(self, motion: dict[str, Any], pivot: Any, parent: Mover | None = None) -> None:
        self.motion = motion
        self.pivot = np.asarray(pivot, dtype=np.float64)
        self.parent = parent
        names = ("translate", "rotate", "turn")
        self.tracks = {n: Track(t["keys"], t["ease"]) for n in names if (t := motion.get(n))}
        self.path = PathFollower(motion["path"]) if motion.get("path") else None
        self.changes_form = bool(motion.get("scale"))

    def at(self, frame: float) -> tuple[Floats, Floats]:
        """Return turn (3, 3) and shift (3,): a point p of the body in its place is at turn @ p + shift."""
        turn, to = self._own_turn(frame), self.pivot + self._track("translate", frame)
        if self.path is not None:
            along, place = self.path.at(frame)
            turn, to = along @ turn, to + place - self.pivot
        shift = to - turn @ self.pivot
        if self.parent is not None:
            above, moved = self.parent.at(frame)
            turn, shift = above @ turn, above @ shift + moved
        return turn, shift

    def points_at(self, points: Floats, frame: float) -> Floats:
        """Return where points (n, 3) of the body in its place are at a frame, metres."""
        turn, shift = self.at(frame)
        if self.motion.get("scale"):
            points = self.pivot + value_at(self.motion["scale"], frame) * (points - self.pivot)
        return np.asarray(points @ turn.T + shift, dtype=np.float64)

    def grain(self, frame: float) -> float | None:
        """Return how many frames lie between the samples that are known around a frame; None of what is a curve."""
        found = [grain for track in self.tracks.values() if (grain := track.grain(frame)) is not None]
        if self.parent is not None and (above := self.parent.grain(frame)) is not None:
            found.append(above)
        return max(found, default=None)

    def knows(self, frame: float) -> bool:
        """Tell whether a frame lies between the first and the last sample, where there are any."""
        ends = [(t.places[0], t.places[-1]) for t in self.tracks.values() if len(t.places) > 2]
        inside = all(low - 1e-9 <= frame <= high + 1e-9 for low, high in ends)
        return inside and (self.parent is None or self.parent.knows(frame))

    def _own_turn(self, frame: float) -> Floats:
        turn = matrix_of(self._track("rotate", frame), self.motion.get("rotate_order") or "xyz")
        if keyed := self.tracks.get("turn"):
            turn = quaternion_turn(keyed.turn(frame))
        if spin := self.motion.get("spin"):
            turn = turn @ about(spin["axis"], value_at(spin["angle"], frame))
        return turn

    def _track(self, name: str, frame: float) -> Any:
        track = self.tracks.get(name)
        return track.values(frame)[0] if track else np.zeros(3)


def about(axis: Any, angle_deg: float) -> Floats:
    """Return the matrix (3, 3) of a turn about an axis (3,) of any length (Rodrigues 1840)."""
    x, y, z = np.asarray(axis, dtype=np.float64) / np.linalg.norm(axis)
    across = np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]])
    angle = np.radians(angle_deg)
    return np.asarray(np.eye(3) + np.sin(angle) * across + (1.0 - np.cos(angle)) * (across @ across))
