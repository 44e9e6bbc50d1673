"""Handing a body over from its motion to physics, and back."""

from __future__ import annotations

from itertools import pairwise

from zembrik.core.motion.handover import Spell, Spells
from zembrik.core.setup.parts import Part, dial

MOST = 200  # handovers of a body
USUAL_OVER = 12  # frames that a body is drawn back over


class Handover(Part):
    """Physics takes a body over from its motion, and may give it back."""

    at: int = dial(
        ..., "frame", "When physics takes over, with the place, the form and the speed that the motion has then.",
        ge=-100_000, le=1_000_000,
    )  # fmt: skip
    back: int | None = dial(
        None, "frame", "When the motion takes it back; never if left out.", ge=-100_000, le=1_000_000
    )
    over: int = dial(
        USUAL_OVER, "frames", "Over how many frames it is drawn back to its motion; 0 jumps.", ge=0, le=10_000
    )


def check_order(handovers: list[Handover]) -> None:
    """Raise ValueError where two handovers of a body are at once, or one is given back before it began."""
    if len(handovers) > MOST:
        raise ValueError(f"a body is handed over at most {MOST} times")
    for n, one in enumerate(handovers):
        if one.back is not None and one.back <= one.at:
            raise ValueError(f"handovers[{n}] is taken back at frame {one.back}, but begins at {one.at}")
    for n, (one, two) in enumerate(pairwise(handovers)):
        if one.back is None:
            raise ValueError(f"handovers[{n}] is never taken back, so there can be none after it")
        if two.at < one.back + one.over:
            raise ValueError(
                f"handovers[{n + 1}] begins at frame {two.at}, while the one before is drawn back until "
                f"{one.back + one.over}"
            )


def spells_of(handovers: list[Handover] | None, release: int | None) -> Spells:
    """Return when physics moves a body."""
    if handovers:
        ends = (float("inf") if h.back is None else float(h.back) for h in handovers)
        return tuple(Spell(float(h.at), end, float(h.over)) for h, end in zip(handovers, ends, strict=True))
    return () if release is None else (Spell(float(release)),)
