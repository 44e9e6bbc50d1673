"""Stills: closed and as thick as asked for; smoothed without leaving the surface far behind."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zembrik.core.mesh import shapes
from zembrik.core.mesh.audit import audit
from zembrik.core.mesh.still import smoothed, still_of, thickened
from zembrik.core.mesh.trimesh import TriMesh, volume_m3
from zembrik.core.problem import Problem


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 2**31), st.floats(1e-4, 0.02))
def test_a_wavy_sheet_becomes_closed_and_has_the_volume_of_its_area_times_its_thickness(seed, thickness):
    """Gently bent, so that no side crosses the other: watertight, all faces outwards, V = A t."""
    rng = np.random.default_rng(seed)
    sheet = shapes.grid((1.0, 0.8), (24, 20))
    points = sheet.points.copy()
    for _ in range(4):
        way = rng.normal(0, 2.0, 2)
        points[:, 1] += 0.02 * np.sin(points[:, 0] * way[0] + points[:, 2] * way[1] + rng.uniform(0, 6))
    sheet = sheet.moved(points)
    solid = thickened(sheet, thickness)
    assert solid.is_closed and not [f.kind for f in audit(solid).flaws if f.kind not in ("needles",)]
    assert volume_m3(solid) == pytest.approx(float(sheet.face_areas.sum()) * thickness, rel=0.01)


def test_a_closed_mesh_becomes_a_shell():
    ball = shapes.ball(0.5, 32)
    shell = thickened(ball, 0.02)
    assert shell.is_closed and len(shell.faces) == 2 * len(ball.faces)
    assert volume_m3(shell) == pytest.approx(4 / 3 * np.pi * (0.51**3 - 0.49**3), rel=0.03)


def test_smoothing_rounds_a_coarse_ball_and_keeps_a_flat_sheet_flat():
    box = shapes.box((1, 1, 1), 2)
    fine = smoothed(box, 2)
    assert len(fine.faces) == 16 * len(box.faces) and fine.is_closed
    angles = np.degrees(np.arccos(np.clip(np.einsum("ij,ij->i", *_both_sides(fine)), -1, 1)))
    assert angles.max() < 60  # where it had been 90
    sheet = shapes.grid((1, 1), (4, 4))
    flat = still_of(sheet.points.astype(np.float32), sheet.faces, 0.0, 1)
    assert np.abs(flat.points[:, 1]).max() < 1e-7 and len(flat.faces) == 4 * len(sheet.faces)
    assert np.array_equal(still_of(sheet.points, sheet.faces).points, sheet.points)


def _both_sides(mesh):
    normals, first = mesh.face_normals, {}
    pairs = []
    for face, edges in enumerate(mesh.face_edges.tolist()):
        for edge in edges:
            if edge in first:
                pairs.append((first[edge], face))
            first[edge] = face
    one, two = np.array(pairs).T
    return normals[one], normals[two]


def test_what_has_no_two_sides_is_told():
    three = TriMesh(np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1.0]]),
                    np.array([[0, 1, 2], [1, 0, 3], [0, 1, 4]], np.int32))  # fmt: skip
    with pytest.raises(Problem, match="two faces"):
        thickened(three, 0.01)
    for thickness in (0.0, -1.0, float("nan")):
        with pytest.raises(Problem, match="more than nothing"):
            thickened(shapes.grid((1, 1), (2, 2)), thickness)
    with pytest.raises(Problem, match="rounds"):
        smoothed(shapes.grid((1, 1), (2, 2)), 9)
