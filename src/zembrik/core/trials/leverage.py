"""Leverage: how much each dial changes the result, against what it costs, by a screening design (Morris 1991).

From a seeded random place among the dials' ranges a walk turns one dial after the other by half of its range, in random
order, until each was turned once. What a turn changes in the result (how far the motion is from the one before) and in
the cost (by what factor the seconds grow) is that dial's elementary effect there. Several walks from different places
give its mean, and how much that depends on the others.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zembrik.core.problem import Problem
from zembrik.core.trials.plan import MOST_TRIALS, Trial

LEVELS = 4  # places along a range; a turn goes over half of them


@dataclass(frozen=True)
class Range:
    """A dial and where it may go.

    Attributes:
        label: its name. paths: JSON Pointers into the setup.
        low, high: in the document's unit. whole: whether only whole numbers are values.
        factor, unit: how it is shown.
    """

    label: str
    paths: tuple[str, ...]
    low: float
    high: float
    whole: bool
    factor: float = 1.0
    unit: str = ""

    def at(self, share: float) -> float | int:
        """Return the value at a share (0..1) of the range; along a factor where the range spans a tenfold."""
        if self.low > 0.0 and self.high / self.low >= 10.0:
            value = self.low * (self.high / self.low) ** share
        else:
            value = self.low + share * (self.high - self.low)
        return round(value) if self.whole else float(f"{value:.6g}")


@dataclass(frozen=True)
class Design:
    """The runs of a screening.

    Attributes:
        trials: all runs, walk after walk.
        turned: for each run the number of the dial that was turned to come to it; -1 where a walk begins.
    """

    trials: list[Trial]
    turned: list[int]


def design(ranges: list[Range], walks: int, seed: int) -> Design:
    """Return a screening of some dials; the same seed gives the same one.

    Raises:
        Problem: when a range is none, or there would be too many runs.
    """
    for one in ranges:
        if not one.low < one.high:
            raise Problem(f"{one.label} goes from {one.low:g} to {one.high:g}.", "leverage", "Give it a wider range.")
    count = walks * (len(ranges) + 1)
    if len(ranges) < 2 or walks < 2 or count > MOST_TRIALS:
        raise Problem(
            f"{len(ranges)} dials and {walks} walks would be {count} runs.", "leverage",
            f"Choose two dials or more, two walks or more, and at most {MOST_TRIALS} runs.",
        )  # fmt: skip
    rng = np.random.default_rng(seed)
    step, half = 1.0 / (LEVELS - 1), LEVELS // 2
    trials: list[Trial] = []
    turned: list[int] = []
    for _ in range(walks):
        at = rng.integers(0, LEVELS, len(ranges))
        trials.append(_trial(ranges, at * step))
        turned.append(-1)
        for dial in rng.permutation(len(ranges)).tolist():
            at[dial] += half if at[dial] < half else -half
            trials.append(_trial(ranges, at * step))
            turned.append(dial)
    return Design(trials, turned)


def _trial(ranges: list[Range], shares: np.ndarray) -> Trial:
    words, patch = [], []
    for one, share in zip(ranges, shares.tolist(), strict=True):
        value = one.at(share)
        words.append(f"{one.label} {one.factor * value:.3g}{' ' + one.unit if one.unit else ''}")
        patch += [{"op": "add", "path": path, "value": value} for path in one.paths]
    return Trial(", ".join(words), patch)


@dataclass(frozen=True)
class Effect:
    """What turning a dial over half of its range does.

    Attributes:
        label: the dial. moved_m: how far the motion goes away, the mean over walks, metres.
        spread_m: how much that differs from walk to walk, standard deviation, metres.
        cost: by what factor the time grows (or shrinks: always 1 or more), the mean.
        walks: how many were measured.
    """

    label: str
    moved_m: float
    spread_m: float
    cost: float
    walks: int


def effects(
    labels: list[str], turned: list[int], moved_m: list[float | None], seconds: list[float | None]
) -> list[Effect]:
    """Return each dial's effect, the strongest first.

    Args:
        labels: of the dials. turned: see `Design`.
        moved_m: how far each run is from the one before it, metres; None where that is not known.
        seconds: that each run took.
    """
    found = []
    for dial, label in enumerate(labels):
        ways, costs = [], []
        for k, which in enumerate(turned):
            one, two = seconds[k], seconds[k - 1] if k else None
            if which == dial and (way := moved_m[k]) is not None and one and two:
                ways.append(way)
                costs.append(abs(np.log(one / two)))
        if ways:
            cost = float(np.exp(np.mean(costs)))
            found.append(Effect(label, float(np.mean(ways)), float(np.std(ways)), cost, len(ways)))
    return sorted(found, key=lambda e: (-e.moved_m, e.label))


def in_words(effect: Effect, most_m: float) -> str:
    """Return what a dial does, in a sentence; `most_m` is what the strongest moves, metres."""
    share = effect.moved_m / most_m if most_m > 0.0 else 0.0
    result = (
        "changes nothing you can see" if share < 0.05 or effect.moved_m < 2e-4
        else "changes little" if share < 0.25 else "changes the motion" if share < 0.7 else "changes the motion most"
    )  # fmt: skip
    if effect.cost < 1.15:
        return f"{result}, and costs nothing"
    return f"{result}, and changes the time {effect.cost:.1f} times"
