"""Contacts in two halves that share no body, for two threads, and what lies between the two.

The free bodies are parted by a plane across the way along which they lie widest. Runs of contacts whose bodies are all
on one side can be solved beside those of the other: nothing that one reads is written by the other. Those that reach
across, and those of particles, come after both. So the order depends on where the bodies are, never on how many
threads there are.
"""

from __future__ import annotations

import numpy as np

from zembrik.core.compiled import kernel

FEW = 256  # runs of contacts that are sooner solved one after the other


@kernel
def halve(contacts, runs, body, place):  # type: ignore[no-untyped-def]
    """Return the runs in the order in which they are solved, int64 (runs,), and where its parts end, int64 (3,).

    The parts are the one half, the other, and what is between; with few runs, all are in the last, in their order.

    Args:
        contacts: see `arrays.Contacts`. runs: int64 (runs + 1,), where each begins.
        body: float64 (R + 1, 10), see `pressing`. place: float64 (R, 7), the bodies' places, metres.
    """
    count = len(runs) - 1
    order, ends = np.empty(count, np.int64), np.zeros(3, np.int64)
    ends[2] = count
    if count < FEW:
        for run in range(count):
            order[run] = run
        return order, ends
    sides = _sides(body, place)
    part = np.empty(count, np.int64)
    for run in range(count):
        a, b = contacts.a[runs[run]], contacts.b[runs[run]]
        of_a, of_b = sides[a] if a >= 0 else 3, sides[b] if b >= 0 else 0
        # What is held (0) goes with the other; 1 and 2 together are 3.
        part[run] = max((of_a | of_b) - 1, 0)
    at = 0
    for which in range(3):
        for run in range(count):
            if part[run] == which:
                order[at] = run
                at += 1
        ends[which] = at
    return order, ends


@kernel
def _sides(body, place):  # type: ignore[no-untyped-def]
    """Return 1 or 2 for bodies on this side or that, 0 for those that nothing pushes, int64 (R,)."""
    free = np.flatnonzero(body[:-1, 0] > 0.0)
    sides = np.zeros(len(place), np.int64)
    axis, widest = 0, -1.0
    for k in range(3):
        spread = np.var(place[free, k])
        if spread > widest:
            axis, widest = k, spread
    middle = np.median(place[free, axis])
    for r in free:
        sides[r] = 1 if place[r, axis] < middle else 2
    return sides
