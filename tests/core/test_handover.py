"""Handing over from a motion to physics, and back."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation
from stage import Stage

from zembrik.core.bake import bake
from zembrik.core.cache.body import CacheBody
from zembrik.core.cache.reader import Cache
from zembrik.core.cache.writer import CacheWriter
from zembrik.core.findings.check import check_setup
from zembrik.core.findings.outcome import check_outcome
from zembrik.core.findings.pops import pops_found
from zembrik.core.mesh import shapes
from zembrik.core.motion.handover import Spell, fade
from zembrik.core.motion.rates import CAME, GOES, pose_rates
from zembrik.core.motion.rigid import Mover
from zembrik.core.problem import Problem
from zembrik.core.review.pops import pops_of
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.solids import rotation_vector, vector_quaternion, vector_rate
from zembrik.core.units import quaternion_turn

G, FPS = 9.81, 24.0
STILL = {"translate": {"keys": [[1, [0, 0, 0]]]}}
BARE = {"ground": None, "air_density": 0}
SPEED, SPIN_DEG = np.array([1.5, 4.0, -0.5]), 30.0  # m/s; degrees a frame


def thrown(frames):
    """Return keys of a body that flies: exact where they are, and curves with the right slopes between."""
    keys = []
    for f in frames:
        t = (f - 1) / FPS
        slope = ((SPEED - [0, G * t, 0]) / FPS).tolist()
        place = (SPEED * t - [0, G * t * t / 2, 0]).tolist()
        keys.append([f, place, {"leave": slope, "arrive": ((SPEED - [0, G * (t + 1 / FPS), 0]) / FPS).tolist()}])
    return keys


def flown(t):
    return SPEED * t - np.array([0, G * t * t / 2, 0])


def stick(**more):
    mesh = {"shape": "box", "size": [0.1, 0.1, 0.5]}
    return {"name": "stick", "role": "rigid", "mesh": mesh, "proxy": {"kind": "box"}, **more}


@pytest.mark.parametrize("substeps", [6, 20])
def test_a_keyed_throw_goes_on_as_the_closed_form(substeps):
    """Handed over in flight at frame 7: within 0.1 mm after a second, and 0.5% of speed and spin."""
    motion = {"translate": {"keys": thrown(range(1, 8))}}
    motion["spin"] = {"axis": [0, 0, 1], "angle": {"keys": [[1, 0], [7, 6 * SPIN_DEG]]}}
    stage = Stage({"world": BARE, "bodies": [stick(motion=motion, handovers=[{"at": 7}])]}, substeps=substeps)
    stage.run(6 + 24)
    rigid, t = stage.rigid, 30 / FPS
    assert np.abs(rigid.place[0, :3] - flown(t)).max() < 1e-4
    speed = SPEED - [0, G * t, 0]
    assert np.linalg.norm(rigid.speed[0, :3] - speed) < 0.005 * np.linalg.norm(speed)
    spin = np.radians(SPIN_DEG) * FPS
    assert np.abs(rigid.speed[0, 3:] - [0, 0, spin]).max() < 0.005 * spin


def test_samples_of_a_file_hand_over_by_their_central_difference():
    """Straight lines from sample to sample, a frame apart: the speed at a frame is that of the curve behind them."""
    keys = [[f, flown((f - 1) / FPS).tolist()] for f in range(1, 12)]
    for last, off in ((11, 1e-4), (7, 1e-4)):  # going on behind the handover, and ending with it
        motion = {"translate": {"keys": keys[:last], "ease": "straight"}}
        stage = Stage({"world": BARE, "bodies": [stick(motion=motion, handovers=[{"at": 7}])]})
        stage.run(30)
        assert np.abs(stage.rigid.place[0, :3] - flown(30 / FPS)).max() < off


def test_a_motion_that_stops_at_its_last_key_hands_over_how_it_came():
    motion = {"translate": {"keys": [[1, [0, 0, 0]], [13, [2.0, 0, 0]]]}}
    mover = Mover({"translate": {"keys": motion["translate"]["keys"], "ease": "straight"}}, [0, 0, 0])
    assert pose_rates(mover, np.zeros(3), 13, FPS, CAME)[0] == pytest.approx([4, 0, 0], abs=1e-6)
    assert pose_rates(mover, np.zeros(3), 13, FPS, GOES)[0] == pytest.approx([0, 0, 0], abs=1e-6)
    stage = Stage({"world": BARE, "bodies": [stick(motion=motion, handovers=[{"at": 13}])]})
    stage.run(24)
    assert stage.rigid.place[0, 0] == pytest.approx(4.0, abs=1e-4)


def test_handed_over_at_the_first_frame_it_begins_with_its_speed():
    motion = {"translate": {"keys": [[-5, [-1.0, 0, 0]], [1, [0, 0, 0]], [7, [1.0, 0, 0]]]}}
    stage = Stage({"world": BARE, "bodies": [stick(motion=motion, handovers=[{"at": 1}])]})
    stage.run(24)
    assert stage.rigid.place[0, :2] == pytest.approx([4.0, -G / 2], abs=1e-4)


def test_given_back_it_ends_on_the_keys_without_a_jump_of_place_or_speed():
    """A swing that is free for a while: at every substep place and speed go on, and at the end it is on its keys."""
    motion = {"rotate": {"keys": [[1, [0, 0, 0]], [20, [0, 0, 80]], [40, [0, 60, -40]]], "ease": "smooth"},
              "translate": {"keys": [[1, [0, 2, 0]], [40, [3, 2, 0]]], "ease": "smooth"}}  # fmt: skip
    body = stick(motion=motion, handovers=[{"at": 8, "back": 16, "over": 10}, {"at": 30, "back": 33, "over": 4}])
    stage = Stage({"world": BARE, "bodies": [body]})
    part, places = stage.world.solids.parts[0], []
    for _ in range(39):
        before = stage.rigid.place[0].copy()
        stage.run(1)
        places.append(before)
    places.append(stage.rigid.place[0].copy())
    poses = np.array(places)
    turns = Rotation.from_quat(poses[:, 3:])
    for frame in (8, 26, 28, 30, 37, 40):
        turn, shift = part.mover.at(frame)
        assert np.abs(poses[frame - 1, :3] - (turn @ part.mass.centre + shift)).max() < 1e-9, frame
        away = turns[frame - 1].as_matrix() - turn @ part.mass.axes
        assert np.abs(away).max() < 1e-9, frame
    speed = np.diff(poses[:, :3], axis=0) * FPS
    spin = (turns[1:] * turns[:-1].inv()).as_rotvec() * FPS
    for n in (15, 25):  # frames 16 and 26: what a frame's step in speed comes to, away from gravity and the ease
        assert np.linalg.norm(speed[n] - speed[n - 1]) < 0.15 * max(np.linalg.norm(speed[n - 1]), 1.0)
        assert np.linalg.norm(spin[n] - spin[n - 1]) < 0.15 * max(np.linalg.norm(spin[n - 1]), 1.0)


@given(st.tuples(*[st.floats(-2, 2)] * 3), st.tuples(*[st.floats(-5, 5)] * 3), st.floats(1, 40), st.floats(0.0, 1.0))
@settings(max_examples=50, deadline=None)
def test_the_fade_begins_as_it_is_off_and_ends_at_rest(off, pace, over, share):
    """Place and speed are continuous at both ends, and the acceleration is nothing there."""
    spell, off, pace, h = Spell(1.0, 10.0, over), np.array(off), np.array(pace), 1e-4
    at = [fade(spell, 10.0 + d, FPS, off, pace) for d in (0.0, h, 2 * h)]
    assert at[0] == pytest.approx(off)
    assert (at[1] - at[0]) * FPS / h == pytest.approx(pace, abs=1e-3)
    end = [fade(spell, 10.0 + over - d, FPS, off, pace) for d in (0.0, h)]
    assert np.abs(end[0]).max() < 1e-9 and np.abs(end[1]).max() < 1e-9
    whole = fade(spell, 10.0 + share * over, FPS, off, np.zeros(3))
    assert np.linalg.norm(whole) <= np.linalg.norm(off) + 1e-9


@given(st.tuples(*[st.floats(-1.5, 1.5)] * 3), st.tuples(*[st.floats(-3, 3)] * 3))
@settings(max_examples=50, deadline=None)
def test_the_rate_of_a_rotation_vector_is_its_derivative(vector, spin):
    vector, spin, h = np.array(vector), np.array(spin), 1e-5
    turn = quaternion_turn(vector_quaternion(vector))
    on = [rotation_vector(quaternion_turn(vector_quaternion(s * h * spin)) @ turn) for s in (-1, 1)]
    assert vector_rate(vector, spin) == pytest.approx((on[1] - on[0]) / (2 * h), abs=1e-4)


def test_a_keyed_swing_becomes_a_pendulum():
    """Let go at the turning point it has no speed, and hangs from its joint: the keys' energy is the pendulum's."""
    rod = {**stick(), "name": "rod", "mesh": {"shape": "box", "size": [0.04, 1.0, 0.04]}}
    rod["place"] = {"translate": [0, -0.5, 0]}
    # About the rod's upper end: its middle goes round as it turns.
    angles = [50.0 * np.cos(np.pi * (f - 1) / 12.0) for f in range(1, 14)]
    rad = np.radians(angles)
    rod["motion"] = {
        "rotate": {"keys": [[f + 1, [0, 0, a]] for f, a in enumerate(angles)], "ease": "straight"},
        "translate": {
            "keys": [[f + 1, [0.5 * np.sin(a), 0.5 - 0.5 * np.cos(a), 0]] for f, a in enumerate(rad)],
            "ease": "straight",
        },
    }  # fmt: skip
    rod["handovers"] = [{"at": 13}]
    joint = {"kind": "hinge", "bodies": ["rod", None], "at": [0, 0, 0], "axis": [0, 0, 1]}
    stage = Stage({"world": BARE, "bodies": [rod], "joints": [joint]}, substeps=20)
    stage.run(12)
    heights = np.array(stage.run(48, lambda: stage.rigid.place[0, :3].copy()))
    swing = np.degrees(np.arctan2(heights[:, 0], -heights[:, 1]))
    # T = 2π √(2L / 3g) times 2/π K(sin² 25°) = 1.638 s · 1.050: half of it is 20.6 frames.
    peak = int(np.argmax(swing[:30]))
    assert swing.max() == pytest.approx(50.0, abs=0.8) and abs(peak + 1 - 20.6) < 1.0


def test_a_sheet_that_changes_its_form_is_handed_over_in_flight(tmp_path):
    """A cache of a sheet that flies, turns and waves: every point goes on from its own place with its own speed."""
    grid = shapes.grid((0.6, 0.6), (12, 12))

    def form(frame):
        t = (frame - 1) / FPS
        turn = Rotation.from_rotvec([0.0, 0.6 * t, 0.0]).as_matrix()
        wave = grid.points + np.outer(0.01 * np.sin(6.0 * grid.points[:, 0] + 3.0 * t), [0, 1, 0])
        return wave @ turn.T + flown(t)

    setup = {"title": "", "fps": FPS, "frames": [1, 12]}
    writer = CacheWriter.create(
        tmp_path / "s.zarr", "0" * 64, setup, {}, {}, [CacheBody("sheet", grid.faces, len(grid.points))], {"file": "s"}
    )
    for frame in range(1, 13):
        writer.commit(frame, [form(frame).astype(np.float32)], {}, 0.0, None)
    writer.finish()

    class One:
        def read(self, file):
            raise Problem("no file", file)

        def cache(self, name):
            return Cache(tmp_path / name)

    sheet = {"name": "sheet", "role": "cloth", "mesh": {"cache": "s.zarr", "body": "sheet"}, "handovers": [{"at": 7}]}
    stage = Stage({"world": BARE, "bodies": [sheet]}, assets=One())
    stage.run(6)
    assert np.abs(stage.world.x - form(7)).max() < 1e-6
    stage.run(1)
    assert np.abs(stage.world.x - form(8)).max() < 2e-3  # what the stuff does about the wave is in it
    stage.run(23)
    share, t = stage.world.mass / stage.world.mass.sum(), 24 / FPS
    pace = share @ (form(7.001) - form(6.999)) * FPS / 0.002
    assert np.abs(share @ stage.world.x - (share @ form(7) + pace * t - [0, G * t * t / 2, 0])).max() < 1e-3
    assert np.abs(share @ stage.world.v - (pace - [0, G * t, 0])).max() < 0.01
    arms = stage.world.x - share @ stage.world.x
    spin = np.einsum("n,ni->i", stage.world.mass, np.cross(arms, stage.world.v)) / (
        stage.world.mass @ (arms[:, 0] ** 2 + arms[:, 2] ** 2)
    )
    assert spin[1] == pytest.approx(0.6, rel=0.02)  # it goes on turning


SHEET = {"name": "it", "role": "cloth", "mesh": {"shape": "grid", "size": [0.4, 0.4], "segments": [6, 6]}}
LOAF = {"name": "it", "role": "soft", "mesh": {"shape": "box", "size": [0.2, 0.1, 0.1]}, "cell": 0.05}
CARRIED = {"translate": {"keys": [[1, [0, 1, 0]], [30, [2, 1, 0]]], "ease": "smooth"},
           "rotate": {"keys": [[1, [0, 0, 0]], [30, [0, 90, 0]]], "ease": "smooth"}}  # fmt: skip


@pytest.mark.parametrize("body", [SHEET, LOAF])
def test_cloth_and_soft_bodies_are_led_let_go_and_drawn_back(body):
    """Led as their keys have it, free from 8 to 12, and at 20 on their keys again: in place and at their speed."""
    handed = {**body, "motion": CARRIED, "handovers": [{"at": 8, "back": 12, "over": 8}]}
    stage = Stage({"world": BARE, "bodies": [handed]})
    world, begin = stage.world, stage.world.x.copy()
    mover = world.handles.every[0].mover
    rest = world.handles.every[0].rest
    assert np.abs(begin - mover.points_at(rest, 1)).max() < 1e-9
    stage.run(7)
    assert np.abs(world.x - mover.points_at(rest, 8)).max() < 1e-9
    free = np.array(stage.run(4, lambda: world.x.mean(axis=0)))
    assert (world.w > 0).all() and free[-1, 1] < 1.0 - 0.1  # it fell for a sixth of a second: 136 mm
    back = np.array(stage.run(12, lambda: (world.x - mover.points_at(rest, stage.frame)).mean(axis=0)))
    away = np.linalg.norm(back, axis=1)
    assert (world.w == 0).all() and away[7:].max() < 1e-9 and (np.diff(away[2:8]) < 0).all()
    assert abs(away[0] - 0.136 - 1.64 / FPS) < 0.02  # it goes on falling as fast as it was, at first


def test_a_bake_that_goes_on_while_a_body_is_drawn_back_is_as_one_that_never_stopped(tmp_path):
    def setup(last):
        motion = {"motion": CARRIED, "handovers": [{"at": 5, "back": 8, "over": 8}]}
        bodies = [{**SHEET, **motion}, stick(**motion, place={"translate": [0, 1, 0]})]
        return parse_setup({"world": BARE, "frames": [1, last], "bodies": bodies, "quality": {"profile": "rough"}})

    for name, lasts in (("whole", [14]), ("twice", [10, 14])):
        for last in lasts:
            bake(setup(last), NoAssets(), tmp_path / f"{name}.zarr", resume=True)
    one, two = Cache(tmp_path / "whole.zarr"), Cache(tmp_path / "twice.zarr")
    assert all((one.points(0, f) == two.points(0, f)).all() for f in range(1, 15))
    assert all((one.pose(1, f) == two.pose(1, f)).all() for f in range(1, 15))
    assert [f.code for f in check_outcome(setup(14), one)] == []


def baked(path, bodies, last=20, **more):
    setup = parse_setup({"frames": [1, last], "bodies": bodies, "world": BARE, **more})
    bake(setup, NoAssets(), path)
    return setup, Cache(path)


def test_the_pop_meter_tells_a_jump_and_what_ends_it(tmp_path):
    """Handed over in flight nothing jumps; taken back at once it does, by what the keys are away; eased it does not."""
    motion = {"translate": {"keys": thrown(range(1, 8))}}
    motion["spin"] = {"axis": [1, 2, 0], "angle": {"keys": [[1, 0], [20, 19 * SPIN_DEG]]}}
    for over, seen in ((0, True), (12, False)):
        handed = stick(motion=motion, handovers=[{"at": 5, "back": 12, "over": over}])
        setup, cache = baked(tmp_path / f"{over}.zarr", [handed], 30)
        there, *rest = pops_of(setup, cache, NoAssets())
        assert (there.frame, there.back, there.seen) == (5, False, False)
        assert there.jump_mm < 0.1 and there.turn_deg < 0.05 and there.share < 0.005
        found = pops_found(setup, cache, NoAssets())
        assert [f.frame for f in found] == ([12] if seen else [])
        assert len(rest) == seen
        if seen:  # the keys end at frame 7: there it jumps back to
            way = np.linalg.norm(flown(6 / FPS) - flown(11 / FPS))
            (back,) = rest
            assert (back.frame, back.back, back.seen) == (12, True, True)
            assert back.jump_mm == pytest.approx(1e3 * way, abs=0.1)
            (fix,) = found[0].patch
            assert (fix["path"], fix["value"]) == ("/bodies/0/handovers/0/over", 12)


def test_what_rests_and_is_handed_over_does_not_pop(tmp_path):
    still = {"translate": {"keys": [[1, [0, 0, 0]], [3, [0, 0, 0]]]}}
    resting = stick(motion=still, handovers=[{"at": 6}], place={"translate": [0, 0.051, 0]}, thickness=0.001)
    setup, cache = baked(tmp_path / "r.zarr", [resting], 12, world={"ground": {"height": 0}})
    (pop,) = pops_of(setup, cache, NoAssets())
    assert not pop.seen and pop.jump_mm < 0.5 and check_outcome(setup, cache) == []


@pytest.mark.parametrize("kind", ["rigid", "cloth"])
def test_a_handover_inside_a_collider_is_told_with_its_kick(tmp_path, kind):
    """Led down into the ground by 20 mm at frame 9: told before the bake, with a frame at which it is free."""
    down = {"translate": {"keys": [[1, [0, 0.5, 0]], [11, [0, 0, 0]]]}}
    body = stick() if kind == "rigid" else {**SHEET, "name": "stick"}
    lowest = 0.05 if kind == "rigid" else 0.0
    room = 0.002
    body |= {
        "motion": down,
        "handovers": [{"at": 11}],
        "thickness": room,
        "place": {"translate": [0, lowest - 0.02, 0]},
    }
    document = {"frames": [1, 20], "bodies": [body], "quality": {"substeps": 10}}
    (told,) = [f for f in check_setup(parse_setup(document), NoAssets()) if f.code == "handed_inside"]
    assert told.severe and "22.0 mm inside 'ground'" in told.text and f"{0.022 * FPS * 10:.1f} m/s" in told.text
    document["bodies"] = [{**body, "handovers": [{"at": told.patch[0]["value"]}]}]
    assert told.patch[0]["path"] == "/bodies/0/handovers/0/at" and told.patch[0]["value"] == 10
    assert not [f for f in check_setup(parse_setup(document), NoAssets()) if f.code == "handed_inside"]
    document["bodies"] = [{**body, "handovers": [{"at": 30}]}]
    assert [f.code for f in check_setup(parse_setup(document), NoAssets()) if "handed" in f.code] == ["never_handed"]


@pytest.mark.parametrize(
    ("body", "words"),
    [
        (stick(handovers=[{"at": 7}]), "nothing moves it before"),
        (stick(motion=STILL, handovers=[{"at": 7, "back": 7}]), "taken back at frame 7"),
        (stick(motion=STILL, handovers=[{"at": 7, "back": 9}, {"at": 20}]), "drawn back until 21"),
        (stick(motion=STILL, handovers=[{"at": 7}, {"at": 9}]), "never taken back"),
        (stick(motion=STILL, release=3, handovers=[{"at": 7}]), "give one of them"),
        ({**stick(handovers=[{"at": 7}]), "role": "collider"}, "never handed over"),
    ],
)  # fmt: skip
def test_handovers_that_cannot_be_are_told(body, words):
    with pytest.raises(Problem, match=words):
        parse_setup({"bodies": [body]})
