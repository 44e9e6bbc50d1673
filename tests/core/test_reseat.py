"""Re-seating a result on another surface."""

import numpy as np
import pytest

from zembrik.core.bake import bake
from zembrik.core.cache.reader import Cache
from zembrik.core.layers.reseat import Surface, re_seat
from zembrik.core.layers.smooth import smooth_between
from zembrik.core.layout.fall import fall_onto, heights_under, upright
from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.motion.rigid import Mover
from zembrik.core.setup.assets import FolderAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.units import quaternion_turn
from zembrik.library.demo_shot import obj_bytes
from zembrik.library.fair_bodies import pear_mesh

UP = np.array([0.0, 1.0, 0.0])
GRAVITY = np.array([0.0, -9.81, 0.0])


def valley(deep):
    """A wide trough along Z with the profile deep · x², uneven along it by a tenth."""
    sheet = shapes.grid((2.0, 2.0), (60, 60))
    x, _, z = sheet.points.T
    return sheet.moved(np.stack([x, deep * x**2 * (1.0 + 0.1 * np.sin(4.0 * z)), z], axis=1))


@pytest.fixture(scope="module")
def poured(tmp_path_factory):
    """Pears poured onto a plate that stands for the floor of a valley, and a cloth laid over it all."""
    folder = tmp_path_factory.mktemp("poured")
    (folder / "pear.obj").write_bytes(obj_bytes(pear_mesh(), "pear"))
    (folder / "valley.obj").write_bytes(obj_bytes(valley(0.12), "valley"))
    rng = np.random.default_rng(4)
    pears = [
        {"name": f"pear {n}", "role": "rigid", "mesh": {"file": "pear.obj"}, "proxy": {"kind": "hull"},
         "place": {"translate": [0.5 * (n % 4) - 0.75, 0.35 + 0.1 * (n // 4), 0.4 * (n // 4) - 0.4],
                   "rotate": rng.uniform(-180, 180, 3).round(1).tolist()},
         "material": {"density": 1000, "friction": 0.7, "rolling_resistance": 0.006}}
        for n in range(12)
    ]  # fmt: skip
    ground = {"name": "valley", "role": "collider", "mesh": {"file": "valley.obj"}, "proxy": {"kind": "hull"},
              "friction": 0.8}  # fmt: skip
    document = {
        "bodies": [ground, *pears],
        "frames": [1, 60],
        "world": {"ground": None},
        "quality": {"profile": "rough"},
    }
    bake(parse_setup(document), FolderAssets(folder), folder / "c.zarr")
    cache = Cache(folder / "c.zarr")
    hull = Surface(_hull(valley(0.12)))
    return cache, hull, dict.fromkeys(cache.names, 0.006)


def _hull(mesh):
    from zembrik.core.proxy.fit import convex_hull

    return convex_hull(mesh.points)


def seat(poured, new, reach=0.3, gravity=GRAVITY):
    cache, old, rooms = poured
    return re_seat(cache, old, new, gravity, rooms, reach, list(range(len(cache.names))))


def posed(cache, number, pose):
    rest = cache.rest(number).astype(np.float64)
    return TriMesh(rest @ quaternion_turn(pose[3:]).T + pose[:3], cache.faces(number))


def clearance(body, surface):
    fall, _ = fall_onto(body.moved(body.points + 5 * UP), surface, 0.0)
    return fall - 5.0


def test_a_surface_that_is_lifted_shifts_everything_exactly(poured):
    cache, old, _ = poured
    lifted = Surface(old.mesh.moved(old.mesh.points + 0.037 * UP))
    made = seat(poured, lifted)
    for number in range(len(cache.names)):
        if np.isfinite(made.seats[number].residual_m).any():
            assert np.abs(made.seats[number].shift - 0.037).max() < 1e-9


def test_nothing_within_reach_is_unchanged_to_the_byte(poured):
    cache, old, _ = poured
    made = seat(poured, old)
    assert all((made.frame(n, f) == cache.pose(n, f)).all() for n in range(3) for f in (1, 30, 60))
    far = Surface(old.mesh.moved(old.mesh.points + np.array([90.0, 0.0, 0.0])))
    made = seat(poured, far)
    assert all((made.frame(n, f) == cache.pose(n, f)).all() for n in range(3) for f in (1, 30, 60))


def test_the_hull_of_a_valley_becomes_the_valley(poured):
    """What rested on air lies on the ground as near as it lay before; no jitter, and rest stays rest."""
    cache, old, _ = poured
    ground = Surface(valley(0.12))
    made = seat(poured, ground)
    rested = 0
    for number in range(len(cache.names)):
        poses = np.array([cache.pose(number, f) for f in range(1, 61)])
        now = np.array([made.frame(number, f) for f in range(1, 61)])
        assert (now[:, 3:] == poses[:, 3:]).all()
        before, after = posed(cache, number, poses[-1]), posed(cache, number, now[-1])
        had, has = clearance(before, old.mesh), clearance(after, ground.mesh)
        if had < 0.005:
            rested += 1
            assert has == pytest.approx(had, abs=2e-4)
            assert clearance(before, ground.mesh) > has + 0.005 or abs(made.seats[number].shift[-1]) < 0.01
        jolts = [np.linalg.norm(np.diff(p[:, :3], 2, axis=0), axis=1) for p in (poses, now)]
        assert np.percentile(jolts[1], 99) <= 1.2 * np.percentile(jolts[0], 99) + 1e-4
        still = np.abs(np.diff(poses[-10:, :3], axis=0)).max()
        assert np.abs(np.diff(now[-10:, :3], axis=0)).max() <= still + 1e-4
    assert rested >= 8
    worst, _, _ = made.residual
    assert worst < 2e-4


def test_a_surface_that_moves_takes_what_lies_on_it_along(poured):
    cache, old, _ = poured
    rises = Mover({"translate": {"keys": [[1, [0, 0, 0]], [60, [0, 0.2, 0]]], "ease": "straight"}}, [0, 0, 0])
    made = seat(poured, Surface(old.mesh, rises))
    lying = next(n for n in range(len(cache.names)) if np.isfinite(made.seats[n].residual_m[-1]))
    assert made.seats[lying].shift[-1] == pytest.approx(0.2, abs=2e-4)
    assert made.seats[lying].shift[-20] == pytest.approx(0.2 * 40 / 59, abs=2e-4)


def test_up_is_where_gravity_does_not_pull():
    assert upright(np.zeros(3)) == pytest.approx(np.eye(3))
    for gravity in ([0.0, -1.0, 0.0], [3.0, 0.0, 0.0], [1.0, -2.0, 0.5]):
        turn = upright(np.array(gravity))
        assert turn @ gravity == pytest.approx([0, -np.linalg.norm(gravity), 0]) and np.linalg.det(turn) > 0.99


def test_a_cloth_on_boxes_comes_to_lie_on_rounded_bales(tmp_path):
    boxes = TriMesh(*_row(lambda x: np.zeros_like(x)))
    bales = TriMesh(*_row(lambda x: 0.04 * np.cos(np.pi * x / 0.8) - 0.02))
    cloth = {"name": "quilt", "role": "cloth", "mesh": {"shape": "grid", "size": [0.9, 0.9], "segments": [24, 24]},
             "place": {"translate": [0, 0.33, 0]}, "material": {"preset": "wool felt"}}  # fmt: skip
    (tmp_path / "boxes.obj").write_bytes(obj_bytes(boxes, "boxes"))
    ground = {"name": "boxes", "role": "collider", "mesh": {"file": "boxes.obj"}, "proxy": {"kind": "surface"}}
    document = {"bodies": [cloth, ground], "frames": [1, 40], "quality": {"profile": "rough"}}
    bake(parse_setup(document), FolderAssets(tmp_path), tmp_path / "c.zarr")
    cache = Cache(tmp_path / "c.zarr")
    made = re_seat(cache, Surface(boxes), Surface(bales), GRAVITY, {"quilt": 0.006}, 0.2, [0])
    before, after = cache.points(0, 40).astype(float), made.frame(0, 40).astype(float)
    was, now = heights_under(before, boxes, 0.01), heights_under(after + 0.5 * UP, bales, 0.5)
    lay = np.isfinite(was) & np.isfinite(now) & (before[:, 1] - was < 0.006)
    assert lay.sum() > 100
    assert np.abs((after[:, 1] - now) - (before[:, 1] - was))[lay].max() < 5e-4
    edges = TriMesh(before, cache.faces(0)).edges
    lengths = [np.linalg.norm(p[edges[:, 0]] - p[edges[:, 1]], axis=1) for p in (before, after)]
    assert np.percentile(np.abs(lengths[1] / lengths[0] - 1), 95) < 0.1


def _row(rise):
    """Return a slab whose upper side rises by rise(x), as points and faces."""
    box = shapes.box((0.8, 0.3, 0.8), 20)
    points = box.points + np.array([0.0, 0.15, 0.0])
    upper = points[:, 1] > 0.29
    points[upper, 1] += rise(points[upper, 0])
    return points, box.faces


def test_the_smooth_value_is_exact_where_it_must_be():
    """Given at both ends it goes from one to the other without a corner; level is exact; nothing given is nothing."""
    weights = np.zeros(50)
    weights[:10], weights[40:] = 1.0, 1.0
    values = np.where(np.arange(50) < 25, 1.0, 3.0)
    found = smooth_between(values, weights)
    assert np.abs(found[:8] - 1.0).max() < 0.01 and np.abs(found[42:] - 3.0).max() < 0.01
    assert (np.diff(found[8:42]) > 0).all() and np.abs(np.diff(found, 2)).max() < 0.02
    assert smooth_between(np.full(50, 0.3), weights) == pytest.approx(np.full(50, 0.3), abs=1e-14)
    assert (smooth_between(values, np.zeros(50)) == 0.0).all()
