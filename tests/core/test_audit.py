"""Meshes damaged on purpose: what is found, and what a mend does and leaves alone."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zembrik.core.mesh import shapes
from zembrik.core.mesh.audit import audit, crossing_faces
from zembrik.core.mesh.density import nearest_points, points_at, respaced, spacing_of
from zembrik.core.mesh.mend import MENDS
from zembrik.core.mesh.refine import refine
from zembrik.core.mesh.trimesh import TriMesh, volume_m3
from zembrik.core.problem import Problem


def flaws(mesh):
    return {flaw.kind: flaw.count for flaw in audit(mesh).flaws}


def mended(mesh, *kinds):
    for kind in kinds:
        mesh = MENDS[kind][1](mesh)
    return mesh


def damaged(mesh, how, rng):
    """Return the mesh with one kind of defect, and how many of it."""
    points, faces = mesh.points.copy(), mesh.faces.copy()
    count = int(rng.integers(1, 6))
    some = rng.choice(len(faces), count, replace=False)
    if how == "doubled points":
        for n in some:  # a corner of a face of its own
            points = np.concatenate([points, points[faces[n, :1]]])
            faces[n, 0] = len(points) - 1
        return TriMesh(points, faces), len(np.unique(mesh.faces[some, 0])) and count
    if how == "loose points":
        return TriMesh(np.concatenate([points, points[:count] * 0.5]), faces), count
    if how == "doubled faces":
        return TriMesh(points, np.concatenate([faces, np.roll(faces[some], 1, axis=1)])), count
    if how == "turned faces":
        faces[some] = faces[some][:, ::-1]
        return TriMesh(points, faces), count
    if how == "inside out":
        return TriMesh(points, np.ascontiguousarray(faces[:, ::-1])), 1
    assert how == "holes"
    return TriMesh(points, np.delete(faces, some[:1], axis=0)), 1


@pytest.mark.parametrize(
    "how", ["doubled points", "loose points", "doubled faces", "turned faces", "inside out", "holes"]
)
@settings(max_examples=25, deadline=None)
@given(seed=st.integers(0, 10**6))
def test_a_mend_takes_out_its_defect_and_nothing_else(how, seed):
    """Of a ball, a ring and a box: the damage is counted, the mend restores volume and leaves no other flaw."""
    rng = np.random.default_rng(seed)
    sound = [shapes.ball(0.7, 8), shapes.ring(0.5, 0.2, 12, 8), shapes.box((1.0, 2.0, 3.0), 3)][seed % 3]
    assert flaws(sound) == {}
    broken, count = damaged(sound, how, rng)
    found = flaws(broken)
    assert found[how] == count
    whole = mended(broken, how)
    assert flaws(whole) == {}
    assert volume_m3(whole) == pytest.approx(volume_m3(sound), rel=1e-3)
    assert len(whole.points) == len(sound.points)


def test_faces_without_area_are_taken_out_without_a_slit():
    """A corner laid onto the side between two faces: the flat face goes, the far one is cut, nothing opens."""
    box = shapes.box((1.0, 1.0, 1.0))
    a, b = box.edges[0]
    middle = (box.points[a] + box.points[b]) / 2
    faces = box.faces.tolist()
    mine = next(n for n, f in enumerate(faces) if a in f and b in f)
    k = next(i for i in range(3) if {faces[mine][i], faces[mine][(i + 1) % 3]} == {a, b})
    one, two, top = (faces[mine][(k + i) % 3] for i in range(3))
    n = len(box.points)
    faces[mine : mine + 1] = [[one, n, top], [n, two, top], [one, two, n]]
    broken = TriMesh(np.concatenate([box.points, middle[None]]), np.array(faces, dtype=np.int32))
    assert flaws(broken)["empty faces"] == 1
    whole = mended(broken, "empty faces")
    assert flaws(whole) == {}
    assert volume_m3(whole) == pytest.approx(1.0)


def test_needles_open_borders_and_crowded_edges_are_told():
    sheet = shapes.grid((1.0, 0.001), (2, 1))
    assert flaws(sheet) == {"needles": 4, "holes": 1}
    fin = TriMesh(np.concatenate([shapes.box((1.0, 1.0, 1.0)).points, [[0, 3.0, 0]]]),
                  np.concatenate([shapes.box((1.0, 1.0, 1.0)).faces, [[0, 1, 8]]]).astype(np.int32))  # fmt: skip
    assert flaws(fin)["crowded edges"] == 1


def test_crossing_faces_are_those_that_cross():
    """Two balls 0.3 apart of radius 0.2: the faces near their common circle, on both; 0.5 apart: none."""
    ball = shapes.ball(0.2, 12)

    def pair(apart):
        points = np.concatenate([ball.points, ball.points + np.array([apart, 0.001, 0.002])])
        return points, np.concatenate([ball.faces, ball.faces + len(ball.points)]).astype(np.int32)

    points, faces = pair(0.3)
    crossed = crossing_faces(points, faces)
    middles = points[faces[crossed]].mean(axis=1)
    assert crossed[: len(ball.faces)].any() and crossed[len(ball.faces) :].any()
    assert np.abs(middles[:, 0] - 0.15).max() < 0.06
    assert not crossing_faces(*pair(0.5)).any()


@settings(max_examples=20, deadline=None)
@given(seed=st.integers(0, 10**6), longest=st.floats(0.08, 0.6))
def test_refined_meshes_have_no_long_edge_and_no_crack(seed, longest):
    sound = [shapes.ball(0.7, 6), shapes.box((1.0, 0.3, 0.7)), shapes.ring(0.5, 0.2, 9, 5)][seed % 3]
    fine = refine(sound, longest)
    assert fine.edge_lengths.max() <= longest * (1 + 1e-6)
    assert fine.is_closed
    assert volume_m3(fine) == pytest.approx(volume_m3(sound), rel=1e-9)
    assert np.array_equal(fine.points[: len(sound.points)], sound.points)
    assert np.einsum("ij,ij->i", fine.face_areas[:, None], fine.face_areas[:, None]).min() > 0


def test_another_spacing_is_about_what_was_asked_for_and_pins_stay_in_place():
    ball = shapes.ball(0.5, 24)
    now = spacing_of(ball)
    for factor in (0.4, 0.6, 1.5, 2.5):
        made = respaced(ball, factor * now)
        assert spacing_of(made) == pytest.approx(factor * now, rel=0.45)
        assert len(made.points) == pytest.approx(points_at(ball, spacing_of(made)), rel=0.5)
        assert volume_m3(made) == pytest.approx(volume_m3(ball), rel=0.05)
        pins = nearest_points(ball.points, [0, 7, 40], made.points)
        off = np.linalg.norm(made.points[pins][:, None] - ball.points[[0, 7, 40]][None], axis=2).min(axis=0)
        assert off.max() <= (1e-9 if factor < 1 else factor * now)
    for wrong in (0.0, -1.0, 1e6):
        with pytest.raises(Problem):
            respaced(ball, wrong)
