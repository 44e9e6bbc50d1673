"""Keyed motions in time, held against what the tracks themselves say at any moment."""

import copy

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from zembrik.core.keys.retime import at_rate, keyed_every, looped, shifted, span_of, trimmed
from zembrik.core.keys.smooth import angle_between
from zembrik.core.motion.rigid import Mover
from zembrik.core.problem import Problem

QUARTER = [0.0, float(np.sin(np.pi / 8)), 0.0, float(np.cos(np.pi / 8))]
MOTION = {
    "translate": {"keys": [[1, [0, 0, 0]], [13, [1, 2, 0], {"leave": [0.3, 0, 0], "arrive": [0, -0.2, 0.1]}],
                           [25, [2, 0, 1], "hold"], [31, [3, 0, 0]]], "ease": "smooth"},
    "turn": {"keys": [[1, [0, 0, 0, 1]], [31, QUARTER]], "ease": "straight"},
}  # fmt: skip


def read(motion, frames):
    mover = Mover(motion, [0.0, 0.0, 0.0])
    found = [mover.at(float(f)) for f in frames]
    return np.array([s for _, s in found]), Rotation.from_matrix([m for m, _ in found]).as_quat()


def same(one, at_one, two, at_two, metres=1e-6, degrees=1e-4):
    (p, a), (q, b) = read(one, at_one), read(two, at_two)
    assert np.abs(p - q).max() < metres and np.degrees(angle_between(a, b).max()) < degrees


def test_trimmed_it_does_the_same_in_between_and_holds_beyond():
    """Cut in the middle of an eased stretch, of one with own handles and of a held one: exact at any moment."""
    before = copy.deepcopy(MOTION)
    cut = trimmed(MOTION, 5.5, 28)
    assert before == MOTION and span_of(cut) == (5.5, 28)
    at = np.linspace(5.5, 28, 400)
    same(MOTION, at[at < 25], cut, at[at < 25])
    same(MOTION, [26, 27.9], cut, [26, 27.9])
    same(MOTION, [5.5, 28.0, 28.0], cut, [-10, 28, 200])
    for wrong in ((5, 5), (9, 2)):
        with pytest.raises(Problem, match="end before it begins"):
            trimmed(MOTION, *wrong)


def test_shifted_and_at_another_rate():
    at = np.linspace(1, 31, 300)
    same(MOTION, at, shifted(MOTION, 7.5), at + 7.5)
    same(MOTION, at, at_rate(MOTION, 30 / 24, 1.0), 1 + (at - 1) * 30 / 24)


def test_looped_it_goes_on_from_where_it_was_or_begins_again():
    on = looped(MOTION, 3, goes_on=True)
    assert span_of(on) == (1, 91)
    shift, turns = read(on, [1, 31, 61, 91])
    assert np.abs(shift - np.outer([0, 1, 2, 3], [3, 0, 0])).max() < 1e-9
    assert np.degrees(angle_between(turns[:1], turns)) == pytest.approx([0, 45, 90, 135])
    at = np.linspace(1, 24.9, 200)
    assert np.abs(read(on, at + 30)[0] - read(MOTION, at)[0] - [3, 0, 0]).max() < 1e-6
    again = looped(MOTION, 2, goes_on=False)
    assert span_of(again) == (1, 62)
    same(MOTION, at, again, at + 31)
    with pytest.raises(Problem, match="2 to 1,000 times"):
        looped(MOTION, 1, True)
    with pytest.raises(Problem, match="keys; the limit is 10,000"):
        looped({"translate": {"keys": [[f, [0, 0, 0]] for f in range(200)], "ease": "straight"}}, 900, True)


def test_24_to_30_to_24_on_keys():
    """A smooth motion of 5 s, keyed at 24 a second, taken to 30 and back with a key a frame: within 0.1 mm."""
    t = np.arange(121) / 24.0
    places = np.stack([0.5 * np.sin(1.7 * t), 0.3 * np.cos(2.3 * t), 0.2 * t], axis=1)
    turns = Rotation.from_euler("yx", np.stack([40 * np.sin(t), 25 * np.cos(1.3 * t)], axis=1), degrees=True).as_quat()
    motion = keyed_every({
        "translate": {"keys": [[1 + k, p.tolist()] for k, p in enumerate(places)], "ease": "straight"},
        "turn": {"keys": [[1 + k, q.tolist()] for k, q in enumerate(turns)], "ease": "straight"},
    }, 1.0)  # fmt: skip
    there = keyed_every(at_rate(motion, 30 / 24, 1.0), 1.0)
    back = keyed_every(at_rate(there, 24 / 30, 1.0), 1.0)
    assert span_of(there) == (1, 151) and span_of(back) == (1, 121)
    at = np.linspace(1, 121, 1000)
    same(motion, at, back, at, 1e-4, 0.05)
