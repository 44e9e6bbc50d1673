"""Cloth on itself, on other cloth and on colliders' corners."""

import copy

import numpy as np
import pytest
from crossing import crossings, self_crossings
from hypothesis import example, given, settings
from hypothesis import strategies as st

from zembrik.core.bake import bake
from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver import touching
from zembrik.core.solver.build import build_world
from zembrik.core.solver.measuring import DEEP, find_touching
from zembrik.core.solver.meeting_patches import FLAT
from zembrik.core.solver.mesh_contact import edge_gap, point_gap
from zembrik.core.solver.nearby import Search
from zembrik.core.solver.patches import NONE, make_patches
from zembrik.core.solver.searching import SLIM
from zembrik.core.solver.step import Stepper
from zembrik.core.solver.touching import sharp_corners

FPS = 24.0


def run(document, frames, substeps=20, watch=lambda world: None):
    world = build_world(parse_setup(document), NoAssets())
    stepper = Stepper(world, substeps, 1, FPS)
    for frame in range(1, frames + 1):
        stepper.advance(frame)
        watch(world)
    return world


def falling_strip(**quality):
    return {
        "bodies": [
            {
                "name": "strip",
                "role": "cloth",
                "mesh": {"shape": "grid", "size": [1.2, 0.3], "segments": [48, 12]},
                "place": {"translate": [0, 0.65, 0], "rotate": [0, 0, 85]},
                "material": {"preset": "linen"},
                "thickness": 0.003,
            }
        ],
        "quality": quality,
    }


def wrung(turn_deg, frames):
    def bar(name, x, way):
        return {
            "name": name,
            "role": "left out",
            "mesh": {"shape": "capsule", "radius": 0.02, "height": 0.5},
            "place": {"translate": [x, 0, 0]},
            "motion": {
                "translate": {"keys": [[1, [0, 0, 0]], [frames + 1, [way * 0.1, 0, 0]]]},
                "rotate": {"keys": [[1, [0, 0, 0]], [frames + 1, [-way * turn_deg, 0, 0]]]},
            },
        }

    def pins(x, name):
        return {"points": {"box": [[x - 0.01, -1, -1], [x + 0.01, 1, 1]]}, "follow": name}

    return {
        "world": {"ground": None, "gravity": [0, 0, 0]},
        "bodies": [
            {
                "name": "cloth",
                "role": "cloth",
                "mesh": {"shape": "grid", "size": [1, 0.5], "segments": [40, 20]},
                "material": {"preset": "linen"},
                "thickness": 0.002,
                "pins": [pins(-0.5, "left"), pins(0.5, "right")],
            },
            bar("left", -0.5, 1),
            bar("right", 0.5, -1),
        ],
        "quality": {"self_collision": True},
    }


def test_a_strip_falls_in_folds_and_never_crosses_itself():
    """Counted exactly on every sixth frame; without self-collision the same fall crosses dozens of times."""
    counts = []

    def count(world):
        counts.append(self_crossings(world.x, world.bodies[0].faces))

    run(falling_strip(self_collision=True), 30, 20, lambda world: count(world))
    assert max(counts) == 0
    without = run(falling_strip(self_collision=False), 30)
    assert self_crossings(without.x, without.bodies[0].faces) > 20


def test_no_near_pair_is_missed_that_touches_or_crossed(monkeypatch):
    """In 14 frames of the fall, every known pair is measured after each sweep's finding: all that are closer than both
    thicknesses (than three quarters of them, between frames once a pass is over), or crossed, were found, and of the
    others none. And in frames as they are shown, no pair is closer than three quarters."""
    sweeps, shown = [], []

    def find(now, x, before, rest, whose, room, faces, edges, points, lines, ways, add, deep, *more):
        many = find_touching(now, x, before, rest, whose, room, faces, edges, points, lines, ways, add, deep, *more)
        assert np.array_equal(x[: len(now)], now)
        gaps = [point_gap(x, before, p, *faces[t])[0] for p, t in points.pairs]
        gaps += [edge_gap(x, before, *edges[e], *edges[f])[0] for e, f in lines.pairs]
        apart = np.concatenate([points.apart, lines.apart])
        may = np.minimum(2 * room[0], np.where(apart < 0, np.inf, apart))
        sure = np.abs(np.array(gaps) - deep * may) > 1e-9
        touches = np.array(gaps) < deep * may
        assert np.array_equal(np.flatnonzero(touches & sure), np.setdiff1d(more[-1][:many], np.flatnonzero(~sure)))
        sweeps.append((add, deep, many))
        return many

    def watch(world):
        t, x = world.touching, world.x
        shown.extend(abs(edge_gap(x, x, *t.edges[e], *t.edges[f])[0]) / 0.006 for e, f in t.lines.near.pairs)

    monkeypatch.setattr(touching, "find_touching", find)
    run(falling_strip(self_collision=True), 14, 20, watch)
    assert sum(many for add, deep, many in sweeps if add and deep == 1.0) > 20
    assert {deep for add, deep, _ in sweeps if not add} >= {DEEP / touching.WIDER, 1.0 / touching.WIDER}
    assert min(shown) > 0.75


def test_a_cloth_wrung_between_two_bars_never_crosses_itself():
    """One whole turn of each bar, against each other; no crossing at any tenth frame, and the layers do press."""
    counts, pressed = [], []

    def watch(world):
        pressed.append(world.touching.touched)
        if len(pressed) % 10 == 0:
            counts.append(self_crossings(world.x, world.bodies[0].faces))

    run(wrung(360, 40), 40, 30, watch)
    assert counts == [0, 0, 0, 0]
    assert max(pressed) > 50


def test_one_sheet_rests_on_another_at_both_thicknesses():
    """Two sheets fall on a board: the upper one ends at the sum of its own and the lower one's thickness above it."""
    document = {
        "world": {"air_density": 0.0, "ground": {"height": 0.0}},
        "bodies": [
            {
                "name": name,
                "role": "cloth",
                "mesh": {"shape": "grid", "size": [0.3, 0.3], "segments": [n, n]},
                "place": {"translate": [0, height, 0]},
                "material": {"preset": "wool felt", "friction": 0.5},
                "thickness": 0.004,
            }
            for name, n, height in (("under", 12, 0.006), ("over", 9, 0.016))
        ],
        "quality": {"self_collision": False},
    }
    world = run(document, 24, 20)
    under, over = (world.x[b.first : b.last, 1] for b in world.bodies)
    assert under.mean() == pytest.approx(0.004, abs=2e-4)
    assert over.mean() - under.mean() == pytest.approx(0.008, abs=4e-4)


def over_a_box(contact):
    return {
        "world": {"ground": None},
        "bodies": [
            {
                "name": "sheet",
                "role": "cloth",
                "mesh": {"shape": "grid", "size": [1, 1], "segments": [18, 18]},
                "place": {"translate": [0.013, 0.27, 0.021], "rotate": [0, 30, 0]},
                "material": {"preset": "linen", "friction": 1.0},
                "thickness": 0.002,
            },
            {
                "name": "box",
                "role": "collider",
                "mesh": {"shape": "box", "size": [0.4, 0.5, 0.4]},
                "proxy": {"kind": "box"},
                "friction": 1.0,
            },
        ],
        "quality": {"contact": contact},
    }


def test_a_boxes_edges_do_not_come_through():
    """With points alone, coarse cloth is cut by the box's edges; with edges against edges, no edge of it crosses."""
    box = shapes.box((0.4, 0.5, 0.4))
    _, lines = sharp_corners(box, 10.0)
    corners, _ = sharp_corners(box, 10.0)

    def cut(world):
        return crossings(
            np.concatenate([world.x, corners]),
            (lines + len(world.x)).astype(np.int64),
            world.bodies[0].faces.astype(int),
        )

    assert cut(run(over_a_box("points"), 24)) > 0
    assert cut(run(over_a_box("edges"), 24)) == 0


def test_sharp_corners_of_a_box_and_of_a_ball():
    """A box has 8 corners and 12 edges, its diagonals are none; a fine ball has no sharp edge; a sheet its rim."""
    points, edges = sharp_corners(shapes.box((1.0, 2.0, 3.0)), 10.0)
    assert (len(points), len(edges)) == (8, 12)
    points, edges = sharp_corners(shapes.box((1.0, 1.0, 1.0)), 0.25)
    assert (len(points), len(edges)) == (8 + 12 * 3, 48)
    assert np.linalg.norm(points[edges[:, 0]] - points[edges[:, 1]], axis=1) == pytest.approx(0.25)
    assert len(sharp_corners(shapes.ball(1.0, 32), 10.0)[1]) == 0
    assert len(sharp_corners(shapes.grid((1.0, 1.0), (4, 4)), 10.0)[1]) == 16


@settings(max_examples=40, deadline=None)
@given(seed=st.integers(0, 10_000), reach=st.floats(0.02, 0.2))
@example(seed=1704, reach=0.18663321354319717)
def test_the_search_finds_every_near_pair(seed, reach):
    """Of a crumpled sheet, all pairs closer than the reach are found, as by trying all.

    But those within patches that are nearly flat together, which cannot touch while the reach is below 0.7 edges.
    """
    sheet = shapes.grid((1.0, 1.0), (7, 7))
    x = np.ascontiguousarray(sheet.points * 0.4 + np.random.default_rng(seed).normal(0, 0.08, sheet.points.shape))
    finds_every_near_pair(sheet, x, reach)


def test_the_search_finds_every_near_pair_about_a_hub():
    """The same of a crumpled fan of 150 spokes, all in its hub's patch, thousands at once with each other."""
    turn = np.linspace(0.0, 2.0 * np.pi, 150, endpoint=False)
    rim = np.arange(150)
    points = np.concatenate([[[0.0, 0, 0]], np.stack([np.cos(turn), 0.0 * turn, np.sin(turn)], axis=1)])
    fan = TriMesh(points, np.stack([0 * rim, 1 + rim, 1 + (rim + 1) % 150], axis=1).astype(np.int32))
    x = np.ascontiguousarray(points * 0.4 + np.random.default_rng(3).normal(0, 0.08, points.shape))
    assert finds_every_near_pair(fan, x, 0.3) > 10_000


@settings(max_examples=20, deadline=None)
@given(seed=st.integers(0, 10_000), reach=st.floats(0.02, 0.1), share=st.sampled_from([0.02, 0.1, 0.5]))
def test_the_search_for_what_strayed_leaves_every_near_pair_known(seed, reach, share):
    """A sheet that is bent up here and there, in three turns, by a share of its points: what was found before of those
    that stayed, and what is found anew, are all near pairs, none twice."""
    sheet, rng = shapes.grid((1.0, 1.0), (7, 7)), np.random.default_rng(seed)
    x = np.ascontiguousarray(sheet.points * 0.5 + rng.normal(0, 0.01, sheet.points.shape))
    search = Searched(sheet, x, reach)
    for _ in range(3):
        strayed = rng.random(len(x)) < share
        x[strayed] += rng.normal(0, 0.1, (np.count_nonzero(strayed), 3))
        search.again(x, strayed)
    search.check()


def finds_every_near_pair(mesh, x, reach):
    """Check what the search finds of a mesh whose points are at x against all pairs; return how many it found."""
    search = Searched(mesh, x, reach)
    search.check()
    return len(search.points) + len(search.lines)


class Searched:
    """A mesh and the near pairs found of it, to be searched again and checked by trying all pairs."""

    def __init__(self, mesh, x, reach):
        self.x, self.reach, self.edges, self.faces = x, reach, mesh.edges.astype(np.int32), mesh.faces
        self.patches = make_patches(mesh.points, self.edges, self.faces, np.zeros(len(x), np.int64))
        count = len(self.patches.point_span) - 1
        self.search = Search(self.patches, self.edges, self.faces, np.zeros(count, np.int64), True)
        self.search.state[:, :3] = x
        self.points, self.lines = self.search.search_all(reach)
        self.owner = np.zeros(len(x), int)
        for p in range(count):
            mine = self.patches.points[self.patches.point_span[p] : self.patches.point_span[p + 1]]
            self.owner[mine[mine != NONE]] = p

    def again(self, x, strayed):
        """Search for what strayed (N,), which is at x now, and keep what stayed."""
        search, patches = self.search, self.patches
        self.x, search.state[:, :3], search.strayed[:] = x, x, strayed
        for p in range(len(search.flags)):
            search.flags[p] = strayed[patches.ends[patches.end_span[p] : patches.end_span[p + 1], 0]].any()
        points, lines = search.search_strayed(self.reach)
        gone = strayed[self.points[:, 0]] | strayed[self.faces[self.points[:, 1]]].any(axis=1)
        self.points = np.concatenate([self.points[~gone], points])
        gone = strayed[self.edges[self.lines]].any(axis=(1, 2))
        self.lines = np.concatenate([self.lines[~gone], lines])

    def check(self):
        """Compare with all pairs: none is missing but of what is nearly flat, none is much farther, none is twice."""
        found = {(int(p), int(t)) for p, t in self.points} | {(-1, *sorted((int(e), int(f)))) for e, f in self.lines}
        assert len(found) == len(self.points) + len(self.lines)  # none twice
        x, gaps = self.x, {}
        for p in range(len(x)):
            for t, (a, b, c) in enumerate(self.faces):
                if p not in (a, b, c):
                    gaps[(p, t)] = abs(point_gap(x, x, p, a, b, c)[0])
        for e, (a, b) in enumerate(self.edges):
            for f in range(e + 1, len(self.edges)):
                c, d = self.edges[f]
                if not {a, b} & {c, d}:
                    gaps[(-1, e, f)] = abs(edge_gap(x, x, a, b, c, d)[0])
        # No sets are compared: where they differ, telling how in full takes an hour.
        # Single precision may let a pair pass that is a little farther than the reach.
        far = self.reach + 2.0 * SLIM * np.abs(np.diff(x[self.edges], axis=1)).sum(axis=2).max()
        more = [pair for pair in found if not gaps[pair] < far]
        assert len(more) == 0, sorted(more)[:5]
        missing = [pair for pair, gap in gaps.items() if gap < self.reach and pair not in found]
        parted = [pair for pair in missing if not self.nearly_flat(pair)]
        assert len(parted) == 0, sorted(parted)[:5]

    def nearly_flat(self, pair):
        """Tell whether all normals of the two patches of a pair lean less than FLAT to the middle of the patches'."""
        x, edges, faces, owner = self.x, self.edges, self.faces, self.owner
        one, two = [faces[pair[1]][0], pair[0]] if pair[0] >= 0 else [edges[pair[1]][0], edges[pair[2]][0]]
        means, leans = [], []
        for p in (owner[one], owner[two]):
            a, b, c = x[faces[owner[faces[:, 0]] == p]].transpose(1, 0, 2)
            normals = np.cross(b - a, c - a)
            normals /= np.linalg.norm(normals, axis=1)[:, None]
            mean = normals.sum(0) / (np.linalg.norm(normals.sum(0)) + 1e-300)  # a patch may have no triangle of its own
            means.append(mean)
            leans.append(np.arccos(np.clip(normals @ mean, -1, 1)).max(initial=0.0))
        return 0.5 * np.arccos(np.clip(means[0] @ means[1], -1, 1)) + max(leans) < FLAT + 1e-9


def test_what_is_far_away_makes_no_contact_coarser():
    """A sheet lies on a held one, and a box 90 km away: what is near is looked at from the sheets, to 0.1 mm."""
    held = {"name": "held", "role": "cloth", "mesh": {"shape": "grid", "size": [0.5, 0.5], "segments": [10, 10]},
            "pins": [{"points": {"above": -1.0}}], "thickness": 0.002}  # fmt: skip
    laid = {**held, "name": "laid", "pins": [], "place": {"translate": [0.0, 0.006, 0.0]}}
    far = {"name": "far", "role": "rigid", "mesh": {"shape": "box", "size": [1, 1, 1], "segments": 8},
           "place": {"translate": [9e4, 9e4, 0]}}  # fmt: skip
    setup = {"world": {"ground": None}, "bodies": [held, laid, far], "quality": {"substeps": 20}}
    world = build_world(parse_setup(setup), NoAssets())
    stepper = Stepper(world, 20, 1, 24.0)
    for frame in range(1, 13):
        stepper.advance(frame)
    assert abs(world.touching.origin).max() < 1.0
    heights = world.x[121:242, 1]
    assert heights.min() > 0.0038 and heights.max() < 0.0062


def test_gaps_of_points_and_edges_are_signed_by_the_side_they_began_on():
    """A point 0.1 above a triangle has the gap 0.1; gone 0.2 below it within the substep, the gap is -0.2."""
    now = np.array([[0.2, 0.1, 0.2], [0.0, 0, 0], [1, 0, 0], [0, 0, 1]])
    assert point_gap(now, now, 0, 1, 2, 3)[0] == pytest.approx(0.1)
    through = now.copy()
    through[0, 1] = -0.2
    gap, nx, ny, nz, *_ = point_gap(through, now, 0, 1, 2, 3)
    assert (gap, nx, ny, nz) == pytest.approx((-0.2, 0, 1, 0))
    lines = np.array([[-1, 0.1, 0], [1, 0.1, 0], [0, 0, -1.0], [0, 0, 1]])
    assert edge_gap(lines, lines, 0, 1, 2, 3)[0] == pytest.approx(0.1)
    crossed = lines.copy()
    crossed[:2, 1] = -0.05
    gap, nx, ny, nz, s, t = edge_gap(crossed, lines, 0, 1, 2, 3)
    assert (gap, ny, s, t) == pytest.approx((-0.05, 1, 0.5, 0.5))


def test_the_same_bytes_on_any_threads_and_after_a_stop(tmp_path):
    """A bake with everything on: one thread, two, and stopped at frame 5 and continued."""
    from zembrik.core.compiled import use_threads

    document = {**over_a_box("edges"), "frames": [1, 9]}
    document["quality"]["self_collision"] = True
    setup, caches = parse_setup(document), []
    for name, threads in (("one", 1), ("two", 2)):
        use_threads(threads)
        caches.append(bake(setup, NoAssets(), tmp_path / name))
    bake(setup, NoAssets(), tmp_path / "stopped", tell=lambda progress: progress.frame < 5)
    caches.append(bake(setup, NoAssets(), tmp_path / "stopped", resume=True))
    for frame in range(1, 10):
        assert len({cache.points(0, frame).tobytes() for cache in caches}) == 1


def test_cloth_thicker_than_its_spacing_does_not_crunch():
    """Held flat in space, a sheet three times as thick as its spacing stays as it is: rest distances are kept."""
    document = copy.deepcopy(falling_strip(self_collision=True))
    document["world"] = {"ground": None, "gravity": [0, 0, 0], "air_density": 0.0}
    document["bodies"][0] |= {"thickness": 0.075, "place": {}}
    start = build_world(parse_setup(document), NoAssets()).x.copy()
    world = run(document, 4, 10)
    assert np.abs(world.x - start).max() < 1e-6
