"""Boxes by their sides, four tried at once, or eight of single precision.

The sides of n boxes are one array of 6 n: the low x of all, their low y, low z, then high x, y, z. So four boxes that
follow one another lie in lanes. One that no box meets has its low corner at infinity and its high one at minus that.
"""

from __future__ import annotations

import numba

from zembrik.core.lanes import bits, either
from zembrik.core.lanes_memory import values4, values8


@numba.njit(inline="always")
def four_near(sides, n, low_x, low_y, low_z, high_x, high_y, high_z):  # type: ignore[no-untyped-def]
    """Return in four bits which of boxes n .. n + 3, by their sides, meet a box; touching counts."""
    count = len(sides) // 6
    x = either(values4(sides, n) > high_x, values4(sides, 3 * count + n) < low_x)
    y = either(values4(sides, count + n) > high_y, values4(sides, 4 * count + n) < low_y)
    z = either(values4(sides, 2 * count + n) > high_z, values4(sides, 5 * count + n) < low_z)
    return 15 - bits(either(either(x, y), z))


@numba.njit(inline="always")
def eight_near(sides, n, low_x, low_y, low_z, high_x, high_y, high_z):  # type: ignore[no-untyped-def]
    """Return in eight bits which of boxes n .. n + 7, by their sides (float32), meet a box; touching counts."""
    count = len(sides) // 6
    x = either(values8(sides, n) > high_x, values8(sides, 3 * count + n) < low_x)
    y = either(values8(sides, count + n) > high_y, values8(sides, 4 * count + n) < low_y)
    z = either(values8(sides, 2 * count + n) > high_z, values8(sides, 5 * count + n) < low_z)
    return 255 - bits(either(either(x, y), z))


@numba.njit(inline="always")
def first_from(rising, value):  # type: ignore[no-untyped-def]
    """Return the first place of rising numbers that is not below the value."""
    first, last = 0, len(rising)
    while first < last:
        middle = (first + last) // 2
        if rising[middle] < value:
            first = middle + 1
        else:
            last = middle
    return first
