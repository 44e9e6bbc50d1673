"""Laying out constraints so that any number of threads gives the same result, fast.

The points are cut into small neighbourhoods. A neighbourhood's constraints form a cluster,
which one thread solves in order while its points stay in the nearest cache. Clusters that
share a point get different colours; all clusters of a colour run at once, colour after
colour. The order in which any point is touched is fixed by the layout, not by the threads.

Within a cluster, four constraints that share no point make a pack, which is solved at once (`core.lanes`);
the few that found no company come last, one by one.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from zembrik.core.compiled import kernel
from zembrik.core.lanes import WIDTH

POINTS_A_CLUSTER = 80


class Layout(NamedTuple):
    """The clusters' order.

    Attributes:
        colours: int64 (colours + 1,), where each colour's clusters begin.
        spans: one int64 (clusters + 1,) a kind of constraint: where each cluster's begin.
        packed: one int64 (clusters,) a kind of constraint: where each cluster's packs end.
        orders: one int64 (constraints,) a kind of constraint: the order to sort them by.
    """

    colours: NDArray[np.int64]
    spans: list[NDArray[np.int64]]
    packed: list[NDArray[np.int64]]
    orders: list[NDArray[np.int64]]


def lay_out(kinds: list[NDArray[np.int32]], places: NDArray[np.float64]) -> Layout:
    """Return the layout for several kinds of constraints over the same points.

    Args:
        kinds: for each kind int32 (constraints, k), the points each constraint moves.
        places: float64 (n, 3), where the points are; neighbours get into one cluster.
    """
    cell = neighbourhoods(places, POINTS_A_CLUSTER)
    count = int(cell.max(initial=-1)) + 1
    cluster_of = [cell[points[:, 0]] for points in kinds]
    pairs = [(np.repeat(c, p.shape[1]), p.ravel()) for c, p in zip(cluster_of, kinds, strict=True)]
    rows, columns = (np.concatenate([pair[k] for pair in pairs]) for k in range(2))
    touches = sparse.csr_array((np.ones(len(rows), np.int32), (rows, columns)), shape=(count, len(places)))
    meets = (touches @ touches.T).tocsr()
    colour = np.full(count, -1, dtype=np.int64)
    _greedy(meets.indptr.astype(np.int64), meets.indices.astype(np.int64), colour)
    by_colour = np.argsort(colour, kind="stable")
    rank = np.empty(count, dtype=np.int64)
    rank[by_colour] = np.arange(count)
    colours = np.concatenate([[0], np.cumsum(np.bincount(colour))]).astype(np.int64)
    spans, packed, orders = [], [], []
    for points, cluster in zip(kinds, cluster_of, strict=True):
        inner = _inner_colours(points, len(places))
        order = np.lexsort([np.arange(len(points)), inner, rank[cluster]])
        span = np.concatenate([[0], np.cumsum(np.bincount(rank[cluster], minlength=count))]).astype(np.int64)
        ends = np.empty(count, dtype=np.int64)
        orders.append(_packs(span, points, order, ends))
        spans.append(span)
        packed.append(ends)
    return Layout(colours, spans, packed, orders)


def neighbourhoods(places: NDArray[np.float64], most: int) -> NDArray[np.int64]:
    """Return each point's cell (n,), halving the points along their longest extent to cells of at most `most`."""
    cell = np.zeros(len(places), dtype=np.int64)
    todo, number = [np.arange(len(places))], 0
    while todo:
        part = todo.pop()
        if len(part) <= most:
            cell[part] = number
            number += 1
            continue
        axis = int(np.argmax(np.ptp(places[part], axis=0)))
        ranked = part[np.argsort(places[part, axis], kind="stable")]
        todo += [ranked[len(part) // 2 :], ranked[: len(part) // 2]]
    return cell


@kernel
def _greedy(start, neighbour, colour):  # type: ignore[no-untyped-def]
    """Give each cluster the lowest colour that no neighbour has."""
    taken = np.zeros(len(colour) + 1, np.int64)
    for k in range(len(colour)):
        for n in neighbour[start[k] : start[k + 1]]:
            if colour[n] >= 0:
                taken[colour[n]] = k + 1
        c = 0
        while taken[c] == k + 1:
            c += 1
        colour[k] = c


def _inner_colours(points: NDArray[np.int32], point_count: int) -> NDArray[np.int64]:
    """Return a colour for each constraint, so that a cluster can begin with ones that share no point."""
    colour = np.zeros(len(points), dtype=np.int64)
    _greedy_points(points.astype(np.int64), np.zeros(point_count, dtype=np.int64), colour)
    return colour


@kernel
def _greedy_points(points_of, used, colour):  # type: ignore[no-untyped-def]
    for k in range(len(points_of)):
        taken = np.int64(0)
        for p in points_of[k]:
            taken |= used[p]
        c = 0
        while c < 62 and (taken >> c) & 1:
            c += 1
        colour[k] = c
        for p in points_of[k]:
            used[p] |= np.int64(1) << c


@kernel
def _fits(pack, filled, new, points_of):  # type: ignore[no-untyped-def]
    """Tell whether a constraint shares no point with those in a pack."""
    for n in range(filled):
        for p in points_of[pack[n]]:
            for q in points_of[new]:
                if p == q:
                    return False
    return True


@kernel
def _packs(span, points_of, order, packed):  # type: ignore[no-untyped-def]
    """Return the order with each cluster's packs first, and fill packed (clusters,) with where they end.

    Every constraint goes into the first pack that has room and shares no point with it.
    """
    out = np.empty_like(order)
    pack = np.empty((len(order) + 1, WIDTH), np.int64)
    filled = np.empty(len(order) + 1, np.int64)
    for cluster in range(len(span) - 1):
        count, full = 0, 0  # packs, and how many of the first of them are full
        for new in order[span[cluster] : span[cluster + 1]]:
            here = full
            while here < count and not (filled[here] < WIDTH and _fits(pack[here], filled[here], new, points_of)):
                here += 1
            if here == count:
                filled[here] = 0
                count += 1
            pack[here, filled[here]] = new
            filled[here] += 1
            while full < count and filled[full] == WIDTH:
                full += 1
        at = span[cluster]
        for whole in (True, False):
            for n in range(count):
                if (filled[n] == WIDTH) == whole:
                    for k in range(filled[n]):
                        out[at] = pack[n, k]
                        at += 1
            if whole:
                packed[cluster] = at
    return out
