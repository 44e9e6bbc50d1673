"""Few keys within a bound that holds at every moment; rigid motion of what deforms."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from zembrik.core.bake import bake
from zembrik.core.keys.angles import reduced_angles
from zembrik.core.keys.from_cache import keyed, poses_of, rigid_fit
from zembrik.core.keys.reduce import reduced_places, reduced_turns, worst_places, worst_turns
from zembrik.core.keys.smooth import angle_between, turns_at, values_at
from zembrik.core.motion.angles import ORDERS, angles_of, matrix_of
from zembrik.core.motion.rigid import Mover
from zembrik.core.setup.assets import NoAssets, placed_mesh
from zembrik.core.setup.document import parse_setup

FRAMES = 240


def tumble(seed):
    """Return places (240, 3) and turns (240, 4) of a body that falls, bounces and tumbles on, at 24 frames a second."""
    rng = np.random.default_rng(seed)
    t = np.arange(FRAMES) / 24.0
    hits = np.sort(rng.uniform(0.5, 9.5, rng.integers(2, 7)))
    places, turns = np.zeros((FRAMES, 3)), np.zeros((FRAMES, 4))
    place, speed = rng.uniform(-1, 1, 3) + np.array([0, 3, 0]), rng.normal(0, 1.5, 3)
    turn, spin, begin = Rotation.random(random_state=seed), rng.normal(0, 3.0, 3), 0.0
    for end in [*hits, 99.0]:
        inside = (t >= begin) & (t < end)
        dt = (t[inside] - begin)[:, None]
        places[inside] = place + speed * dt + 0.5 * np.array([0, -9.81, 0]) * dt**2
        turns[inside] = (Rotation.from_rotvec(spin * dt) * turn).as_quat()
        span = end - begin
        place = place + speed * span + 0.5 * np.array([0, -9.81, 0]) * span**2
        speed = (speed + np.array([0, -9.81, 0]) * span) * [0.7, -0.4, 0.7]
        turn, spin, begin = Rotation.from_rotvec(spin * span) * turn, rng.normal(0, 3.0, 3) * 0.7, end
    return places, turns


def read(motion, frames):
    """Return what the setup's own tracks make of a motion: origins (m, 3) and turns (m, 3, 3)."""
    mover = Mover(motion, [0.0, 0.0, 0.0])
    found = [mover.at(float(f)) for f in frames]
    return np.array([s for _, s in found]), np.array([m for m, _ in found])


def motion_of(places, turns, numbers, leave, arrive, picked):
    """Return reduced keys as a setup has them."""
    keys = []
    for n, k in enumerate(numbers):
        slopes = [{"leave": list(leave[n]), "arrive": list(arrive[n])}] if n < len(leave) else []
        keys.append([k, list(places[k]), *slopes])
    turned = [[k, list(turns[k])] for k in picked]
    return {"translate": {"keys": keys, "ease": "straight"}, "turn": {"keys": turned, "ease": "straight"}}


def test_the_bound_holds_between_frames_for_200_tumbling_bodies():
    """1 mm and 0.5°, at 10 moments a frame, read back through the setup's tracks; a fifth of the keys or fewer."""
    shares, worst_m, worst_deg = [], 0.0, 0.0
    for seed in range(200):
        places, turns = tumble(seed)
        numbers, leave, arrive = reduced_places(places, 0.001)
        picked = reduced_turns(turns, np.radians(0.5))
        assert worst_places(places, numbers) <= 0.001 and np.degrees(worst_turns(turns, picked)) <= 0.5
        shares.append(max(len(numbers), len(picked)) / FRAMES)
        motion = motion_of(places, turns, numbers, leave, arrive, picked)
        # At 10 moments a frame, of every body a stretch of its own; together they cover all frames many times over.
        begin = 12 * (seed % 20)
        at = np.arange(begin, min(begin + 12, FRAMES - 1) + 1e-9, 0.1)
        origins, matrices = read(motion, at)
        worst_m = max(worst_m, float(np.linalg.norm(origins - values_at(places, at), axis=1).max()))
        off = angle_between(Rotation.from_matrix(matrices).as_quat(), turns_at(turns, at))
        worst_deg = max(worst_deg, float(np.degrees(off.max())))
    assert worst_m <= 0.001 + 1e-9 and worst_deg <= 0.5 + 1e-6
    assert np.mean(shares) < 0.2 and np.max(shares) <= 0.2


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 2**31), st.floats(1e-4, 0.3), st.floats(0.05, 20.0))
def test_the_bounds_hold_for_anything(seed, bound_m, bound_deg):
    """Noise, jumps and stillness: the bound that is told is kept, and is one for what is between frames too."""
    rng = np.random.default_rng(seed)
    count = int(rng.integers(2, 40))
    places = np.cumsum(rng.normal(0, rng.choice([0.0, 0.01, 0.5]), (count, 3)), axis=0)
    steps = Rotation.from_rotvec(rng.normal(0, rng.choice([0.0, 0.02, 0.8]), (count, 3)))
    turn, turns = Rotation.identity(), []
    for step in steps:
        turn = step * turn
        turns.append(turn.as_quat() * rng.choice([-1.0, 1.0]))  # signs as they come
    turns = np.array(turns)
    numbers, leave, arrive = reduced_places(places, bound_m)
    picked = reduced_turns(turns, np.radians(bound_deg))
    assert numbers[0] == picked[0] == 0 and numbers[-1] == picked[-1] == count - 1
    at = np.linspace(0, count - 1, 20 * count)
    origins, matrices = read(motion_of(places, turns, numbers, leave, arrive, picked), at)
    off = np.linalg.norm(origins - values_at(places, at), axis=1).max()
    assert off <= worst_places(places, numbers) + 1e-9 and worst_places(places, numbers) <= max(bound_m, 1e-12)
    angle = np.degrees(angle_between(Rotation.from_matrix(matrices).as_quat(), turns_at(turns, at)).max())
    assert (
        angle <= np.degrees(worst_turns(turns, picked)) + 1e-4 and np.degrees(worst_turns(turns, picked)) <= bound_deg
    )


def test_the_rigid_motion_of_what_deforms_and_its_misfit():
    rng = np.random.default_rng(3)
    start = rng.normal(size=(50, 3))
    turn = Rotation.random(random_state=4)
    shift, found, miss = rigid_fit(start, turn.apply(start) + np.array([1, 2, 3]))
    assert shift == pytest.approx([1, 2, 3]) and miss < 1e-12
    assert angle_between(found[None], turn.as_quat()[None])[0] < 1e-12
    bent = turn.apply(start) + 0.01 * rng.normal(size=start.shape)
    assert 0.005 < rigid_fit(start, bent)[2] < 0.1


def test_a_simulated_body_goes_by_keys_as_it_was_baked(tmp_path):
    """A box thrown and turned, simulated, then keyed within 0.5 mm and 0.2°: as a collider it is where it was."""
    box = {"name": "box", "role": "rigid", "mesh": {"shape": "box", "size": [0.3, 0.2, 0.1]}, "proxy": {"kind": "box"},
           "place": {"translate": [0.4, 0.9, -0.2], "rotate": [20, 30, 40]}}  # fmt: skip
    document = {"frames": [1, 48], "bodies": [box], "quality": {"substeps": 10}}
    cache = bake(parse_setup(document), NoAssets(), tmp_path / "box.zarr")
    poses = poses_of(cache, 0)
    found = keyed(poses, box["place"]["translate"], 0.0005, 0.2)
    assert found.frames == 48 and found.keys_of_place < 32 and found.off_m <= 0.0005 and found.off_deg <= 0.2
    moved = {**box, "role": "collider", "motion": found.motion}
    body = parse_setup({"bodies": [moved]}).bodies[0]
    mover = Mover(body.motion.model_dump(mode="json"), box["place"]["translate"])
    points = placed_mesh(body, NoAssets()).points
    reach = np.linalg.norm(points - np.array(box["place"]["translate"]), axis=1).max()
    for frame in range(1, 49):
        off = np.linalg.norm(mover.points_at(points, frame) - cache.points(0, frame), axis=1).max()
        assert off <= 0.0005 + np.radians(0.2) * reach + 1e-6
    by_angles = keyed(poses, box["place"]["translate"], 0.0005, 0.2, angles="zxy")
    assert by_angles.off_deg <= 0.2 and by_angles.keys_of_turn < 72  # of three angles over 48 frames
    body = parse_setup({"bodies": [{**box, "role": "collider", "motion": by_angles.motion}]}).bodies[0]
    mover = Mover(body.motion.model_dump(mode="json"), box["place"]["translate"])
    for frame in range(1, 49):
        off = np.linalg.norm(mover.points_at(points, frame) - cache.points(0, frame), axis=1).max()
        assert off <= 0.0005 + np.radians(0.2) * reach + 1e-6


@pytest.mark.parametrize("order", ORDERS)
def test_angles_in_any_order_say_the_same_turns_and_never_flip(order):
    """Held against scipy's own angles (lower case: axes that stand still), through more than one whole turn."""
    turns = Rotation.from_rotvec(np.outer(np.linspace(0.0, 9.0, 200), [0.3, 0.8, 0.52]))
    angles = angles_of(turns.as_matrix(), order)
    again = Rotation.from_euler(order, [[row["xyz".index(c)] for c in order] for row in angles], degrees=True)
    assert (again * turns.inv()).magnitude().max() < 1e-9
    assert max(np.abs(matrix_of(a, order) - m).max() for a, m in zip(angles, turns.as_matrix(), strict=True)) < 1e-9
    assert np.abs(np.diff(angles, axis=0)).max() < 60.0 and np.ptp(angles) > 200.0
    spin = Rotation.from_euler("y", np.arange(0, 1351, 30)[:, None], degrees=True)
    assert angles_of(spin.as_matrix(), order)[-1] == pytest.approx([0, 1350, 0], abs=1e-6)


@pytest.mark.parametrize("order", ["xyz", "yzx", "zyx"])
def test_the_bound_holds_for_angles_too(order):
    """20 tumbling bodies, 1°, at 10 moments a frame, read back through the setup's tracks; fewer keys than frames."""
    counts = []
    for seed in range(20):
        turns = tumble(seed)[1][:96]
        found, worst = reduced_angles(turns, order, np.radians(1.0))
        assert np.degrees(worst) <= 1.0
        counts.append(len(found))
        keys = [[k.frame, list(k.angles), {"leave": list(k.leave), "arrive": list(k.arrive)}] for k in found[:-1]]
        keys.append([found[-1].frame, list(found[-1].angles)])
        moments = np.arange(0.0, 95.01, 0.1)
        _, matrices = read({"rotate": {"keys": keys, "ease": "straight"}, "rotate_order": order}, moments)
        off = angle_between(Rotation.from_matrix(matrices).as_quat(), turns_at(turns, moments))
        assert np.degrees(off.max()) <= 1.0 + 1e-6
    assert np.median(counts) < 96
    every, _ = reduced_angles(turns, order, 0.0)  # no bound: a key a frame, and no more
    assert [k.frame for k in every] == list(range(96))
