"""Overlaps at the start, and the ways out of them."""

from itertools import combinations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from stage import Stage, brick

from zembrik.core.mesh import shapes
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.start.copies import copies_inside
from zembrik.core.start.pairs import Pairs, rigid_pairs
from zembrik.core.start.propose import overlaps_of
from zembrik.core.start.ways import ease_apart, probe, shrink_to_fit, thin_out


def ball(name, at, radius):
    return {
        "name": name, "role": "rigid", "mesh": {"shape": "ball", "radius": radius, "rings": 8},
        "place": {"translate": [float(v) for v in at]}, "proxy": {"kind": "ball"}, "material": {"bounce": 0},
        "thickness": 0.0,
    }  # fmt: skip


def world_of(bodies, **more):
    document = {"world": {"ground": None, "air_density": 0}, "bodies": bodies, **more}
    return build_world(parse_setup(document), NoAssets())


def test_the_depth_of_two_balls_is_the_sum_of_their_radii_less_their_distance():
    world = world_of([ball("a", (0, 0, 0), 0.1), ball("b", (0.12, 0, 0), 0.05), ball("c", (0, 0.5, 0), 0.1)])
    pairs = rigid_pairs(world)
    assert (pairs.a.tolist(), pairs.b.tolist()) == ([0], [1])
    assert pairs.depth[0] == pytest.approx(0.03, abs=1e-9)
    assert pairs.normal[0] == pytest.approx([-1, 0, 0], abs=1e-9)


def heap(count, seed, room=0.5):
    rng = np.random.default_rng(seed)
    return [ball(f"b{n}", rng.uniform(-room / 2, room / 2, 3), float(rng.uniform(0.035, 0.08))) for n in range(count)]


def test_a_heap_eased_apart_overlaps_nowhere_and_stays_perfectly_still():
    """60 balls of 0.7 to 1.6 of a size, up to 10 deep in one another: none at all afterwards.

    Before, the probe shows the explosion; after, 24 frames without forces move nothing by 1 mm.
    """
    bodies = heap(60, 3)
    before = rigid_pairs(world_of(bodies))
    assert len(before) > 30
    assert probe(world_of(bodies), 20, 4).fastest > 0.5
    world = world_of(bodies)
    done = ease_apart(world)
    assert done.left_m == 0.0
    assert np.linalg.norm(done.shift, axis=1).mean() < 0.06
    for body, shift in zip(bodies, done.shift, strict=True):
        body["place"]["translate"] = [float(v) for v in np.array(body["place"]["translate"]) + shift]
    after = probe(world_of(bodies), 20, 24)
    assert after.farthest < 0.001
    again = ease_apart(world_of(heap(60, 3)))
    assert np.array_equal(again.shift, done.shift)


def test_bodies_are_eased_out_of_the_ground_and_of_walls_that_stay():
    wall = {"name": "wall", "role": "collider", "mesh": {"shape": "box", "size": [0.1, 1, 1]}, "proxy": {"kind": "box"},
            "place": {"translate": [0.1, 0.5, 0]}, "thickness": 0.0}  # fmt: skip
    bodies = [brick("low", (-0.3, 0.08, 0), (0.2, 0.2, 0.2), thickness=0.0), wall, ball("in", (0.03, 0.5, 0), 0.05)]
    done = ease_apart(world_of(bodies, world={"ground": {"height": 0}}))
    assert done.shift[0] == pytest.approx([0, 0.02, 0], abs=1e-3)
    assert done.shift[1] == pytest.approx([-0.03, 0, 0], abs=1e-3)


def test_shrinking_two_balls_makes_them_touch():
    """Radii 0.1 and 0.05, 0.12 apart: both times 0.8 are 0.12 together, less the 2% that are taken more."""
    scale = shrink_to_fit(world_of([ball("a", (0, 0, 0), 0.1), ball("b", (0.12, 0, 0), 0.05)]))
    assert scale == pytest.approx([0.8, 0.8], abs=0.03)
    shrunk = [ball("a", (0, 0, 0), 0.1 * scale[0]), ball("b", (0.12, 0, 0), 0.05 * scale[1])]
    assert len(rigid_pairs(world_of(shrunk))) == 0


def pairs_of(edges):
    a, b = np.array(edges, np.int64).reshape(-1, 2).T
    n = len(a)
    return Pairs(a, b, np.full(n, 0.01), np.zeros((n, 3)), np.zeros((n, 3)))


def smallest(count, edges):
    for size in range(count + 1):
        for some in combinations(range(count), size):
            if all(a in some or b in some for a, b in edges):
                return size
    raise AssertionError


@settings(max_examples=40, deadline=None)
@given(
    st.integers(2, 9).flatmap(
        lambda n: st.tuples(
            st.just(n),
            st.sets(
                st.tuples(st.integers(0, n - 1), st.integers(0, n - 1)).filter(lambda e: e[0] < e[1]),
                min_size=1,
                max_size=16,
            ),
        )
    )
)
def test_thinning_out_takes_the_fewest(graph):
    """Against every subset of small graphs: no overlap is left, and no smaller set would do."""
    count, edges = graph
    gone = set(thin_out(pairs_of(sorted(edges)), np.ones(count, bool)).tolist())
    assert all(a in gone or b in gone for a, b in edges)
    assert len(gone) == smallest(count, edges)


def test_what_overlaps_a_collider_or_a_driven_body_must_go_itself():
    pairs = pairs_of([(0, 1), (1, 2), (3, -1)])
    assert thin_out(pairs, np.array([False, True, True, True])).tolist() == [1, 3]
    assert len(thin_out(pairs_of([(0, -1)]), np.array([False]))) == 0


def test_a_probe_of_a_sound_start_moves_nothing():
    stage = Stage({"bodies": [brick("a", (0, 0.2, 0)), brick("b", (0, 0.604, 0))], "world": {"ground": None}})
    assert probe(stage.world, 20, 12).farthest < 1e-6


def applied(document, proposal):
    import jsonpatch

    return jsonpatch.apply_patch(document, proposal.patch)


def heaped():
    return {"world": {"air_density": 0}, "bodies": heap(12, 5, 0.25)}


@pytest.mark.parametrize("way", ["ease apart", "shrink to fit", "thin out"])
def test_every_way_out_ends_the_overlaps_of_a_setup(way):
    from zembrik.core.start.propose import overlaps_of, propose

    document = heaped()
    for body in document["bodies"]:
        body["place"]["translate"][1] += 0.5
    before = overlaps_of(parse_setup(document), NoAssets())
    assert len(before) > 8 and before[0].depth_m >= before[-1].depth_m
    proposal = propose(parse_setup(document), NoAssets(), way)
    after = applied(document, proposal)
    assert overlaps_of(parse_setup(after), NoAssets()) == []
    assert len(after["bodies"]) == 12 or way == "thin out"
    assert proposal.words.startswith(str(len(proposal.patch)))


def test_easing_in_starts_a_collider_clear_and_moves_it_there():
    """A bar pressed 12 mm into a sheet: it starts above, touches nothing at first, and is in place after 12 frames."""
    from zembrik.core.start.propose import overlaps_of, propose

    sheet = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [10, 10]},
             "place": {"translate": [0, 0.5, 0]}, "thickness": 0.002}  # fmt: skip
    bar = {"name": "bar", "role": "collider", "mesh": {"shape": "box", "size": [0.3, 0.1, 0.3]}, "thickness": 0.0,
           "place": {"translate": [0, 0.54, 0]}, "proxy": {"kind": "box"}}  # fmt: skip
    document = {"bodies": [sheet, bar]}
    (row,) = overlaps_of(parse_setup(document), NoAssets())
    assert row.depth_m == pytest.approx(0.012, abs=1e-5)
    after = applied(document, propose(parse_setup(document), NoAssets(), "ease in"))
    keys = after["bodies"][1]["motion"]["translate"]["keys"]
    assert keys[-1] == [13, [0, 0, 0]]
    assert abs(keys[0][1][1]) > 0.011
    assert overlaps_of(parse_setup(after), NoAssets()) == []


def test_copies_stand_in_rows_are_seeded_and_named_anew():
    from zembrik.core.problem import Problem
    from zembrik.core.start.copies import copies_of

    pear = ball("pear", (1, 2, 3), 0.05)
    made = copies_of(pear, (3, 2, 2), (0.2, 0.3, 0.4), 30.0, 0.7, 1.6, 4, {"pear", "pear 2"})
    assert len(made) == 11 and made[0]["name"] == "pear 3"
    at = np.array([b["place"]["translate"] for b in made])
    assert at.max(axis=0) == pytest.approx([1.4, 2.3, 3.4])
    scales = np.array([b["place"]["scale"] for b in made])
    assert 0.7 <= scales.min() < 0.95 < 1.3 < scales.max() <= 1.6
    assert made == copies_of(pear, (3, 2, 2), (0.2, 0.3, 0.4), 30.0, 0.7, 1.6, 4, {"pear", "pear 2"})
    for counts, low in (((1, 1, 1), 1.0), ((100, 100, 1), 1.0), ((2, 1, 1), 0.0)):
        with pytest.raises(Problem):
            copies_of(pear, counts, (1, 1, 1), 0, low, 1.0, 1, set())


def test_copies_fill_a_volume_evenly_at_any_count():
    """In a ball none is outside; each eighth of a box gets an eighth of 800 within a few; the same seed, the same."""
    body = {"name": "pear", "mesh": {"shape": "ball", "radius": 0.05}, "place": {"translate": [9, 9, 9], "scale": 2.0}}
    ball = shapes.ball(0.5).moved(shapes.ball(0.5).points + np.array([1.0, 2.0, 3.0]))
    inside = copies_inside(body, 60, ball, 90.0, 0.8, 1.2, 3, {"pear"})
    at = np.array([b["place"]["translate"] for b in inside])
    assert len(inside) == 60 and np.linalg.norm(at - [1, 2, 3], axis=1).max() < 0.5
    assert all(1.6 <= b["place"]["scale"] <= 2.4 for b in inside) and len({b["name"] for b in inside}) == 60
    box = shapes.box((2.0, 1.0, 4.0), 1)
    at = np.array([b["place"]["translate"] for b in copies_inside(body, 800, box, 0.0, 1.0, 1.0, 7, set())])
    eighth = (at > 0) @ [1, 2, 4]
    assert np.abs(np.bincount(eighth, minlength=8) - 100).max() <= 6
    again = copies_inside(body, 60, ball, 90.0, 0.8, 1.2, 3, {"pear"})
    assert again == inside and copies_inside(body, 60, ball, 90.0, 0.8, 1.2, 4, {"pear"}) != inside
    for count, volume, words in ((0, box, "copies are asked"), (9000, box, "copies are asked"),
                                 (5, shapes.grid((1.0, 1.0), (2, 2)), "flat")):  # fmt: skip
        with pytest.raises(Problem, match=words):
            copies_inside(body, count, volume, 0.0, 1.0, 1.0, 1, set())


def test_cloth_and_soft_bodies_that_begin_in_one_another_are_found_with_their_depth():
    """Two sheets 3 mm apart that keep 4 mm each overlap by 5 mm; a ball 20 mm deep in a soft block."""
    sheet = {"role": "cloth", "mesh": {"shape": "grid", "size": [0.4, 0.4], "segments": [8, 8]}, "thickness": 0.004}
    block = {"name": "block", "role": "soft", "mesh": {"shape": "box", "size": [0.4, 0.4, 0.4], "segments": 2},
             "place": {"translate": [2.0, 0.5, 0.0]}, "thickness": 0.002}  # fmt: skip
    ball = {"name": "ball", "role": "rigid", "mesh": {"shape": "ball", "radius": 0.1}, "proxy": {"kind": "ball"},
            "place": {"translate": [2.0, 0.78, 0.0]}, "thickness": 0.001}  # fmt: skip
    far = {**ball, "name": "far", "place": {"translate": [9.0, 0.9, 0.0]}}
    sheets = [
        {**sheet, "name": n, "place": {"translate": [0.013, y, 0.007]}} for n, y in (("low", 1.0), ("high", 1.003))
    ]
    rows = overlaps_of(parse_setup({"bodies": [*sheets, block, ball, far]}), NoAssets())
    found = {(r.one, r.other): r for r in rows}
    assert set(found) == {("low", "high"), ("block", "ball")}
    assert found["low", "high"].depth_m == pytest.approx(0.005, abs=1e-6)
    assert found["block", "ball"].depth_m == pytest.approx(0.023, abs=0.001)
    assert found["block", "ball"].at[1] == pytest.approx(0.69, abs=0.012)
