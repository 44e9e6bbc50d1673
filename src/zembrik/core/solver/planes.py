"""Points of cloth against colliders, as planes that push within the implicit step.

A point whose signed distance to a collider is less than the sum of both thicknesses is pushed by hold × depth along the
collider's normal, where hold is FIRMNESS times what its own mass resists in a step: what lies at rest sinks in
by micrometres. So is one that is still free and that its forces would take in: else a point that a turn of the
solution has just brought out would fall in again with the next.

Across, it is held by a spring of the same stiffness to where the surface takes it, up to static friction times its load
(Coulomb): beyond, the spring gives way so far that it pulls with just what sliding friction does.
What it pulls with at a step's end is there when the next begins (Cundall and Strack 1979): what sticks does not creep.
The load is what it takes to keep it out, against its forces and out of its depth, and at least what pushed it in the
last step: what lies on it is not among its own forces. Tack draws a point that is close with a force of its own; what
it adds to the load adds to the friction.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, kernel, parallel_kernel
from zembrik.core.distance.field import CHUNK, fill_distances
from zembrik.core.lanes_memory import point
from zembrik.core.solver.contact import BEHIND, _began, _next, meet

MOST = 4  # colliders that a point meets at once; of more, the first count
FIRMNESS = 30.0
SURE = 0.5  # of what it slides, that friction takes off: what is less cannot turn it round
NEAR = 0.01  # of the thicknesses: what is freer than that is left to fall in

Floats = NDArray[np.float64]


class Planes(NamedTuple):
    """What m points of cloth meet.

    Attributes:
        many: int32 (m,), how many colliders each is near.
        collider: int32 (m, MOST), which. normal: float64 (m, MOST, 3). depth: float64 (m, MOST), metres.
        pull: float64 (m, MOST), of tack, N.
        bears: float64 (m,), what all together push with, N.
        on: float64 (m,), which pushes most, and half more where it slides, or -1; stretch: float64 (m, 3), of its
            spring across, metres.
    """

    many: NDArray[np.int32]
    collider: NDArray[np.int32]
    normal: Floats
    depth: Floats
    pull: Floats
    bears: Floats
    on: Floats
    stretch: Floats


def no_planes(points: int) -> Planes:
    """Return room for what so many points meet."""
    size = (points, MOST)
    return Planes(
        np.zeros(points, np.int32), np.zeros(size, np.int32), np.zeros((*size, 3)), np.zeros(size), np.zeros(size),
        np.zeros(points), np.full(points, -1.0), np.zeros((points, 3)),
    )  # fmt: skip


@bare_kernel
def _meet_one(  # type: ignore[no-untyped-def]
    c, i, fields, touch, skin, w, x, before, count, collider, normals, depths, pulls, distance, normal, probe
):
    """Note what point i has to do with collider c, whose distance and normal are given."""
    drift, both = touch.drift[c], touch.both[c]
    if w[i] == 0.0 or count[i] >= MOST:
        return
    room, here = touch.room[c] + skin[i, 0], distance[i]
    ax, ay, az = _began(drift, point(before, i))
    square_way = (x[i, 0] - ax) ** 2 + (x[i, 1] - ay) ** 2 + (x[i, 2] - az) ** 2
    gap = (abs(here) if both else here) - room
    tacks = skin[i, 3] > 0.0 and gap < skin[i, 4]
    if gap > NEAR * room and gap * gap > square_way and not tacks:
        return  # free, and so was all of its way
    way = np.sqrt(square_way)
    if both:
        if abs(here) <= way + room:
            meet(fields, both, c, i, room, x, ax, ay, az, distance, normal, probe)
    elif fields.open[c] and here < -BEHIND * room:
        if not meet(fields, both, c, i, room, x, ax, ay, az, distance, normal, probe):
            return
    elif 2.0 * way >= touch.slim[c] + room and here <= way + room:
        meet(fields, both, c, i, room, x, ax, ay, az, distance, normal, probe)
    depth = room - (distance[i] if not both or abs(here) <= way + room else abs(here))
    if depth < -NEAR * room and not tacks:
        return
    n = count[i]
    count[i] = n + 1
    collider[i, n], depths[i, n] = c, depth
    pulls[i, n] = skin[i, 3] if tacks else 0.0
    for a in range(3):
        normals[i, n, a] = normal[i, a]


@parallel_kernel
def find_planes(fields, touch, skin, w, x, before, planes, distance, normal, probe):  # type: ignore[no-untyped-def]
    """Fill `Planes` for points at x (m, 3) that were at before when the step began.

    distance, normal, probe: float64 (m,), (m, 3) and (m, 3), room to work in.
    """
    count, collider, normals, depths, pulls = planes.many, planes.collider, planes.normal, planes.depth, planes.pull
    for chunk in numba.prange((len(skin) + CHUNK - 1) // CHUNK):
        first = chunk * CHUNK
        last = min(first + CHUNK, len(skin))
        for i in range(first, last):
            count[i] = 0
        for c in range(len(touch.room)):
            end = first
            while end < last:  # what is near comes in runs of neighbours
                begin = _next(True, fields, c, x, before, end, last)
                end = _next(False, fields, c, x, before, begin, last)
                if begin < end:
                    fill_distances(fields, c, x, begin, end, distance, normal)
                    for i in range(begin, end):
                        _meet_one(
                            c, i, fields, touch, skin, w, x, before, count, collider, normals, depths, pulls, distance,
                            normal, probe,
                        )  # fmt: skip


@kernel
def _start(drift, before, i, out):  # type: ignore[no-untyped-def]
    """Fill out (3,) with where a surface has taken what was at before[i]."""
    px, py, pz = before[i, 0] - drift[9], before[i, 1] - drift[10], before[i, 2] - drift[11]
    out[0] = drift[0] * px + drift[3] * py + drift[6] * pz
    out[1] = drift[1] * px + drift[4] * py + drift[7] * pz
    out[2] = drift[2] * px + drift[5] * py + drift[8] * pz


@kernel
def _add_at(i, planes, touch, skin, heavy, had, x, before, first, stiff, force, values):  # type: ignore[no-untyped-def]
    """Add what the planes of point i do; arguments as in `add_planes`."""
    load_before, on_before, stretch_before = had
    slid, pushes, pressed, most = np.empty(3), 0, 0.0, 0.0
    planes.on[i] = -1.0
    for n in range(planes.many[i]):
        c = planes.collider[i, n]
        hold, depth, normal = FIRMNESS * heavy[i], planes.depth[i, n], planes.normal[i, n]
        along = 0.0
        for a in range(3):
            force[i, a] -= planes.pull[i, n] * normal[a]
            along += force[i, a] * normal[a]
        load = (heavy[i] * depth - along) * hold / (hold + heavy[i])
        if depth <= 0.0 and load <= 0.0:
            continue
        pushes += 1
        pressed += max(hold * depth, 0.0)
        load = max(load, load_before[i], 0.0)
        _start(touch.drift[c], before, i, slid)
        along = 0.0
        for a in range(3):
            slid[a] = x[i, a] - slid[a] + (stretch_before[i, a] if np.floor(on_before[i]) == c else 0.0)
            along += slid[a] * normal[a]
        way = 0.0
        for a in range(3):
            slid[a] -= along * normal[a]
            way += slid[a] * slid[a]
        way, rub, drag = np.sqrt(way), hold, hold
        # What stuck is expected to stick on: where it is when a step begins is only guessed.
        stuck = first and on_before[i] == c
        if hold * way > np.sqrt(touch.grip[c] * skin[i, 1]) * load and not stuck:
            drag = np.sqrt(touch.slip[c] * skin[i, 2]) * load / way
            rub = drag if drag > SURE * heavy[i] else 0.0
        if load >= most:
            most, planes.on[i] = load, c if drag == hold else c + 0.5
            for a in range(3):
                planes.stretch[i, a] = slid[a] * min(drag / hold, 1.0)
        for a in range(3):
            force[i, a] += hold * depth * normal[a] - drag * slid[a]
        if stiff:
            for a in range(3):
                for b in range(3):
                    values[i, 4 * a + b] += (hold - rub) * normal[a] * normal[b]
                values[i, 5 * a] += rub
    planes.many[i] = pushes
    planes.bears[i] = pressed


@parallel_kernel
def add_planes(planes, touch, skin, heavy, had, x, before, first, stiff, force, values):  # type: ignore[no-untyped-def]
    """Add the push and friction of all planes to force (m, 3) and, if `stiff`, to the blocks on the diagonal.

    planes.many becomes how many of them push. heavy: float64 (m,), what each point's mass resists in a step, N/m.
    had: planes.bears, on and stretch, as they were when the last step ended.
    first: whether a step begins.
    """
    # The work is in a function of its own: of sums within Numba's parallel loops some are lost.
    for i in numba.prange(len(skin)):
        _add_at(i, planes, touch, skin, heavy, had, x, before, first, stiff, force, values)
