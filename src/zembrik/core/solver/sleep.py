"""Sleeping: bodies that touch one another fall asleep together, once none of them has got anywhere for a while.

What counts is how far a body is from where it became calm, not how fast it is: in a large heap there is
always one that trembles a little without going anywhere. For its sake others need not stay awake for ever: who has been
calm for three times as long falls asleep alone, and what leaves it asleep is slower than WAKES times calm.
"""

from __future__ import annotations

import numpy as np

from zembrik.core.compiled import kernel
from zembrik.core.solver.arrays import LOAD

STOPS_RAD_PER_S2 = 0.3
RESISTANCE_PER_S = 8.0  # how fast the turning of what hardly moves dies
PATIENCE_S = 0.5  # how long all of a group must have been calm
ALONE_S = 1.5  # how long one that touches others which are not
WAKES = 2.0  # times the speed of calm, from which on one wakes what it presses on
CALM_SIZES_PER_S = 0.1  # a body that gets on by less than this share of its size a second is calm …
CALM_LEAST_M_PER_S, CALM_MOST_M_PER_S = 0.002, 0.02  # … within these bounds


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
def wake(contacts, rigid, size):  # type: ignore[no-untyped-def]
    """Wake every sleeping body that something presses on which gets anywhere; what only trembles leaves it asleep.

    `size` (R,) holds the bodies' extents, metres.
    """
    for c in range(len(contacts.a)):
        a, b = contacts.a[c], contacts.b[c]
        if contacts.row[c, LOAD] <= 0.0:
            continue
        if a >= 0 and rigid.asleep[a] and (b < 0 or _hurries(rigid, b, size)):
            rigid.asleep[a], rigid.still[a] = False, 0.0
        elif b >= 0 and rigid.asleep[b] and (a < 0 or _hurries(rigid, a, size)):
            rigid.asleep[b], rigid.still[b] = False, 0.0
        if a < 0 and b >= 0:
            rigid.still[b] = 0.0  # what cloth or a soft body moves does not fall asleep


@kernel
def _resist_rolling(rigid, size, contacts, seconds):  # type: ignore[no-untyped-def]
    """Slow the turning of bodies that touch something: where things touch they dent a little.

    Contacts are points, which hold nothing against a turn about themselves; a pear would turn on for ever. What hardly
    moves loses it in proportion; what moves loses STOPS_RAD_PER_S2 (a rolling ball of 0.1 m loses 0.02 m/s²).
    """
    touched = np.zeros(len(rigid.w), np.bool_)
    for c in range(len(contacts.a)):
        if contacts.row[c, LOAD] > 0.0:
            if contacts.a[c] >= 0:
                touched[contacts.a[c]] = True
            if contacts.b[c] >= 0:
                touched[contacts.b[c]] = True
    v, keep = rigid.speed, np.exp(-RESISTANCE_PER_S * seconds)
    for r in range(len(rigid.w)):
        if touched[r] and rigid.w[r] > 0.0 and not rigid.asleep[r]:
            way = np.sqrt(v[r, 0] ** 2 + v[r, 1] ** 2 + v[r, 2] ** 2)
            turn = np.sqrt(v[r, 3] ** 2 + v[r, 4] ** 2 + v[r, 5] ** 2)
            left = max(1.0 - STOPS_RAD_PER_S2 * seconds / max(turn, 1e-12), 0.0)
            if way + 0.5 * turn * size[r] < CALM_MOST_M_PER_S:
                left = min(left, keep)
            for k in range(3, 6):
                v[r, k] *= left


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
    _resist_rolling(rigid, size, contacts, seconds)
    for r in range(count):
        way, turn = 0.0, 0.0
        for k in range(3):
            way += (rigid.place[r, k] - calm_place[r, k]) ** 2
        for k in range(4):
            turn += rigid.place[r, 3 + k] * calm_place[r, 3 + k]
        turned = 2.0 * np.sqrt(max(1.0 - turn * turn, 0.0))
        gone = np.sqrt(way) + 0.5 * turned * size[r]
        if gone < _calm_speed(size[r]) * PATIENCE_S:
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
        if a >= 0 and b >= 0:
            if rigid.w[a] > 0.0 and rigid.w[b] > 0.0:
                parent[_root(parent, a)] = _root(parent, b)
            elif rigid.w[a] == 0.0 and rigid.still[a] == 0.0:
                rigid.still[b] = 0.0  # it hangs on something that is being moved
            elif rigid.w[b] == 0.0 and rigid.still[b] == 0.0:
                rigid.still[a] = 0.0
    least = np.full(count, np.inf)
    for r in range(count):
        if rigid.w[r] > 0.0 and not rigid.asleep[r]:
            root = _root(parent, r)
            least[root] = min(least[root], rigid.still[r])
    for r in range(count):
        calm = least[_root(parent, r)] >= PATIENCE_S or rigid.still[r] >= ALONE_S
        if rigid.w[r] > 0.0 and not rigid.asleep[r] and calm:
            rigid.asleep[r] = True
            for k in range(6):
                rigid.speed[r, k] = 0.0
