"""Checks of handovers after a bake: what jumps there."""

from __future__ import annotations

from typing import Any

from zembrik.core.cache.reader import Cache
from zembrik.core.findings.finding import Finding, set_value
from zembrik.core.review.pops import pops_of
from zembrik.core.setup.assets import Assets
from zembrik.core.setup.document import Setup
from zembrik.core.setup.handover import USUAL_OVER


def pops_found(setup: Setup, cache: Cache, assets: Assets) -> list[Finding]:
    """Handovers that are seen in the cached frames, with what ends that where something does."""
    found = []
    for pop in (p for p in pops_of(setup, cache, assets) if p.seen):
        what = "is taken back" if pop.back else "is handed over"
        text = (
            f"Where '{pop.body}' {what}, at frame {pop.frame}, it goes on otherwise than it came: {pop.jump_mm:.1f} mm "
            f"and {pop.turn_deg:.1f}° off a frame later, its speed changed by {pop.speed_m_per_s:.2f} m/s "
            f"({100 * pop.share:.0f}%)."
        )
        label, patch = _remedy(setup, pop.number, pop.handover, pop.back)
        if not label and not pop.back:
            text += " Something touches it there, or pulls at it; see Motion for what it begins inside of."
        found.append(
            Finding(
                "pop", "Review", True, "A pop where it is handed over", text, pop.body, pop.at, label, patch, pop.frame
            )
        )
    return found


def _remedy(setup: Setup, number: int, handover: int, back: bool) -> tuple[str, list[dict[str, Any]]]:
    handovers = setup.bodies[number].handovers
    if not back or not handovers or handovers[handover].over >= USUAL_OVER:
        return "", []
    path = f"/bodies/{number}/handovers/{handover}/over"
    return f"Draw it back over {USUAL_OVER} frames", [set_value(path, USUAL_OVER)]
