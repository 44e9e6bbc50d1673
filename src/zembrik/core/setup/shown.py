"""When a body is seen: a value over frames that is held from each key to the next."""

from __future__ import annotations

import re
from itertools import pairwise

from zembrik.core.problem import Problem

Shown = list[tuple[int, bool]]
FIRST, LAST = -100_000, 1_000_000  # frames that a shot can have
_SPAN = re.compile(r"^\s*(-?\d+)?\s*(?:(\.\.|to|–)\s*(-?\d+)?)?\s*$")


def check_shown(shown: Shown | None) -> Shown | None:
    """Raise ValueError where frames do not rise."""
    for (one, _), (two, _) in pairwise(shown or []):
        if two <= one:
            raise ValueError(f"the frames at which it comes and goes rise; {two} comes after {one}")
    return shown


def is_shown(shown: Shown | None, frame: float) -> bool:
    """Tell whether a body is seen at a frame; before the first key it is as the first key says."""
    if not shown:
        return True
    before = [seen for at, seen in shown if at <= frame + 1e-9]
    return before[-1] if before else shown[0][1]


def seen_in(text: str) -> Shown | None:
    """Return when a body is seen from typed spans of frames, such as "1 to 23, 60 to"; None for always.

    Raises:
        Problem: for what is no span.
    """
    if text.strip() in ("", "always"):
        return None
    changes: dict[int, bool] = {}
    reach = None
    for part in text.split(","):
        found = _SPAN.match(part)
        if found is None or not any(found.groups()):
            raise Problem(f"'{part.strip()[:30]}' is no span of frames.", "seen at", "Write 24 to 60, or 24 to.")
        first = FIRST if found[1] is None else int(found[1])
        last = LAST if found[2] and found[3] is None else int(found[3] or first)
        if last < first or (reach is not None and first <= reach):
            raise Problem("spans of frames rise, and do not overlap.", "seen at", "Write 1 to 23, 60 to.")
        reach = last
        changes[first] = True
        if last < LAST:
            changes[last + 1] = False
    begins = min(changes)
    if begins > FIRST:
        changes.setdefault(begins - 1, False)
    shown = sorted(changes.items())
    return [(at, seen) for n, (at, seen) in enumerate(shown) if n == 0 or seen != shown[n - 1][1]]


def seen_words(shown: Shown | None) -> str:
    """Return when a body is seen as spans that `seen_in` takes; empty for always."""
    if not shown:
        return ""
    spans: list[str] = []
    begins = str(FIRST) if shown[0][1] else None
    for at, seen in shown[0 if not shown[0][1] else 1 :]:
        if seen and begins is None:
            begins = str(at)
        elif not seen and begins is not None:
            spans.append(f"{'' if begins == str(FIRST) else begins} to {at - 1}".strip())
            begins = None
    if begins is not None:
        spans.append(f"{'' if begins == str(FIRST) else begins} to".strip())
    return ", ".join(spans) or "never"
