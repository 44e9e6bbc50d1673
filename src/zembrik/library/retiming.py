"""A body's keyed motion in time: what can be done with its keys, by name."""

from __future__ import annotations

from typing import Any

from zembrik.core.keys.retime import at_rate, keyed_every, looped, shifted, span_of, trimmed
from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup

WAYS = ("shift", "trim", "hold", "loop on", "loop again", "every", "rate")


def retimed(setup: Setup, number: int, how: str, one: float, two: float = 0.0) -> tuple[dict[str, Any], str, str]:
    """Return a body's motion with its keys elsewhere in time, what became of them in words, and a short note.

    Args:
        setup, number: whose motion.
        how: one of WAYS: shift by `one` frames; trim to frames `one` to `two`; hold from frame `one`; loop `one` times,
            on from where it was or again from the start; a key every `one` frames; or from `one` frames a second.

    Raises:
        Problem: when the body has no motion, or it cannot be done.
    """
    body = setup.bodies[number]
    if body.motion is None:
        raise Problem(f"'{body.name}' has no motion.", "motion", "Key it first.")
    motion = body.motion.model_dump(mode="json", exclude_none=True)
    first, last = span_of(motion)
    if how == "shift":
        motion, note = shifted(motion, one), f"shifted by {one:g} frames"
    elif how == "trim":
        motion, note = trimmed(motion, one, two), f"trimmed to {one:g} to {two:g}"
    elif how == "hold":
        motion, note = trimmed(motion, min(first, one - 1.0), one), f"held from frame {one:g}"
    elif how in ("loop on", "loop again"):
        motion, note = looped(motion, int(one), how == "loop on"), f"gone through {one:g} times"
    elif how == "every":
        motion, note = keyed_every(motion, one), f"a key every {one:g} frames"
    elif how == "rate":
        if not 1.0 <= one <= 1000.0:
            raise Problem("a frame rate lies between 1 and 1,000.", "motion", "23.976, 24, 25 and 30 are.")
        motion, note = keyed_every(at_rate(motion, setup.fps / one, first), 1.0), f"from {one:g} frames a second"
    else:
        raise Problem(f"there is nothing to do called '{how[:30]}'.", "motion", f"There are {', '.join(WAYS)}.")
    begin, end = span_of(motion)
    told = f"Its keys were at {first:g} to {last:g}; they are at {begin:g} to {end:g} now."
    return motion, told, note
