"""Packs of four: the same bytes as one by one, and no two of a pack that share a point."""

import numba
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zembrik.core.compiled import fma
from zembrik.core.distance.squares import square_of_segments, square_to_triangle
from zembrik.core.lanes import bits, choose, lane, lanes, larger, root, smaller
from zembrik.core.lanes_memory import block4, note8, points4, put4, rows8, values8
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.air import push_by_air
from zembrik.core.solver.build import build_world
from zembrik.core.solver.colour import lay_out
from zembrik.core.solver.mesh_contact import edge_gap, point_gap
from zembrik.core.solver.searching import ROUGH, SLIM

DT = 1 / 480
SHEET = {"name": "s", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [24, 24]}}


@numba.njit(error_model="numpy")
def _formula(a, b):
    """Everything lanes can do, on numbers or lanes."""
    c = choose(a > b, a / (b + 3.0), -a) + larger(a, 0.5) * smaller(b, 2.0) - 1.5
    return root(fma(c, c, 0.25)) - c


@numba.njit(error_model="numpy")
def _by_four(a, b, out):
    out[:] = 0.0
    row = _formula(lanes(a[0], a[1], a[2], a[3]), lanes(b[0], b[1], b[2], b[3]))
    put4(out, 0, 1, 2, 3, (row, row, row))
    return bits(lanes(a[0], a[1], a[2], a[3]) <= lanes(b[0], b[1], b[2], b[3]))


@settings(deadline=None)
@given(st.lists(st.floats(-2, 2), min_size=8, max_size=8))
def test_each_lane_computes_what_a_number_alone_does(values):
    a, b, out = np.array(values[:4]), np.array(values[4:]), np.empty((4, 3))
    mask = _by_four(a, b, out)
    assert [out[k, 2] for k in range(4)] == [_formula(a[k], b[k]) for k in range(4)]
    assert [bool(mask >> k & 1) for k in range(4)] == (a <= b).tolist()


@numba.njit(error_model="numpy")
def _by_eight(a, b, marked):
    row, other = values8(a, 0), values8(b, 0)
    many = note8(40, bits(row > other), marked, 1)
    return bits(_formula(row, other) > 0.25), many


@settings(deadline=None)
@given(st.lists(st.floats(-2, 2, width=32), min_size=16, max_size=16))
def test_eight_of_single_precision_compute_what_numbers_of_it_do(values):
    """The formula in numpy's float32, whose products are not fused: the same but where it is nearly the bound."""
    a, b = np.array(values[:8], np.float32), np.array(values[8:], np.float32)
    c = np.where(a > b, a / (b + 3), -a) + np.maximum(a, np.float32(0.5)) * np.minimum(b, 2) - np.float32(1.5)
    wanted, marked = np.sqrt(c * c + np.float32(0.25)) - c, np.full(24, -1, np.int32)
    mask, many = _by_eight(a, b, marked)
    found = np.array([mask >> k & 1 for k in range(8)], bool)
    assert (found == (wanted > 0.25))[abs(wanted - 0.25) > 1e-5].all()
    assert marked[0] == -1 and marked[1 : 1 + many].tolist() == (40 + np.flatnonzero(a > b)).tolist()


@numba.njit(error_model="numpy")
def _columns(rows, n, out):
    turned = rows8(rows, n[0], n[1], n[2], n[3], n[4], n[5], n[6], n[7])
    for k in range(8):
        out[k] = bits(turned[k] > 0.5)


def test_rows_of_eight_are_turned_to_columns():
    """Eight rows at random, some twice: bit k of column c tells of number c in the k-th of them."""
    rng = np.random.default_rng(8)
    rows, numbers, out = (
        rng.random((20, 8)).astype(np.float32),
        rng.integers(0, 20, 8).astype(np.uint64),
        np.empty(8, int),
    )
    _columns(rows, numbers, out)
    wanted = rows[numbers.astype(int)] > 0.5
    assert [[bool(column >> k & 1) for k in range(8)] for column in out] == wanted.T.tolist()


def stirred(document, amount, seed):
    """Return a world whose points are moved at random by up to `amount` metres, and a generator."""
    world, rng = build_world(parse_setup(document), NoAssets()), np.random.default_rng(seed)
    world.x += rng.uniform(-amount, amount, world.x.shape)
    world.v += rng.uniform(-3.0, 3.0, world.x.shape)
    return world, rng


@pytest.mark.parametrize("amount", [1e-4, 0.004, 0.05])
def test_packs_give_the_bytes_of_one_by_one(amount):
    """Air, on what hardly moved, was stirred, and crumpled to where nothing is sound any more."""
    world, rng = stirred({"bodies": [SHEET]}, amount, 3)
    membrane, found = world.membrane, []
    world.x[:3] = world.x[3]  # a face without an area
    assert (membrane.packed - membrane.span[:-1]).sum() > 0.9 * len(membrane.points)
    swirl, wind = rng.normal(0, 1, world.x.shape), np.array([4.0, 0.0, 1.0])
    rows = rng.uniform(0.01, 1.0, world.air.rows.shape)
    for ends in (membrane.packed, membrane.span[:-1]):
        v = world.v.copy()
        for n, end in enumerate(ends):
            first, last = membrane.span[n], membrane.span[n + 1]
            push_by_air(first, end, last, membrane.points, rows, world.w, world.x, v, wind, True, swirl, 1.2, DT)
        found.append(v)
    assert found[0].tobytes() == found[1].tobytes() and not np.array_equal(found[0], world.v)


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 1000), st.integers(1, 60))
def test_no_two_of_a_pack_share_a_point(seed, count):
    """Random triangles of few points: each comes once, packs are whole, and their points are all different."""
    rng = np.random.default_rng(seed)
    faces = np.array([rng.choice(20, 3, replace=False) for _ in range(count)], np.int32)
    layout = lay_out([faces], rng.normal(size=(20, 3)))
    span, packed, order = layout.spans[0], layout.packed[0], layout.orders[0]
    assert sorted(order) == list(range(count))
    assert ((packed - span[:-1]) % 4 == 0).all() and (packed <= span[1:]).all()
    for first, end in zip(span, packed, strict=False):
        for start in range(first, end, 4):
            assert len(np.unique(faces[order[start : start + 4]])) == 12


@numba.njit(error_model="numpy")
def _squares(x):
    p, a, b, c = points4(x, 0, 4, 8, 12), points4(x, 1, 5, 9, 13), points4(x, 2, 6, 10, 14), points4(x, 3, 7, 11, 15)
    out, row = np.empty((4, 3)), square_to_triangle(p, a, b, c)
    put4(out, 0, 1, 2, 3, (row, square_of_segments(p, a, b, c), row))
    return out


@settings(max_examples=100, deadline=None)
@given(st.integers(0, 10_000), st.sampled_from([1.0, 0.01]))
def test_squares_of_distances_agree_with_the_distances_of_contact(seed, flat):
    """Four places and triangles, four pairs of edges, also nearly in one plane, against the functions that branch."""
    x = np.random.default_rng(seed).normal(size=(16, 3)) * [1.0, flat, 1.0]
    found = np.sqrt(_squares(x))
    for k in range(4):
        a, b, c, d = range(4 * k, 4 * k + 4)
        assert found[k, 0] == pytest.approx(abs(point_gap(x, x, a, b, c, d)[0]), abs=1e-9)
        assert found[k, 1] == pytest.approx(abs(edge_gap(x, x, a, b, c, d)[0]), abs=1e-9)


@numba.njit(inline="always")
def _three(x, n):
    return values8(x[n], 0), values8(x[n + 1], 0), values8(x[n + 2], 0)


@numba.njit(error_model="numpy")
def _near_by_eight(x, reach):
    """Which of eight points and triangles, and of eight pairs of edges, are nearer than reach (8,); x (12, 8)."""
    a, b = (
        (values8(x[0], 0), values8(x[1], 0), values8(x[2], 0)),
        (values8(x[3], 0), values8(x[4], 0), values8(x[5], 0)),
    )
    c, d = (
        (values8(x[6], 0), values8(x[7], 0), values8(x[8], 0)),
        (values8(x[9], 0), values8(x[10], 0), values8(x[11], 0)),
    )
    far = values8(reach, 0)
    return bits(root(square_to_triangle(a, b, c, d)) < far), bits(root(square_of_segments(a, b, c, d)) < far)


@settings(max_examples=400, deadline=None)
@given(
    seed=st.integers(0, 10_000), thin=st.floats(0, 8), flat=st.floats(0, 8), away=st.sampled_from([0.0, 1.0, 10.0]),
    form=st.sampled_from(["any", "needles", "parallel", "short"]),
)  # fmt: skip
def test_single_precision_misses_nothing_by_more_than_the_search_spares(seed, thin, flat, away, form):
    """What is as near as the reach is found when that is wider by ROUGH of the largest number and SLIM of the size.

    Points, triangles and edges of any form, slim ones, nearly parallel and nearly coincident ones; against the
    functions of contact in double precision. Of 640,000 at random the worst was off by half of that.
    """
    rng, one, two = np.random.default_rng(seed), 10.0**-thin, 10.0**-flat
    x = rng.normal(size=(8, 4, 3)) * [1.0, one, one * two if form == "needles" else two]
    x = x @ np.linalg.qr(rng.normal(size=(3, 3)))[0]
    if form == "parallel":
        x[:, 3] = x[:, 1] + (x[:, 0] - x[:, 2]) * rng.choice([1, -1]) + rng.normal(size=(8, 3)) * two
    if form == "short":
        x[:, 2] = x[:, 1] + rng.normal(size=(8, 3)) * one * 1e-3
    x += away
    spare = ROUGH * abs(x).max() + SLIM * (x.max(1) - x.min(1)).max(1)
    rows = np.ascontiguousarray(x.astype(np.float32).transpose(1, 2, 0).reshape(12, 8))
    for k, gap in enumerate((point_gap, edge_gap)):
        gaps = np.array([abs(gap(p, p, 0, 1, 2, 3)[0]) for p in x])
        assert _near_by_eight(rows, (gaps + spare).astype(np.float32))[k] == 255


@numba.njit
def _block(rows, t, k, out):
    taken = block4(rows, t, k)
    for n in range(4):
        for m in range(4):
            out[n, m] = lane(taken[m], n)


def test_a_block_of_four_rows_is_taken_up_from_any_place():
    """Four places of four rows, of rows of 4, 5, 8 and 13 numbers, up to the very last."""
    for wide in (4, 5, 8, 13):
        rows, out = np.random.default_rng(wide).normal(size=(9, wide)), np.zeros((4, 4))
        for t, k in ((0, 0), (2, wide - 4), (5, wide - 4)):
            _block(rows, t, k, out)
            assert np.array_equal(out, rows[t : t + 4, k : k + 4])
