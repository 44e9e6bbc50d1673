"""Bending that depends neither on how the triangles lie nor on how many there are."""

import numpy as np
import pytest
from scipy import sparse
from scipy.sparse.linalg import spsolve
from scipy.spatial import Delaunay

from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.bend import rest_angles
from zembrik.core.solver.bend_form import CHEQUER, bend_form
from zembrik.core.solver.build import build_world


def one_way(size, segments):
    """Return a lattice whose diagonals all lean one way, as most tools cut quads."""
    sheet = shapes.grid(size, segments)
    nx, nz = segments
    i, j = (a.ravel() for a in np.meshgrid(np.arange(nx), np.arange(nz), indexing="ij"))
    a = i * (nz + 1) + j
    b = a + nz + 1
    faces = np.concatenate([np.stack([a, a + 1, b + 1], 1), np.stack([a, b + 1, b], 1)])
    return TriMesh(sheet.points, faces.astype(np.int32))


def shaken(mesh, cell, seed=5):
    """Move all points but those at the ends and borders by up to 0.28 of a cell."""
    x, z = mesh.points[:, 0], mesh.points[:, 2]
    inside = (x > x.min() + 1.5 * cell) & (x < x.max() - 0.5 * cell) & (np.abs(z) < z.max() - 1e-9)
    shift = np.random.default_rng(seed).uniform(-0.28, 0.28, (len(x), 2)) * cell * inside[:, None]
    return mesh.moved(mesh.points + np.stack([shift[:, 0], 0 * x, shift[:, 1]], axis=1))


def scattered(size, cell, seed=2):
    """Return Delaunay triangles of jittered points, in columns that end with straight borders."""
    nx, nz = round(size[0] / cell), round(size[1] / cell)
    i, j = (a.ravel() for a in np.meshgrid(np.arange(nx + 1), np.arange(nz + 1), indexing="ij"))
    points = np.stack([i / nx - 0.5, j / nz - 0.5], axis=1) * size
    inside = (i > 1) & (i < nx) & (j > 0) & (j < nz)
    points += np.random.default_rng(seed).uniform(-0.4, 0.4, points.shape) * cell * inside[:, None]
    faces = Delaunay(points).simplices
    corner = points[faces]
    turn = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    faces = np.where((turn < 0)[:, None], faces, faces[:, ::-1])[np.abs(turn) > 1e-9 * cell**2]
    return TriMesh(np.insert(points, 1, 0.0, axis=1), faces.astype(np.int32))


def matrix(form):
    """Return F, (H, H), from what each hinge is projected with and is drawn to."""
    form, count = form.full, len(form.own)
    rows = np.arange(count)
    drawn = sparse.csr_array((form.share[:, 0], (rows, rows)), shape=(count, count))
    for k in range(4):
        drawn = drawn + sparse.csr_array((form.share[:, k + 1], (rows, form.near[:, k])), shape=(count, count))
    return sparse.csr_array(sparse.diags_array(form.own) @ (sparse.eye_array(count) - drawn))


def angles_of_heights(mesh):
    """Return how small heights of a flat mesh's points bend its hinges, (H, n), by differences."""
    step, found = 1e-6, []
    for k in range(4):
        moved = []
        for sign in (1.0, -1.0):
            corners = mesh.points[mesh.hinges].copy()
            corners[:, k, 1] += sign * step
            flat = corners.reshape(-1, 3)
            moved.append(rest_angles(flat, np.arange(len(flat), dtype=np.int32).reshape(-1, 4)))
        found.append((moved[0] - moved[1]) / (2 * step))
    rows = np.tile(np.arange(len(mesh.hinges)), 4)
    entries = (np.concatenate(found), (rows, mesh.hinges.T.ravel()))
    return sparse.csr_array(entries, shape=(len(mesh.hinges), len(mesh.points)))


def sag(mesh, cell):
    """Return how far the end of a clamped strip hangs under its small weight, over beam theory's w L⁴ / 8 B."""
    angles = angles_of_heights(mesh)
    stiff = (angles.T @ matrix(bend_form(mesh)) @ angles).tocsr()
    x = mesh.points[:, 0]
    free = x > x.min() + cell + 1e-6
    area = np.bincount(mesh.faces.ravel(), np.repeat(mesh.face_areas / 3, 3), len(x))
    height = np.zeros(len(x))
    height[free] = spsolve(stiff[free][:, free].tocsc(), -area[free])
    length = x.max() - x.min() - cell / 2  # the hinge at the second held row stands for half a cell on both sides
    return -height[x > x.max() - 1e-6].mean() / (length**4 / 8)


def strip(kind, segments, width):
    cell = 1.0 / segments
    size, count = (1.0 + cell, width), (segments + 1, max(2, round(width / cell)))
    if kind == "scattered":
        return scattered(size, cell), cell
    mesh = (one_way if kind.startswith("one way") else shapes.grid)(size, count)
    return (shaken(mesh, cell) if kind.endswith("shaken") else mesh), cell


@pytest.mark.parametrize("kind", ["chequer", "one way", "chequer shaken", "one way shaken", "scattered"])
@pytest.mark.parametrize(("segments", "width"), [(12, 0.25), (24, 0.25), (24, 0.5)])
def test_strips_of_every_mesh_hang_as_beams_do(kind, segments, width):
    """w L⁴ / 8 B within 6%, whatever the triangles (a sum of hinges alone: 1.0 to 1.9 times as far)."""
    assert sag(*strip(kind, segments, width)) == pytest.approx(1.0, abs=0.06)


@pytest.mark.parametrize("kind", ["chequer", "one way", "one way shaken", "scattered"])
@pytest.mark.parametrize("form", [(1, 0, 0), (0, 1, 0), (0.5, 0.5, 0.5), (1, 1, 0), (0.3, -0.7, 0.4)])
def test_the_energy_of_even_curvature(kind, form):
    """½ B K:K per area for any even curvature, times what a chequered mesh is raised by; within the window's 5%."""
    xx, zz, xz = form
    mesh, cell = strip(kind, 48, 1.0)
    x, z = mesh.points[:, 0], mesh.points[:, 2]
    height = 1e-4 * 0.5 * (xx * x**2 + zz * z**2 + 2 * xz * x * z)
    angles = rest_angles(np.insert(mesh.points[:, [0, 2]], 1, height, axis=1), mesh.hinges) / 1e-4
    inside = (np.abs(mesh.points[mesh.hinges][:, :, [0, 2]]) < 0.5 - 2 * cell).all(axis=(1, 2))
    energy = 0.5 * (angles * (matrix(bend_form(mesh)) @ angles))[inside].sum()
    raised = 1.0 + CHEQUER if kind == "chequer" else 1.0
    of_edge = dict(zip(map(tuple, np.sort(mesh.hinges[:, :2]).tolist()), inside, strict=True))
    sides = np.sort(mesh.faces[:, [[0, 1], [1, 2], [2, 0]]], axis=2)
    counted = sum(of_edge.get(tuple(side), False) * area / 3  # a hinge stands for a third of both its triangles
                  for face, area in zip(sides.tolist(), mesh.face_areas, strict=True) for side in face)  # fmt: skip
    assert energy == pytest.approx(raised * 0.5 * (xx**2 + zz**2 + 2 * xz**2) * counted, rel=0.05)


@pytest.mark.parametrize("kind", ["chequer", "one way", "chequer shaken", "one way shaken", "scattered"])
def test_what_a_hinge_is_drawn_to_settles(kind):
    """F is symmetric and never negative, and what hinges are projected with outweighs it: 2 own - F is positive."""
    form = bend_form(strip(kind, 16, 0.5)[0])
    whole = matrix(form).toarray()
    assert np.abs(whole - whole.T).max() < 1e-9 * np.abs(whole).max()
    assert np.linalg.eigvalsh(whole)[0] > -1e-9
    assert np.linalg.eigvalsh(2 * np.diag(form.own) - whole)[0] > -1e-9


def test_alternating_diagonals_need_no_neighbours():
    """There each hinge is alone, so nothing is kept or read of others; other meshes do."""
    setup = {"name": "s", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [6, 6]}}
    world = build_world(parse_setup({"bodies": [setup]}), NoAssets())
    assert len(world.bend.near) == len(world.bend.bent) == 0
    assert bend_form(one_way((1, 1), (6, 6))).coupled
    assert not bend_form(
        TriMesh(np.array([[0.0, 0, 0], [1, 0, 0], [0, 0, 1]]), np.array([[0, 2, 1]], np.int32))
    ).coupled
