"""Guided takes: a live run is what its recorded way plays again, and what a full bake follows."""

import numpy as np
import pytest
from stage import Stage, brick

from zembrik.core.live.run import FASTEST_M_PER_S, Held, LiveRun, replay, with_grip
from zembrik.core.live.take import keyed_poses, keyed_way
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import NoAssets, mover_of_body
from zembrik.core.setup.document import parse_setup

SHEET = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [0.6, 0.6], "segments": [12, 12]},
         "place": {"translate": [0, 0.5, 0]}, "pins": [{"points": {"side": "left"}}]}  # fmt: skip
BALL = {"name": "ball", "role": "collider", "mesh": {"shape": "ball", "radius": 0.15}, "proxy": {"kind": "ball"}}


def shot(**more):
    return parse_setup({"bodies": [SHEET, BALL], **more})


def waved(frames):
    """A hand's way: up and to and fro, with a jerk."""
    t = np.arange(1, frames + 1) / 24.0
    return np.column_stack([0.2 * np.sin(5 * t), 0.3 * t, 0.1 * (t > 0.4)])


def test_what_was_recorded_gives_the_same_bytes_again():
    """Whatever the moments at which it came: the hand is taken in at frames alone."""
    run, seen = LiveRun(shot(), Held("sheet", 0), NoAssets()), []
    for to in waved(20):
        run.step(to)
        seen.append(run.world.x.tobytes())
    again = replay(shot(), Held("sheet", 0), NoAssets(), run.way)
    assert again.world.x.tobytes() == seen[-1] and again.frame == run.frame == 21
    assert run.world.x.tobytes() != replay(shot(), Held("sheet", 0), NoAssets(), run.way[:-1]).world.x.tobytes()


def test_a_full_bake_has_the_hands_way_within_the_bound_at_every_substep():
    """Through the setup that the take makes: held points against the recorded way, at many moments of every frame."""
    run = LiveRun(shot(), Held("sheet", 0), NoAssets())
    for to in waved(24):
        run.step(to)
    found = keyed_way(1, run.way, 0.0005)
    assert found.keys_of_place < 16 and found.off_m <= 0.0005
    document = with_grip(shot(), Held("sheet", 0), NoAssets())
    document["bodies"][-1]["motion"] = found.motion
    setup = parse_setup(document)
    grip = mover_of_body(setup, 2, NoAssets())
    moments = np.linspace(1, 25, 24 * 20 + 1)
    led = np.array([grip.at(f)[1] for f in moments])
    way = np.array([run.track.values(f)[0] for f in moments])
    assert np.linalg.norm(led - way, axis=1)[::20].max() < 0.0005  # at every frame
    # Between frames the hand's own way is a straight line, the keys' a smooth one: within the way's bend of a frame.
    bend = np.abs(np.diff(run.way, 2, axis=0)).max()
    assert np.linalg.norm(led - way, axis=1).max() < 0.0005 + bend
    stage = Stage(document)
    held = stage.world.handles.every[0].numbers
    start = stage.world.x[held].copy()
    stage.run(24)
    assert np.abs(stage.world.x[held] - start - run.way[-1]).max() < 0.0005


def test_a_hand_that_jumps_is_taken_on_over_frames_and_odd_places_move_nothing():
    run = LiveRun(shot(), Held("sheet", 0), NoAssets())
    run.step([5.0, 0, 0])
    assert np.linalg.norm(run.way[-1]) == pytest.approx(FASTEST_M_PER_S / 24)
    run.step([np.nan, 0, 0])
    run.step([1e30, 0, 0])
    assert np.isfinite(run.way).all() and np.abs(np.diff(run.way, axis=0)).max() <= FASTEST_M_PER_S / 24 + 1e-12


def test_a_crate_that_is_thrown_flies_on_and_is_kept_as_keys():
    """Let go at 3 m/s along X, 2.4 up: x = v t, and the parabola in y, within a millimetre of the closed form."""
    crate = brick("crate", (0, 1, 0), (0.2, 0.2, 0.2))
    setup = parse_setup({"bodies": [crate], "world": {"ground": None, "air_density": 0}})
    run, poses = LiveRun(setup, Held("crate"), NoAssets()), []
    for n in range(1, 25):
        if n == 7:
            run.release()
        run.step(np.array([0.125, 0.1, 0.0]) * n)
        poses.append(run.shown()[0][2])
    assert run.let_go == 7
    t = 18 / 24
    right = np.array([0.75 + 3.0 * t, 0.6 + 2.4 * t - 0.5 * 9.81 * t * t, 0.0])
    assert poses[-1][:3] == pytest.approx(right, abs=1e-4)
    found = keyed_poses(1, np.array([[0, 0, 0, 0, 0, 0, 1], *poses]), (0, 1, 0), 0.0005)
    assert found.off_m <= 0.0005 and found.off_deg <= 0.2 and found.keys_of_place < 20
    again = replay(setup, Held("crate"), NoAssets(), run.way, run.let_go)
    assert again.world.solids.rigid.place.tobytes() == run.world.solids.rigid.place.tobytes()


@pytest.mark.parametrize(
    ("bodies", "held", "words"),
    [
        ([SHEET, BALL], Held("nobody"), "there is no body 'nobody'"),
        ([SHEET, BALL], Held("sheet"), "points of it are taken in hand"),
        ([SHEET, BALL], Held("sheet", 3), "no such held points"),
        ([BALL], Held("ball"), "nothing is simulated"),
        ([SHEET, {**BALL, "motion": {"translate": {"keys": [[1, [0, 0, 0]]]}}}], Held("ball"), "moves by keys"),
        ([{**SHEET, "mesh": {"shape": "grid", "size": [1, 1], "segments": [260, 260]}}], Held("sheet", 0), "too many"),
    ],
)
def test_what_cannot_be_taken_in_hand_is_told(bodies, held, words):
    with pytest.raises(Problem, match=words):
        LiveRun(parse_setup({"bodies": bodies}), held, NoAssets())


def test_only_a_rigid_body_is_let_go_of():
    run = LiveRun(shot(), Held("ball"), NoAssets())
    run.step([0.01, 0, 0])
    with pytest.raises(Problem, match="only a rigid body"):
        run.release()


def test_coarser_cloth_has_fewer_rows_but_where_its_points_are_named():
    run = LiveRun(shot(), Held("sheet", 0), NoAssets(), coarser=3)
    assert run.coarse == ["sheet"] and len(run.world.x) == 25
    named = {**SHEET, "pins": [{"points": {"numbers": [0, 1]}}]}
    run = LiveRun(parse_setup({"bodies": [named, BALL]}), Held("sheet", 0), NoAssets(), coarser=3)
    assert run.coarse == [] and len(run.world.x) == 169
