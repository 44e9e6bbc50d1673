"""Points against faces and edges against edges, as ties within the implicit step.

Each touching pair is pushed apart by hold × depth along the way out, where hold is FIRMNESS times what its points'
masses resist together in a step, and rubs across it by at most friction times the push. Which way is out is told by
the side both were on when the step began (`mesh_contact`). What crosses all the same is mended after the step.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel
from zembrik.core.solver.mesh_contact import edge_gap, point_gap

FIRMNESS = 30.0

Floats = NDArray[np.float64]


class Ties(NamedTuple):
    """t ties; each block is hold n nᵀ + rub (1 - n nᵀ) on the combination Σ share x of its points.

    Attributes:
        points: int64 (t, 4), -1 for what is no point of cloth. share: float64 (t, 4). normal: float64 (t, 3).
        hold, rub: float64 (t,), N/m.
    """

    points: NDArray[np.int64]
    share: Floats
    normal: Floats
    hold: Floats
    rub: Floats


def room_for_ties(many: int) -> Ties:
    """Return room for so many ties."""
    return Ties(
        np.zeros((many, 4), np.int64), np.zeros((many, 4)), np.zeros((many, 3)), np.zeros(many), np.zeros(many)
    )


@kernel
def tie_touching(  # type: ignore[no-untyped-def]
    hits, faces, edges, points, lines, x, before, room, grip, slip, cloth, guests, heavy, free, stiff, ties, force, values
):
    """Make a tie of every touching pair of cloth with cloth or with what is moved; return how many.

    Args:
        hits: int32 (h,), the numbers of the pairs that touch. points, lines: the pairs, see `nearby.Near`.
        faces, edges: int32 (T, 3) and (E, 2). x, before: float64 (N, 3), places now and when the step began, metres.
        room, grip, slip: float64 (N,), thickness in metres, static and sliding friction.
        cloth, guests: the first are points of cloth; those up to `guests` are carried by others, and left alone here.
        heavy: float64 (cloth,), N/m. free: bool (cloth,).
        ties: room, filled. force, values: the step's; pushes are added and, if `stiff`, blocks on the diagonal.
    """
    many, count = 0, len(points.pairs)
    at, share, slid = np.empty(4, np.int64), np.empty(4), np.empty(3)
    for q in hits:
        if q < count:
            p, t = points.pairs[q, 0], points.pairs[q, 1]
            at[0], at[1], at[2], at[3] = p, faces[t, 0], faces[t, 1], faces[t, 2]
            gap, nx, ny, nz, u, v, s = point_gap(x, before, at[0], at[1], at[2], at[3])
            share[0], share[1], share[2], share[3] = 1.0, -u, -v, -s
            a, b = at[0], at[1]
            depth = min(room[a] + room[b], points.apart[q]) - gap
        else:
            e, f = lines.pairs[q - count, 0], lines.pairs[q - count, 1]
            at[0], at[1], at[2], at[3] = edges[e, 0], edges[e, 1], edges[f, 0], edges[f, 1]
            gap, nx, ny, nz, s, t2 = edge_gap(x, before, at[0], at[1], at[2], at[3])
            share[0], share[1], share[2], share[3] = 1.0 - s, s, t2 - 1.0, -t2
            a, b = at[0], at[2]
            depth = min(room[a] + room[b], lines.apart[q - count]) - gap
        if depth <= 0.0:
            continue
        guest, give = False, 0.0
        for n in range(4):
            i = at[n]
            guest |= cloth <= i < guests
            if i < cloth and free[i]:
                give += share[n] * share[n] / heavy[i]
        if guest or give <= 0.0:
            continue
        hold = FIRMNESS / give
        push, along, normal = hold * depth, 0.0, (nx, ny, nz)
        for c in range(3):
            slid[c] = 0.0
            for n in range(4):
                slid[c] += share[n] * (x[at[n], c] - before[at[n], c])
            along += slid[c] * normal[c]
        way = 0.0
        for c in range(3):
            slid[c] -= along * normal[c]
            way += slid[c] * slid[c]
        way = np.sqrt(way)
        rub = hold
        if hold * way > np.sqrt(grip[a] * grip[b]) * push:
            rub = min(np.sqrt(slip[a] * slip[b]) * push / way, hold)
        ties.hold[many], ties.rub[many] = hold, rub
        for c in range(3):
            ties.normal[many, c] = normal[c]
        for n in range(4):
            i = at[n]
            mine = i < cloth and free[i]
            ties.points[many, n], ties.share[many, n] = (i if mine else -1), share[n]
            if not mine:
                continue
            for c in range(3):
                force[i, c] += share[n] * (push * normal[c] - rub * slid[c])
                if not stiff:
                    continue
                values[i, 4 * c] += share[n] * share[n] * rub
                for d in range(3):
                    values[i, 3 * c + d] += share[n] * share[n] * (hold - rub) * normal[c] * normal[d]
        many += 1
    return many
