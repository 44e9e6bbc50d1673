"""The stations of the bench: what each says of the shot, from real checks."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from zembrik.core.findings.finding import Finding
from zembrik.core.setup.document import FileMesh, Setup
from zembrik.core.setup.resolve import quality_words
from zembrik.library.bakes import USUAL_FRAMES
from zembrik.library.models import Bake, Delivery, Revision

NAMES = ["intake", "proxies", "start", "motion", "quality", "bake", "review", "deliver"]


@dataclass(frozen=True)
class Station:
    """One station: its state is computed, never ticked.

    Attributes:
        name: as in the address; title: as on the page.
        mark: "done", "look" (a finding), "fail" (a severe finding), "todo".
        fact: a few words under the title.
    """

    name: str
    title: str
    mark: str
    fact: str


def stations(
    setup: Setup, head: Revision, findings: list[dict[str, Any]] | None, bake: Bake | None, deliveries: list[Delivery],
    outcome: list[Finding],
) -> list[Station]:  # fmt: skip
    """Return the eight stations; `findings` is None while they are not computed, `outcome` is of the bake's frames."""
    marks = dict.fromkeys(NAMES, "done")
    counts = dict.fromkeys(NAMES, 0)
    for finding in findings or []:
        name = finding["station"].lower()
        counts[name] += 1
        marks[name] = "fail" if finding["severe"] or marks[name] == "fail" else "look"
    facts = {name: _fact(name, setup) for name in NAMES[:5]}
    for name in NAMES[:5]:
        if counts[name]:
            facts[name] = f"{counts[name]} finding{'s' if counts[name] > 1 else ''}"
    if not setup.bodies:
        marks["intake"] = "todo"
    if not any(b.role in ("collider", "rigid") for b in setup.bodies):
        marks["proxies"] = "todo"
    marks["bake"], facts["bake"] = _bake_words(bake, head)
    held = bake is not None and bake.cache is not None and bake.cache.done is not None
    marks["review"] = "done" if held and marks["bake"] == "done" else "todo"
    facts["review"] = "true to the setup" if marks["review"] == "done" else ("frames so far" if held else "nothing yet")
    if outcome:
        marks["review"] = "fail" if any(f.severe for f in outcome) else "look"
        facts["review"] = outcome[0].title.lower()
    good = sum(d.state == "done" for d in deliveries)
    marks["deliver"] = "done" if good else "todo"
    facts["deliver"] = f"{good} file{'s' if good != 1 else ''}" if good else "nothing yet"
    return [Station(name, name.capitalize(), marks[name], facts[name]) for name in NAMES]


def _fact(name: str, setup: Setup) -> str:
    if name == "intake":
        count = len(setup.bodies)
        files = sum(isinstance(b.mesh, FileMesh) for b in setup.bodies)
        words = f"{count} bod{'ies' if count != 1 else 'y'}"
        return (
            (f"{words} · {files} from file{'s' if files > 1 else ''}" if files else words) if count else "no bodies yet"
        )
    if name == "proxies":
        usual = {"collider": "surface", "rigid": "hull"}
        kinds = [b.proxy.kind if b.proxy else usual[b.role] for b in setup.bodies if b.role in usual]
        return f"{len(kinds)} · {', '.join(dict.fromkeys(kinds))}" if kinds else "no colliders"
    if name == "start":
        return "nothing overlaps" if setup.bodies else "–"
    if name == "motion":
        winds = sum(force.kind == "wind" for force in setup.forces)
        moving = sum(body.motion is not None for body in setup.bodies)
        facts = ["gravity" if any(setup.world.gravity) else "no gravity"]
        facts += [f"{winds} wind{'s' if winds > 1 else ''}"] if winds else []
        facts += ["turbulence"] if winds < len(setup.forces) else []
        return " · ".join([*facts, f"{moving} moving"] if moving else facts)
    return quality_words(setup)


def _bake_words(bake: Bake | None, head: Revision) -> tuple[str, str]:
    if bake is None:
        return "todo", "not baked"
    done = bake.cache.done if bake.cache else None
    frames = 0 if done is None else done - bake.first + 1
    if bake.state == "failed":
        return "fail", f"failed after {frames} frames"
    if bake.state == "queued":
        return "todo", "in the queue"
    if bake.state == "running":
        return "todo", "being baked"
    if bake.setup_hash != head.setup_hash:
        return "look", "stale"
    last = head.document.get("frames", USUAL_FRAMES)[1]
    if done is None or done < last:
        return "look", f"{frames} of {last - bake.first + 1} frames"
    return "done", f"{frames} frames"
