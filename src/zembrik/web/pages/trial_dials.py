"""The dials that trials can turn, by the names the form knows them by."""

from __future__ import annotations

from typing import Any, NamedTuple

from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup
from zembrik.core.setup.materials import SIMULATED, filled_dials
from zembrik.core.setup.resolve import Resolved
from zembrik.core.trials.leverage import Range
from zembrik.core.trials.plan import SWITCH, DialValues, typed_values
from zembrik.web.dials import Dial, dial, from_shown

OF_QUALITY = ("substeps", "iterations", "contact", "self_collision")
CHOICES = {"contact": ("points", "faces", "edges"), "self_collision": tuple(SWITCH)}


class Turnable(NamedTuple):
    """A dial that trials can turn: one value, or the same on all bodies of a role."""

    key: str
    group: str
    dial: Dial
    paths: tuple[str, ...]


def turnable(setup: Setup, resolved: Resolved) -> list[Turnable]:
    """Return what trials of a setup can turn: quality, the air, and what simulated bodies are made of."""
    found = [
        Turnable(f"quality {name}", "Quality", dial(resolved, f"/quality/{name}"), (f"/quality/{name}",))
        for name in OF_QUALITY
    ]
    found.append(Turnable("air", "Air", dial(resolved, "/world/air_density"), ("/world/air_density",)))
    for role in SIMULATED:
        numbers = [k for k, b in enumerate(setup.bodies) if b.role == role]
        groups = [(setup.bodies[k].name, [k]) for k in numbers] if len(numbers) <= 6 else []
        if len(numbers) > 1:
            groups.insert(0, (f"all {len(numbers)} {role} bodies", numbers))
        for group, members in groups:
            names = [(name, f"material/{name}") for name in filled_dials(role)] + [("thickness", "thickness")]
            for name, tail in names:
                paths = tuple(f"/bodies/{k}/{tail}" for k in members)
                found.append(Turnable(f"{group} {name}", group, dial(resolved, paths[0]), paths))
    return [one for one in found if not isinstance(one.dial.value, dict)]  # what is keyed has no one value


def range_of(one: Turnable, spread: float) -> Range:
    """Return a dial with a range of so much (a share) below and above what it is now, within its limits.

    Raises:
        Problem: for a choice, which has no range, and a dial that is 0, about which there is no share.
    """
    now = one.dial.value
    label = one.dial.label if one.group in ("Quality", "Air") else f"{one.dial.label.lower()} of {one.group}"
    if isinstance(now, bool | str) or now is None:
        raise Problem(f"{label} is a choice and has no range.", "leverage", "Try it on a trial sheet.")
    if now == 0:
        raise Problem(f"{label} is 0, and a share of that is nothing.", "leverage", "Give it a value first.")
    path, whole = one.dial.path, isinstance(now, int)
    low, high = (from_shown(path, repr(now * factor)) for factor in (1.0 - spread, 1.0 + spread))
    if whole:
        low, high = max(round(low), 1), max(round(high), 2)
    factor = float(now) / float(from_shown(path, repr(now)))
    return Range(label, one.paths, float(min(low, high)), float(max(low, high)), whole, factor, one.dial.unit)


def values_of(one: Turnable, text: str) -> DialValues:
    """Return a dial with the values typed for it.

    Raises:
        Problem: telling what cannot be read.
    """
    name = one.dial.path.rsplit("/", 1)[-1]
    now = one.dial.value if isinstance(one.dial.value, int | float) and not isinstance(one.dial.value, bool) else None
    typed = typed_values(text, now, CHOICES.get(name, ()))
    if isinstance(now, int):  # substeps are whole, whatever share of them was asked for
        typed = list(dict.fromkeys(round(v) for v in typed))
    shown = tuple(v if isinstance(v, str) else f"{v:g}" for v in typed)
    values: tuple[Any, ...] = tuple(
        (SWITCH.get(v, v) if isinstance(v, str) else from_shown(one.dial.path, repr(v))) for v in typed
    )
    label = one.dial.label if one.group in ("Quality", "Air") else f"{one.dial.label.lower()} of {one.group}"
    return DialValues(label, one.dial.unit, one.paths, values, shown)
