"""The skin: the places on bodies that ask solids how far they are.

A skin point goes with a rigid body, or with up to four particles in given shares (a cloth's
own point, or a place inside of a soft body's tetrahedron). A solid is what answers: a
collider or a rigid body, as one or several fields of signed distance.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, parallel_kernel
from zembrik.core.solver.arrays import CARRIERS
from zembrik.core.solver.rigid import fill_turn

CHUNK = 32  # skin points of one body that are looked at together
SOME = 64  # pairs of chunk and solid that one thread takes at a time

Floats = NDArray[np.float64]
Numbers = NDArray[np.int64]


@numba.njit(inline="always")
def _placed(place, r, turn, x, y, z):  # type: ignore[no-untyped-def]
    """Return where body r's place (…, 7) and turn (9,) put a place of its own."""
    return (
        place[r, 0] + turn[0] * x + turn[1] * y + turn[2] * z,
        place[r, 1] + turn[3] * x + turn[4] * y + turn[5] * z,
        place[r, 2] + turn[6] * x + turn[7] * y + turn[8] * z,
    )


@bare_kernel
def _place_on_collider(place, drift, c, local, i, now, then):  # type: ignore[no-untyped-def]
    """Put skin point i where collider c is and was."""
    m, d, x, y, z = place[c], drift[c], local[i, 0], local[i, 1], local[i, 2]
    for axis in range(3):
        now[i, axis] = m[3 * axis] * x + m[3 * axis + 1] * y + m[3 * axis + 2] * z + m[9 + axis]
    x, y, z = now[i, 0], now[i, 1], now[i, 2]
    for axis in range(3):
        then[i, axis] = d[3 * axis] * x + d[3 * axis + 1] * y + d[3 * axis + 2] * z + d[9 + axis]


@bare_kernel
def _place_chunks(begin, end, skin, solids, fields, rigid, x, before, turn, was):  # type: ignore[no-untyped-def]
    """Place the points of chunks begin .. end - 1."""
    now, then, local, box = skin.now, skin.begin, skin.local, skin.box
    masters, shares, room, radius, axes = skin.masters, skin.shares, skin.room, skin.radius, skin.axes
    for k in range(begin, end):
        for axis in range(3):
            box[k, axis], box[k, 3 + axis] = np.inf, -np.inf
        widest = 0.0
        r = skin.owner[skin.first[k]]
        if r >= 0:
            fill_turn(rigid.place[r, 3:], turn)
            fill_turn(rigid.before[r, 3:], was)
        for i in range(skin.first[k], skin.first[k + 1]):
            widest = max(widest, room[i] + radius[i])
            if r >= 0:
                a, b, c = local[i, 0], local[i, 1], local[i, 2]
                now[i, 0], now[i, 1], now[i, 2] = _placed(rigid.place, r, turn, a, b, c)
                then[i, 0], then[i, 1], then[i, 2] = _placed(rigid.before, r, was, a, b, c)
            elif r < -1:
                _place_on_collider(fields.place, solids.drift, -2 - r, local, i, now, then)
            else:
                for axis in range(3):
                    at, at_before = 0.0, 0.0
                    for j in range(CARRIERS):
                        p, share = masters[i, j], shares[i, j]
                        at += share * x[p, axis]
                        at_before += share * before[p, axis]
                    now[i, axis], then[i, axis] = at, at_before
            for axis in range(3):
                axes[axis, i] = now[i, axis]
                box[k, axis] = min(box[k, axis], now[i, axis], then[i, axis])
                box[k, 3 + axis] = max(box[k, 3 + axis], now[i, axis], then[i, axis])
        skin.widest[k] = widest
        for axis in range(3):
            box[k, axis] -= 1.5 * widest
            box[k, 3 + axis] += 1.5 * widest


@parallel_kernel
def place_skin(skin, solids, fields, rigid, x, before):  # type: ignore[no-untyped-def]
    """Put every skin point where its body is predicted to be and where it was; x, before (n, 3) are the particles.

    The solids know how colliders went, the fields where these are.
    """
    # The work is in a function of its own: of writes to a named tuple's arrays, Numba's loops here would lose some.
    chunks = len(skin.first) - 1
    for lot in numba.prange((chunks + SOME - 1) // SOME):
        begin = np.int64(lot) * SOME
        end = min(begin + SOME, chunks)
        _place_chunks(begin, end, skin, solids, fields, rigid, x, before, np.empty(9), np.empty(9))


@parallel_kernel
def place_solids(solids, fields, rigid):  # type: ignore[no-untyped-def]
    """Put the rigid bodies' fields where the bodies are predicted to be, and note how they went there."""
    count = len(solids.owner)
    for lot in numba.prange((count + SOME - 1) // SOME):
        begin = np.int64(lot) * SOME
        _place_some(begin, min(begin + SOME, count), solids, fields, rigid, np.empty(9), np.empty(9))


@bare_kernel
def _place_some(begin, end, solids, fields, rigid, turn, was):  # type: ignore[no-untyped-def]
    for s in range(begin, end):
        r = solids.owner[s]
        if r < 0:
            f = solids.span[s, 0]
            for axis in range(3):
                solids.box[s, axis], solids.box[s, 3 + axis] = fields.low[f, axis], fields.high[f, axis]
            continue
        fill_turn(rigid.place[r, 3:], turn)
        fill_turn(rigid.before[r, 3:], was)
        place = rigid.place[r]
        pose = solids.pose[s]
        way, turned, far = 0.0, 0.0, 0.0
        last, last_turned = 0.0, 0.0  # since it was looked at last
        for k in range(9):
            turned += (turn[k] - was[k]) ** 2
            last_turned += (turn[k] - pose[k]) ** 2
            pose[k] = turn[k]
        for k in range(3):
            way += (place[k] - rigid.before[r, k]) ** 2
            last += (place[k] - pose[9 + k]) ** 2
            pose[9 + k] = place[k]
            far += max(abs(solids.local_box[s, k]), abs(solids.local_box[s, 3 + k])) ** 2
        pose[12] = np.sqrt(way) + np.sqrt(turned * far)
        solids.gone[s] += np.sqrt(last) + np.sqrt(last_turned * far)
        for f in range(solids.span[s, 0], solids.span[s, 1]):
            local, at = solids.local_field[f], fields.place[f]
            for i in range(3):
                for j in range(3):
                    at[3 * i + j] = (
                        turn[3 * i] * local[j] + turn[3 * i + 1] * local[3 + j] + turn[3 * i + 2] * local[6 + j]
                    )
                at[9 + i] = (
                    place[i] + turn[3 * i] * local[9] + turn[3 * i + 1] * local[10] + turn[3 * i + 2] * local[11]
                )
        drift = solids.drift[s]
        for i in range(3):
            for j in range(3):
                drift[3 * i + j] = (
                    was[3 * i] * turn[3 * j] + was[3 * i + 1] * turn[3 * j + 1] + was[3 * i + 2] * turn[3 * j + 2]
                )
            drift[9 + i] = rigid.before[r, i]
        for i in range(3):
            drift[9 + i] -= drift[3 * i] * place[0] + drift[3 * i + 1] * place[1] + drift[3 * i + 2] * place[2]
        box = solids.local_box[s]
        for i in range(3):
            middle, half, then, half_then = place[i], 0.0, rigid.before[r, i], 0.0
            for j in range(3):
                m, h = 0.5 * (box[3 + j] + box[j]), 0.5 * (box[3 + j] - box[j])
                middle += turn[3 * i + j] * m
                half += abs(turn[3 * i + j]) * h
                then += was[3 * i + j] * m
                half_then += abs(was[3 * i + j]) * h
            solids.box[s, i] = min(middle - half, then - half_then) - solids.room[s]
            solids.box[s, 3 + i] = max(middle + half, then + half_then) + solids.room[s]
