"""Tracks with easing a key, quaternions, paths, spins, parents and scale, against formulas."""

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from zembrik.core.motion.path import Path
from zembrik.core.motion.rigid import Mover, about
from zembrik.core.motion.track import track_values, turn_values
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import NoAssets, mover_of_body
from zembrik.core.setup.document import parse_setup
from zembrik.core.setup.resolve import setup_hash


def box(name, at=(0, 0, 0), role="collider", **motion):
    place = {"translate": list(at)}
    return {"name": name, "role": role, "mesh": {"shape": "box", "size": [1, 1, 1]}, "place": place,
            "proxy": {"kind": "surface"}, "motion": motion}  # fmt: skip


def mover(document, number=0):
    return mover_of_body(parse_setup(document), number, NoAssets())


def test_every_key_says_how_it_goes_on():
    """Hold, a straight line, a smooth stretch with 3t² - 2t³, and slopes: the cubic of Hermite."""
    keys = [[0, 0.0, "hold"], [10, 4.0], [20, 8.0, "smooth"], [30, 0.0, {"leave": 2.0, "arrive": -1.0}], [40, 5.0]]
    read = track_values(keys, "straight", np.array([9.9, 10, 15, 22.5, 25, 30, 34, 40, 99]))
    t = 0.25
    smooth = 8 - 8 * (3 * t**2 - 2 * t**3)
    t = 0.4
    cubic = (3 * t**2 - 2 * t**3) * 5 + 10 * t * (1 - t) ** 2 * 2 - 10 * t * t * (1 - t) * -1
    assert np.allclose(read, [0, 4, 6, smooth, 4, 0, cubic, 5, 5], atol=1e-12)
    step = 1e-6
    slope = np.diff(track_values(keys, "straight", np.array([30, 30 + step]))) / step
    assert slope[0] == pytest.approx(2.0, rel=1e-4)
    assert np.diff(track_values(keys, "straight", np.array([40 - step, 40])))[0] / step == pytest.approx(-1.0, rel=1e-4)


def test_slopes_of_three_numbers_are_those_of_each():
    keys = [[0, [0, 1, 2], {"leave": [1, 0, -1], "arrive": [0, 2, 0]}], [8, [3, 3, 3]]]
    three = track_values(keys, "hold", np.linspace(0, 8, 9))
    for k in range(3):
        one = [[0, keys[0][1][k], {"leave": keys[0][2]["leave"][k], "arrive": keys[0][2]["arrive"][k]}], [8, 3]]
        assert np.allclose(three[:, k], track_values(one, "hold", np.linspace(0, 8, 9)), atol=1e-15)


@given(st.integers(0, 2**32 - 1), st.floats(0, 1))
def test_quaternions_go_the_short_way_at_an_even_rate(seed, share):
    """Against scipy's turns: the way from one to the other is a turn about one axis, by the share of its angle."""
    one, two = Rotation.random(2, random_state=seed)
    keys = [[1, list(-3.0 * one.as_quat())], [11, list(two.as_quat())]]
    way = (two * one.inv()).as_rotvec()
    want = Rotation.from_rotvec(share * way) * one
    read = Rotation.from_quat(turn_values(keys, "straight", 1 + 10 * share))
    assert (read * want.inv()).magnitude() < 1e-6


@pytest.mark.parametrize("driver", ["rotate", "spin"])
def test_an_eased_spin_of_1350_degrees_arrives_there(driver):
    """Half way in time it is half way round, and it never goes back: 3 turns and three quarters."""
    keys = {"keys": [[1, 0.0], [49, 1350.0]], "ease": "smooth"}
    motion = {"spin": {"axis": [0, 2, 0], "angle": keys}}
    if driver == "rotate":
        motion = {"rotate": {"keys": [[f, [0, v, 0]] for f, v in keys["keys"]], "ease": "smooth"}}
    one = mover({"bodies": [box("drum", **motion)]})
    total, turns = 0.0, [one.at(f)[0] for f in np.arange(1, 49.5, 0.5)]
    for a, b in pairwise(turns):
        step = Rotation.from_matrix(b @ a.T).as_rotvec(degrees=True)
        assert step[1] >= 0 and np.abs(step[[0, 2]]).max() < 1e-9
        total += step[1]
    assert total == pytest.approx(1350.0, abs=1e-6)
    assert np.allclose(one.at(25)[0], about([0, 1, 0], 675.0), atol=1e-12)


@pytest.mark.parametrize("forward, local", [("z", (0, 0, 1)), ("-z", (0, 0, -1)), ("x", (1, 0, 0)), ("-x", (-1, 0, 0))])
def test_a_body_on_a_path_keeps_its_heading(forward, local):
    """On a way through places on a circle of 3 m, its front is within a degree of the tangent, 1 m beside it."""
    angles = np.linspace(0, 2 * np.pi, 13)[:-1]
    points = [[3 * np.cos(a), 0.5, -3 * np.sin(a)] for a in angles]
    path = {"points": points, "closed": True, "forward": forward, "offset": [0, 0.2, 0],
            "progress": {"keys": [[1, 0], [97, 1]]}}  # fmt: skip
    one = mover({"bodies": [box("cart", (5, 5, 5), path=path)]})
    for frame in np.linspace(1, 97, 45):
        turn, shift = one.at(frame)
        place = turn @ np.array([5.0, 5, 5]) + shift
        assert np.linalg.norm(place[[0, 2]]) == pytest.approx(3.0, abs=0.02) and place[1] == pytest.approx(0.7)
        h = 0.01
        before, after = (one.at(f)[0] @ np.array([5.0, 5, 5]) + one.at(f)[1] for f in (frame - h, frame + h))
        if 1 < frame < 97:
            tangent = (after - before) / np.linalg.norm(after - before)
            assert np.degrees(np.arccos(np.clip(turn @ np.array(local) @ tangent, -1, 1))) < 1.0
        assert (turn @ [0, 1, 0])[1] > 0.999  # and stands upright


def test_a_path_is_gone_along_by_its_length():
    """Uneven places on a line: half of the progress is half of the way, and it ends at its ends."""
    way = Path([[0, 0, 0], [1, 0, 0], [6, 0, 0], [8, 0, 0]], closed=False)
    assert way.length_m == pytest.approx(8.0, rel=1e-6)
    for progress in (-1.0, 0.0, 0.25, 0.5, 0.8, 1.0, 2.0):
        place, ahead = way.at(progress)
        assert place == pytest.approx([8 * min(max(progress, 0), 1), 0, 0], abs=2e-3) and ahead == pytest.approx(
            [1, 0, 0]
        )


def test_banking_leans_to_the_right_about_the_way_ahead():
    path = {"points": [[0, 0, 0], [0, 0, 9]], "progress": {"keys": [[1, 0]]}, "bank": 30.0}
    turn, _ = mover({"bodies": [box("cart", path=path)]}).at(1)
    up = turn @ [0, 1, 0]
    assert up == pytest.approx([-np.sin(np.radians(30)), np.cos(np.radians(30)), 0])  # ahead is +Z: right is -X


def test_a_child_goes_along_with_its_parent_and_that_with_its_own():
    """Three links: each own motion comes on top, in the frame of the one above; matrices multiply."""
    turning = {"keys": [[1, [0, 0, 0]], [11, [0, 90, 0]]]}
    bodies = [
        box("arm", (0, 1, 0), rotate=turning),
        box("hand", (2, 1, 0), parent="arm", rotate={"keys": [[1, [0, 0, 0]], [11, [0, 0, 180]]]}),
        box("lamp", (3, 1, 0), "left out", parent="hand", translate={"keys": [[1, [0, 0, 0]], [11, [0, 0.5, 0]]]}),
    ]
    turn, shift = mover({"bodies": bodies}, 2).at(11)
    # The lamp rises by 0.5, is turned half round about Z through the hand, then a quarter about Y through the arm.
    point = np.array([3.0, 1.5, 0.0]) - [2, 1, 0]
    point = np.array([2.0 - point[0], 1.0 - point[1], 0.0])
    want = np.array([point[2], point[1], -point[0]])
    assert turn @ [3.0, 1.0, 0.0] + shift == pytest.approx(want, abs=1e-12)


def test_parents_in_a_circle_and_other_wrong_drivers_are_told():
    cloth = {"name": "b", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [4, 4]}}
    wrong = {
        "in a circle: b → a → b|in a circle: a → b → a": [box("a", parent="b"), box("b", parent="a")],
        "in a circle: a → a": [box("a", parent="a")],
        "no collider": [box("a", parent="b"), cloth],
        "at least 2": [box("a", path={"points": [[0, 0, 0]], "progress": {"keys": [[1, 0]]}})],
        "are the same": [box("a", path={"points": [[0, 0, 0], [0, 0, 0]], "progress": {"keys": [[1, 0]]}})],
        "comes after frame 9": [box("a", translate={"keys": [[9, [0, 0, 0]], [3, [0, 0, 0]]]})],
        "two keys stand on frame 9": [box("a", translate={"keys": [[9, [0, 0, 0]], [9, [0, 0, 0]]]})],
        "finite number": [box("a", translate={"keys": [[9, [0, float("nan"), 0]]]})],
        "no turn": [box("a", turn={"keys": [[1, [0, 0, 0, 0]]]})],
        "not as both": [box("a", turn={"keys": [[1, [0, 0, 0, 1]]]}, rotate={"keys": [[1, [0, 0, 0]]]})],
        "more than nothing": [box("a", scale={"keys": [[1, 0.0]]})],
    }  # fmt: skip
    for words, bodies in wrong.items():
        with pytest.raises(Problem, match=words):
            parse_setup({"bodies": bodies})


def test_a_left_out_parent_counts_for_the_bake():
    """What a collider goes along with decides its bake, though it is left out itself."""
    bodies = [box("cart", role="left out", translate={"keys": [[1, [0, 0, 0]]]}), box("load", parent="cart")]
    hashes = []
    for way in (0.0, 1.0):
        bodies[0]["motion"]["translate"] = {"keys": [[1, [0, 0, 0]], [9, [way, 0, 0]]]}
        bodies[0].pop("proxy", None)
        hashes.append(setup_hash(parse_setup({"bodies": bodies}), str))
    assert hashes[0] != hashes[1]


def test_a_scaled_collider_grows_about_its_origin():
    one = mover({"bodies": [box("stone", (1, 0, 0), scale={"keys": [[1, 1.0], [11, 3.0]]})]})
    assert one.changes_form
    assert one.points_at(np.array([[1.5, 0.5, 0.0]]), 6)[0] == pytest.approx([2.0, 1.0, 0.0])


def test_a_mover_of_nothing_stays():
    turn, shift = Mover({}, [1, 2, 3]).at(7.5)
    assert np.array_equal(turn, np.eye(3)) and np.abs(shift).max() == 0
