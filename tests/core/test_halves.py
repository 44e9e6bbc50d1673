"""Contacts solved in two halves side by side: who shares a body with whom, and the same bytes on one thread and two."""

import numpy as np
import pytest
from stage import Stage

from zembrik.core.compiled import use_threads
from zembrik.core.solver.halves import FEW, halve, halve_touching


def pile(count):
    """A loose block of boxes of 0.2 m that falls together, with a driven box in the middle that pushes through it."""
    rng = np.random.default_rng(5)
    side = round(count ** (1 / 3))
    bodies = []
    for n in range(count):
        at = np.array([n % side, n // side**2, n // side % side]) * 0.21 + [0, 0.11, 0] + rng.uniform(-0.004, 0.004, 3)
        bodies.append(
            {
                "name": f"box {n}",
                "role": "rigid",
                "mesh": {"shape": "box", "size": [0.2, 0.2, 0.2]},
                "place": {"translate": at.round(5).tolist()},
                "proxy": {"kind": "hull"},
            }
        )
    bodies[count // 2]["motion"] = {"translate": {"keys": [[1, [0, 0, 0]], [9, [0.3, 0.1, 0]]]}}
    return {"bodies": bodies}


@pytest.fixture(scope="module")
def worlds():
    """The pile after 8 frames, on one thread and on two."""
    found = []
    for threads in (1, 2):
        use_threads(threads)
        stage = Stage(pile(216), substeps=8)
        stage.run(8)
        found.append(stage.world)
    return found


def test_halves_share_no_body_that_is_pushed_and_name_every_run_once(worlds):
    """In each half, no free body has a contact in the other; the driven one and the ground may."""
    solids = worlds[1].solids
    contacts, runs, order, ends = solids.contacts, solids.runs, solids.order, solids.ends
    count = len(runs) - 1
    assert count >= FEW
    assert ends[2] == count
    assert sorted(order) == list(range(count))
    halves = []
    for begin, end in ((0, ends[0]), (ends[0], ends[1])):
        assert (np.diff(order[begin:end]) > 0).all()  # in their order within a half
        named = np.concatenate([contacts.a[runs[order[begin:end]]], contacts.b[runs[order[begin:end]]]])
        halves.append({int(r) for r in named if r >= 0 and solids.rigid.w[r] > 0.0})
    assert min(len(half) for half in halves) > 216 // 4
    assert not halves[0] & halves[1]
    between = order[ends[1] :]
    assert 0 < len(between) < count // 2
    for run_of in between:
        a, b = contacts.a[runs[run_of]], contacts.b[runs[run_of]]
        assert (a in halves[0] or b in halves[0]) or (a in halves[1] or b in halves[1])


def test_few_runs_stay_in_their_order(worlds):
    """Below FEW, all are in the last part, as they come."""
    solids = worlds[1].solids
    order, ends = halve(solids.contacts, solids.runs[: FEW // 2], solids.body, solids.rigid.place)
    assert order.tolist() == list(range(FEW // 2 - 1))
    assert ends == (0, 0, FEW // 2 - 1)


def test_a_pile_in_halves_ends_in_the_same_bytes_on_one_thread_and_on_two(worlds):
    """Places and velocities of 216 boxes after 64 substeps."""
    one, two = (world.solids.rigid for world in worlds)
    assert one.place.tobytes() == two.place.tobytes()
    assert one.speed.tobytes() == two.speed.tobytes()


def test_where_nothing_is_free_or_a_place_is_no_number_every_run_is_named_still(worlds):
    """All bodies held or asleep, and then places that are not numbers: no plane parts them, and nothing is lost."""
    solids = worlds[1].solids
    runs, body, place = solids.runs, solids.body, solids.rigid.place
    count = len(runs) - 1
    order, ends = halve(solids.contacts, runs, np.zeros_like(body), place)
    assert (sorted(order), ends[2]) == (list(range(count)), count)
    order, ends = halve(solids.contacts, runs, body, np.full_like(place, np.nan))
    assert (sorted(order), ends[2]) == (list(range(count)), count)


@pytest.mark.parametrize(("many", "axis"), [(FEW, 0), (3000, 2), (FEW - 1, 0)])
def test_touching_pairs_in_halves_share_no_point(many, axis):
    """Every pair is named once; no point of a pair of one half is one of the other; few pairs keep their order."""
    rng = np.random.default_rng(many)
    x = rng.normal(size=(900, 3)) * np.where(np.arange(3) == axis, 3.0, 1.0)
    x = x[np.argsort(x[:, axis])]  # so that points with near numbers are near
    near = rng.integers(0, 880, (1200, 1)) + rng.permuted(np.tile(np.arange(12), (1200, 1)), axis=1)[:, :3]
    faces, edges = near[:600].astype(np.int32), near[600:, :2].astype(np.int32)
    start = rng.integers(0, 600, (2 * many, 1))
    points = np.concatenate([faces[start[:many, 0], :1], start[:many]], axis=1).astype(np.int32)
    lines = np.concatenate([start[many:], (start[many:] + 1) % 600], axis=1).astype(np.int32)
    hits = np.sort(rng.choice(2 * many, many, replace=False))
    order, ends = halve_touching(x, faces, edges, points, lines, hits)
    assert sorted(order) == hits.tolist()
    if many < FEW:
        assert ends == (0, 0, many)
        assert order.tolist() == hits.tolist()
        return

    def points_of(q):
        if q < many:
            return {points[q, 0], *faces[points[q, 1]]}
        return {*edges[lines[q - many, 0]], *edges[lines[q - many, 1]]}

    one, two = (set().union(*map(points_of, order[a:b])) for a, b in ((0, ends[0]), (ends[0], ends[1])))
    assert min(len(one), len(two)) > 100
    assert not one & two
    assert x[list(one), axis].max() < x[list(two), axis].min()
    assert (np.diff(order[: ends[0]]) > 0).all()
    assert (np.diff(order[ends[0] : ends[1]]) > 0).all()
