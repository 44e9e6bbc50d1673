"""The contacts of skin points with solids: gathered as one table, a row each (`arrays.Contacts`).

Within a substep bodies move little, so a contact keeps its place and direction. Both bodies'
resistance there is 1/m + (r×n)·I⁻¹(r×n) (Müller et al. 2020, section 3.3), for all directions n at once the matrix
1/m − [r]I⁻¹[r], with [r] for the cross product (Mirtich 1996). `pressing.py`
solves them. Contacts of one chunk with one solid come one after the other, as a run.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, kernel, parallel_kernel
from zembrik.core.solver.arrays import (
    ARM_A,
    ARM_B,
    BOUNCE,
    CARRIERS,
    DRAG,
    GAP,
    GIVE,
    GRIP,
    MEETS,
    NORMAL,
    ROOM,
    SLID,
    SLIP,
    WEIGHT,
    WIDTH,
    Contacts,
    Rigid,
    Skin,
    Slots,
    Solids,
)  # fmt: skip
from zembrik.core.solver.pressing import moved_at
from zembrik.core.solver.skin import SOME

Floats = NDArray[np.float64]
Numbers = NDArray[np.int64]


def make_contacts(count: int) -> Contacts:
    """Return room for so many."""
    point, solid, a, b = (np.zeros(count, np.int64) for _ in range(4))
    return Contacts(point, solid, a, b, np.zeros((count, WIDTH)))


def no_contacts() -> Contacts:
    """Return none."""
    return make_contacts(0)


@bare_kernel
def _skin_weight(masters, shares, w, i):  # type: ignore[no-untyped-def]
    """Return the inverse mass (1/kg) of a skin point that goes with particles."""
    total = 0.0
    for j in range(CARRIERS):
        total += shares[i, j] * shares[i, j] * w[masters[i, j]]
    return total


@bare_kernel
def _drifted(drift, s, x, y, z):  # type: ignore[no-untyped-def]
    """Return where solid s carried a place from, that is at x, y, z now."""
    return (
        drift[s, 0] * x + drift[s, 1] * y + drift[s, 2] * z + drift[s, 9],
        drift[s, 3] * x + drift[s, 4] * y + drift[s, 5] * z + drift[s, 10],
        drift[s, 6] * x + drift[s, 7] * y + drift[s, 8] * z + drift[s, 11],
    )


@bare_kernel
def _fill_some(begin, end, start, pairs, slots, skin, solids, rigid, w, dt, contacts):  # type: ignore[no-untyped-def]
    """Fill the rows of the contacts of pairs begin .. end - 1."""
    # One long function by index: handing so many arrays on costs more than what a row takes.
    point, solid, of_a, of_b, row = contacts.point, contacts.solid, contacts.a, contacts.b, contacts.row
    filled, places, normal, gap = slots.filled, slots.point, slots.normal, slots.gap
    now, was, room, grip, slip, bounce = skin.now, skin.begin, skin.room, skin.grip, skin.slip, skin.bounce
    masters, shares, radii, owner, owner_s = skin.masters, skin.shares, skin.radius, skin.owner, solids.owner
    room_s, grip_s, slip_s, bounce_s, drift = solids.room, solids.grip, solids.slip, solids.bounce, solids.drift
    place, mass, asleep, speed, turning = rigid.place, rigid.w, rigid.asleep, rigid.speed_before, rigid.turning
    for p in range(begin, end):
        s, own = pairs[p, 1], skin.solid[pairs[p, 0]]
        for q in range(filled[p]):
            c, at = start[p] + q, slots.first[p] + q
            i, nx, ny, nz, off = places[at], normal[at, 0], normal[at, 1], normal[at, 2], gap[at]
            a, radius, one, other = owner[i], radii[i], own, s
            to_a, to_b = radius, off  # from the point to the places of contact, against the normal
            if a < -1:  # a collider's point met a rigid body: that is the first side then, whose way out it is
                a, one, other, nx, ny, nz, to_a, to_b = owner_s[s], s, own, -nx, -ny, -nz, -off, -radius
            b = owner_s[other]
            point[c], solid[c], of_a[c], of_b[c] = i, other, a, b
            for k in range(WIDTH):
                row[c, k] = 0.0
            row[c, NORMAL], row[c, NORMAL + 1], row[c, NORMAL + 2] = nx, ny, nz
            row[c, GAP], row[c, ROOM] = off - radius, room[i] + room_s[s]
            row[c, GRIP] = np.sqrt(grip[i] * grip_s[s])
            row[c, SLIP] = np.sqrt(slip[i] * slip_s[s])
            row[c, BOUNCE] = max(bounce[i], bounce_s[s])
            # The places of contact on both.
            ax, ay, az = now[i, 0] - to_a * nx, now[i, 1] - to_a * ny, now[i, 2] - to_a * nz
            bx, by, bz = now[i, 0] - to_b * nx, now[i, 1] - to_b * ny, now[i, 2] - to_b * nz
            sx, sy, sz = ax - was[i, 0], ay - was[i, 1], az - was[i, 2]
            vx, vy, vz = 0.0, 0.0, 0.0
            if a >= 0:
                fx, fy, fz = _drifted(drift, one, ax, ay, az)
                sx, sy, sz = ax - fx, ay - fy, az - fz
                for k in range(3):
                    row[c, ARM_A + k] = (ax if k == 0 else ay if k == 1 else az) - place[a, k]
                vx, vy, vz = moved_at(speed, a, row[c, ARM_A], row[c, ARM_A + 1], row[c, ARM_A + 2])
            fx, fy, fz = _drifted(drift, other, bx, by, bz)
            tx, ty, tz = bx - fx, by - fy, bz - fz
            row[c, SLID], row[c, SLID + 1], row[c, SLID + 2] = sx - tx, sy - ty, sz - tz
            if b >= 0:
                for k in range(3):
                    row[c, ARM_B + k] = (bx if k == 0 else by if k == 1 else bz) - place[b, k]
            if b >= 0 and mass[b] > 0.0:
                ux, uy, uz = moved_at(speed, b, row[c, ARM_B], row[c, ARM_B + 1], row[c, ARM_B + 2])
            else:
                ux, uy, uz = tx / dt, ty / dt, tz / dt
                row[c, DRAG], row[c, DRAG + 1], row[c, DRAG + 2] = ux, uy, uz
            row[c, MEETS] = nx * (vx - ux) + ny * (vy - uy) + nz * (vz - uz)
            weight = 0.0 if a >= 0 else _skin_weight(masters, shares, w, i)
            xx, xy, xz, yy, yz, zz = weight, 0.0, 0.0, weight, 0.0, weight
            for side in range(2):
                r, arm = (a, ARM_A) if side == 0 else (b, ARM_B)
                if r >= 0 and mass[r] > 0.0 and not asleep[r]:
                    x, y, z = row[c, arm], row[c, arm + 1], row[c, arm + 2]
                    ia, ib, ic = turning[r, 0], turning[r, 1], turning[r, 2]
                    ie, ig, ii = turning[r, 4], turning[r, 5], turning[r, 8]
                    # Along each axis: the turn by a push there, and what that moves the place.
                    tx, ty, tz = ib * z - ic * y, ie * z - ig * y, ig * z - ii * y
                    xx, xy, xz = xx + mass[r] + ty * z - tz * y, xy + tz * x - tx * z, xz + tx * y - ty * x
                    tx, ty, tz = ic * x - ia * z, ig * x - ib * z, ii * x - ic * z
                    yy, yz = yy + mass[r] + tz * x - tx * z, yz + tx * y - ty * x
                    tx, ty = ia * y - ib * x, ib * y - ie * x
                    zz += mass[r] + tx * y - ty * x
            row[c, GIVE], row[c, GIVE + 1], row[c, GIVE + 2] = xx, xy, xz
            row[c, GIVE + 3], row[c, GIVE + 4], row[c, GIVE + 5] = yy, yz, zz
            row[c, WEIGHT] = (
                nx * (xx * nx + xy * ny + xz * nz) + ny * (xy * nx + yy * ny + yz * nz)
                + nz * (xz * nx + yz * ny + zz * nz)
            )  # fmt: skip


@parallel_kernel
def _fill(pairs, start, slots, skin, solids, rigid, w, dt, contacts):  # type: ignore[no-untyped-def]
    for turn in numba.prange((len(pairs) + SOME - 1) // SOME):
        begin = np.int64(turn) * SOME
        end = min(begin + SOME, len(pairs))
        if start[begin] < start[end]:
            _fill_some(begin, end, start, pairs, slots, skin, solids, rigid, w, dt, contacts)


def gather(
    pairs: Numbers, slots: Slots, skin: Skin, solids: Solids, rigid: Rigid, w: Floats, dt: float, room: Contacts
) -> tuple[Contacts, Contacts]:
    """Return the contacts of all pairs, in the order of the pairs, and the room they are written to.

    They take the place of those that were in that room; it is made anew when there are more than it holds.
    """
    start = np.zeros(len(pairs) + 1, np.int64)
    np.cumsum(slots.filled[: len(pairs)], out=start[1:])
    count = int(start[-1])
    if count > len(room.a):
        room = make_contacts(count + count // 4)
    contacts = Contacts(room.point[:count], room.solid[:count], room.a[:count], room.b[:count], room.row[:count])
    _fill(pairs, start, slots, skin, solids, rigid, w, dt, contacts)
    return contacts, room


@kernel
def runs_of(contacts):  # type: ignore[no-untyped-def]
    """Return int64 (runs + 1,), where each run of contacts of the same two sides begins."""
    of_a, solid = contacts.a, contacts.solid
    starts, count, n = np.zeros(len(of_a) + 1, np.int64), 0, len(of_a)
    for c in range(1, n + 1):
        if c == n or of_a[c] != of_a[c - 1] or solid[c] != solid[c - 1]:
            count += 1
            starts[count] = c
    return starts[: count + 1]
