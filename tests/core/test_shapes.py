"""The shapes made by code: closed, facing out everywhere, and of the volume of their formula."""

import numpy as np
import pytest

from zembrik.core.mesh import shapes

# name: (mesh, volume)
SOLIDS = {
    "box": (shapes.box((1.0, 2.0, 3.0), 3), 6.0),
    "ball": (shapes.ball(0.5, 24), np.pi / 6),
    "coarse ball": (shapes.ball(0.5, 4), None),
    "cylinder": (shapes.cylinder(0.5, 2.0, 48), np.pi / 2),
    "capsule": (shapes.capsule(0.5, 2.0, 48), np.pi * 0.25 + np.pi / 6),
    "ring": (shapes.ring(1.0, 0.2, 64, 32), 2 * np.pi**2 * 0.04),
}


@pytest.mark.parametrize("name", SOLIDS)
def test_solids_face_outwards_everywhere(name):
    """Every edge is gone along once in each direction, and the volume by the divergence theorem is the solid's."""
    mesh, volume = SOLIDS[name]
    ways = mesh.faces[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2)
    assert len(np.unique(ways, axis=0)) == len(ways)
    assert {tuple(way) for way in ways} == {tuple(way) for way in ways[:, ::-1]}
    a, b, c = (mesh.points[mesh.faces[:, k]] for k in range(3))
    found = np.einsum("ij,ij->", a, np.cross(b, c)) / 6
    assert found > 0
    if volume is not None:
        assert found == pytest.approx(volume, rel=0.02)
