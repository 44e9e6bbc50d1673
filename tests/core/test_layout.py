"""Bodies moved, stood and let down by hand."""

import copy

import jsonpatch
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import ConvexHull
from stage import brick

from zembrik.core.distance.tree import build_tree, distances_to_mesh
from zembrik.core.layout.fall import fall_onto
from zembrik.core.layout.gesture import Gesture, between, gesture_patch, mirrored_place, moved_place, stand_on
from zembrik.core.layout.let_down import let_down
from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import NoAssets, placed_mesh
from zembrik.core.setup.document import Place, parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.start.overlap import find_overlaps

numbers = st.floats(-3, 3, allow_nan=False)
three = st.tuples(numbers, numbers, numbers)


def hull(rng, size):
    """Return a closed convex mesh of random points."""
    points = rng.normal(size=(14, 3)) * size
    found = ConvexHull(points)
    faces = found.simplices.copy()
    a, b, c = (points[faces[:, k]] for k in range(3))
    inward = (np.cross(b - a, c - a) * found.equations[:, :3]).sum(axis=1) < 0
    faces[inward] = faces[inward][:, ::-1]
    return TriMesh(points, faces.astype(np.int32))


def lifted(mesh, up, along=0.0):
    return mesh.moved(mesh.points + np.array([along, up, 0.5 * along]))


def edge_places(mesh, count=400):
    """Return places all along a mesh's edges."""
    ends = mesh.points[mesh.edges]
    t = np.linspace(0, 1, count)[:, None, None]
    return ((1 - t) * ends[:, 0] + t * ends[:, 1]).reshape(-1, 3)


@pytest.mark.parametrize("seed", range(12))
def test_what_has_fallen_touches_and_is_not_within(seed):
    """Random convex bodies over others, against distances of the solver's own: nowhere within, and somewhere at 0."""
    rng = np.random.default_rng(seed)
    lower, upper = hull(rng, 0.2), hull(rng, 0.1)
    upper = lifted(upper, 2.0, rng.uniform(-0.1, 0.1))
    fall, crosses = fall_onto(upper, lower, 0.0)
    assert not crosses
    lies = upper.moved(upper.points - [0, fall, 0])
    off = [
        distances_to_mesh(build_tree(lower), edge_places(lies)).min(),
        distances_to_mesh(build_tree(lies), edge_places(lower)).min(),
    ]
    assert min(off) == pytest.approx(0.0, abs=4e-4) and min(off) > -1e-4  # places lie 0.5 mm apart on an edge
    assert fall_onto(lies.moved(lies.points - [0, 0.003, 0]), lower, 0.0)[1]  # a little farther, and they cross


def test_a_ball_falls_onto_a_slope_until_its_room_is_left():
    """Radius 0.1 m, room 5 mm, slope 30 degrees: its middle ends (0.1 + 0.005) / cos 30 above the slope."""
    slope = shapes.grid((4.0, 4.0), (3, 3))
    c, s = np.cos(np.radians(30)), np.sin(np.radians(30))
    slope = slope.moved(slope.points @ np.array([[c, s, 0], [-s, c, 0], [0, 0, 1]]))
    upper = shapes.ball(0.1, 200)
    fall, _ = fall_onto(lifted(upper, 1.0), slope, 0.005)
    assert 1.0 - fall == pytest.approx(0.105 / c, abs=3e-5)


def test_nothing_falls_onto_what_is_beside_or_above():
    box = shapes.box((0.2, 0.2, 0.2))
    assert fall_onto(box, lifted(box, -1.0, 0.3), 0.0) == (np.inf, False)
    assert fall_onto(box, lifted(box, 1.0), 0.0) == (np.inf, False)


def stack():
    """A table, two crates over it one above the other and a joined pair beside, all in the air."""
    bodies = [
        {"name": "table", "role": "collider", "mesh": {"shape": "box", "size": [1, 0.1, 1]},
         "place": {"translate": [0, 0.5, 0]}},
        brick("crate", (0.1, 1.0, 0.0), (0.2, 0.2, 0.2), place={"rotate": [0, 30, 0]}),
        brick("crate 2", (0.0, 1.9, 0.1), (0.2, 0.2, 0.2)),
        brick("one", (2.0, 1.0, 0.0), (0.2, 0.2, 0.2)),
        brick("two", (2.4, 1.4, 0.0), (0.2, 0.2, 0.2)),
    ]  # fmt: skip
    joints = [{"kind": "socket", "bodies": ["one", "two"], "at": [2.2, 1.2, 0.0]}]
    return {"bodies": bodies, "joints": joints, "world": {"ground": {"height": 0.0}}}


def test_bodies_let_down_lie_on_each_other_and_nothing_overlaps():
    document = stack()
    setup = parse_setup(document)
    found = let_down(setup, [1, 2, 3, 4], NoAssets())
    after = parse_setup(jsonpatch.apply_patch(copy.deepcopy(document), found.patch))
    lowest = [float(placed_mesh(b, NoAssets()).points[:, 1].min()) for b in after.bodies]
    thick = 0.002  # of collider and, as a preset has it, of the crates
    assert lowest[1] == pytest.approx(0.55, abs=3 * thick) and lowest[1] > 0.55
    assert lowest[2] == pytest.approx(0.75, abs=6 * thick) and lowest[2] > lowest[1] + 0.2
    assert found.falls_m["one"] == found.falls_m["two"] == pytest.approx(0.9, abs=thick)  # joined: as one
    assert after.joints[0].at[1] == pytest.approx(1.2 - found.falls_m["one"])
    assert not [o for o in find_overlaps(build_world(after, NoAssets())) if o.depth_m > 2e-6]
    again = let_down(after, [1, 2, 3, 4], NoAssets())
    assert max(abs(v) for v in again.falls_m.values()) < 2e-6


def test_what_has_nothing_below_or_is_within_something_is_told():
    document = stack() | {"world": {"ground": None}}
    document["bodies"][1]["place"]["translate"] = [0.1, 0.5, 0.0]
    with pytest.raises(Problem, match="'crate' goes through something, 'one' has nothing below"):
        let_down(parse_setup(document), [1, 3], NoAssets())


@settings(max_examples=60, deadline=None)
@given(three, three, st.floats(-400, 400), st.floats(0.1, 5), three, three)
def test_a_gesture_moves_a_place_as_it_moves_points(move, axis, angle, factor, pivot, at):
    """Against the similarity itself, on points of a body; and back to where it was by the way between."""
    gesture = Gesture(np.array(move), np.array(axis), angle, factor, np.array(pivot))
    document = {"bodies": [brick("b", at, place={"rotate": [20, 250, -30], "scale": 1.5})]}
    setup = parse_setup(document)
    after = parse_setup(jsonpatch.apply_patch(copy.deepcopy(document), gesture_patch(setup, [0], gesture, NoAssets())))
    was, now = (placed_mesh(s.bodies[0], NoAssets()).points for s in (setup, after))
    assert np.abs(now - gesture.apply(was)).max() < 5e-6
    same_size = moved_place(setup.bodies[0].place, Gesture(np.array(move), np.array(axis), angle, 1.0, np.array(pivot)))
    way = between(setup.bodies[0].place, same_size)
    to = placed_mesh(setup.bodies[0].model_copy(update={"place": Place.model_validate(same_size)}), NoAssets()).points
    assert np.abs(way.apply(was) - to).max() < 5e-6


def test_pins_and_joints_stand_with_what_is_moved():
    cloth = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [10, 10]}}
    cloth["pins"] = [{"points": {"box": [[-0.51, -0.1, -0.51], [0.51, 0.1, -0.49]]}}, {"points": {"above": -1.0}}]
    document = {"bodies": [cloth]}
    setup = parse_setup(document)
    moved = gesture_patch(setup, [0], Gesture(np.array([0.0, 2.0, 0.5]), np.zeros(3)), NoAssets())
    after = parse_setup(jsonpatch.apply_patch(copy.deepcopy(document), moved))
    assert after.bodies[0].pins[0].points.box == ((-0.51, 1.9, -0.01), (0.51, 2.1, 0.01))
    assert after.bodies[0].pins[1].points.above == 1.0
    turned = Gesture(np.zeros(3), np.array([0.0, 1.0, 0.0]), 37.0, 1.0, np.zeros(3))
    after = parse_setup(jsonpatch.apply_patch(copy.deepcopy(document), gesture_patch(setup, [0], turned, NoAssets())))
    held = sorted(np.flatnonzero(placed_mesh(setup.bodies[0], NoAssets()).points[:, 2] < -0.49).tolist())
    assert after.bodies[0].pins[0].points.numbers == held and len(held) == 11


def test_a_mirror_shows_a_place_as_it_shows_a_box():
    """A box is its own mirror picture, so that its corners come to the mirror's."""
    place = Place(translate=(0.4, 1.0, -0.3), rotate=(25.0, -70.0, 110.0), scale=1.2)
    body = parse_setup({"bodies": [brick("b", (0, 0, 0), (0.3, 0.2, 0.1))]}).bodies[0]
    was = placed_mesh(body.model_copy(update={"place": place}), NoAssets()).points
    now = placed_mesh(
        body.model_copy(update={"place": Place.model_validate(mirrored_place(place, 0, 0.1))}), NoAssets()
    ).points
    was[:, 0] = 0.2 - was[:, 0]
    assert np.abs(np.sort(np.round(was, 6), axis=0) - np.sort(np.round(now, 6), axis=0)).max() < 2e-6


@pytest.mark.parametrize(("upright", "low"), [(True, 0.0), (False, 0.0)])
def test_a_body_stands_on_a_slope(upright, low):
    body = parse_setup({"bodies": [brick("b", (3, 2, 1), (0.2, 0.4, 0.2))]}).bodies[0]
    point, normal = np.array([0.5, 0.3, -0.2]), np.array([0.5, 1.0, 0.1])
    to = stand_on(body, point, normal, upright, NoAssets())
    points = placed_mesh(body.model_copy(update={"place": Place.model_validate(to)}), NoAssets()).points
    way = normal / np.linalg.norm(normal)
    assert ((points - point) @ way).min() == pytest.approx(low, abs=2e-6)
    off = points.mean(axis=0) - point
    along = np.array([0.0, 1.0, 0.0]) if upright else way
    assert np.linalg.norm(np.cross(off, along)) < 2e-6
    if upright:
        assert to["rotate"] == [0.0, 0.0, 0.0]
