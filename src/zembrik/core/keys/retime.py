"""Keyed motions in time: shifted, trimmed, held, gone through again, at other frames; what is between keys stays."""

from __future__ import annotations

import copy
from collections.abc import Callable
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.keys.paste import Motion, tracks_in
from zembrik.core.keys.smooth import slopes_of
from zembrik.core.motion.track import Track
from zembrik.core.problem import Problem

Floats = NDArray[np.float64]
OneTrack = dict[str, Any]
MOST_KEYS = 10_000  # of a track
GOES_ON = ("translate", "rotate", "turn", "spin.angle", "path.progress")  # what can carry on from where it was


def span_of(motion: Motion) -> tuple[float, float]:
    """Return the frames of a motion's first and last key; raises Problem when it has none."""
    frames = [key[0] for _, track in tracks_in(motion) for key in track["keys"]]
    if not frames:
        raise Problem("the motion has no keys.", "motion", "Key it first.")
    return min(frames), max(frames)


def _changed(motion: Motion, change: Callable[[str, OneTrack], OneTrack]) -> Motion:
    made = copy.deepcopy(motion)
    span_of(made)
    for name, track in tracks_in(made):
        track.update(change(name, track))
    return made


def _check_count(name: str, count: int) -> None:
    if count > MOST_KEYS:
        raise Problem(f"{name} would have {count:,} keys; the limit is {MOST_KEYS:,}.", "motion", "Make fewer.")


def shifted(motion: Motion, frames: float) -> Motion:
    """Return a motion that goes so many frames later, or with a negative number earlier."""
    return _changed(motion, lambda _, t: {**t, "keys": [[k[0] + frames, *k[1:]] for k in t["keys"]]})


def at_rate(motion: Motion, ratio: float, pivot: float) -> Motion:
    """Return a motion that takes `ratio` times as many frames, counted from the frame `pivot`: as fast at that rate."""

    def change(_: str, track: OneTrack) -> OneTrack:
        keys = []
        for key in track["keys"]:
            more = list(key[2:])
            if more and isinstance(more[0], dict):
                more = [{end: (np.asarray(v) / ratio).tolist() for end, v in more[0].items()}]
            keys.append([round(pivot + (key[0] - pivot) * ratio, 6), key[1], *more])
        return {**track, "keys": keys}

    return _changed(motion, change)


def trimmed(motion: Motion, first: float, last: float) -> Motion:
    """Return what a motion does from one frame to another; before and after it holds what it is there."""
    if last <= first:
        raise Problem("it would end before it begins.", "motion", "Give the first frame first.")
    return _changed(motion, lambda name, t: _trimmed(name, t, first, last))


def _trimmed(name: str, track: OneTrack, first: float, last: float) -> OneTrack:
    """Return a track from frame to frame: cubics are cut exactly, an eased turn of quaternions gets a key a frame."""
    read = _Reader(name, track)
    inside = [k[0] for k in track["keys"] if first < k[0] < last]
    places = [first, *inside, last]
    if read.is_turn:
        for a, b in list(pairwise(places)):
            if read.ease_at(0.5 * (a + b)) == "smooth" and not {a, b} <= set(read.frames):
                places += [f for f in np.arange(np.floor(a) + 1.0, b).tolist() if f not in places]
        places.sort()
    keys: list[Any] = []
    for a, b in pairwise(places):
        ease = read.ease_at(0.5 * (a + b))
        whole = a in read.frames and b in read.frames
        key: list[Any] = [a, read.value(a)]
        if isinstance(ease, dict) or (ease == "smooth" and not whole and not read.is_turn):
            key.append({"leave": read.slope(a, 0.5 * (a + b)), "arrive": read.slope(b, 0.5 * (a + b))})
        elif ease == "smooth" and not whole:
            key.append("straight")
        elif ease != track["ease"]:
            key.append(ease)
        keys.append(key)
    return {**track, "keys": [*keys, [last, read.value(last)]]}


def looped(motion: Motion, times: int, goes_on: bool) -> Motion:
    """Return a motion that is gone through so many times, one after the other.

    Args:
        goes_on: each time it begins where it was left (turns and ways add up); otherwise it begins as at first, a
            frame after it ended where that is somewhere else.
    """
    if not 2 <= times <= 1000:
        raise Problem("a loop goes 2 to 1,000 times.", "motion", "Type a number.")
    first, last = span_of(motion)

    def change(name: str, track: OneTrack) -> OneTrack:
        _check_count(name, times * len(track["keys"]))
        read, on = _Reader(name, track), goes_on and name in GOES_ON
        held = _trimmed(name, track, first, last)["keys"] if last > first else track["keys"]
        same = np.allclose(read.value(first), read.value(last), atol=1e-9)
        period = last - first if on or same else last - first + 1.0
        keys: list[Any] = []
        for n in range(times):
            for k, key in enumerate(held):
                if n and k == 0 and keys[-1][0] >= key[0] + n * period - 1e-9:
                    if len(key) > 2:
                        keys[-1] = [*keys[-1][:2], key[2]]
                    continue
                keys.append([key[0] + n * period, read.carried(key[1], n) if on else key[1], *key[2:]])
        return {**track, "keys": keys}

    return _changed(motion, change)


def keyed_every(motion: Motion, frames: float) -> Motion:
    """Return a motion with a key every so many frames, from its first key to its last, smooth between them."""
    if not 0.0 < frames <= 1000.0:
        raise Problem("keys stand more than nothing apart.", "motion", "Type a number of frames.")
    first, last = span_of(motion)

    def change(name: str, track: OneTrack) -> OneTrack:
        read = _Reader(name, track)
        count = int(np.floor((last - first) / frames + 1e-9)) + 1
        _check_count(name, count)
        places = first + frames * np.arange(count)
        if places[-1] < last - 1e-6:
            places = np.append(places, last)
        values = [read.value(float(p)) for p in places]
        if read.is_turn or len(values) < 2:
            keys: list[Any] = [[round(float(p), 6), v] for p, v in zip(places, values, strict=True)]
            return {**track, "keys": keys, "ease": "straight"}
        steps = np.diff(places)
        slopes = slopes_of(np.array(values)) / frames if np.allclose(steps, frames) else np.array(
            [read.middle_slope(float(p)) for p in places])  # fmt: skip
        keys = []
        for n, (place, value) in enumerate(zip(places, values, strict=True)):
            key: list[Any] = [round(float(place), 6), value]
            if n + 1 < len(values):
                key.append({"leave": slopes[n].tolist(), "arrive": slopes[n + 1].tolist()})
            keys.append(key)
        return {**track, "keys": keys, "ease": "straight"}

    return _changed(motion, change)


class _Reader:
    """A track's values and slopes at any frame, as plain numbers."""

    def __init__(self, name: str, track: OneTrack) -> None:
        self.is_turn = name == "turn"
        self.track, self.held = track, Track(track["keys"], track["ease"])
        self.frames = [key[0] for key in track["keys"]]
        self.first, self.last = self.frames[0], self.frames[-1]

    def value(self, frame: float) -> Any:
        """Return the value at a frame: a number, or a list of them."""
        if self.is_turn:
            return self.held.turn(frame).tolist()
        return self.held.values(frame)[0].tolist()

    def ease_at(self, frame: float) -> Any:
        """Return how it goes at a frame; beyond the ends it holds."""
        if frame < self.first or frame >= self.last:
            return "hold"
        k = int(np.searchsorted(self.held.places, frame, side="right")) - 1
        return self.held.eases[k]

    def slope(self, frame: float, inside: float) -> Any:
        """Return the slope a frame at a frame, on the side on which `inside` lies."""
        step = 1e-4 * (1.0 if inside > frame else -1.0)
        # Of a cubic, three values and its own curvature give the slope at its end exactly but for rounding.
        a, b, c, d = (self.held.values(frame + n * step)[0] for n in range(4))
        return ((-11.0 * a + 18.0 * b - 9.0 * c + 2.0 * d) / (6.0 * step)).round(9).tolist()

    def middle_slope(self, frame: float) -> Any:
        """Return the slope over a frame around a frame."""
        return self.held.values(frame + 0.5)[0] - self.held.values(frame - 0.5)[0]

    def carried(self, value: Any, times: int) -> Any:
        """Return a value as it is after the whole way was gone so many times before."""
        if not self.is_turn:
            way = np.asarray(self.value(self.last)) - np.asarray(self.value(self.first))
            return (np.asarray(value) + times * way).tolist()
        from scipy.spatial.transform import Rotation

        way = Rotation.from_quat(self.value(self.last)) * Rotation.from_quat(self.value(self.first)).inv()
        turned = Rotation.from_quat(value)
        for _ in range(times):
            turned = way * turned
        return turned.as_quat().tolist()
