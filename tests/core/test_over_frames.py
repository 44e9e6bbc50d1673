"""Dials keyed over frames: each takes effect when its key says so, and not before."""

import copy

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from stage import Stage, brick

from zembrik.core.bake import bake
from zembrik.core.cache.reader import Cache
from zembrik.core.motion.track import extremes_of, most_of, scaled, track_values
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.setup.resolve import quality_words, resolve
from zembrik.core.solver.build import build_world

G = 9.81
SLOPE = {"rotate": [0, 0, -20.0]}


def cloth(**material):
    """A sheet that falls over an edge of a box, so that it is bent, stretched, rubbed and blown at."""
    mesh = {"shape": "grid", "size": [0.6, 0.4], "segments": [12, 8]}
    body = {"name": "it", "role": "cloth", "mesh": mesh, "place": {"translate": [0.1, 0.305, 0]}, "material": material}
    body["pins"] = [{"points": {"box": [[-0.21, 0, -0.21], [-0.1, 1, -0.1]]}}]
    box = {"name": "box", "role": "collider", "mesh": {"shape": "box", "size": [0.4, 0.3, 0.6]}, "friction": 0.3}
    box["place"] = {"translate": [0, 0.15, 0]}
    wind = {"kind": "wind", "velocity": [1.5, -0.5, 0.5]}
    return {"bodies": [body, {**box, "proxy": {"kind": "box"}}], "forces": [wind], "world": {"air_density": 1.2}}


def soft(**material):
    """A lump that falls onto a slope."""
    mesh = {"shape": "box", "size": [0.2, 0.2, 0.2]}
    body = {"name": "it", "role": "soft", "cell": 0.1, "mesh": mesh, "material": material}
    body["place"] = {"translate": [0, 0.35, 0], "rotate": [0, 0, 20]}
    shelf = {"name": "shelf", "role": "collider", "mesh": {"shape": "box", "size": [1, 0.1, 1]}}
    shelf |= {"place": {"translate": [0, 0.15, 0], **SLOPE}, "proxy": {"kind": "box"}, "friction": 0.4}
    return {"bodies": [body, shelf]}


def rigid(**material):
    """A box that falls onto a slope, on a weight of fixed density, so that its own matters."""
    body = brick("it", (0, 1.8, 0), (0.2, 0.2, 0.2), place={"rotate": [0, 0, -20.0]}, material=material)
    shelf = {"name": "shelf", "role": "collider", "mesh": {"shape": "box", "size": [3, 0.1, 1]}, "friction": 0.4}
    slope = {**shelf, "place": {"translate": [0, 0.3, 0], **SLOPE}, "proxy": {"kind": "box"}}
    other = brick("other", (0.02, 1.3, 0.01), (0.2, 0.2, 0.2), place={"rotate": [0, 10.0, 5.0]})
    return {"bodies": [body, slope, other]}


FLEXIBLE = [
    (cloth, "material/area_density", 0.2, 2.0), (soft, "material/density", 500, 50),
    (rigid, "material/density", 700, 70),
    (cloth, "material/stretch", 4000, 40), (cloth, "material/compression", 4000, 5),
    (cloth, "material/shear", 40, 4), (cloth, "material/bend", 1e-4, 5e-2), (cloth, "material/damping", 0.0, 0.05),
    (cloth, "material/friction", 0.4, 0.0), (cloth, "material/sliding_friction", 0.4, 0.1),
    (cloth, "material/drag", 1.0, 0.0), (cloth, "material/lift", 0.0, 1.0), (cloth, "material/tack", 0.0, 400.0),
    (cloth, "material/tack_distance", 0.0, 0.02), (cloth, "material/creep", 0.0, 5.0),
    (cloth, "material/yield_strain", 0.5, 0.0), (cloth, "material/yield_angle", 90, 2),
    (cloth, "thickness", 0.002, 0.005),
    (soft, "material/young", 2e4, 2e3), (soft, "material/poisson", 0.1, 0.45), (soft, "material/damping", 0.0, 0.1),
    (soft, "material/friction", 0.8, 0.0), (soft, "material/sliding_friction", 0.8, 0.1),
    (soft, "material/yield_strain", 0.5, 0.0), (soft, "material/creep", 0.0, 8.0), (soft, "thickness", 0.002, 0.02),
    (rigid, "material/friction", 0.9, 0.0), (rigid, "material/sliding_friction", 0.9, 0.1),
    (rigid, "material/bounce", 0.0, 0.9), (rigid, "material/rolling_resistance", 0.0, 0.05),
    (rigid, "thickness", 0.001, 0.02),
    (cloth, "1/friction", 0.4, 0.0), (rigid, "1/bounce", 0.0, 0.9), (rigid, "1/thickness", 0.001, 0.02),
    (soft, "1/friction", 0.8, 0.0), (cloth, "world/air_density", 1.2, 0.0), (cloth, "quality/substeps", 20, 10),
]  # fmt: skip
WITH = {  # what else a dial needs to matter
    "material/tack_distance": {"tack": 200.0}, "material/yield_strain": {"creep": 20.0},
    "material/yield_angle": {"creep": 20.0}, "material/creep": {"yield_angle": 2.0, "yield_strain": 0.02},
}  # fmt: skip


def put(document, path, value):
    """Set a dial of the body itself, of body 1, of the world or the quality."""
    at, _, name = path.rpartition("/")
    if at in ("world", "quality"):
        document.setdefault(at, {})[name] = value
    elif at == "1":
        document["bodies"][1][name] = value
    elif at == "material":
        document["bodies"][0][at][name] = value
    else:
        document["bodies"][0][name] = value
    return document


def ways(scene, path, value, frames):
    """Return where everything is after each frame."""
    more = WITH.get(path, {})
    document = put(
        scene(**(more if scene is not soft else {n: v for n, v in more.items() if n != "yield_angle"})), path, value
    )
    if path == "quality/enough":
        document["quality"]["iterations"] = 3
    stage = Stage(document)
    return np.array(stage.run(frames, lambda: np.concatenate([stage.world.x.ravel(), stage.rigid.place.ravel()])))


@pytest.mark.parametrize(("scene", "path", "one", "two"), FLEXIBLE, ids=[f"{s.__name__} {p}" for s, p, *_ in FLEXIBLE])
def test_every_dial_takes_effect_from_its_key_on(scene, path, one, two):
    """Until the key at frame 12 all is as with the plain number; from then on it differs."""
    plain = ways(scene, path, one, 20)
    keyed = ways(scene, path, {"keys": [[1, one], [12, two]], "ease": "hold"}, 20)
    assert keyed[:11] == pytest.approx(plain[:11], abs=5e-5)  # metres: how exactly a step is solved
    assert np.abs(keyed[-1] - plain[-1]).max() > 5e-5


def test_every_keyed_dial_of_the_document_is_tried():
    """Whatever dial of a body, the quality or the world may be keyed is tried above, or told here by whom else."""
    elsewhere = {"Material": {"pressure", "rest_length"}, "Body": {"gravity"}, "Ground": {"friction", "bounce"}}
    elsewhere["Quality"] = {"iterations", "enough"}  # passes over rigid bodies
    elsewhere["TurbulenceForce"], elsewhere["DampingForce"] = {"speed", "size", "rate"}, set()
    schema = parse_setup({}).model_json_schema()["$defs"]
    tried = {path.rpartition("/")[2] for _, path, *_ in FLEXIBLE}
    tried.add("rate")  # of damping, below
    for part in ("Material", "Body", "Ground", "World", "Quality", "TurbulenceForce", "DampingForce"):
        keyed = {name for name, field in schema[part]["properties"].items() if field.get("keyed")}
        assert keyed - elsewhere.get(part, set()) <= tried, part


def test_a_block_slides_as_soon_as_its_friction_is_gone():
    """At rest on a slope of 20° until frame 13; from then on it goes at g sin θ, within 3%."""
    document = rigid(friction={"keys": [[1, 1.0], [13, 0.0]], "ease": "hold"})
    document["bodies"][1]["friction"] = {"keys": [[1, 1.0], [13, 0.0]], "ease": "hold"}
    document["bodies"][0]["place"]["translate"] = [-0.94, 0.81, 0]
    del document["bodies"][2]
    stage = Stage(document, substeps=40)
    stage.run(12)
    held = stage.rigid.place[0, :3].copy()
    stage.run(12)
    run = np.linalg.norm(stage.rigid.place[0, :3] - held)
    speed = np.linalg.norm(stage.rigid.speed[0, :3])
    assert speed == pytest.approx(G * np.sin(np.radians(20)) * 0.5, rel=0.03)
    assert run > 0.3


def test_a_sleeping_block_wakes_when_its_friction_goes():
    """It sleeps on the slope; keys of its own friction and the ground's wake it."""
    keys = {"keys": [[1, 1.0], [60, 0.0]], "ease": "hold"}
    document = rigid(friction=keys)
    document["bodies"][1]["friction"] = keys
    document["bodies"][0]["place"]["translate"] = [0, 0.46, 0]
    del document["bodies"][2]
    stage = Stage(document)
    stage.run(58)
    assert stage.rigid.asleep.all()
    before = stage.rigid.place[0, :3].copy()
    stage.run(14)
    assert np.linalg.norm(stage.rigid.place[0, :3] - before) > 0.1


def test_the_grounds_own_dials():
    """A block on the level ground slows down by g μ once the ground grips; a block thrown up by a bounce keyed to 1."""
    sled = brick("it", (0, 0.1, 0), (0.2, 0.2, 0.2), material={"friction": 1.0, "bounce": 0.0})
    sled |= {"motion": {"translate": {"keys": [[1, [0, 0, 0]], [7, [0.5, 0, 0]]], "ease": "straight"}}, "release": 7}
    grips = {"keys": [[1, 0.0], [13, 1.0]], "ease": "hold"}
    stage = Stage({"bodies": [sled], "world": {"ground": {"friction": grips}}})
    stage.run(12)
    free = stage.rigid.speed[0, 0]
    assert free == pytest.approx(2.0, rel=0.02)  # two sides' grips meet as the root of their product
    stage.run(3)
    assert stage.rigid.speed[0, 0] < free - 0.9 * G * 3 / 24 * 0.5


def test_air_damping_sets_in_when_its_rate_does():
    """A block that glides loses nothing until frame 13; from then on a share of e^-t each second, within 1%."""
    over = {"keys": [[1, 0.0], [13, 1.0]], "ease": "hold"}
    sled = brick("it", (0, 1, 0), motion={"translate": {"keys": [[1, [0, 0, 0]], [7, [0.5, 0, 0]]]}}, release=7)
    stage = Stage({"bodies": [sled], "world": {"ground": None, "gravity": [0, 0, 0]},
                   "forces": [{"kind": "air damping", "rate": over}]})  # fmt: skip
    stage.run(12)
    assert stage.rigid.speed[0, 0] == pytest.approx(2.0, rel=1e-6)
    stage.run(24)
    assert stage.rigid.speed[0, 0] == pytest.approx(2.0 * np.exp(-1.0), rel=0.01)


def test_gravity_that_turns_is_a_slope():
    """A sleeping block on the level, μ = 0.3: turned by 30° it slides at g (sin 30° - 0.3 cos 30°), within 3%."""
    block = brick("it", (0, 0.1, 0), (0.2, 0.2, 0.2), material={"friction": 0.3, "sliding_friction": 0.3})
    over = {"keys": [[1, [0, 0, 0]], [25, [0, 0, 30]]], "ease": "hold"}
    stage = Stage({"bodies": [block], "world": {"ground": {"friction": 0.3}, "gravity_turn": over}}, 40)
    stage.run(24)
    assert stage.rigid.asleep.all()
    stage.run(12)
    expected = G * (np.sin(np.radians(30)) - 0.3 * np.cos(np.radians(30))) * 0.5
    assert np.linalg.norm(stage.rigid.speed[0, :3]) == pytest.approx(expected, rel=0.03)


def test_a_thicker_sheet_rises_off_the_ground():
    """Lying on the ground, it is lifted by as much as its thickness grows: 2 mm to 10 mm."""
    mesh = {"shape": "grid", "size": [0.3, 0.3], "segments": [6, 6]}
    body = {"name": "it", "role": "cloth", "mesh": mesh, "place": {"translate": [0, 0.002, 0]}}
    body["thickness"] = {"keys": [[6, 0.002], [18, 0.01]], "ease": "straight"}
    stage = Stage({"bodies": [body]})
    stage.run(5)
    assert stage.world.x[:, 1] == pytest.approx(0.002, abs=1e-4)
    stage.run(31)
    assert stage.world.x[:, 1] == pytest.approx(0.01, abs=2e-4)


def test_a_cloth_that_gets_wet_hangs_lower():
    """From 0.2 to 0.8 kg/m² it hangs by four times as much, w L² / 2 k, within 2%; held for good, and by keys."""
    length, stiff = 0.6, 60.0
    material = {"stretch": stiff, "compression": stiff, "shear": stiff, "bend": 1e-6}
    mesh = {"shape": "grid", "size": [length, 0.2], "segments": [18, 6]}
    body = {"name": "it", "role": "cloth", "mesh": mesh, "place": {"rotate": [0, 0, -90]}}
    body["material"] = material | {"area_density": {"keys": [[60, 0.2], [70, 0.8]], "ease": "smooth"}}
    held = {"points": {"box": [[-1, length / 2 - 1e-6, -1], [1, 1, 1]]}}
    calm = [{"kind": "air damping", "rate": 4.0}]
    for pin in (held, {**held, "strength": {"keys": [[1, 1], [2, 1]]}}):
        stage = Stage(
            {"world": {"ground": None, "air_density": 0}, "bodies": [{**body, "pins": [pin]}], "forces": calm}, 60
        )
        start = stage.world.x[:, 1].min()
        stage.run(58)
        assert start - stage.world.x[:, 1].min() == pytest.approx(0.2 * G * length**2 / (2 * stiff), rel=0.02)
        stage.run(60)
        assert start - stage.world.x[:, 1].min() == pytest.approx(0.8 * G * length**2 / (2 * stiff), rel=0.02)


def test_a_fine_cloth_softens_to_the_right_length():
    """2 m of 1,681 points, 3,000 N/m until frame 24, then 1,000: within 1% of its length of weight over stiffness."""
    length, weight = 2.0, 0.35
    over = {"keys": [[24, 3000.0], [36, 1000.0]], "ease": "smooth"}
    material = {"stretch": over, "compression": 3000.0, "shear": over, "area_density": weight, "bend": 1e-4}
    mesh = {"shape": "grid", "size": [length, length], "segments": [40, 40]}
    body = {"name": "it", "role": "cloth", "mesh": mesh, "place": {"rotate": [0, 0, -90]}, "material": material}
    body["pins"] = [{"points": {"box": [[-1, length / 2 - 1e-6, -2], [1, 2, 2]]}}]
    calm = [{"kind": "air damping", "rate": 4.0}]
    stage = Stage({"world": {"ground": None, "air_density": 0}, "bodies": [body], "forces": calm})
    start = stage.world.x[:, 1].min()
    stage.run(24)
    assert start - stage.world.x[:, 1].min() - weight * G * length**2 / 6000 == pytest.approx(0, abs=0.01 * length)
    stage.run(60)
    assert start - stage.world.x[:, 1].min() - weight * G * length**2 / 2000 == pytest.approx(0, abs=0.01 * length)


def test_the_same_bytes_after_a_stop_with_everything_keyed(tmp_path):
    """A bake stopped in the middle of all changes and gone on with is the one that never stopped."""
    document = cloth(
        stretch={"keys": [[1, 4000.0], [12, 500.0]], "ease": "straight"},
        creep={"keys": [[4, 0.0], [8, 5.0]], "ease": "hold"}, yield_angle={"keys": [[1, 10.0], [12, 30.0]]},
        friction={"keys": [[1, 0.1], [12, 0.6]]}, damping={"keys": [[6, 0.0], [7, 0.02]]},
    )  # fmt: skip
    document["bodies"][0]["mesh"]["segments"] = [32, 20]  # enough points for a coarse step
    document["quality"] = {"substeps": {"keys": [[5, 10], [9, 24]], "ease": "straight"}}
    setup = parse_setup({**document, "frames": [1, 12]})
    whole = bake(setup, NoAssets(), tmp_path / "whole.zarr")
    bake(setup, NoAssets(), tmp_path / "parts.zarr", tell=lambda progress: progress.frame < 7)
    parts = bake(setup, NoAssets(), tmp_path / "parts.zarr", resume=True)
    for frame in range(1, 13):
        assert (whole.points(0, frame) == parts.points(0, frame)).all(), frame
    assert isinstance(parts, Cache)


@given(
    keys=st.lists(
        st.tuples(st.floats(-5, 5), st.floats(-3, 3), st.floats(-3, 3), st.sampled_from(["own", "smooth", "hold"])),
        min_size=1, max_size=5,
    )
)  # fmt: skip
def test_the_least_and_most_of_a_track(keys):
    """As reading it at 20,000 places: nothing beyond, and no more than a hair within."""
    ends = [
        [10 * k, value, {"leave": leave, "arrive": arrive} if ease == "own" else ease]
        for k, (value, leave, arrive, ease) in enumerate(keys)
    ]
    track = {"keys": ends, "ease": "straight"}
    at = np.union1d(np.linspace(-1, 10 * len(keys), 20000), 10.0 * np.arange(len(keys)))
    read = track_values(ends, "straight", at)
    low, high = extremes_of(track)
    assert low <= read.min() + 1e-9 and high >= read.max() - 1e-9
    assert low == pytest.approx(read.min(), abs=2e-3) and high == pytest.approx(read.max(), abs=2e-3)
    assert most_of(track) == max(abs(low), abs(high))
    twice = scaled(track, 2.0)
    assert track_values(twice["keys"], "straight", 13.0) == pytest.approx(2.0 * track_values(ends, "straight", 13.0))


@pytest.mark.parametrize(
    ("path", "value", "words"),
    [
        ("material/friction", {"keys": [[1, 0], [2, 20]]}, "comes to 20 over the frames, but must be at most 10"),
        ("material/stretch", {"keys": [[1, 10], [2, 0]]}, "comes to 0 over the frames, but must be above 0"),
        ("material/bend", {"keys": [[1, 0, {"leave": -1, "arrive": 0}], [10, 0]]}, "but must be at least 0"),
        ("material/friction", 20, "must be at most 10 (it is 20)"),
        ("quality/substeps", {"keys": [[1, 500]]}, "must be at most 400"),
        ("thickness", {"keys": [[1, 0.1], [1, 0.2]]}, "two keys stand on frame 1"),
        ("material/density", {"keys": [[1, 0]]}, "must be above 0"),
    ],
)  # fmt: skip
def test_keys_beyond_a_dials_limits_are_told(path, value, words):
    """Also what lies between keys by their own handles."""
    scene = rigid if path == "material/density" else cloth
    with pytest.raises(Problem, match=path.rpartition("/")[2]) as told:
        parse_setup(put(scene(), path, value))
    assert words in str(told.value)


def test_what_reads_a_keyed_quality(sheet):
    """Counts at a frame and in all, the words of it; sliding friction follows keyed friction."""
    document = copy.deepcopy(sheet)
    document["quality"] = {"substeps": {"keys": [[1, 10], [5, 30]], "ease": "hold"}, "iterations": 2}
    document["bodies"][0]["material"]["friction"] = {"keys": [[1, 0.2], [9, 0.4]]}
    setup = parse_setup(document)
    resolved = resolve(setup)
    assert [resolved.count_at("substeps", f) for f in (1, 4, 5, 99)] == [10, 10, 30, 30]
    assert resolved.least_count("substeps") == 10
    assert resolved.passes_of(7) == 2 * (4 * 10 + 2 * 30)
    assert quality_words(setup) == "daily · 10 to 30 substeps"
    material = resolved.document["bodies"][0]["material"]
    assert material["sliding_friction"]["keys"][1][1] == pytest.approx(0.4)
    assert resolved.origins["bodies[0].material.sliding_friction"] == "follows friction"
    assert resolved.origins["bodies[0].material.friction"] == "set by hand"
    assert build_world(setup, NoAssets()).skin[0, 1] == pytest.approx(0.2)
