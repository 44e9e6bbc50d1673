"""Proof: whether a quality is enough, by runs of the same shot that are each twice as fine as the one before.

Where doubling the substeps brings the motion nearer and nearer to one limit, the ways between successive runs form a
geometric series: d, d / r, d / r² … So the first run is d r / (r - 1) away from the limit, and each finer one r times
less (Richardson 1911, with the order measured instead of assumed). Where the ways do not shrink, the motion is
chaotic: folds fall another way with every change, and no quality brings points to where they would "really" be. Then
only what the eye takes in is compared: how large the whole is, how strongly it is bent, how much it moves. But if these
still come nearer with every doubling, the runs are too coarse to call anything chaotic.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.reader import Cache
from zembrik.core.trials.figures import figures_of

Floats = NDArray[np.float64]
LEAST_RATIO = 1.7  # of successive ways: the step is of first order at least; what shrinks less is chance
MOST_RATIO = 2.0  # no more is believed: from some substeps on, how exactly a step is solved is what is left
ALIKE = 0.03  # of a figure, by which runs may differ and count as alike
SETTLES = 0.75  # a figure comes nearer when what it is off shrinks to this share at each doubling


@dataclass(frozen=True)
class Way:
    """How far two runs are apart, frame by frame.

    Attributes:
        frames: int64 (k,), that both have. mean_m, most_m: float64 (k,), over all points, metres.
        at: float64 (3,), the place of the largest of all, in the finer run.
    """

    frames: NDArray[np.int64]
    mean_m: Floats
    most_m: Floats
    at: Floats

    @property
    def mean(self) -> float:
        """The mean over all frames, metres."""
        return float(self.mean_m.mean())


def way_between(coarse: Cache, fine: Cache) -> Way | None:
    """Return how far two runs of the same meshes are apart; None when they share no frame."""
    if coarse.done is None or fine.done is None:
        return None
    frames = np.arange(max(coarse.first, fine.first), min(coarse.done, fine.done) + 1)
    if not len(frames):
        return None
    mean, most, largest, at = np.zeros(len(frames)), np.zeros(len(frames)), -1.0, np.zeros(3)
    for k, frame in enumerate(frames.tolist()):
        total, count = 0.0, 0
        for name in coarse.names:
            p = coarse.points(coarse.body_number(name), frame).astype(np.float64)
            q = fine.points(fine.body_number(name), frame).astype(np.float64)
            way = np.linalg.norm(p - q, axis=1)
            total, count = total + float(way.sum()), count + len(way)
            worst = int(np.argmax(way))
            most[k] = max(most[k], float(way[worst]))
            if way[worst] > largest:
                largest, at = float(way[worst]), q[worst]
        mean[k] = total / count
    return Way(frames, mean, most, at)


@dataclass(frozen=True)
class Verdict:
    """What three or more runs, each twice as fine, tell.

    Attributes:
        ways: between successive runs.
        ratio: how many times nearer each doubling comes, the last two ways.
        errors_m: of each run, how far it is from the limit in the mean; None where the motion is chaotic.
        enough: the number of the first (cheapest) run whose error is within the bound; None when none is.
        alike: where ways do not shrink, of each run against the finest: size, bending and movement as ratios.
        settling: whether these come nearer to the finest run's with each doubling: then the motion is not known to be
            chaotic; the runs are only too coarse to tell.
    """

    ways: list[Way]
    ratio: float
    errors_m: list[float] | None
    enough: int | None
    alike: list[dict[str, float]]
    settling: bool = False


def judge(runs: list[Cache], bound_m: float) -> Verdict | None:
    """Return what runs of rising fineness tell; None while they have too few frames.

    Args:
        runs: of the same shot, each with twice the substeps of the one before; three or more.
        bound_m: how far from the limit is near enough, in the mean over points and frames, metres.
    """
    ways = [way_between(a, b) for a, b in pairwise(runs)]
    if len(runs) < 3 or any(w is None for w in ways):
        return None
    found = [w for w in ways if w is not None]
    last, before = found[-1].mean, found[-2].mean
    ratio = before / last if last > 0.0 else np.inf
    if last == 0.0 or ratio >= LEAST_RATIO:
        left = last / (min(ratio, MOST_RATIO) - 1.0)  # of the finest run
        errors = [left]
        for way in reversed(found):  # an error is at most the way to the next and what that still lacks
            errors.insert(0, errors[0] + way.mean)
        enough = next((k for k, error in enumerate(errors) if error <= bound_m), None)
        return Verdict(found, float(ratio), [float(e) for e in errors], enough, [])
    alike = [_alike(run, runs[-1]) for run in runs[:-1]]
    return Verdict(found, float(ratio), None, None, alike, _settles(alike))


def _settles(alike: list[dict[str, float]]) -> bool:
    """Tell whether every figure comes nearer to the finest run's from run to run, or is near it already."""
    for name in set.intersection(*(set(one) for one in alike)):
        off = [abs(one[name] - 1.0) for one in alike]
        if off[-1] > ALIKE and any(b > SETTLES * a for a, b in pairwise(off)):
            return False
    return max(abs(v - 1.0) for v in alike[0].values()) > ALIKE


def _alike(run: Cache, finest: Cache) -> dict[str, float]:
    """Return how alike two runs of a chaotic motion are: 1 is the same."""
    told = {"size": _size(run) / max(_size(finest), 1e-12)}
    one, two = figures_of(run), figures_of(finest)
    if one and two and one.wrinkle_per_m and two.wrinkle_per_m:
        told["bending"] = one.wrinkle_per_m / two.wrinkle_per_m
    energy = [float(np.nanmean(c.figure("stats/kinetic_energy"))) for c in (run, finest)]
    if energy[1] > 0.0:
        told["movement"] = energy[0] / energy[1]
    return told


def _size(run: Cache) -> float:
    """Return the diagonal of the box around all bodies over the frames of a run, the mean, metres."""
    assert run.done is not None
    sizes = []
    for frame in np.unique(np.linspace(run.first, run.done, 12).round().astype(int)).tolist():
        points = np.concatenate([run.points(n, frame) for n in range(len(run.names))])
        sizes.append(float(np.linalg.norm(np.ptp(points, axis=0))))
    return float(np.mean(sizes))
