"""Handing over between two bodies, as an edit of a setup."""

import numpy as np
import pytest

from zembrik.core.bake import bake
from zembrik.core.cache.reader import Cache
from zembrik.core.mesh import shapes
from zembrik.core.mesh.fit_onto import fit_onto
from zembrik.core.problem import Problem
from zembrik.core.review.pops import pops_of
from zembrik.core.setup.assets import NoAssets, placed_mesh
from zembrik.core.setup.document import parse_setup
from zembrik.core.setup.shown import is_shown, seen_in, seen_words
from zembrik.core.units import turn_matrix
from zembrik.library.handovers import handover_patch, take_over_patch
from zembrik.library.shots import apply_patch

KEYED = {"translate": {"keys": [[1, [0, 0, 0]], [13, [1.0, 0.5, 0]]]},
         "rotate": {"keys": [[1, [0, 0, 0]], [13, [0, 0, 120]]]}}  # fmt: skip
FLAT = {"size": [0.1, 0.2, 0.4]}


def two(rings):
    """A keyed box, and another box of other faces that lies elsewhere and turned."""
    fine = {"name": "fine", "role": "collider", "mesh": {"shape": "box", **FLAT}, "motion": KEYED,
            "place": {"translate": [0, 1, 0], "rotate": [10, 20, 30]}}  # fmt: skip
    coarse = {"name": "coarse", "role": "rigid", "mesh": {"shape": "box", **FLAT, "segments": rings},
              "place": {"translate": [2, 3, -1], "rotate": [35, 0, -15]}, "proxy": {"kind": "box"}}  # fmt: skip
    return {"schema": "zembrik.setup/1", "bodies": [fine, coarse], "frames": [1, 24], "world": {"ground": None}}


@pytest.mark.parametrize(("rings", "how"), [(1, "by the points they share"), (3, "by their surfaces")])
def test_a_body_takes_over_from_another_without_a_jump(tmp_path, rings, how):
    document = two(rings)
    setup = parse_setup(document)
    patch, told = take_over_patch(setup, document, 1, 0, 9, NoAssets())
    assert how in told and "left out now" in told
    changed = parse_setup(apply_patch(document, patch))
    laid, onto = (placed_mesh(changed.bodies[n], NoAssets()) for n in (1, 0))
    assert np.abs(np.sort(laid.bounds - onto.bounds, axis=0)).max() < 2e-4
    assert [b.role for b in changed.bodies] == ["left out", "rigid"]
    assert [[is_shown(b.shown, f) for f in (1, 8, 9, 24)] for b in changed.bodies] == [
        [True, True, False, False], [False, False, True, True]
    ]  # fmt: skip
    bake(changed, NoAssets(), tmp_path / "c.zarr")
    (pop,) = pops_of(changed, Cache(tmp_path / "c.zarr"), NoAssets())
    assert not pop.seen and pop.jump_mm < 0.5 and pop.share < 0.01
    # What is seen: the frame before of the one, carried on, is the frame after of the other.
    with pytest.raises(Problem, match="moves by itself"):
        take_over_patch(changed, apply_patch(document, patch), 1, 0, 12, NoAssets())


def test_a_body_takes_over_from_one_that_changes_its_form(tmp_path):
    """From a sheet that grows and flies: place, turn and speed are those of the nearest rigid motion at the frame."""
    grows = {"keys": [[1, 0.9], [19, 1.1]]}
    sheet = {"name": "sheet", "role": "collider", "mesh": {"shape": "grid", "size": [0.4, 0.4], "segments": [8, 8]},
             "motion": {"translate": {"keys": [[1, [0, 0, 0]], [25, [3.0, 1.0, 0]]]}, "scale": grows}}  # fmt: skip
    tray = {"name": "tray", "role": "rigid", "mesh": {"shape": "box", "size": [0.4, 0.01, 0.4]},
            "place": {"translate": [1, 0, 1], "rotate": [0, 45, 0]}, "proxy": {"kind": "box"}}  # fmt: skip
    document = {"schema": "zembrik.setup/1", "bodies": [sheet, tray], "frames": [1, 24], "world": {"ground": None}}
    patch, told = take_over_patch(parse_setup(document), document, 1, 0, 10, NoAssets())
    changed = parse_setup(apply_patch(document, patch))
    assert changed.bodies[1].motion.translate.keys[1][0] == 10 and "mm off in the mean" in told
    bake(changed, NoAssets(), tmp_path / "c.zarr")
    cache = Cache(tmp_path / "c.zarr")
    (pop,) = pops_of(changed, cache, NoAssets())
    middle = [cache.points(0, f).mean(axis=0) for f in (10, 11)]
    assert not pop.seen and (middle[1] - middle[0])[0] * 24 == pytest.approx(3.0, abs=0.05)


def test_surfaces_are_laid_onto_each_other_whatever_their_faces():
    pear = shapes.ball(1.0, 12)
    pear = pear.moved(pear.points * [0.05, 0.12, 0.07] + np.outer(0.03 * pear.points[:, 1] ** 2, [1, 0, 0]))
    other = shapes.ball(1.0, 30)
    other = other.moved(other.points * [0.05, 0.12, 0.07] + np.outer(0.03 * other.points[:, 1] ** 2, [1, 0, 0]))
    turn = turn_matrix([70.0, -120.0, 40.0])
    fit = fit_onto(pear.moved(pear.points @ turn.T + [1.0, 2.0, 3.0]), other)
    back = (pear.points @ turn.T + [1.0, 2.0, 3.0]) @ fit.turn.T + fit.shift
    assert not fit.shared and np.abs(back - pear.points).max() < 2e-3 and fit.mean_m < 1e-3


def test_a_collider_that_is_handed_over_becomes_what_physics_moves():
    document = two(1)
    patch = handover_patch(parse_setup(document), document, 0, None, {"at": 9}, "rigid")
    made = apply_patch(document, patch)
    body = parse_setup(made).bodies[0]
    assert (body.role, body.handovers[0].at, body.handovers[0].over, body.motion is not None) == ("rigid", 9, 12, True)
    changed = apply_patch(made, handover_patch(parse_setup(made), made, 0, 0, {"at": 10, "back": 20}))
    assert changed["bodies"][0]["handovers"] == [{"at": 10, "back": 20, "over": 12}]
    gone = apply_patch(changed, handover_patch(parse_setup(changed), changed, 0, 0, None))
    assert "handovers" not in gone["bodies"][0]
    with pytest.raises(Problem, match="nothing moves 'coarse'"):
        handover_patch(parse_setup(document), document, 1, None, {"at": 9})
    with pytest.raises(Problem, match="no role 'paper'"):
        handover_patch(parse_setup(document), document, 0, None, {"at": 9}, "paper")
    released = apply_patch(made, [{"op": "remove", "path": "/bodies/0/handovers"},
                                  {"op": "add", "path": "/bodies/0/release", "value": 5}])  # fmt: skip
    both = apply_patch(released, handover_patch(parse_setup(released), released, 0, 0, {"at": 6, "back": 8}))
    assert both["bodies"][0]["handovers"] == [{"at": 6, "back": 8}] and "release" not in both["bodies"][0]


@pytest.mark.parametrize(
    ("text", "seen"),
    [("", None), ("24 to", [24, 99]), ("1 to 23, 60 to 70", [1, 23, 60, 70]), ("to 10", [-5, 10]), ("7", [7])],
)
def test_spans_in_which_a_body_is_seen_go_there_and_back(text, seen):
    shown = seen_in(text)
    assert seen_words(shown) == (text if text != "7" else "7 to 7") and seen_in(seen_words(shown)) == shown
    if seen:
        inside = [is_shown(shown, f) for f in seen]
        assert all(inside) and not is_shown(shown, 11 if text == "to 10" else seen[0] - 1)
    else:
        assert is_shown(shown, 5)
    with pytest.raises(Problem, match="no span"):
        seen_in("often")
    with pytest.raises(Problem, match="do not overlap"):
        seen_in("5 to 9, 9 to 12")
