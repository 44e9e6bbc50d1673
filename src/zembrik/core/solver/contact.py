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
from zembrik.core.lanes import WIDTH, bits, choose, lane, root, smaller
from zembrik.core.lanes_memory import column4, four, point, points4, put, values4

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


@numba.njit(inline="always")
def _began(drift, at):  # type: ignore[no-untyped-def]
    """Return where a point was at the substep's start, as seen from where the collider is now; of numbers or lanes."""
    px, py, pz = at[0] - drift[9], at[1] - drift[10], at[2] - drift[11]
    return (
        drift[0] * px + drift[3] * py + drift[6] * pz,
        drift[1] * px + drift[4] * py + drift[7] * pz,
        drift[2] * px + drift[5] * py + drift[8] * pz,
    )


@numba.njit(inline="always")
def _moved_out(drift, at, start, normal, depth, load, grip, slip):  # type: ignore[no-untyped-def]
    """Return where a point comes to that is so deep (m) and pressed so much (m), of numbers or lanes.

    `start` is where it was when the substep began; grip and slip are its frictions, squared.
    """
    nx, ny, nz = normal
    px, py, pz = at[0] + depth * nx, at[1] + depth * ny, at[2] + depth * nz
    # The way along the surface, less the surface's own.
    sx = drift[0] * px + drift[1] * py + drift[2] * pz + drift[9] - start[0]
    sy = drift[3] * px + drift[4] * py + drift[5] * pz + drift[10] - start[1]
    sz = drift[6] * px + drift[7] * py + drift[8] * pz + drift[11] - start[2]
    sn = sx * nx + sy * ny + sz * nz
    sx, sy, sz = sx - sn * nx, sy - sn * ny, sz - sn * nz
    slid = root(sx * sx + sy * sy + sz * sz)
    back = choose(slid > root(grip) * load, smaller(root(slip) * load / slid, 1.0), 1.0)
    return px - back * sx, py - back * sy, pz - back * sz


@numba.njit(inline="always")
def _push_four(c, i, open_sheet, touch, skin, w, x, before, pressed, distance, normal):  # type: ignore[no-untyped-def]
    """Move points i .. i + 3 out of collider c, and return in four bits which are not as simple as that."""
    drift, (a, b, d, e) = touch.drift[c], four(i)
    room, here = touch.room[c] + column4(skin, i, 0), values4(distance, i)
    at, start = points4(x, a, b, d, e), points4(before, a, b, d, e)
    began = _began(drift, start)
    gx, gy, gz = at[0] - began[0], at[1] - began[1], at[2] - began[2]
    square_way = gx * gx + gy * gy + gz * gz
    gap, way, tack = here - room, root(square_way), bits(column4(skin, i, 3) > 0.0)
    free = bits(gap > 0.0) & bits(gap * gap > square_way) & ~tack
    if open_sheet:
        far = bits(here < -BEHIND * room)
    else:
        far = bits(2.0 * way >= touch.slim[c] + room) & bits(here <= way + room)
    depth = room - here
    held, hard = bits(values4(w, i) <= 0.0), (far | tack) & ~free
    plain = bits(depth > 0.0) & ~(free | held | hard)
    if plain:
        px, py, pz = _moved_out(
            drift, at, start, points4(normal, a, b, d, e), depth, depth, touch.grip[c] * column4(skin, i, 1),
            touch.slip[c] * column4(skin, i, 2),
        )  # fmt: skip
        for n in range(WIDTH):
            if plain >> n & 1:
                pressed[i + n] = 1
                x[i + n, 0], x[i + n, 1], x[i + n, 2] = lane(px, n), lane(py, n), lane(pz, n)
    return hard & ~held


@bare_kernel
def _push_out(c, first, last, fields, touch, skin, w, x, before, square, pressed, distance, normal, probe):  # type: ignore[no-untyped-def]
    """Move points first .. last - 1 out of collider c, whose distances and normals are given."""
    for i in range(first, last, WIDTH):
        hard = 15
        if i + WIDTH <= last and not touch.both[c]:
            hard = _push_four(c, i, fields.open[c], touch, skin, w, x, before, pressed, distance, normal)
        for n in range(min(WIDTH, last - i) if hard else 0):
            if hard >> n & 1:
                _push_one(
                    c, i + n, fields, touch, skin, w, x, before, square, pressed, distance, normal, probe
                )  # fmt: skip


@bare_kernel
def _push_one(c, i, fields, touch, skin, w, x, before, square, pressed, distance, normal, probe):  # type: ignore[no-untyped-def]
    """The same of one point."""
    drift, both = touch.drift[c], touch.both[c]
    if w[i] == 0.0:
        return
    room, here = touch.room[c] + skin[i, 0], distance[i]
    ax, ay, az = _began(drift, point(before, i))
    square_way = (x[i, 0] - ax) ** 2 + (x[i, 1] - ay) ** 2 + (x[i, 2] - az) ** 2
    gap = (abs(here) if both else here) - room
    if gap > 0.0 and gap * gap > square_way and not (skin[i, 3] > 0.0 and gap < skin[i, 4]):
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
    load = depth
    if skin[i, 3] > 0.0 and -depth < skin[i, 4]:
        pull = skin[i, 3] * w[i] * square
        load = depth + pull
        if load <= 0.0:  # it is drawn nearer, but does not touch yet
            for axis in range(3):
                x[i, axis] = x[i, axis] - pull * normal[i, axis]
    if load <= 0.0:
        return
    pressed[i] = 1
    grip, slip = touch.grip[c] * skin[i, 1], touch.slip[c] * skin[i, 2]
    put(x, i, _moved_out(drift, point(x, i), point(before, i), point(normal, i), depth, load, grip, slip))


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
