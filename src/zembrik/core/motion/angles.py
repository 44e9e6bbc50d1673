"""Turns as angles about three axes, one after the other, in any of the six orders; none of them flips."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.problem import Problem

Floats = NDArray[np.float64]
ORDERS = ("xyz", "xzy", "yxz", "yzx", "zxy", "zyx")  # the first turn first, about axes that stand still


def check_order(order: str) -> str:
    """Return an order, raising a Problem for what is none."""
    if order not in ORDERS:
        raise Problem(f"there is no order '{order[:20]}'.", "angles", f"There are {', '.join(ORDERS)}.")
    return order


def turn_about(axis: int, angle_deg: float) -> Floats:
    """Return the matrix (3, 3) of a turn about axis 0, 1 or 2."""
    c, s = np.cos(np.radians(angle_deg)), np.sin(np.radians(angle_deg))
    j, k = (axis + 1) % 3, (axis + 2) % 3
    found = np.eye(3)
    found[j, j], found[j, k], found[k, j], found[k, k] = c, -s, s, c
    return found


def matrix_of(angles_deg: Any, order: str = "xyz") -> Floats:
    """Return the matrix (3, 3) of angles (3,) about X, Y and Z, degrees, turned in that order."""
    first, second, third = ("xyz".index(letter) for letter in order)
    return (
        turn_about(third, angles_deg[third])
        @ turn_about(second, angles_deg[second])
        @ turn_about(first, angles_deg[first])
    )


def angles_of(turns: Floats, order: str = "xyz", after: Floats | None = None) -> Floats:
    """Return the angles about X, Y and Z, degrees (k, 3), of turns (k, 3, 3) in an order, each near the one before it.

    The first is near `after` (3,), or near none.

    Of the two ways to say a turn, and of all whole turns more, the one nearest to the last is taken: no flips. Any
    order is the order X Y Z with the axes renamed; an odd renaming is a mirror, which turns all angles round.
    """
    axes = ["xyz".index(letter) for letter in order]
    sign = 1.0 if (axes[1] - axes[0]) % 3 == 1 else -1.0
    found = np.zeros((len(turns), 3))
    last = np.zeros(3) if after is None else sign * after[axes]
    for k, turn in enumerate(turns[:, axes][:, :, axes]):
        last = _near(turn, last, k > 0 or after is not None)
        found[k, axes] = sign * last
    return found


def _near(m: Floats, last: Floats, follows: bool) -> Floats:
    """Return the angles (3,), degrees, in the order X Y Z of a turn (3, 3) that are nearest to the last ones."""
    y = np.arcsin(np.clip(-m[2, 0], -1.0, 1.0))
    if abs(m[2, 0]) > 1.0 - 1e-9:  # X and Z turn about the same axis: X stays as it was
        x = np.radians(last[0]) if follows else 0.0
        sign = 1.0 if m[2, 0] < 0 else -1.0
        z = sign * x - np.arctan2(sign * m[0, 1], m[1, 1]) if sign > 0 else np.arctan2(-m[0, 1], m[1, 1]) - x
        ways = [np.array([x, y, z])]
    else:
        x, z = np.arctan2(m[2, 1], m[2, 2]), np.arctan2(m[1, 0], m[0, 0])
        ways = [np.array([x, y, z]), np.array([x + np.pi, np.pi - y, z + np.pi])]
    near = [np.degrees(w) + 360.0 * np.rint((last - np.degrees(w)) / 360.0) for w in ways]
    return min(near, key=lambda w: float(np.abs(w - last).sum()))
