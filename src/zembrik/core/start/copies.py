"""Copies of a body: in rows, in layers, a little turned and of different sizes."""

from __future__ import annotations

import re
from typing import Any

import numpy as np

from zembrik.core.problem import Problem

MOST_COPIES = 5000


def copies_of(
    body: dict[str, Any], counts: tuple[int, int, int], step_m: tuple[float, float, float], turn_deg: float,
    scale_low: float, scale_high: float, seed: int, taken: set[str],
) -> list[dict[str, Any]]:  # fmt: skip
    """Return the bodies that stand beside a body (as a document): a line, a grid or a filled block of them.

    Each is scaled first and placed then, so that what separates them later meets their true sizes. The same seed gives
    the same copies.

    Args:
        body: the body; it stays as it is, in the block's first corner.
        counts: how many along X, Y and Z, the body itself among them.
        step_m: from one to the next, metres.
        turn_deg: up to how far each is turned about each axis, more than the body is.
        scale_low, scale_high: between which each copy's size lies, times the body's.
        seed: of the chance.
        taken: names in use; the new ones are added.

    Raises:
        Problem: for counts and sizes that cannot be.
    """
    total = int(np.prod([max(c, 0) for c in counts]))
    if not 2 <= total <= MOST_COPIES:
        raise Problem(f"{total:,} copies are asked for; 2 to {MOST_COPIES:,} can be made.", "copies", "Change a count.")
    if not 0.0 < scale_low <= scale_high <= 100.0:
        raise Problem("sizes go from small to large, between 0 and 100 times.", "copies", "Change a size.")
    rng = np.random.default_rng(seed)
    place = {"translate": [0, 0, 0], "rotate": [0, 0, 0], "scale": 1.0, **(body.get("place") or {})}
    stem, found, number = re.sub(r" \d+$", "", body["name"]), [], 1
    for n in range(1, total):
        at = np.array([n % counts[0], n // (counts[0] * counts[2]), n // counts[0] % counts[2]])
        turn, scale = rng.uniform(-turn_deg, turn_deg, 3), float(rng.uniform(scale_low, scale_high))
        while (name := f"{stem} {number + 1}") in taken:
            number += 1
        taken.add(name)
        found.append({
            **{key: value for key, value in body.items() if key not in ("name", "pins", "place")},
            "name": name,
            "place": {
                "translate": [round(float(v), 6) for v in np.array(place["translate"]) + at * np.array(step_m)],
                "rotate": [round(float(v), 3) for v in np.array(place["rotate"]) + turn],
                "scale": float(f"{place['scale'] * scale:.6g}"),
            },
        })  # fmt: skip
    return found
