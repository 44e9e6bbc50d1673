"""A frame kept as the start; one scene in three units; a crate of pears at random sizes."""

import io

import jsonpatch
import numpy as np
import pytest

from zembrik.core.bake import bake
from zembrik.core.exchange.obj import write_obj
from zembrik.core.mesh import shapes
from zembrik.core.mesh.lattice import embed, taken_on
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import FolderAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.start.keep import kept_start, rest_frame
from zembrik.core.start.pairs import rigid_pairs
from zembrik.core.start.ways import ease_apart, probe


def stored(folder, name, points, faces):
    with (folder / name).open("wb") as out:
        write_obj(out, points, faces)
    return {"file": name}


def scene():
    crate = {"name": "crate", "role": "rigid", "mesh": {"shape": "box", "size": [0.3, 0.2, 0.3]},
             "proxy": {"kind": "box"}, "place": {"translate": [0.0, 0.16, 0.0], "rotate": [0.0, 0.0, 8.0]}}  # fmt: skip
    sheet = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [0.6, 0.6], "segments": [16, 16]},
             "place": {"translate": [0.0, 0.34, 0.0]},
             "material": {"preset": "wool felt", "damping": 0.02}}  # fmt: skip
    return {"frames": [1, 110], "fps": 24, "bodies": [crate, sheet], "forces": [{"kind": "air damping", "rate": 2.0}],
            "quality": {"substeps": 20}}  # fmt: skip


def test_what_was_kept_goes_on_from_there(tmp_path):
    """The kept start has the frame's places within 1e-5 m and its strains (the rest lengths stay), and hardly moves."""
    document = scene()
    first = bake(parse_setup(document), FolderAssets(tmp_path), tmp_path / "first.zarr")
    frame = rest_frame(first)
    assert frame is not None and 10 < frame <= 104
    kept = kept_start(parse_setup(document), first, 110)
    again = jsonpatch.apply_patch(document, kept.patch)
    for number, points in kept.forms.items():
        faces = first.faces(first.body_number(document["bodies"][number]["name"]))
        again["bodies"][number]["form"] = stored(tmp_path, "form.obj", points, faces)
    again["frames"] = [1, 24]
    second = bake(parse_setup(again), FolderAssets(tmp_path), tmp_path / "second.zarr")
    for name in ("crate", "sheet"):
        a, b = first.body_number(name), second.body_number(name)
        assert np.abs(second.points(b, 1) - first.points(a, 110)).max() < 1e-5
        assert np.linalg.norm(second.points(b, 24) - first.points(a, 110), axis=1).max() < 0.012
    assert second.figure("stats/worst_stretch")[2] == pytest.approx(first.figure("stats/worst_stretch")[-1], abs=0.01)
    # Another mesh under the same form is refused by name.
    again["bodies"][1]["mesh"]["segments"] = [8, 8]
    with pytest.raises(Problem, match="the form it begins in has 289 points, its mesh 81"):
        build_world(parse_setup(again), FolderAssets(tmp_path))


def test_a_settled_soft_body_is_kept_with_its_inside(tmp_path):
    """A soft block sagged on the ground: its kept start has the frame's surface within 2 mm and stays within 4 mm."""
    block = {"name": "block", "role": "soft", "mesh": {"shape": "box", "size": [0.4, 0.3, 0.4], "segments": 4},
             "place": {"translate": [0.0, 0.152, 0.0], "rotate": [0.0, 30.0, 0.0]}, "cell": 0.1,
             "material": {"young": 8000.0, "poisson": 0.3, "density": 400.0, "damping": 0.05}}  # fmt: skip
    document = {"frames": [1, 60], "fps": 24, "bodies": [block], "forces": [{"kind": "air damping", "rate": 4.0}]}
    first = bake(parse_setup(document), FolderAssets(tmp_path), tmp_path / "first.zarr")
    kept = kept_start(parse_setup(document), first, 60)
    assert "the form of 1 body" in kept.words and list(kept.forms) == [0]
    again = jsonpatch.apply_patch(document, kept.patch)
    again["bodies"][0]["form"] = stored(tmp_path, "form.obj", kept.forms[0], first.faces(0))
    again["frames"] = [1, 24]
    second = bake(parse_setup(again), FolderAssets(tmp_path), tmp_path / "second.zarr")
    assert first.points(0, 60)[:, 1].max() < 0.29  # it has sagged by more than a centimetre
    assert np.abs(second.points(0, 1) - first.points(0, 60)).max() < 0.002
    assert np.linalg.norm(second.points(0, 24) - first.points(0, 60), axis=1).max() < 0.004


def test_a_lattice_follows_any_even_stretch_of_its_surface_exactly():
    """Moved, turned and sheared alike everywhere, the inside is where the same map takes it."""
    ball = shapes.ball(0.5)
    lattice = embed(ball, np.eye(3), 0.2)
    rng = np.random.default_rng(2)
    stretch, shift = np.eye(3) + 0.3 * rng.normal(size=(3, 3)), rng.normal(size=3)
    found = taken_on(lattice, ball.points @ stretch.T + shift)
    np.testing.assert_allclose(found, lattice.points @ stretch.T + shift, atol=1e-6)


def test_what_still_moves_has_no_rest(baked):
    assert rest_frame(baked) is None


def test_one_scene_in_three_units_bakes_alike(tmp_path):
    """Metres with Y up, centimetres with Z up, inches that look the other way: they agree within 1e-3 m until it folds:
    then what is rounded otherwise falls otherwise."""
    ball, sheet = shapes.ball(0.25, 14), shapes.grid((0.8, 0.8), (20, 20))
    swap = np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0]], dtype=float)  # Y up to Z up: (x, y, z) to (x, -z, y)
    aside = np.array([[0, 0, 1], [0, 1, 0], [-1, 0, 0]], dtype=float)  # what looked along Z looks along X
    ways = {"m": (1.0, "y", np.eye(3), "z"), "cm": (100.0, "z", swap, "z"), "in": (1 / 0.0254, "y", aside, "x")}
    found = {}
    for unit, (factor, up, turn, front) in ways.items():
        bodies = []
        for name, mesh, role, height in (("ball", ball, "collider", 0.25), ("sheet", sheet, "cloth", 0.56)):
            points = (mesh.points + np.array([0.0, height, 0.0])) @ turn.T * factor
            out = io.BytesIO()
            write_obj(out, points, mesh.faces)
            (tmp_path / f"{name}-{unit}.obj").write_bytes(out.getvalue())
            bodies.append(
                {
                    "name": name,
                    "role": role,
                    "mesh": {"file": f"{name}-{unit}.obj", "unit": unit, "up_axis": up, "forward": front},
                }
            )
        document = {"frames": [1, 24], "fps": 24, "bodies": bodies}
        cache = bake(parse_setup(document), FolderAssets(tmp_path), tmp_path / f"{unit}.zarr")
        found[unit] = np.stack([cache.points(cache.body_number("sheet"), f) for f in range(1, 25)])
    assert np.ptp(found["m"][-1, :, 1]) > 0.2  # it has fallen over the ball
    for unit in ("cm", "in"):
        assert np.abs((found[unit] - found["m"])[:8]).max() < 1e-3


def pears_in_a_crate(count):
    """Pears of 0.7 to 1.6 times 8 cm, thrown at random into a space half as large as they need."""
    rng = np.random.default_rng(4)
    profile = shapes.ball(0.04, 10)
    y = profile.points[:, 1]
    waist = np.where(y > 0, 1.0 - 8.0 * y, 1.0)[:, None]
    pear = profile.moved(profile.points * np.hstack([waist, np.ones_like(waist) * 1.3, waist]))
    side = (count * 4.0e-4) ** (1 / 3)
    bodies = [
        {
            "name": f"pear {n}", "role": "rigid", "mesh": {"file": "pear.obj"}, "proxy": {"kind": "hull"},
            "thickness": 0.0,
            "place": {
                "translate": (rng.uniform(-0.5, 0.5, 3) * side).round(5).tolist(),
                "rotate": rng.uniform(-180, 180, 3).round(2).tolist(),
                "scale": round(float(rng.uniform(0.7, 1.6)), 3),
            },
        }
        for n in range(count)
    ]  # fmt: skip
    return pear, {"world": {"ground": None, "gravity": [0, 0, 0], "air_density": 0}, "bodies": bodies}


def test_pears_at_random_sizes_are_eased_apart(tmp_path):
    """1,400 are in bench/prepare.py; here 70. None is left deeper than 1% of its size, and then nothing moves."""
    pear, document = pears_in_a_crate(70)
    stored(tmp_path, "pear.obj", pear.points, pear.faces)
    size = float(np.linalg.norm(pear.size))
    world = build_world(parse_setup(document), FolderAssets(tmp_path))
    burst = probe(world, 20, 6)
    assert burst.farthest > 3 * size  # left as they are, they explode
    world = build_world(parse_setup(document), FolderAssets(tmp_path))
    begin = world.solids.rigid.place[:, :3].copy()
    ease_apart(world, 400)
    pairs = rigid_pairs(world)
    small = size * np.array([b["place"]["scale"] for b in document["bodies"]])
    assert not len(pairs) or (pairs.depth < 0.01 * np.minimum(small[pairs.a], small[pairs.b])).all()
    moved = np.linalg.norm(world.solids.rigid.place[:, :3] - begin, axis=1)
    assert moved.mean() < 0.5 * size
    assert probe(world, 20, 24).farthest < 0.001


def test_a_scene_of_nothing_has_no_start_to_keep(baked):
    document = {"bodies": [{"name": "other", "mesh": {"shape": "box", "size": [1, 1, 1]}}]}
    with pytest.raises(Problem, match="nothing that is free"):
        kept_start(parse_setup(document), baked, 3)
