"""What becomes of values set by hand when another quality profile is chosen, and what each way costs."""

from __future__ import annotations

from typing import Any

from zembrik.core.problem import Problem
from zembrik.core.setup.document import Quality, Setup
from zembrik.core.setup.keyed import is_keyed
from zembrik.core.setup.profiles import PROFILES
from zembrik.core.setup.resolve import has_rigid, resolve
from zembrik.web.dials import LABELS
from zembrik.web.render import Words, brief

DIALS = ("substeps", "iterations", "enough", "contact", "self_collision")


def set_by_hand(setup: Setup) -> list[str]:
    """Return the names of the quality's values that are set by hand."""
    return [name for name in DIALS if getattr(setup.quality, name) is not None]


def ways_to_profile(setup: Setup, profile: str) -> Words:
    """Return what is asked when a profile is chosen over values set by hand: each value both ways, and the costs."""
    if profile not in PROFILES:
        raise Problem(f"there is no profile '{profile[:40]}'.", "profile", f"There are {', '.join(PROFILES)}.")
    rows = []
    for name in set_by_hand(setup):
        hand, own = getattr(setup.quality, name), PROFILES[profile].own(name, has_rigid(setup))
        rows.append({"label": LABELS[name], "hand": _said(hand), "own": _said(own)})
    kept = setup.model_copy(update={"quality": setup.quality.model_copy(update={"profile": profile})})
    plain = setup.model_copy(update={"quality": Quality.model_validate({"profile": profile})})
    return {"rows": rows, "keeping": cost_words(kept, setup), "taking": cost_words(plain, setup)}


def cost_words(setup: Setup, against: Setup) -> str:
    """Return what a setup's passes cost against another's, in words; self-collision costs more and is named."""
    count = setup.frames[1] - setup.frames[0] + 1
    share = resolve(setup).passes_of(count) / max(resolve(against).passes_of(count), 1)
    words = "as long as now" if abs(share - 1.0) < 0.05 else f"about {brief(share)} times as long as now"
    more = resolve(setup).quality("self_collision") and not resolve(against).quality("self_collision")
    return words + (", and more for keeping folds apart" if more else "")


def _said(value: Any) -> str:
    if is_keyed(value) or hasattr(value, "keys"):
        return "keyed over frames"
    if isinstance(value, bool):
        return "on" if value else "off"
    return value if isinstance(value, str) else brief(float(value))
