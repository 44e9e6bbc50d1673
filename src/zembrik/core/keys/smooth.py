"""Poses between frames: a curve through places that has their velocities, turns on the shortest arc."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]


def slopes_of(values: Floats) -> Floats:
    """Return the slopes a frame (k, ...) at values (k, ...) of successive frames: central differences, second order.

    At both ends it is the slope of the parabola through three, so that free fall is met exactly everywhere.
    """
    if len(values) < 2:
        return np.zeros_like(values)
    if len(values) == 2:
        return np.repeat(values[1:] - values[:1], 2, axis=0)
    return np.asarray(np.gradient(values, axis=0, edge_order=2))


def values_at(values: Floats, at: Floats) -> Floats:
    """Return values (m, ...) at places (m,) counted in frames from the first: the cubic of Hermite with `slopes_of`."""
    slopes = slopes_of(values)
    if len(values) == 1:
        return np.repeat(values, len(at), axis=0)
    k = np.clip(np.floor(at).astype(np.int64), 0, len(values) - 2)
    t = (np.clip(at, 0, len(values) - 1) - k).reshape(-1, *[1] * (values.ndim - 1))
    one, two, a, b = values[k], values[k + 1], slopes[k], slopes[k + 1]
    return np.asarray(
        (2 * t**3 - 3 * t**2 + 1) * one + (t**3 - 2 * t**2 + t) * a + (3 * t**2 - 2 * t**3) * two + (t**3 - t**2) * b
    )


def turns_at(turns: Floats, at: Floats) -> Floats:
    """Return quaternions (m, 4) at places (m,) counted in frames, between quaternions (k, 4) of successive frames."""
    if len(turns) == 1:
        return np.repeat(turns, len(at), axis=0)
    k = np.clip(np.floor(at).astype(np.int64), 0, len(turns) - 2)
    return slerp(turns[k], turns[k + 1], np.clip(at, 0, len(turns) - 1) - k)


def slerp(one: Floats, two: Floats, share: Floats) -> Floats:
    """Return quaternions (m, 4) a share (m,) of the way from one to two, the short way round (Shoemake 1985)."""
    cosine = np.einsum("ij,ij->i", one, two)
    two = np.where(cosine[:, None] < 0.0, -two, two)
    angle = np.arccos(np.clip(np.abs(cosine), 0.0, 1.0))
    sine = np.sin(angle)
    near = sine < 1e-9
    safe = np.where(near, 1.0, sine)
    first = np.where(near, 1.0 - share, np.sin((1.0 - share) * angle) / safe)
    second = np.where(near, share, np.sin(share * angle) / safe)
    mixed = first[:, None] * one + second[:, None] * two
    return np.asarray(mixed / np.linalg.norm(mixed, axis=1, keepdims=True))


def angle_between(one: Floats, two: Floats) -> Floats:
    """Return the angle (m,) of the turn from quaternions one to two (m, 4), radians, 0 to π."""
    cosine = np.abs(np.einsum("...j,...j->...", one, two))
    sine = np.sqrt(np.maximum(1.0 - np.minimum(cosine, 1.0) ** 2, 0.0))
    # Near no turn at all the arc cosine sees nothing: there the difference of both tells.
    small = np.minimum(np.linalg.norm(one - two, axis=-1), np.linalg.norm(one + two, axis=-1))
    return np.asarray(np.where(sine < 1e-4, 2.0 * small, 2.0 * np.arctan2(sine, cosine)))
