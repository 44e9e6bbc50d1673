"""Copies of a body: in rows, in layers, a little turned and of different sizes."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.tree import build_tree, distances_to_mesh
from zembrik.core.mesh.trimesh import TriMesh
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
    _check(total, scale_low, scale_high)
    n = np.arange(1, total)
    at = np.stack([n % counts[0], n // (counts[0] * counts[2]), n // counts[0] % counts[2]], axis=1)
    origin = np.array((body.get("place") or {}).get("translate", [0.0, 0.0, 0.0]))
    return _copies(body, origin + at * np.array(step_m), turn_deg, scale_low, scale_high, seed, taken)


def copies_inside(
    body: dict[str, Any], count: int, volume: TriMesh, turn_deg: float, scale_low: float, scale_high: float, seed: int,
    taken: set[str],
) -> list[dict[str, Any]]:  # fmt: skip
    """Return copies of a body spread evenly through a volume: the inside of a closed mesh, or the box of an open one.

    Their places follow the additive recurrence of the generalised golden ratio (Roberts 2018), shifted by the seed, so
    that any count fills the volume evenly. They may overlap: ease apart comes after. Arguments as in `copies_of`.

    Raises:
        Problem: for counts and sizes that cannot be, and for a volume that is none.
    """
    _check(count + 1, scale_low, scale_high)
    if not float(volume.size.min()) > 0.0:
        raise Problem("the body that is to be filled is flat.", "copies", "Choose one with an inside.")
    golden = 1.2207440846057596  # the real root of x⁴ = x + 1
    steps, start = golden ** -np.arange(1.0, 4.0), np.random.default_rng([seed, 1]).random(3)
    found: list[NDArray[np.float64]] = []
    for first in range(0, 64 * count, 4 * count):
        share = (start + np.arange(first, first + 4 * count)[:, None] * steps) % 1.0
        places = volume.bounds[0] + share * volume.size
        if volume.is_closed:
            places = places[distances_to_mesh(build_tree(volume), places) < 0.0]
        found = [*found, *places][:count]
        if len(found) == count:
            break
    else:
        raise Problem("there is hardly any room inside of it.", "copies", "Choose another body.")
    return _copies(body, np.array(found), turn_deg, scale_low, scale_high, seed, taken)


def _check(total: int, scale_low: float, scale_high: float) -> None:
    if not 2 <= total <= MOST_COPIES:
        raise Problem(f"{total:,} copies are asked for; 2 to {MOST_COPIES:,} can be made.", "copies", "Change a count.")
    if not 0.0 < scale_low <= scale_high <= 100.0:
        raise Problem("sizes go from small to large, between 0 and 100 times.", "copies", "Change a size.")


def _copies(
    body: dict[str, Any], places: NDArray[np.float64], turn_deg: float, scale_low: float, scale_high: float, seed: int,
    taken: set[str],
) -> list[dict[str, Any]]:  # fmt: skip
    """Return a copy at each of places (n, 3), metres, turned and scaled by chance."""
    rng = np.random.default_rng(seed)
    place = {"rotate": [0, 0, 0], "scale": 1.0, **(body.get("place") or {})}
    stem, found, number = re.sub(r" \d+$", "", body["name"]), [], 1
    for at in places:
        turn, scale = rng.uniform(-turn_deg, turn_deg, 3), float(rng.uniform(scale_low, scale_high))
        while (name := f"{stem} {number + 1}") in taken:
            number += 1
        taken.add(name)
        found.append({
            **{key: value for key, value in body.items() if key not in ("name", "pins", "place")},
            "name": name,
            "place": {
                "translate": [round(float(v), 6) for v in at],
                "rotate": [round(float(v), 3) for v in np.array(place["rotate"]) + turn],
                "scale": float(f"{place['scale'] * scale:.6g}"),
            },
        })  # fmt: skip
    return found
