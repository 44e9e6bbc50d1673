"""The three quality profiles."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Profile:
    """One profile; the fields carry the names of the quality's dials.

    Attributes:
        substeps: steps a frame.
        iterations: passes over rigid bodies and joints a substep.
        enough: metres; a pass that moves nothing farther is a substep's last.
        contact: "points", "faces" or "edges".
        self_collision: whether cloth is kept apart from itself.
        words: what it is for.
    """

    substeps: int
    iterations: int
    enough: float
    contact: str
    self_collision: bool
    words: str


PROFILES: dict[str, Profile] = {
    "rough": Profile(8, 1, 0.0, "points", False, "for trying: see the motion in seconds"),
    "daily": Profile(20, 1, 0.0, "edges", False, "for showing: cloth as it comes to rest, safe in contact"),
    "final": Profile(60, 1, 0.0, "edges", True, "for delivery: motion in 60 substeps, and folds kept apart"),
}
