"""Even remeshing: alike triangles on the same surface, whatever the old mesh was like."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zembrik.core.mesh import shapes
from zembrik.core.mesh.audit import audit
from zembrik.core.mesh.even import evened
from zembrik.core.mesh.trimesh import TriMesh, volume_m3
from zembrik.core.problem import Problem

MESHES = {
    "sheet of slivers": (shapes.grid((1.0, 1.0), (100, 4)), 0.05),
    "fine sheet made coarse": (shapes.grid((1.0, 1.0), (40, 40)), 0.1),
    "box of twelve faces": (shapes.box((1.0, 0.5, 1.0), 1), 0.1),
    "ball": (shapes.ball(0.5), 0.05),
    "ring": (shapes.ring(0.3, 0.08), 0.04),
}


def smallest_angles(mesh: TriMesh) -> np.ndarray:
    """Return each face's smallest angle in degrees, by the law of cosines."""
    p = mesh.points[mesh.faces]
    a, b, c = (np.linalg.norm(p[:, k] - p[:, (k + 1) % 3], axis=1) for k in range(3))
    cosines = [(x * x + y * y - z * z) / (2 * x * y) for x, y, z in ((a, b, c), (b, c, a), (c, a, b))]
    return np.degrees(np.arccos(np.clip(np.max(cosines, axis=0), -1, 1)))


@pytest.mark.parametrize("name", MESHES)
def test_triangles_are_alike_and_the_surface_stays(name):
    """Nearly all edges within 0.6 to 1.45 of the spacing, the mean smallest angle near 60°, area and borders kept."""
    mesh, spacing = MESHES[name]
    even = evened(mesh, spacing)
    lengths, angles = even.edge_lengths / spacing, smallest_angles(even)
    assert 0.9 < np.median(lengths) < 1.1 and np.mean((lengths > 0.6) & (lengths < 1.45)) > 0.95
    assert angles.mean() > 48 and angles.min() > 10
    assert (even.edge_use <= 2).all() and even.is_closed == mesh.is_closed
    assert even.face_areas.sum() == pytest.approx(mesh.face_areas.sum(), rel=0.02)
    if mesh.is_closed:
        assert volume_m3(even) == pytest.approx(volume_m3(mesh), rel=0.03)
    else:
        border = [m.edge_lengths[m.edge_use == 1].sum() for m in (mesh, even)]
        assert border[0] == pytest.approx(border[1], rel=1e-9)  # straight borders stay as long as they are
    np.testing.assert_allclose(even.bounds, mesh.bounds, atol=0.02 * spacing + 0.01 * float(mesh.size.max()))
    kinds = [{f.kind for f in audit(m).flaws} for m in (mesh, even)]
    assert kinds[1] <= kinds[0]  # no new defect
    again = evened(mesh, spacing)
    assert (again.points == even.points).all() and (again.faces == even.faces).all()


@settings(max_examples=25, deadline=None)
@given(seed=st.integers(0, 10**6), spacing=st.floats(0.06, 0.4))
def test_a_dented_ball_stays_closed_and_as_large(seed, spacing):
    rng = np.random.default_rng(seed)
    ball = shapes.ball(0.5)
    waves = rng.normal(size=(3, 3))
    dented = ball.moved(ball.points * (1 + 0.08 * np.sin(6 * ball.points @ waves.T).sum(axis=1, keepdims=True)))
    even = evened(dented, spacing)
    assert even.is_closed and (even.face_areas > 0).all()
    # A coarse mesh cuts corners: of a ball of radius r by about (h / r)² / 6.
    assert volume_m3(even) == pytest.approx(volume_m3(dented), rel=0.03 + (spacing / 0.5) ** 2)


def test_spacings_that_cannot_be_are_told():
    box = shapes.box((1.0, 1.0, 1.0), 1)
    for spacing, words in ((0.0, "more than nothing"), (np.nan, "more than nothing"), (1e-5, "more than 2,000,000"),
                           (9.0, "hardly a face")):  # fmt: skip
        with pytest.raises(Problem, match=words):
            evened(box, spacing)
