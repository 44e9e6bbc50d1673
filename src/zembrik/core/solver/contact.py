"""Points against colliders: keep the distance, pass through nothing, and Coulomb friction.

A point whose signed distance to a collider is less than the sum of both thicknesses is
moved out along the collider's normal. What it slid along the surface in this substep,
the surface's own way taken off, is then taken back, at most friction times the push
(position-based friction, Macklin et al. 2014, section 6.1): less than that sticks, more slides.
Tack draws a point that is close towards the surface with a force of its own; what it adds to the
push adds to the friction.

A point that went further than a collider is wide may be on its other side already. Its way
relative to the collider is followed from where it began by steps of the distance itself
(conservative advancement, as sphere tracing: Hart 1996); where it first touches, it is held.

An open sheet that is touched from its outside has no inside. What is behind it, deeper than
BEHIND rooms, and did not come through it in this very substep, is free there.
"""

from __future__ import annotations

import numba
import numpy as np

from zembrik.core.compiled import bare_kernel, parallel_kernel
from zembrik.core.distance.field import CHUNK, chunk_within, fill_distances

BEHIND = 3.0
MOST_STEPS = 64  # of following one way; a way that grazes gives up there, and no contact is found


@bare_kernel
def meet(fields, both, c, i, room, x, ax, ay, az, distance, normal, probe):  # type: ignore[no-untyped-def]
    """Correct distance[i] and normal[i] of a point that came from the other side, or went through; tell if it did.

    (ax, ay, az) is where the point began, as seen from where collider c is now.
    """
    wx, wy, wz = x[i, 0] - ax, x[i, 1] - ay, x[i, 2] - az
    way = np.sqrt(wx * wx + wy * wy + wz * wz)
    here, nx, ny, nz = distance[i], normal[i, 0], normal[i, 1], normal[i, 2]
    probe[i, 0], probe[i, 1], probe[i, 2] = ax, ay, az
    fill_distances(fields, c, probe, i, i + 1, distance, normal)
    side = -1.0 if both and distance[i] < 0.0 else 1.0
    gone = 0.0
    for _ in range(MOST_STEPS):
        free = side * distance[i] - 0.5 * room  # what it may go before anything can be met
        if gone >= way or way <= 0.0:
            break
        if free < 1e-5:
            if gone == 0.0 and side * distance[i] < 0.0:
                break  # it began inside: the way tells nothing
            # Held at the plane of the surface where it was met.
            mx, my, mz = side * normal[i, 0], side * normal[i, 1], side * normal[i, 2]
            at = side * distance[i]
            rest = (x[i, 0] - probe[i, 0]) * mx + (x[i, 1] - probe[i, 1]) * my + (x[i, 2] - probe[i, 2]) * mz
            if rest < 0.0:
                distance[i] = at + rest
                normal[i, 0], normal[i, 1], normal[i, 2] = mx, my, mz
                return True
            gone += 0.02 * way  # it leaves again: go on a little
        gone = min(gone + max(free, 0.0), way)
        t = gone / way
        probe[i, 0], probe[i, 1], probe[i, 2] = ax + t * wx, ay + t * wy, az + t * wz
        fill_distances(fields, c, probe, i, i + 1, distance, normal)
    distance[i] = side * here
    normal[i, 0], normal[i, 1], normal[i, 2] = side * nx, side * ny, side * nz
    return False


@bare_kernel
def _push_out(c, first, last, fields, touch, skin, w, x, before, square, pressed, distance, normal, probe):  # type: ignore[no-untyped-def]
    """Move points first .. last - 1 out of collider c, whose distances and normals are given."""
    drift, both = touch.drift[c], touch.both[c]
    room_c, grip_c, slip_c, slim = touch.room[c], touch.grip[c], touch.slip[c], touch.slim[c]
    for i in range(first, last):
        if w[i] == 0.0:
            continue
        room = room_c + skin[i, 0]
        # Where the point began, as seen from where the collider is now.
        px, py, pz = before[i, 0] - drift[9], before[i, 1] - drift[10], before[i, 2] - drift[11]
        ax = drift[0] * px + drift[3] * py + drift[6] * pz
        ay = drift[1] * px + drift[4] * py + drift[7] * pz
        az = drift[2] * px + drift[5] * py + drift[8] * pz
        square_way = (x[i, 0] - ax) ** 2 + (x[i, 1] - ay) ** 2 + (x[i, 2] - az) ** 2
        here = distance[i]
        gap = (abs(here) if both else here) - room
        if gap > 0.0 and gap * gap > square_way and not (skin[i, 3] > 0.0 and gap < skin[i, 4]):
            continue  # free, and so was all of its way
        way = np.sqrt(square_way)
        if both:
            if abs(here) <= way + room:
                meet(fields, both, c, i, room, x, ax, ay, az, distance, normal, probe)
        elif fields.open[c] and here < -BEHIND * room:
            if not meet(fields, both, c, i, room, x, ax, ay, az, distance, normal, probe):
                continue
        elif 2.0 * way >= slim + room and here <= way + room:
            meet(fields, both, c, i, room, x, ax, ay, az, distance, normal, probe)
        depth = room - (distance[i] if not both or abs(here) <= way + room else abs(here))
        nx, ny, nz = normal[i, 0], normal[i, 1], normal[i, 2]
        load = depth
        if skin[i, 3] > 0.0 and -depth < skin[i, 4]:
            pull = skin[i, 3] * w[i] * square
            load = depth + pull
            if load <= 0.0:  # it is drawn nearer, but does not touch yet
                x[i, 0], x[i, 1], x[i, 2] = x[i, 0] - pull * nx, x[i, 1] - pull * ny, x[i, 2] - pull * nz
        if load <= 0.0:
            continue
        pressed[i] = 1
        px, py, pz = x[i, 0] + depth * nx, x[i, 1] + depth * ny, x[i, 2] + depth * nz
        # The way along the surface, less the surface's own.
        sx = drift[0] * px + drift[1] * py + drift[2] * pz + drift[9] - before[i, 0]
        sy = drift[3] * px + drift[4] * py + drift[5] * pz + drift[10] - before[i, 1]
        sz = drift[6] * px + drift[7] * py + drift[8] * pz + drift[11] - before[i, 2]
        sn = sx * nx + sy * ny + sz * nz
        sx, sy, sz = sx - sn * nx, sy - sn * ny, sz - sn * nz
        slid = np.sqrt(sx * sx + sy * sy + sz * sz)
        if slid > 0.0:
            if slid > np.sqrt(grip_c * skin[i, 1]) * load:
                back = min(np.sqrt(slip_c * skin[i, 2]) * load / slid, 1.0)
            else:
                back = 1.0
            px -= back * sx
            py -= back * sy
            pz -= back * sz
        x[i, 0], x[i, 1], x[i, 2] = px, py, pz


@parallel_kernel
def solve_contacts(fields, touch, skin, w, x, before, square, pressed, distance, normal, probe):  # type: ignore[no-untyped-def]
    """Move points out of all colliders, in place.

    Args:
        fields, touch: the colliders, see `distance.field.Fields` and `colliders.Touch`.
        skin: float64 (m, 5), see `world.World`: the points that meet colliders here are the first m.
        w: float64 (n,), inverse masses, 1/kg.
        x, before: float64 (n, 3), places now and at the substep's start, metres.
        square: for tack, the square of the substep in its first pass, s², and 0 in all others.
        pressed: int32 (n,), becomes 1 where a point was moved out, else 0.
        distance, normal, probe: float64 (n,), (n, 3) and (n, 3), room to work in.
    """
    for chunk in numba.prange((len(skin) + CHUNK - 1) // CHUNK):
        first = chunk * CHUNK
        last = min(first + CHUNK, len(skin))
        for i in range(first, last):
            pressed[i] = 0
        for c in range(len(touch.room)):
            end = first
            while end < last:  # what is near comes in runs of neighbours
                begin = _next(True, fields, c, x, before, end, last)
                end = _next(False, fields, c, x, before, begin, last)
                if begin < end:
                    fill_distances(fields, c, x, begin, end, distance, normal)
                    _push_out(
                        c, begin, end, fields, touch, skin, w, x, before, square, pressed, distance, normal, probe
                    )


@bare_kernel
def _next(near, fields, c, x, before, first, last):  # type: ignore[no-untyped-def]
    """Return the first of points first .. last - 1 whose way meets collider c's box, or does not; `last` if none."""
    low, high = fields.low, fields.high
    for i in range(first, last):
        off = (
            max(x[i, 0], before[i, 0]) < low[c, 0]
            or min(x[i, 0], before[i, 0]) > high[c, 0]
            or max(x[i, 1], before[i, 1]) < low[c, 1]
            or min(x[i, 1], before[i, 1]) > high[c, 1]
            or max(x[i, 2], before[i, 2]) < low[c, 2]
            or min(x[i, 2], before[i, 2]) > high[c, 2]
        )
        if off != near:
            return i
    return last


@parallel_kernel
def measure_depth(fields, touch, room_of, places, depth, distance, normal):  # type: ignore[no-untyped-def]
    """Fill depth (m,) with how far each of places (m, 3) is within the kept room, metres; 0 where it is free.

    `room_of` (m,) is the thickness of the body each place belongs to; `distance` (m,) and
    `normal` (m, 3) are room to work in.
    """
    for chunk in numba.prange((len(places) + CHUNK - 1) // CHUNK):
        first = chunk * CHUNK
        last = min(first + CHUNK, len(places))
        for i in range(first, last):
            depth[i] = 0.0
        for c in range(len(touch.room)):
            if chunk_within(fields.low[c], fields.high[c], places, first, last):
                fill_distances(fields, c, places, first, last, distance, normal)
                for i in range(first, last):
                    off, room = abs(distance[i]) if touch.both[c] else distance[i], touch.room[c] + room_of[i]
                    if not fields.open[c] or off >= -BEHIND * room:
                        depth[i] = max(depth[i], room - off)
