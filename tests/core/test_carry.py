"""A carried mesh: in its place at rest, rigid where its carrier is, bent where that bends; and proxies that follow."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zembrik.core.mesh import shapes
from zembrik.core.mesh.carry import bind, carry
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.proxy.over_frames import fit_over_frames
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.setup.resolve import resolve
from zembrik.core.solver.build import build_world
from zembrik.core.units import turn_matrix


@settings(max_examples=30, deadline=None)
@given(seed=st.integers(0, 10**6))
def test_it_goes_along_rigidly_and_is_exact_at_rest(seed):
    rng = np.random.default_rng(seed)
    carrier = shapes.ball(0.5)
    carrier = carrier.moved(carrier.points * (1 + 0.1 * rng.normal(size=(len(carrier.points), 1))))
    points = rng.normal(size=(40, 3)) * 0.6
    binding = bind(points, carrier)
    np.testing.assert_allclose(carry(binding, carrier.points), points, atol=1e-12)
    turn, shift = turn_matrix(rng.uniform(-180, 180, 3)), rng.normal(size=3)
    moved = carry(binding, carrier.points @ turn.T + shift)
    np.testing.assert_allclose(moved, points @ turn.T + shift, atol=1e-11)


def test_a_shell_around_a_bent_sheet_is_bent_alike():
    """A sheet rolled to radius R: points h above it come to R + h from the axis, within what its faces cut off."""
    sheet, radius, height = shapes.grid((1.0, 0.4), (100, 8)), 0.5, 0.02
    above = sheet.points + np.array([0.0, height, 0.0])
    angle = sheet.points[:, 0] / radius
    rolled = np.stack([radius * np.sin(angle), radius * np.cos(angle), sheet.points[:, 2]], axis=1)
    now = carry(bind(above, sheet), rolled)
    away = np.hypot(now[:, 0], now[:, 1])
    inner = np.abs(sheet.points[:, 0]) < 0.48  # the rim's normals lean to one side
    np.testing.assert_allclose(away[inner], radius + height, atol=1e-5)


def test_a_mesh_without_a_surface_carries_nothing():
    flat = TriMesh(np.zeros((3, 3)), np.array([[0, 1, 2]], np.int32))
    with pytest.raises(Problem, match="without a surface"):
        bind(np.zeros((1, 3)), flat, "flat")


def rippling(kind: str) -> dict:
    ripple = {"height": 0.05, "length": 0.8, "rate": 1.0, "strength": 1.0, "direction": [1, 0, 0]}
    ground = {
        "name": "ground",
        "role": "collider",
        "mesh": {"shape": "grid", "size": [2, 2], "segments": [40, 40]},
        "place": {"translate": [0, 0.2, 0]},
        "proxy": {"kind": kind, "keep": 0.3},
        "motion": {"ripple": ripple},
    }
    cloth = {"name": "cloth", "role": "cloth", "mesh": {"shape": "grid", "size": [0.5, 0.5], "segments": [8, 8]},
             "place": {"translate": [0, 0.4, 0]}}  # fmt: skip
    return {"frames": [1, 25], "bodies": [cloth, ground]}


def test_a_reduced_proxy_follows_every_form_of_its_mesh():
    """On the ripple y = h sin 2π(x / l - r t) the bound proxy's points lie on the wave within the mesh's own error."""
    setup = parse_setup(rippling("reduced"))
    world = build_world(setup, NoAssets())
    ((mover, proxy),) = world.colliders.forms.values()
    assert len(proxy.faces) < 0.5 * 3200
    for frame in (1, 7, 19):
        points = mover.points_at(proxy.points, frame)
        wave = 0.2 + 0.05 * np.sin(2 * np.pi * (points[:, 0] / 0.8 - frame / 24))
        assert np.abs(points[:, 1] - wave).max() < 1e-3


def test_the_meter_runs_over_all_frames_and_finds_the_worst():
    """A flat sheet reduced to few faces cannot take on the wave: it is off by about the wave's height then."""
    document = rippling("reduced")
    document["bodies"][1]["motion"]["ripple"]["strength"] = {"keys": [[1, 0], [25, 1]]}
    document["bodies"][1]["proxy"]["keep"] = 0.01
    setup = parse_setup(document)
    proxy = resolve(setup).document["bodies"][1]["proxy"]
    told = []
    found = fit_over_frames(setup, 1, proxy, NoAssets(), lambda d, t: told.append(d) or True)
    assert found.frames.tolist() == list(range(1, 26)) and told == list(range(25))
    assert found.gap_m[0] < 1e-6 and 0.01 < found.gap_m[-1] < 0.11 and found.worst > 15
    with pytest.raises(Problem, match="keeps its form"):
        fit_over_frames(setup, 0, proxy, NoAssets())
