"""Signed distance: every kind against a formula or against an exact kind."""

import numpy as np
import pytest

from zembrik.core.distance.build import Shape, build_fields
from zembrik.core.distance.field import distances
from zembrik.core.distance.tree import build_tree, distances_to_mesh
from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh

PLACES = np.random.default_rng(7).uniform(-1.0, 1.0, (4000, 3))
TURN = np.linalg.qr(np.random.default_rng(3).normal(size=(3, 3)))[0]
TURN *= np.sign(np.linalg.det(TURN))


def ask(shape, places=PLACES):
    return distances(build_fields([shape]), 0, places)


def test_analytic_kinds():
    assert ask(Shape("ball", radius_m=0.4))[0] == pytest.approx(np.linalg.norm(PLACES, axis=1) - 0.4)
    assert ask(Shape("plane", origin=np.array([0, 0.2, 0])))[0] == pytest.approx(PLACES[:, 1] - 0.2)
    core = PLACES - np.stack([0 * PLACES[:, 0], np.clip(PLACES[:, 1], -0.3, 0.3), 0 * PLACES[:, 0]], axis=1)
    rod = Shape("capsule", half_m=np.array([0, 0.3, 0]), radius_m=0.2)
    assert ask(rod)[0] == pytest.approx(np.linalg.norm(core, axis=1) - 0.2)


@pytest.mark.parametrize("kind", ["hull", "surface"])
def test_meshes_agree_with_the_box_they_are(kind):
    box = shapes.box((1.0, 0.6, 0.8), 3)
    exact, way = ask(Shape("box", turn=TURN, origin=np.array([0.1, 0, 0]), half_m=np.array([0.5, 0.3, 0.4])))
    found, direction = ask(Shape(kind, turn=TURN, origin=np.array([0.1, 0, 0]), mesh=box))
    near = np.abs(exact) < 0.03
    assert near.sum() > 100
    assert found[near] == pytest.approx(exact[near], abs=1e-12)
    assert (np.sign(found) == np.sign(exact)).all()
    clear = near & (np.abs(way @ TURN).max(axis=1) > 0.999)
    assert np.einsum("ij,ij->i", way, direction)[clear].min() > 0.999


def test_the_direction_is_the_gradient():
    ring = Shape("surface", turn=TURN, mesh=shapes.ring(0.5, 0.2))
    fields = build_fields([ring])
    distance, direction = distances(fields, 0, PLACES)
    near = np.abs(distance) < 0.02
    step = 1e-6
    ahead = distances(fields, 0, PLACES + step * direction)[0]
    assert ((ahead - distance) / step)[near] == pytest.approx(1.0, abs=1e-3)


def test_the_tree_finds_the_closest_point_of_all():
    mesh = shapes.ring(0.5, 0.2, 12, 6)
    samples = np.concatenate([mesh.points, mesh.points[mesh.faces].mean(axis=1)])
    found = np.abs(distances_to_mesh(build_tree(mesh), PLACES[:300]))
    assert (found <= np.linalg.norm(PLACES[:300, None] - samples[None], axis=2).min(axis=1) + 1e-12).all()


def test_inside_is_told_right_beside_sharp_edges():
    """The pseudo-normals must hold where the closest point is an edge or a corner of thin spikes."""
    tips = np.array([[0, 1, 0], [0.1, 0, 0], [-0.05, 0, 0.09], [-0.05, 0, -0.09]], dtype=float)
    spike = TriMesh(tips, np.array([[0, 2, 1], [0, 3, 2], [0, 1, 3], [1, 2, 3]], dtype=np.int32))
    spike = (
        spike
        if np.einsum("ij,ij->", spike.points[spike.faces[:, 0]], spike.face_vectors) > 0
        else TriMesh(tips, np.ascontiguousarray(spike.faces[:, ::-1]))
    )
    planes = np.einsum("nj,fj->nf", PLACES, spike.face_normals) - np.einsum(
        "fj,fj->f", spike.points[spike.faces[:, 0]], spike.face_normals
    )
    assert (np.sign(distances_to_mesh(build_tree(spike), PLACES)) == np.sign(planes.max(axis=1))).all()
