"""Many detailed meshes given to the bodies that carry them."""

import numpy as np
import pytest

from zembrik.core.mesh import shapes
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import FolderAssets, placed_mesh, render_mesh
from zembrik.core.setup.document import parse_setup
from zembrik.library.carrying import (
    carry_alike_patch,
    carry_many_patch,
    copies_without,
    pairs_by_name,
    pairs_by_nearness,
)
from zembrik.library.demo_shot import obj_bytes
from zembrik.library.shots import apply_patch

RING = {"shape": "ring", "radius": 0.06, "tube": 0.01, "sides": 12}


@pytest.fixture()
def chain(tmp_path):
    """Three hundred links, each with a detailed one in its place, in another order."""
    (tmp_path / "fine.obj").write_bytes(obj_bytes(shapes.ring(0.06, 0.01, 40), "fine"))
    rng = np.random.default_rng(5)
    places = [
        {"translate": rng.uniform(-3, 3, 3).round(4).tolist(), "rotate": rng.uniform(-180, 180, 3).round(2).tolist()}
        for _ in range(300)
    ]
    links = [{"name": f"link {n}", "role": "rigid", "mesh": RING, "place": p} for n, p in enumerate(places)]
    fine = [{"name": f"fine {n}", "mesh": {"file": "fine.obj"}, "place": places[n]} for n in rng.permutation(300)]
    return {"schema": "zembrik.setup/1", "bodies": [*links, *fine]}, FolderAssets(tmp_path)


@pytest.mark.parametrize("how", ["name", "near"])
def test_three_hundred_links_carry_their_own_meshes(chain, how):
    document, assets = chain
    setup = parse_setup(document)
    pairs = pairs_by_name(setup, "link *", "fine *") if how == "name" else pairs_by_nearness(setup, assets)
    made = parse_setup(apply_patch(document, carry_many_patch(setup, pairs)))
    assert len(made.bodies) == 300 and all(b.render is not None for b in made.bodies)
    for n in (0, 17, 299):  # each lies where it stood before
        number = next(k for k, b in enumerate(setup.bodies) if b.name == f"fine {n}")
        before, now = placed_mesh(setup.bodies[number], assets).points, render_mesh(made.bodies[n], assets).points
        assert np.abs(before - now).max() < 1e-7


def test_all_copies_of_a_proxy_carry_one_mesh_alike(chain):
    document, _ = chain
    one = apply_patch(document, carry_many_patch(parse_setup(document), [(4, 300)]))
    setup = parse_setup(one)
    assert len(copies_without(setup, 4)) == 299
    made = parse_setup(apply_patch(one, carry_alike_patch(setup, 4)))
    assert all(b.render == made.bodies[4].render for b in made.bodies[:300])
    with pytest.raises(Problem, match="no copy that carries nothing"):
        carry_alike_patch(made, 4)
    with pytest.raises(Problem, match="carries no mesh"):
        carry_alike_patch(setup, 5)


def test_patterns_and_places_that_fit_nothing_are_told(chain):
    document, assets = chain
    setup = parse_setup(document)
    with pytest.raises(Problem, match="not one \\*"):
        pairs_by_name(setup, "link", "fine *")
    assert pairs_by_name(setup, "ring *", "fine *") == []
    with pytest.raises(Problem, match="nothing fits"):
        carry_many_patch(setup, [])
    for body in document["bodies"][300:]:
        body["place"] = {"translate": [900, 0, 0]}
    assert pairs_by_nearness(parse_setup(document), assets) == []
