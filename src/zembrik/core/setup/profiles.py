"""The three quality profiles: how exact each is to be, and the counts that make it so."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Profile:
    """One profile; the fields carry the names of the quality's dials, where they are dials.

    Attributes:
        promise_mm: how far points of a metre of cloth may be, in the mean, from where a far finer run has them after a
            quarter of a second; measured on linen that swings, hangs in wind and falls
            (docs/notes/2026-12-01-profiles-by-promise.md). What folds or piles up is chaotic: no count brings its
            points to where they would "really" be.
        substeps: steps a frame that keep it for cloth and soft bodies.
        with_rigid: steps a frame where bodies are rigid too: blows, joints and piles want shorter ones.
        iterations: passes over rigid bodies and joints a substep.
        enough: metres; a pass that moves nothing farther is a substep's last.
        contact: "points", "faces" or "edges".
        self_collision: whether cloth is kept apart from itself.
        words: what it is for.
    """

    promise_mm: float
    substeps: int
    with_rigid: int
    iterations: int
    enough: float
    contact: str
    self_collision: bool
    words: str

    def own(self, name: str, rigid: bool) -> int | float | str | bool:
        """Return what a dial of the quality is by this profile; `rigid` tells whether there are rigid bodies."""
        value: int | float | str | bool = getattr(self, "with_rigid" if rigid and name == "substeps" else name)
        return value


PROFILES: dict[str, Profile] = {
    "rough": Profile(3.0, 4, 8, 1, 0.0, "points", False, "for trying: see the motion in seconds"),
    "daily": Profile(1.0, 10, 20, 1, 0.0, "edges", False, "for showing: cloth as it comes to rest, safe in contact"),
    "final": Profile(0.3, 40, 60, 1, 0.0, "edges", True, "for delivery: finer motion, and folds kept apart"),
}
