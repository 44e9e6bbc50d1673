"""Proxies that take long are found once a machine: kept, taken again, told as not there yet."""

import numpy as np
import pytest

from zembrik.core.mesh import shapes
from zembrik.core.proxy import shelf
from zembrik.core.setup.document import Body
from zembrik.core.shelf import shelf_home
from zembrik.core.solver import colliders

PROXY = {"kind": "hulls", "most": 4, "hollow": 0.02, "closes": 0.05, "keep": 0.2, "sides": "outside"}


@pytest.fixture
def heavy(monkeypatch, tmp_path):
    """A ring of so many faces that no page waits for its hulls, an empty shelf, and no memory of before."""
    monkeypatch.setenv("ZEMBRIK_SHELF", str(tmp_path))
    colliders._shapes_of.cache_clear()
    monkeypatch.setattr(colliders, "FEW_FACES", 100)
    place = {"translate": [1.0, 2.0, 3.0], "rotate": [20.0, 30.0, 40.0], "scale": 2.0}
    body = Body.model_validate({"name": "ring", "mesh": {"shape": "ring", "radius": 0.3, "tube": 0.1}, "place": place})
    from zembrik.core.setup.assets import NoAssets, placed_mesh

    return body, placed_mesh(body, NoAssets())


@pytest.mark.parametrize("kind", ["hulls", "shell"])
def test_what_was_found_is_the_same_from_the_shelf(heavy, monkeypatch, kind):
    body, mesh = heavy
    proxy = {**PROXY, "kind": kind}
    assert not colliders.is_found(body, proxy, mesh)
    found = colliders.proxy_shapes(body, proxy, mesh)
    assert colliders.is_found(body, proxy, mesh) and not colliders.is_found(
        body, {**proxy, "most": 5, "closes": 0.1}, mesh
    )
    colliders._shapes_of.cache_clear()

    def never(*_):
        raise AssertionError("it was found before")

    monkeypatch.setattr(colliders, "several_hulls", never)
    monkeypatch.setattr(colliders, "shell_around", never)
    again = colliders.proxy_shapes(body, proxy, mesh)
    assert len(again) == len(found)
    for one, other in zip(found, again, strict=True):
        assert (one.mesh.points == other.mesh.points).all() and (one.mesh.faces == other.mesh.faces).all()


def test_a_broken_file_on_the_shelf_is_no_proxy(heavy):
    _, mesh = heavy
    shelf.put("hulls", mesh, (1,), (shapes.ball(1.0),))
    (kept,) = shelf.take("hulls", mesh, (1,))
    assert np.array_equal(kept.points, shapes.ball(1.0).points)
    place = next(shelf_home().rglob("*.npz"))
    place.write_bytes(place.read_bytes()[:300])
    assert shelf.take("hulls", mesh, (1,)) is None
