"""Planning trials: which dials take which values, as patches of one setup."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from itertools import product
from typing import Any

from zembrik.core.problem import Problem

Patch = list[dict[str, Any]]
MOST_TRIALS = 48
MOST_VALUES = 10_000  # of one dial: a number typed by mistake must not fill the memory
SWITCH = {"on": True, "off": False}


@dataclass(frozen=True)
class DialValues:
    """A dial with the values it is to take.

    Attributes:
        label: its name in words. unit: as shown.
        paths: JSON Pointers into the setup; more than one where it is set on many bodies alike.
        values: in the document's unit. shown: the same as typed.
    """

    label: str
    unit: str
    paths: tuple[str, ...]
    values: tuple[Any, ...]
    shown: tuple[str, ...]


@dataclass(frozen=True)
class Trial:
    """One run: what it is called, and what it changes."""

    label: str
    patch: Patch


def typed_values(text: str, now: float | None, choices: tuple[str, ...] = ()) -> list[Any]:
    """Return the values that a text asks for, as typed.

    Args:
        text: "10, 20, 40"; or "10 to 40 in 4"; or "± 30 %" about what it is now; or words for choices.
        now: the value as it is, in the same unit; None for a choice.
        choices: the words a choice knows; empty for a number.

    Raises:
        Problem: telling what cannot be read.
    """
    text = text.strip().replace("\u2212", "-")
    if not text:
        raise Problem("no values are given.", "trials", "Type some, as in '10, 20, 40', '10 to 40 in 4' or '±30%'.")
    if choices:
        words = [w.strip() for w in text.split(",") if w.strip()]
        wrong = [w for w in words if w not in choices]
        if wrong or not words:
            raise Problem(f"'{(wrong or [text])[0][:40]}' is no choice.", "trials", f"There are {', '.join(choices)}.")
        return list(dict.fromkeys(words))
    number = r"([+-]?\d+(?:[.]\d+)?(?:e[+-]?\d+)?)"
    if found := re.fullmatch(rf"{number}\s*(?:to|…|\.\.+)\s*{number}(?:\s*in\s*(\d+))?", text, re.IGNORECASE):
        first, last, count = float(found[1]), float(found[2]), int(found[3] or 3)
        if not 2 <= count <= MOST_VALUES or not math.isfinite(first) or not math.isfinite(last):
            raise Problem(
                f"'{text[:40]}' is no range.", "trials", "Type one of 2 or more values, as in '10 to 40 in 4'."
            )
        return [float(f"{first + (last - first) * k / (count - 1):.6g}") for k in range(count)]
    if found := re.fullmatch(r"(?:±|\+/?-)\s*(\d+(?:[.]\d+)?)\s*%", text):
        share = float(found[1]) / 100
        if now is None or not 0 < share < 1:
            raise Problem(f"'{text[:40]}' is no step.", "trials", "Type one below 100 %, as in '±30%'.")
        return [float(f"{now * factor:.6g}") for factor in (1 - share, 1.0, 1 + share)]
    values = []
    for word in text.replace(";", ",").split(",") if "," in text or ";" in text else text.split():
        try:
            value = float(word)
        except ValueError:
            value = math.nan
        if not math.isfinite(value):
            raise Problem(f"'{word.strip()[:40]}' is not a number.", "trials", "Type values as in '10, 20, 40'.")
        values.append(value)
    return list(dict.fromkeys(values))


def count_of(dials: list[DialValues]) -> int:
    """Return how many trials a plan has: every value of each dial with every value of the others."""
    return math.prod(len(d.values) for d in dials) if dials else 0


def trials_of(dials: list[DialValues]) -> list[Trial]:
    """Return all trials of a plan.

    Raises:
        Problem: when there are too many, or none.
    """
    count = count_of(dials)
    if count < 2:
        raise Problem("one run alone compares nothing.", "trials", "Give a dial two values or more.")
    if count > MOST_TRIALS:
        raise Problem(
            f"that would be {count:,} runs; a sheet has at most {MOST_TRIALS}.", "trials", "Give fewer values."
        )
    trials = []
    for picked in product(*(range(len(d.values)) for d in dials)):
        words, patch = [], []
        for dial, k in zip(dials, picked, strict=True):
            words.append(f"{dial.label} {dial.shown[k]}{' ' + dial.unit if dial.unit else ''}")
            patch += [{"op": "add", "path": path, "value": dial.values[k]} for path in dial.paths]
        trials.append(Trial(", ".join(words), patch))
    return trials
