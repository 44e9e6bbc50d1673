"""Figures of every point, against what the cache says of itself and against formulas."""

import numpy as np
import pytest

from zembrik.core.bake import bake
from zembrik.core.problem import Problem
from zembrik.core.review.point_values import Seen, apart_at, face_stretch, largest, values_at
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup


def test_the_stretch_of_a_face_along_warp_and_weft():
    """Pulled by 30% along the weft and 10% along the warp, and turned: 0.3. Sheared by s: √(1 + s²) - 1."""
    rest = np.array([[0, 0, 0], [2, 0, 0], [0.5, 1, 0]], dtype=float)
    faces, warp = np.array([[0, 1, 2]], dtype=np.int32), np.array([1.0, 0.0, 0.0])
    turn = np.linalg.qr(np.random.default_rng(1).normal(size=(3, 3)))[0]
    pulled = (rest * [1.1, 1.3, 1.0]) @ turn.T
    assert face_stretch(rest, pulled, faces, warp)[0] == pytest.approx(0.3, abs=1e-12)
    assert face_stretch(rest, pulled, faces, np.array([1.0, 1.0, 0.0]))[0] < 0.25
    s = 0.7
    sheared = rest + s * rest[:, [1]] * [1, 0, 0]
    assert face_stretch(rest, sheared, faces, warp)[0] == pytest.approx(np.sqrt(1 + s * s) - 1)
    assert face_stretch(rest, 5.0 + rest, faces, np.array([0.0, 0.0, 1.0]))[0] == pytest.approx(0.0, abs=1e-12)


def test_values_agree_with_the_caches_own_figures(baked, sheet):
    """The most of all points is the statistic of the frame: stretch, speed and penetration; rigid bodies have none."""
    seen = Seen(baked, parse_setup(sheet), NoAssets())
    for frame in (3, 8, 12):
        k = frame - baked.first
        stretch = values_at(seen, "stretch", frame)[0]
        assert stretch.max() == pytest.approx(baked.figure("stats/worst_stretch")[k], abs=1e-5)
        speed = values_at(seen, "speed", frame)[0]
        way = np.linalg.norm(baked.points(0, frame) - baked.points(0, frame - 1), axis=1)
        assert speed == pytest.approx(24.0 * way, rel=1e-4, abs=1e-6)
        deep = values_at(seen, "penetration", frame)[0]
        assert deep.max() == pytest.approx(baked.figure("stats/worst_penetration")[k], abs=1e-6)
    assert largest(seen, "stretch") == pytest.approx(baked.figure("stats/worst_stretch").max())
    moved = values_at(seen, "still moves", 12)[0]
    assert 0 < moved.max() <= 1.001 * max(values_at(seen, "speed", f)[0].max() for f in range(2, 13))
    with pytest.raises(Problem, match="no figure"):
        values_at(seen, "beauty", 3)


def test_apart_from_another_cache(baked, sheet, tmp_path):
    """Moved by 12 mm it is 12 mm apart everywhere; with another mesh, it is the distance to the surface."""
    sheet["bodies"][0]["place"]["translate"][0] += 0.012
    moved = bake(parse_setup(sheet), NoAssets(), tmp_path / "moved.zarr", tell=lambda p: p.frame < 2)
    assert apart_at(baked, moved, 1)[0] == pytest.approx(np.full(289, 0.012), abs=1e-6)
    sheet["bodies"][0]["mesh"]["segments"] = [8, 8]
    sheet["bodies"][0]["place"]["translate"] = [0.0, 1.027, 0.0]
    coarse = bake(parse_setup(sheet), NoAssets(), tmp_path / "coarse.zarr", tell=lambda p: p.frame < 2)
    assert apart_at(baked, coarse, 1)[0] == pytest.approx(np.full(289, 0.007), abs=1e-6)
    sheet["bodies"][0]["name"] = "another"
    other = bake(parse_setup(sheet), NoAssets(), tmp_path / "other.zarr", tell=lambda p: p.frame < 2)
    assert np.abs(apart_at(baked, other, 1)[0]).max() == 0
