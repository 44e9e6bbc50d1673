"""Colliders that move, pins that follow, and nothing that passes through, against formulas."""

import copy

import numpy as np
import pytest

from zembrik.core.bake import bake
from zembrik.core.motion.rigid import Mover
from zembrik.core.motion.track import track_values
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.setup.resolve import setup_hash
from zembrik.core.solver.build import build_world
from zembrik.core.solver.step import Stepper

GRAVITY, FPS = 9.81, 24.0


def run(document, frames, substeps=20, watch=lambda world, frame: None):
    world = build_world(parse_setup(document), NoAssets())
    stepper = Stepper(world, substeps, 1, FPS)
    for frame in range(1, frames + 1):
        stepper.advance(frame)
        watch(world, frame + 1)
    return world


def scene(*bodies, **world):
    return {"world": {"ground": None, "air_density": 0.0, **world}, "bodies": list(bodies)}


def sheet(size=0.2, segments=8, height=0.0, **more):
    return {
        "name": "sheet",
        "role": "cloth",
        "mesh": {"shape": "grid", "size": [size, size], "segments": [segments, segments]},
        "place": {"translate": [0, height, 0]},
        "material": {"preset": "linen", "friction": 0.4},
        "thickness": 0.001,
        **more,
    }


def test_a_belt_carries_what_lies_on_it():
    """Friction brings a sheet on a belt of speed v up to v along µ g t, and then it goes along."""
    friction, speed = 0.4, 2.0
    belt = {
        "name": "belt",
        "role": "collider",
        "mesh": {"shape": "box", "size": [20, 0.1, 1]},
        "place": {"translate": [0, -0.05, 0]},
        "proxy": {"kind": "box"},
        "friction": friction,
        "motion": {"translate": {"keys": [[1, [0, 0, 0]], [49, [2 * speed, 0, 0]]]}},
    }
    speeds = []
    document = scene(sheet(height=0.003), belt)
    run(document, 24, 20, lambda world, frame: speeds.append(world.v[:, 0].mean()))
    time = np.arange(1, 25) / FPS
    expected = np.minimum(friction * GRAVITY * time, speed)
    assert np.abs(np.array(speeds) - expected).max() < 0.03 * speed
    assert speeds[-1] == pytest.approx(speed, rel=1e-6)


def test_a_turning_drum_drags_its_surface():
    """A sheet lying at radius r on a disc that turns at ω, with much friction, goes round with it: angle ω t."""
    disc = {
        "name": "disc",
        "role": "collider",
        "mesh": {"shape": "box", "size": [4, 0.1, 4]},
        "place": {"translate": [0, -0.05, 0]},
        "proxy": {"kind": "box"},
        "friction": 5.0,
        "motion": {"rotate": {"keys": [[1, [0, 0, 0]], [97, [0, 720, 0]]], "ease": "straight"}},
    }
    document = scene(sheet(height=0.0031), disc)
    document["bodies"][0]["place"]["translate"] = [0.15, 0.0031, 0]
    document["bodies"][0]["material"]["friction"] = 5.0
    world = run(document, 24, 40)
    middle = world.x.mean(axis=0)
    assert np.degrees(np.arctan2(-middle[2], middle[0])) % 360 == pytest.approx(180, abs=4)


@pytest.mark.parametrize("kind", ["ball", "box", "hull", "surface"])
def test_nothing_passes_a_fast_thin_collider(kind):
    """A board of 6 mm, or a ball, flies at 20 m/s into a hanging sheet: no point is left behind it."""
    mesh = {"shape": "ball", "radius": 0.15} if kind == "ball" else {"shape": "box", "size": [0.006, 0.5, 0.5]}
    thing = {
        "name": "thing",
        "role": "collider",
        "mesh": mesh,
        "place": {"translate": [-0.5, 0, 0]},
        "proxy": {"kind": kind},
        "motion": {"translate": {"keys": [[1, [0, 0, 0]], [5, [20 * 4 / FPS, 0, 0]]]}},
    }
    document = scene(sheet(size=0.4, segments=16, place={"rotate": [0, 0, 90]}), thing)
    behind = []

    def watch(world, frame):
        front = -0.5 + 20 * min(frame - 1, 4) / FPS
        within = np.linalg.norm(world.x[:, 1:], axis=1) < 0.1
        if frame - 1 >= 1:
            behind.append(world.x[within, 0].min() - front)

    run(document, 4, 20, watch)
    assert min(behind) > 0.0


def test_a_fast_sheet_stops_at_a_thin_board():
    """The same the other way round: a sheet thrown at 30 m/s at a still board of 4 mm stays on its side."""
    board = {
        "name": "board",
        "role": "collider",
        "mesh": {"shape": "box", "size": [0.004, 2, 2]},
        "place": {"translate": [1, 0, 0]},
        "proxy": {"kind": "box"},
    }
    world = build_world(parse_setup(scene(sheet(place={"rotate": [0, 0, 90]}), board)), NoAssets())
    world.v[:, 0] = 30.0
    stepper = Stepper(world, 10, 1, FPS)
    for frame in range(1, 5):
        stepper.advance(frame)
        assert world.x[:, 0].max() < 1.0 - 0.002


def test_open_sheets_are_touched_from_the_side_of_choice():
    """A sheet of faces that look down swallows cloth from above; touched from both sides it carries it."""
    shelf = {
        "name": "shelf",
        "role": "collider",
        "mesh": {"shape": "grid", "size": [1, 1], "segments": [4, 4]},
        "place": {"rotate": [180, 0, 0]},
        "proxy": {"kind": "surface", "sides": "both"},
    }
    document = scene(sheet(height=0.05), shelf)
    assert run(document, 24).x[:, 1].min() > 0.0
    one_sided = copy.deepcopy(document)
    one_sided["bodies"][1]["proxy"]["sides"] = "outside"
    assert run(one_sided, 24).x[:, 1].max() < 0.0


def test_pins_follow_their_body():
    """A pinned point goes exactly where the motion takes it; the others hang behind it."""
    motion = {
        "translate": {"keys": [[1, [0, 0, 0]], [13, [0.6, 0.1, 0]]], "ease": "smooth"},
        "rotate": {"keys": [[1, [0, 0, 0]], [13, [0, 90, 0]]]},
    }
    bar = {
        "name": "bar",
        "role": "left out",
        "mesh": {"shape": "box", "size": [1, 0.1, 0.1]},
        "place": {"translate": [0, 0.2, 0]},
        "motion": motion,
    }
    pins = [{"points": {"numbers": [0, 8]}, "follow": "bar"}]
    document = scene(sheet(height=0.2, pins=pins), bar)
    mover = Mover(parse_setup(document).model_dump()["bodies"][1]["motion"], [0, 0.2, 0])
    start = build_world(parse_setup(document), NoAssets()).x[[0, 8]].copy()
    seen = []

    def watch(world, frame):
        turn, shift = mover.at(frame)
        seen.append(np.abs(world.x[[0, 8]] - (start @ turn.T + shift)).max())

    run(document, 14, 20, watch)
    assert max(seen) < 1e-12
    with_bar, without = parse_setup(document), copy.deepcopy(document)
    without["bodies"][1]["motion"]["translate"]["keys"][1][1][0] = 0.7
    assert setup_hash(with_bar, str) != setup_hash(parse_setup(without), str)  # though the bar is left out


def test_tracks_of_vectors_ease():
    """Straight: the line; smooth: 3t² - 2t³; hold: the key before."""
    keys = [(0.0, (0.0, 0.0, 0.0)), (10.0, (10.0, -20.0, 0.0))]
    assert track_values(keys, "straight", 2.5)[0] == pytest.approx([2.5, -5, 0])
    assert track_values(keys, "smooth", 2.5)[0] == pytest.approx(np.array([10, -20, 0]) * (3 / 16 - 2 / 64))
    assert track_values(keys, "hold", 9.9)[0] == pytest.approx([0, 0, 0])
    assert track_values(keys[:1], "hold", np.arange(3.0)).shape == (3, 3)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda d: d["bodies"][0]["pins"].append({"points": {"numbers": [0]}, "follow": "nobody"}), "follows 'nobody'"),
        (lambda d: d["bodies"][0].update(motion={}), "no motion of its own"),
        (
            lambda d: d["bodies"][1].update(motion={"rotate": {"keys": [[4, [0, 0, 0]], [4, [0, 9, 0]]]}}),
            "two keys stand on frame 4",
        ),
        (lambda d: d["bodies"][1].update(motion={"translate": {"keys": [[1, [0, 0]]]}}), "translate"),
    ],
)
def test_wrong_motions_are_told(change, words):
    document = scene(sheet(pins=[]), {"name": "box", "role": "collider", "mesh": {"shape": "box", "size": [1, 1, 1]}})
    change(document)
    with pytest.raises(Problem, match=words):
        parse_setup(document)


def test_a_stopped_bake_goes_on_in_the_same_bytes_with_everything_moving(tmp_path):
    """Collider, its edges, pins that follow and turbulence: stopped at frame 4 and continued, as in one go."""
    box = {
        "name": "box",
        "role": "collider",
        "mesh": {"shape": "box", "size": [0.1, 0.1, 0.1]},
        "place": {"translate": [0, -0.06, 0]},
        "proxy": {"kind": "box"},
        "motion": {
            "translate": {"keys": [[1, [0, 0, 0]], [9, [0, 0.1, 0]]]},
            "rotate": {"keys": [[1, [0, 0, 0]], [9, [0, 90, 20]]], "ease": "smooth"},
        },
    }
    document = scene(sheet(pins=[{"points": {"numbers": [0, 8]}, "follow": "box"}]), box, air_density=1.2)
    swirls = {"kind": "turbulence", "speed": 2.0, "size": 0.3}
    setup = parse_setup({**document, "frames": [1, 9], "forces": [swirls], "quality": {"self_collision": True}})
    whole = bake(setup, NoAssets(), tmp_path / "whole")
    bake(setup, NoAssets(), tmp_path / "stopped", tell=lambda progress: progress.frame < 4)
    stopped = bake(setup, NoAssets(), tmp_path / "stopped", resume=True)
    for frame in range(1, 10):
        assert whole.points(0, frame).tobytes() == stopped.points(0, frame).tobytes(), frame


def test_same_bytes_on_one_thread_and_on_two_with_everything_moving():
    from zembrik.core.compiled import use_threads

    ball = {
        "name": "ball",
        "role": "collider",
        "mesh": {"shape": "ball", "radius": 0.1, "rings": 8},
        "place": {"translate": [0, -0.12, 0]},
        "motion": {"translate": {"keys": [[1, [0, 0, 0]], [7, [0, 0.3, 0]]]}},
    }
    results = []
    for threads in (1, 2, 2):
        use_threads(threads)
        world = run(scene(sheet(segments=30), ball), 6)
        results.append(world.x.tobytes() + world.v.tobytes())
    assert results[0] == results[1] == results[2]
