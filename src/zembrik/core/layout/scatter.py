"""Copies scattered over a region before they fall: level by level, at random within each, never within each other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from zembrik.core.problem import Problem
from zembrik.core.setup.groups import Drop

Floats = NDArray[np.float64]
MOST_LEVELS = 2000


@dataclass(frozen=True)
class Scattered:
    """Where n copies begin.

    Attributes:
        source: int64 (n,), which of the sources each is a copy of.
        middle_m: float64 (n, 3), where the middle of each one's box is.
        turn_deg: float64 (n, 3), by which each is turned about X, Y and Z. size: float64 (n,), times its source's.
    """

    source: NDArray[np.int64]
    middle_m: Floats
    turn_deg: Floats
    size: Floats


def scatter(drop: Drop, reach_m: Floats, floor_m: float) -> Scattered:
    """Scatter copies above a floor; the same seed gives the same.

    Every copy has a cell of a level of its own, as wide as the widest of them is in any turn; within the cell it stands
    at random as far as its own size leaves room. Which cells of a level are taken is chance too.

    Args:
        drop: counts, region, sizes, spacing, seed.
        reach_m: float64 (sources,), how far each source reaches from the middle of its box, metres.
        floor_m: nothing is below this height, unless `drop.above` says more.

    Raises:
        Problem: when they cannot fit; it says how many do.
    """
    rng = np.random.default_rng(drop.seed)
    source = _dealt(np.array([s.share for s in drop.sources]), drop.count, rng)
    size = rng.uniform(drop.size[0], drop.size[1], drop.count)
    reach = reach_m[source] * size
    cell = 2.0 * float(reach.max()) + drop.spacing
    counts = [int((high - low + 1e-9) // cell) for low, high in (drop.across, drop.along)]
    each = counts[0] * counts[1]
    levels = -(-drop.count // each) if each else 0
    most = MOST_LEVELS if drop.room is None else min(int((drop.room + 1e-9) // cell), MOST_LEVELS)
    if not each or levels > most:
        fit = each * most
        raise Problem(
            f"{drop.count:,} copies do not fit: each needs {cell:.3g} m in any turn, and {fit:,} have room there.",
            "drop", "Widen the region, give more height, or drop fewer or smaller ones.",
        )  # fmt: skip
    wide = (drop.across[1] - drop.across[0]) / counts[0], (drop.along[1] - drop.along[0]) / counts[1]
    middle = np.empty((drop.count, 3))
    base = floor_m if drop.above is None else drop.above
    for level in range(levels):
        mine = np.arange(level * each, min((level + 1) * each, drop.count))
        cells = rng.permutation(each)[: len(mine)]
        for axis, low, width, number in ((0, drop.across[0], wide[0], cells % counts[0]),
                                         (2, drop.along[0], wide[1], cells // counts[0])):  # fmt: skip
            free = width - 2.0 * reach[mine] - drop.spacing
            middle[mine, axis] = low + (number + 0.5) * width + 0.5 * free * rng.uniform(-1.0, 1.0, len(mine))
        middle[mine, 1] = base + drop.spacing + level * cell + reach[mine]
    turn = rng.uniform(-drop.turn, drop.turn, (drop.count, 3))
    return Scattered(source, middle, turn, size)


def _dealt(shares: Floats, count: int, rng: np.random.Generator) -> NDArray[np.int64]:
    """Return which source each copy is of: as the shares have it (largest remainders), in a random order."""
    exact = count * shares / shares.sum()
    whole = np.floor(exact).astype(np.int64)
    for n in np.argsort(whole - exact, kind="stable")[: count - int(whole.sum())]:
        whole[n] += 1
    return np.asarray(rng.permutation(np.repeat(np.arange(len(shares)), whole)))
