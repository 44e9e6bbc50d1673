"""The bounds of patches, filled eight things at a time, against the same from numpy, one thing after the other."""

import numpy as np
import pytest

from zembrik.core.mesh.shapes import grid
from zembrik.core.solver.nearby import Search
from zembrik.core.solver.patches import NONE, bound_patches, make_patches


def _sides(sides, n):
    """The low and the high corner of box n, by its sides."""
    return sides.reshape(6, -1)[:, n]


def _around(ways, points):
    """The box (6,) around points and all their ways (N, 2, 3); of none, a box that meets nothing."""
    some = ways[points].reshape(-1, 3)
    if not len(some):
        return np.repeat([np.inf, -np.inf], 3)
    return np.concatenate([some.min(axis=0), some.max(axis=0)])


@pytest.mark.parametrize("all_anew", [True, False])
def test_bounds_hold_all_of_a_patch_and_its_ways(all_anew):
    """A sheet of 12 by 9 faces thrown about: every box, mark, slant, length and normal of every patch."""
    rng = np.random.default_rng(5)
    mesh = grid((2.0, 1.5), (12, 9))
    edges, faces, count = mesh.edges.astype(np.int32), mesh.faces.astype(np.int32), len(mesh.points)
    patches = make_patches(mesh.points, edges, faces, np.zeros(count, np.int64))
    search = Search(patches, edges, faces, np.zeros(len(patches.point_span) - 1, np.int64), True)
    bounds, state = search.bounds, search.state
    state[:, :3] = mesh.points + rng.normal(0, 0.1, (count, 3))
    state[:, 3:6] = rng.normal(0, 0.2, (count, 3))
    strayed = np.ones(count, bool) if all_anew else rng.random(count) < 0.2
    search.flags[:] = [
        all_anew or strayed[patches.ends[a:b, 0]].any()
        for a, b in zip(patches.end_span[:-1], patches.end_span[1:], strict=True)
    ]
    many, farthest, longest = bound_patches(search.flags, state, strayed, all_anew, patches, bounds, search.numbers)
    assert search.numbers[:many].tolist() == np.flatnonzero(search.flags).tolist() and many > 3
    ways = np.stack([state[:, :3], state[:, :3] + state[:, 3:6]], axis=1)
    kinds = (
        (patches.points, patches.point_span, bounds.point_box, bounds.point_marks, slice(0, 1)),
        (patches.edges, patches.edge_span, bounds.edge_box, bounds.edge_marks, slice(1, 3)),
        (patches.faces, patches.face_span, bounds.face_box, bounds.face_marks, slice(1, 4)),
    )
    for p in np.flatnonzero(search.flags):
        mine, loose = [], []
        for rows, span, box, marks, corners in kinds:
            for n in range(span[p], span[p + 1]):
                of = rows[n, corners] if rows[n, 0] != NONE else np.zeros(0, int)
                assert np.array_equal(_sides(box, n), _around(ways, of))
                mine += list(of)
                loose += list(of) if strayed[of].any() else []
                assert all_anew or bool(marks[n // 8] >> (n % 8) & 1) == bool(strayed[of].any())
        assert np.array_equal(bounds.box[p], _around(ways, mine))
        assert np.array_equal(bounds.loose[p], _around(ways, loose))
        x, y, z = ways[mine].reshape(-1, 3).T
        askew = np.stack([x + y, x - y, x + z, x - z, y + z, y - z])
        low, high = bounds.slant.reshape(-1, 2, 8)[p]
        assert np.array_equal(low[:6], askew.min(axis=1)) and np.array_equal(high[:6], askew.max(axis=1))
        own = patches.faces[patches.face_span[p] : patches.face_span[p + 1]]
        a, b, c = state[own[own[:, 0] != NONE, 1:], :3].astype(float).transpose(1, 0, 2)
        normals = np.cross(b - a, c - a)
        normals /= np.linalg.norm(normals, axis=1)[:, None]
        mean = normals.sum(axis=0) / (np.linalg.norm(normals.sum(axis=0)) + 1e-300)
        assert np.allclose(bounds.cone[p, :3], mean, atol=1e-5)
        assert abs(bounds.cone[p, 3] - (normals @ mean).min(initial=1.0)) < 1e-5
        of_edges = patches.edges[patches.edge_span[p] : patches.edge_span[p + 1]]
        ends = ways[of_edges[of_edges[:, 0] != NONE, 1:], 0]
        assert bounds.size[p] >= np.linalg.norm(ends[:, 0] - ends[:, 1], axis=1).max(initial=0.0) - 1e-6
    assert farthest == abs(bounds.box[search.flags]).max() if all_anew else farthest > 0.0
    assert longest == bounds.size.max()


def test_a_patch_with_a_triangle_too_small_for_single_precision_is_not_flat():
    """A sheet of one patch lies flat: its least cosine is 1. Its last triangle becomes a speck of 1e-11 m: 0."""
    mesh = grid((1.0, 1.0), (2, 2))
    edges, faces = mesh.edges.astype(np.int32), mesh.faces.astype(np.int32)
    patches = make_patches(mesh.points, edges, faces, np.zeros(len(mesh.points), np.int64))
    for size_m, wanted in ((1.0, 1.0), (1e-11, 0.0)):
        search = Search(patches, edges, faces, np.zeros(1, np.int64), True)
        search.state[:, :3] = mesh.points
        middle = faces[-1][0]
        search.state[faces[-1], :3] = size_m * (mesh.points[faces[-1]] - mesh.points[middle])
        search.search_all(0.01)
        assert search.bounds.cone[0, 3] == pytest.approx(wanted, abs=1e-6)
