"""Dials that change over frames: what lays their value of a frame into the arrays that the kernels read.

A world is built with the most that each dial comes to, so that all room is there; from then on every
frame begins by laying in what the dials are at it. Within a frame they stay.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.track import extremes_of, value_at
from zembrik.core.setup.keyed import is_keyed

Floats = NDArray[np.float64]
Lay = Callable[..., None]


def at_most(values: dict[str, Any], but: tuple[str, ...] = ()) -> dict[str, Any]:
    """Return resolved values with the most that each track comes to in its place, `but` some that stay tracks."""
    return {n: extremes_of(v)[1] if is_keyed(v) and n not in but else v for n, v in values.items()}


@dataclass(frozen=True)
class Dial:
    """Numbers over frames that belong together, and what lays their values into a world.

    Attributes:
        tracks: each a number or a track, one of them a track at least.
        lay: takes their values.
        stiffens: whether cloth becomes stiffer or softer by them, or particles heavier or lighter.
    """

    tracks: tuple[Any, ...]
    lay: Lay
    stiffens: bool = False


@dataclass
class OverFrames:
    """All dials of a world that change over frames."""

    dials: list[Dial] = field(default_factory=list)

    @property
    def stiffen(self) -> bool:
        """Whether cloth becomes stiffer or softer, or anything heavier or lighter."""
        return any(dial.stiffens for dial in self.dials)

    def add(self, lay: Lay, *tracks: Any, stiffens: bool = False) -> None:
        """Add a dial, if any of its numbers is a track."""
        if any(is_keyed(track) for track in tracks):
            self.dials.append(Dial(tracks, lay, stiffens))

    def set(self, frame: float) -> None:
        """Lay in what all dials are at a frame."""
        for dial in self.dials:
            dial.lay(*(value_at(track, frame) for track in dial.tracks))

    def changes_at(self, frame: float) -> bool:
        """Whether any is unlike a frame before."""
        every = [track for dial in self.dials for track in dial.tracks]
        return any(value_at(track, frame) != value_at(track, frame - 1.0) for track in every)


def into(*places: tuple[Floats, Any]) -> Lay:
    """Return what writes a value to places, each an array and where in it."""

    def lay(value: float) -> None:
        for array, where in places:
            array[where] = value

    return lay


def compliance(array: Floats, where: Any, built_with: float, least: float = 0.0) -> Lay:
    """Return what writes compliances for a stiffness of at least `least`; those there are for `built_with`."""
    for_one = array[where] * built_with

    def lay(value: float) -> None:
        array[where] = for_one / max(value, least)

    return lay


def times(array: Floats, where: Any, per_one: Floats) -> Lay:
    """Return what writes a value times something of each place."""

    def lay(value: float) -> None:
        array[where] = per_one * value

    return lay
