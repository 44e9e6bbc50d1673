"""Sleep is relative to what a body rests on: whatever moves under it, is let go or begins to blow wakes it."""

import numpy as np
import pytest
from stage import Stage, brick

NO_GROUND = {"ground": None, "air_density": 0}


def plate(role, *keys):
    """Return a plate that moves by keys of [frame, way]."""
    return {"name": "plate", "role": role, "mesh": {"shape": "box", "size": [3, 0.2, 3]}, "proxy": {"kind": "box"},
            "place": {"translate": [0, -0.1, 0]}, "motion": {"translate": {"keys": list(keys), "ease": "straight"}},
            }  # fmt: skip


@pytest.mark.parametrize("role", ["collider", "rigid"])
@pytest.mark.parametrize("way", [[0.4, 0, 0], [0, -0.4, 0], [0, 0.05, 0], [0.01, 0, 0]])
def test_a_sleeping_stack_goes_along_with_what_begins_to_move_under_it(role, way):
    """Two boxes asleep on a plate that slides, sinks, rises or creeps from frame 60 on: they go as far as it does."""
    moving = plate(role, [1, [0, 0, 0]], [60, [0, 0, 0]], [108, way])
    boxes = [brick("low", (0, 0.202, 0), thickness=0.001), brick("top", (0, 0.604, 0), thickness=0.001)]
    stage = Stage({"world": NO_GROUND, "bodies": [moving, *boxes]})
    mine = [stage.number("low"), stage.number("top")]
    stage.run(56)
    assert stage.rigid.asleep[mine].all()
    begin = stage.rigid.place[mine, :3].copy()
    stage.run(52)
    assert np.abs(stage.rigid.place[mine, :3] - begin - way).max() < 0.003


def test_nothing_falls_asleep_on_what_moves_and_a_plate_that_stops_lets_it():
    """A plate at 20 mm/s from the first frame to frame 72."""
    moving = plate("collider", [1, [0, 0, 0]], [72, [71 / 24 * 0.02, 0, 0]])
    stage = Stage({"world": NO_GROUND, "bodies": [moving, brick("box", (0, 0.202, 0), thickness=0.001)]})
    asleep = stage.run(110, lambda: bool(stage.rigid.asleep[0]))
    assert not any(asleep[:70])
    assert asleep[-1]


def test_what_touches_nothing_does_not_fall_asleep():
    """A box that drifts at 10 mm/s without gravity goes on for ever, and so does a slow swing."""
    box = brick("box", (0, 0, 0))
    rod = brick("rod", (5 + 0.5 * np.sin(0.005), 2 - 0.5 * np.cos(0.005), 0), (0.05, 1.0, 0.05))
    stage = Stage({"world": {"gravity": [0, 0, 0], **NO_GROUND}, "bodies": [box]})
    stage.rigid.speed[0, 0] = 0.01
    stage.run(96)
    assert stage.rigid.place[0, 0] == pytest.approx(0.04, rel=1e-9)
    joint = {"kind": "hinge", "bodies": ["rod", None], "at": [5, 2, 0], "axis": [0, 0, 1]}
    swing = Stage({"world": NO_GROUND, "bodies": [rod], "joints": [joint]})
    way = np.array(swing.run(240, lambda: swing.rigid.place[0, 0])) - 5
    assert np.abs(way[200:]).max() > 0.9 * np.abs(way[:40]).max()


def test_a_chain_wakes_as_a_whole_when_its_end_is_pushed():
    """Five jointed boxes lie asleep in a row; one that is shoved takes all of them along."""
    links = [brick(f"link {n}", (0.3 * n, 0.051, 0), (0.2, 0.1, 0.1), thickness=0.0005) for n in range(5)]
    joints = [{"kind": "socket", "bodies": [f"link {n}", f"link {n + 1}"], "at": [0.3 * n + 0.15, 0.05, 0]}
              for n in range(4)]  # fmt: skip
    pusher = brick("pusher", (-0.4, 0.15, 0), (0.2, 0.2, 0.2), motion={
        "translate": {"keys": [[1, [0, 0, 0]], [60, [0, 0, 0]], [84, [0.4, 0, 0]]], "ease": "smooth"}})  # fmt: skip
    stage = Stage({"bodies": [*links, pusher], "joints": joints})
    stage.run(58)
    assert stage.rigid.asleep[:5].all()
    begin = stage.rigid.place[:5, 0].copy()
    stage.run(40)
    moved = stage.rigid.place[:5, 0] - begin
    assert moved.min() > 0.1


def test_a_body_lying_on_one_that_is_let_go_falls_with_it():
    held = brick("shelf", (0, 2, 0), (1, 0.1, 1), release=60,
                 motion={"translate": {"keys": [[1, [0, 0, 0]], [200, [0, 0, 0]]]}})  # fmt: skip
    stage = Stage({"world": NO_GROUND, "bodies": [held, brick("box", (0, 2.252, 0), thickness=0.001)]})
    stage.run(58)
    assert stage.rigid.asleep[1]
    stage.run(13)
    assert stage.rigid.place[1, 1] < 1.5
