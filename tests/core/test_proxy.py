"""Proxies enclose their mesh, and gap and overhang are what an independent measure says."""

from dataclasses import replace

import numpy as np
import pytest

from zembrik.core.distance.build import Shape, build_fields
from zembrik.core.distance.field import distances
from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import volume_m3
from zembrik.core.problem import Problem
from zembrik.core.proxy.fit import convex_hull, fit_proxy
from zembrik.core.proxy.hulls import several_hulls
from zembrik.core.proxy.measure import measure_fit, recommend, sample_surface
from zembrik.core.proxy.outline import outline
from zembrik.core.proxy.reduce import reduced

ROD = shapes.capsule(0.1, 0.9)
TURN = np.linalg.qr(np.random.default_rng(3).normal(size=(3, 3)))[0]
MESHES = {
    "ball": shapes.ball(0.4, 20),
    "turned rod": ROD.moved(ROD.points @ TURN.T + 1.0),
    "box": shapes.box((1.0, 0.4, 0.6), 4),
    "ring": shapes.ring(0.5, 0.1),
}


@pytest.mark.parametrize("kind", ["ball", "box", "capsule", "hull"])
@pytest.mark.parametrize("name", MESHES)
def test_a_proxy_encloses_its_mesh(kind, name):
    mesh = MESHES[name]
    shape = fit_proxy(kind, mesh, TURN)
    inside = distances(build_fields([shape]), 0, np.concatenate([mesh.points, sample_surface(mesh, 2000)]))[0]
    assert inside.max() < 1e-9
    drawn = outline([shape], mesh)
    on_surface = distances(build_fields([shape]), 0, drawn.points)[0]
    assert np.abs(on_surface).max() < 1e-9


def test_each_kind_fits_its_own_kind():
    assert fit_proxy("ball", MESHES["ball"]).radius_m == pytest.approx(0.4, rel=1e-6)
    rod = fit_proxy("capsule", MESHES["turned rod"])
    assert (rod.radius_m, float(rod.half_m[1])) == pytest.approx((0.1, 0.35), rel=0.02)
    assert fit_proxy("box", MESHES["box"]).half_m == pytest.approx([0.5, 0.2, 0.3])
    assert volume_m3(fit_proxy("hull", MESHES["box"]).mesh) == pytest.approx(0.24)


def test_the_gap_of_a_hull_over_a_ring_is_its_hole():
    """Over the middle of a ring of radius R and tube r, the hull's flat top is sqrt(R² + r²) - r from the tube."""
    fit = measure_fit([fit_proxy("hull", MESHES["ring"])], MESHES["ring"])
    assert fit.gap_m == pytest.approx(np.hypot(0.5, 0.1) - 0.1, rel=0.02)
    assert np.linalg.norm(fit.gap_at[[0, 2]]) < 0.03 and fit.overhang_m == 0.0


def test_overhang_of_a_plane_is_nothing_and_of_a_surface_too():
    hills = shapes.grid((2, 2), (20, 20))
    hills = hills.moved(hills.points + np.outer(0.1 * np.sin(3 * hills.points[:, 0]), [0, 1, 0]))
    assert measure_fit([fit_proxy("plane", hills)], hills).overhang_m < 1e-9
    fit = measure_fit([fit_proxy("surface", hills)], hills)
    assert fit.gap_m == fit.overhang_m == 0.0


def test_a_flat_mesh_has_no_hull():
    with pytest.raises(Problem, match="flat"):
        fit_proxy("hull", shapes.grid((1, 1), (2, 2)), name="tray")


def test_what_else_is_measured_of_a_proxy():
    """A hull of a ring: volume π(R + r)²·2r less its rounding over 2π²Rr²; a reduced ball has a fifth of the faces."""
    fit = measure_fit([fit_proxy("hull", MESHES["ring"])], MESHES["ring"])
    assert fit.watertight and fit.query_ns > 0 and fit.mean_gap_m < fit.gap_m
    assert fit.volume_ratio == pytest.approx(
        volume_m3(fit_proxy("hull", MESHES["ring"]).mesh) / volume_m3(MESHES["ring"])
    )
    coarse = reduced(MESHES["ball"], 0.2)
    assert len(coarse.faces) == pytest.approx(0.2 * len(MESHES["ball"].faces), rel=0.1)
    fit = measure_fit([Shape("surface", mesh=coarse)], MESHES["ball"])
    assert 0.0 < fit.gap_m < 0.03 and 0.0 < fit.overhang_m < 0.03 and fit.volume_ratio < 1.0
    assert reduced(MESHES["box"], 1.0) is MESHES["box"]


def test_the_recommended_proxy_is_the_fastest_that_is_near_enough():
    """With the times of queries set by hand: what is measured of them changes from run to run."""
    speeds = {"ball": 20.0, "box": 30.0, "capsule": 30.0, "hull": 100.0, "surface": 900.0}

    def fits(mesh):
        made = {kind: measure_fit([fit_proxy(kind, mesh)], mesh) for kind in speeds}
        return {kind: replace(fit, query_ns=speeds[kind]) for kind, fit in made.items()}

    box = fits(MESHES["box"])
    assert recommend(box, "rigid", 1.2)[0] == "box"
    assert recommend(box, "rigid", 1.2, "hull")[0] == "box"  # more than twice as slow
    box["hull"] = replace(box["hull"], query_ns=50.0)
    assert recommend(box, "rigid", 1.2, "hull")[0] == "hull"
    ring = fits(MESHES["ring"])
    assert recommend(ring, "collider", 1.2)[0] == "surface"
    kind, why = recommend(ring, "rigid", 1.2)
    assert kind == "surface" and "hollows" in why


@pytest.mark.parametrize("keep", [0.3, 0.05, 0.01])
def test_a_reduced_open_sheet_keeps_its_corners_and_its_area(keep):
    """Within a flat sheet no move costs the quadrics anything: without a hold its corners were cut off by 0.4 m."""
    sheet = shapes.grid((2.0, 2.0), (40, 40))
    few = reduced(sheet, keep)
    assert len(few.faces) <= 1.1 * keep * len(sheet.faces)
    np.testing.assert_allclose(few.bounds, sheet.bounds, atol=1e-6)
    assert few.face_areas.sum() == pytest.approx(4.0, rel=1e-6) and (few.edge_use <= 2).all()


@pytest.mark.parametrize(("sides", "tube_sides"), [(32, 12), (160, 60)])
def test_several_hulls_leave_the_hole_of_a_ring_open(sides, tube_sides):
    """Only its second cut makes a ring's hulls smaller. Eight leave most of the hole, hold all points, and no page of
    faces (a coarser mesh says where to cut) makes it slow."""
    ring = shapes.ring(0.5, 0.15, sides, tube_sides)
    parts = [Shape("hull", mesh=convex_hull(points)) for points in several_hulls(ring, 8, 0.01)]
    assert len(parts) == 8
    fields = build_fields(parts)
    out = np.min([distances(fields, k, ring.points)[0] for k in range(8)], axis=0)
    assert out.max() < 1e-6
    middle = np.array([[0.0, 0.0, 0.0], [0.2, 0.0, 0.1]])
    assert min(distances(fields, k, middle)[0].min() for k in range(8)) > 0.05
