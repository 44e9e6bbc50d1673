"""Motions put elsewhere: the same way, later and beside it; what cannot come is told."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zembrik.core.keys.paste import pasted
from zembrik.core.motion.rigid import Mover
from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup

FULL = {
    "translate": {"ease": "smooth",
                  "keys": [[5, [0, 0, 0], {"leave": [1, 0, 0], "arrive": [0, 0, 0]}], [17, [2, 1, 0]]]},
    "rotate": {"keys": [[3, [0, 0, 0]], [20, [0, 400, 10]]], "ease": "straight"},
    "spin": {"axis": [1, 1, 0], "angle": {"keys": [[3, 0], [9, 90]], "ease": "hold"}},
}  # fmt: skip


def plain(motion):
    body = {"name": "a", "role": "collider", "mesh": {"shape": "box", "size": [1, 1, 1]}, "motion": motion}
    return parse_setup({"bodies": [body]}).bodies[0].motion.model_dump(mode="json")


@given(st.integers(-40, 40), st.tuples(*[st.floats(-3, 3)] * 3), st.floats(0, 30))
def test_a_pasted_motion_is_the_same_later_and_beside_it(begins, offset, frame):
    made, left = pasted(plain(FULL), "rigid", float(begins), offset)
    assert left == []
    one, two = Mover(plain(FULL), [0.3, 0.2, 0.1]), Mover(plain(made), [0.3, 0.2, 0.1])
    turn, shift = one.at(frame)
    again, there = two.at(frame + begins - 3)
    assert np.allclose(turn, again, atol=1e-9) and np.allclose(shift + np.array(offset), there, atol=1e-9)


def test_a_path_is_moved_itself_and_what_only_turns_gets_a_place():
    path = {"path": {"points": [[0, 0, 0], [0, 0, 4]], "progress": {"keys": [[1, 0], [9, 1]]}}}
    made, _ = pasted(plain(path), "collider", None, (1, 2, 3))
    assert made["path"]["points"] == [[1, 2, 3], [1, 2, 7]] and "translate" not in made
    made, _ = pasted(plain({"rotate": FULL["rotate"]}), "collider", 11, (1, 2, 3))
    assert made["translate"]["keys"] == [[11, [1, 2, 3]]] and made["rotate"]["keys"][0][0] == 11


def test_what_cannot_come_is_told():
    grows = {"scale": {"keys": [[1, 1], [9, 2]]}, "ripple": {"height": 0.1}, "parent": "b", **FULL}
    made, left = pasted({**plain(FULL), **grows}, "rigid")
    assert "scale" not in made and "parent" not in made and "ripple" not in made and len(left) == 3
    assert pasted({**plain(FULL), "parent": "b"}, "left out")[1] == ["that it went along with 'b'"]
    with pytest.raises(Problem, match="nothing is left"):
        pasted({"scale": grows["scale"]}, "rigid")
    with pytest.raises(Problem, match="Hold its points"):
        pasted(plain(FULL), "cloth")
