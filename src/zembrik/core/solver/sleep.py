"""Sleeping: bodies that touch one another fall asleep together, once none of them has got anywhere for a while.

What counts is how far a body is from where it became calm, not how fast it is: in a large heap there is
always one that trembles a little without going anywhere. For its sake others need not stay awake for ever: who has been
calm for three times as long falls asleep alone, and what leaves it asleep is slower than WAKES times calm.

Rest is relative to what a body touches. Whatever touches something that moves by a track, or that such a thing carries,
is awake and stays so; when a collider or a driven body starts, stops or is released, everything is woken. What touches
nothing flies or hangs, and is calm only where it practically stands.
"""

from __future__ import annotations

import numpy as np

from zembrik.core.compiled import kernel
from zembrik.core.solver.arrays import LOAD

PATIENCE_S = 0.5  # how long all of a group must have been calm
ALONE_S = 1.5  # how long one that touches others which are not
WAKES = 2.0  # times the speed of calm, from which on one wakes what it presses on
CALM_SIZES_PER_S = 0.1  # a body that gets on by less than this share of its size a second is calm …
CALM_LEAST_M_PER_S, CALM_MOST_M_PER_S = 0.002, 0.02  # … within these bounds
CALM_FREE_M_PER_S = 1e-4  # of what touches nothing: it may drift, or turn round at the end of a swing


@kernel
def _root(parent, r):  # type: ignore[no-untyped-def]
    while parent[r] != r:
        parent[r] = parent[parent[r]]
        r = parent[r]
    return r


@kernel
def _calm_speed(size):  # type: ignore[no-untyped-def]
    """Return the speed (m/s) below which a body of that size (m) gets nowhere."""
    return min(max(CALM_SIZES_PER_S * size, CALM_LEAST_M_PER_S), CALM_MOST_M_PER_S)


@kernel
def _hurries(rigid, r, size):  # type: ignore[no-untyped-def]
    """Tell whether a body is awake and much faster than calm, or driven and moves at all."""
    if rigid.asleep[r]:
        return False
    v = rigid.speed
    way = np.sqrt(v[r, 0] ** 2 + v[r, 1] ** 2 + v[r, 2] ** 2)
    turn = np.sqrt(v[r, 3] ** 2 + v[r, 4] ** 2 + v[r, 5] ** 2)
    return way + 0.5 * turn * size[r] > (0.0 if rigid.w[r] == 0.0 else WAKES * _calm_speed(size[r]))


@kernel
def mark_carried(contacts, joined, rigid, moving, carried):  # type: ignore[no-untyped-def]
    """Fill carried bool (R,): bodies that touch or hang on what moves by a track, or on one of these.

    `moving` bool (S,) tells of the solids, `joined` as in `fall_asleep`. What is near enough to have a contact counts
    as touching.
    """
    carried[:] = False
    for j in range(len(joined)):
        for side in range(2):
            a, b = joined[j, side], joined[j, 1 - side]
            if a >= 0 and b >= 0 and rigid.w[a] > 0.0 and rigid.w[b] == 0.0 and rigid.speed[b].any():
                carried[a] = True
    for c in range(len(contacts.a)):
        a, b, moves = contacts.a[c], contacts.b[c], moving[contacts.solid[c]]
        if a >= 0 and (moves and (b < 0 or rigid.w[b] == 0.0)):
            carried[a] = True
        elif a >= 0 and b >= 0 and rigid.w[a] == 0.0 and rigid.speed[a].any():
            carried[b] = True
    spreads = carried.any()
    while spreads:
        spreads = False
        for c in range(len(contacts.a)):
            a, b = contacts.a[c], contacts.b[c]
            if a >= 0 and b >= 0 and carried[a] != carried[b] and rigid.w[a] > 0.0 and rigid.w[b] > 0.0:
                carried[a] = carried[b] = spreads = True
        for j in range(len(joined)):
            a, b = joined[j, 0], joined[j, 1]
            if a >= 0 and b >= 0 and carried[a] != carried[b] and rigid.w[a] > 0.0 and rigid.w[b] > 0.0:
                carried[a] = carried[b] = spreads = True


@kernel
def wake(contacts, joined, rigid, size, moving, carried):  # type: ignore[no-untyped-def]
    """Wake every sleeping body that something presses on which gets anywhere; what only trembles leaves it asleep.

    Bodies that a joint joins wake together. `size` (R,) holds the bodies' extents, metres; the others, of which
    `carried` is filled, are as in `mark_carried`.
    """
    mark_carried(contacts, joined, rigid, moving, carried)
    for r in range(len(carried)):
        if carried[r]:
            rigid.asleep[r], rigid.still[r] = False, 0.0
    for c in range(len(contacts.a)):
        a, b = contacts.a[c], contacts.b[c]
        if contacts.row[c, LOAD] <= 0.0:
            continue
        if a >= 0 and rigid.asleep[a] and b >= 0 and _hurries(rigid, b, size):
            rigid.asleep[a], rigid.still[a] = False, 0.0
        elif b >= 0 and rigid.asleep[b] and (a < 0 or _hurries(rigid, a, size)):
            rigid.asleep[b], rigid.still[b] = False, 0.0
        if a < 0 and b >= 0:
            rigid.still[b] = 0.0  # what cloth or a soft body moves does not fall asleep
    woken = True
    while woken:
        woken = False
        for j in range(len(joined)):
            a, b = joined[j, 0], joined[j, 1]
            if a >= 0 and b >= 0 and rigid.w[a] > 0.0 and rigid.w[b] > 0.0 and rigid.asleep[a] != rigid.asleep[b]:
                rigid.asleep[a] = rigid.asleep[b] = False
                rigid.still[a] = rigid.still[b] = 0.0
                woken = True


@kernel
def _touching(contacts, count):  # type: ignore[no-untyped-def]
    """Return bool (count,): the bodies that a contact bears on."""
    touched = np.zeros(count, np.bool_)
    for c in range(len(contacts.a)):
        if contacts.row[c, LOAD] > 0.0:
            if contacts.a[c] >= 0:
                touched[contacts.a[c]] = True
            if contacts.b[c] >= 0:
                touched[contacts.b[c]] = True
    return touched


@kernel
def fall_asleep(rigid, size, calm_place, contacts, joined, seconds):  # type: ignore[no-untyped-def]
    """Let groups of calm bodies fall asleep at the end of a frame.

    Args:
        rigid: the bodies; `still` and `asleep` change.
        size: float64 (R,), each body's extent, metres.
        calm_place: float64 (R, 7), where each became calm; set to where it is when it has left there.
        contacts: of the last substep.
        joined: int64 (J, 2), the bodies that joints join, -1 for the world.
        seconds: the frame's length.
    """
    count = len(rigid.w)
    parent = np.arange(count)
    touched = _touching(contacts, count)
    for r in range(count):
        way, turn = 0.0, 0.0
        for k in range(3):
            way += (rigid.place[r, k] - calm_place[r, k]) ** 2
        for k in range(4):
            turn += rigid.place[r, 3 + k] * calm_place[r, 3 + k]
        turned = 2.0 * np.sqrt(max(1.0 - turn * turn, 0.0))
        gone = np.sqrt(way) + 0.5 * turned * size[r]
        if gone < (_calm_speed(size[r]) if touched[r] else CALM_FREE_M_PER_S) * PATIENCE_S:
            rigid.still[r] += seconds
            continue
        rigid.still[r] = 0.0
        for k in range(7):
            calm_place[r, k] = rigid.place[r, k]
    for c in range(len(contacts.a)):
        a, b = contacts.a[c], contacts.b[c]
        if contacts.row[c, LOAD] > 0.0 and a < 0 and b >= 0:
            rigid.still[b] = 0.0
        if contacts.row[c, LOAD] > 0.0 and a >= 0 and b >= 0 and rigid.w[a] > 0.0 and rigid.w[b] > 0.0:
            parent[_root(parent, a)] = _root(parent, b)
    for j in range(len(joined)):
        a, b = joined[j, 0], joined[j, 1]
        if a >= 0 and b >= 0 and rigid.w[a] > 0.0 and rigid.w[b] > 0.0:
            parent[_root(parent, a)] = _root(parent, b)
    least, jointed = np.full(count, np.inf), np.zeros(count, np.bool_)
    for j in range(len(joined)):
        for side in range(2):
            if joined[j, side] >= 0:
                jointed[joined[j, side]] = True
    for r in range(count):
        if rigid.w[r] > 0.0 and not rigid.asleep[r]:
            root = _root(parent, r)
            least[root] = min(least[root], rigid.still[r])
    for r in range(count):
        calm = least[_root(parent, r)] >= PATIENCE_S or (rigid.still[r] >= ALONE_S and not jointed[r])
        if rigid.w[r] > 0.0 and not rigid.asleep[r] and calm:
            rigid.asleep[r] = True
            for k in range(6):
                rigid.speed[r, k] = 0.0
