"""What breaks a solver: heavy on light, fast through thin, absurd values. It ends, or says what blew up; never NaN."""

import numpy as np
import pytest
from stage import Stage, brick

from zembrik.core.bake import bake
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup


def sheet(size, segments, at, turn=(0, 0, 0), **more):
    mesh = {"shape": "grid", "size": [size, size], "segments": [segments, segments]}
    place = {"translate": list(at), "rotate": list(turn)}
    return {"name": "sheet", "role": "cloth", "mesh": mesh, "place": place, **more}


def rim(size, y):
    half = size / 2
    low, high = (-half - 0.01, y - 0.01, -half - 0.01), (half + 0.01, y + 0.01, half + 0.01)
    sides = []
    for axis in (0, 2):
        for way in (-1, 1):
            one, two = list(low), list(high)
            one[axis], two[axis] = (way * half - 1e-6, way * half + 1e-6)
            sides.append({"points": {"box": [one, two]}})
    return sides


def test_twenty_kilograms_fall_into_a_cloth_of_one():
    """A ball of 20 kg into 1 m² of canvas of 1 kg, held along its rim: it is caught and stays above the cloth."""
    radius = 0.2
    density = 20 / (4 / 3 * np.pi * radius**3)
    ball = brick("ball", (0, 1.0 + radius + 0.05, 0), material={"density": density, "bounce": 0})
    ball |= {"mesh": {"shape": "ball", "radius": radius}, "proxy": {"kind": "ball"}}
    cloth = sheet(1.0, 24, (0, 1.0, 0), pins=rim(1.0, 1.0), material={"preset": "canvas", "area_density": 1.0})
    stage = Stage({"world": {"ground": None}, "bodies": [cloth, ball]}, substeps=30)
    stage.run(48)
    x = stage.world.x
    middle = x[np.linalg.norm(x[:, [0, 2]] - stage.rigid.place[0, [0, 2]], axis=1) < 0.05]
    assert stage.rigid.place[0, 1] - radius > 0.3  # it hangs in the cloth
    assert (stage.rigid.place[0, 1] - middle[:, 1]).min() > radius - 0.01
    assert np.isfinite(x).all()


def test_a_ball_of_20_metres_a_second_passes_no_thin_board():
    ball = brick("ball", (-1.2, 0.0, 0.0), material={"density": 200, "bounce": 0.2})
    ball |= {"mesh": {"shape": "ball", "radius": 0.05}, "proxy": {"kind": "ball"}}
    ball |= {"motion": {"translate": {"keys": [[1, [0, 0, 0]], [3, [1.6667, 0, 0]]]}}, "release": 2}
    board = {
        "name": "board",
        "role": "collider",
        "mesh": {"shape": "box", "size": [0.004, 1, 1]},
        "proxy": {"kind": "box"},
    }
    stage = Stage({"world": {"ground": None, "gravity": [0, 0, 0]}, "bodies": [board, ball]})
    stage.run(8)
    assert stage.rigid.place[0, 0] < -0.05


ABSURD = {
    "mass ratio of a million": [
        brick("light", (0, 0.11, 0), (0.2, 0.2, 0.2), material={"density": 0.03}),
        brick("heavy", (0, 0.32, 0), (0.2, 0.2, 0.2), material={"density": 30000}),
    ],
    "everything in one place": [
        brick("a", (0, 0.5, 0)),
        brick("b", (0.01, 0.5, 0)),
        sheet(0.5, 8, (0, 0.5, 0)),
        {"name": "c", "role": "soft", "mesh": {"shape": "ball", "radius": 0.2}, "place": {"translate": [0, 0.5, 0]}},
    ],
    "a collider that jumps": [
        sheet(0.5, 8, (0, 0.5, 0)),
        {
            "name": "jumper",
            "role": "collider",
            "mesh": {"shape": "ball", "radius": 0.2},
            "motion": {"translate": {"keys": [[1, [-50, 0.5, 0]], [3, [-50, 0.5, 0]], [4, [50, 0.5, 0]]]}},
        },
    ],
    "hardly any stiffness": [sheet(0.5, 8, (0, 0.5, 0), material={"stretch": 1e-6, "shear": 1e-6, "bend": 0})],
    "absurd stiffness": [sheet(0.5, 8, (0, 0.5, 0), material={"stretch": 1e7, "shear": 1e7, "bend": 1e4})],
    "soft as nothing": [
        {
            "name": "c",
            "role": "soft",
            "mesh": {"shape": "ball", "radius": 0.2},
            "place": {"translate": [0, 0.5, 0]},
            "material": {"young": 1e-3},
        }
    ],
}


@pytest.mark.parametrize("case", ABSURD)
def test_absurd_setups_end_or_say_what_blew_up(case, tmp_path):
    frames = 3 if case == "everything in one place" else 8  # thousands of pairs push each other there
    setup = parse_setup({"frames": [1, frames], "bodies": ABSURD[case], "quality": {"substeps": 10}})
    try:
        cache = bake(setup, NoAssets(), tmp_path / "c.zarr")
    except Problem as problem:
        assert "frame" in str(problem)
        from zembrik.core.cache.reader import Cache

        cache = Cache(tmp_path / "c.zarr")
    for frame in range(cache.first, (cache.done or cache.first - 1) + 1):
        for number in range(len(cache.names)):
            assert np.isfinite(cache.points(number, frame)).all()


@pytest.mark.parametrize(
    ("body", "words"),
    [
        (brick("flat", (0, 0, 0), mesh={"shape": "grid", "size": [1, 1], "segments": [2, 2]}), "not closed"),
        (
            {"name": "s", "role": "soft", "mesh": {"shape": "box", "size": [1, 1, 1]}, "cell": 0.0001},
            "Choose larger cells",
        ),
        (sheet(1, 2, (0, 0, 0), pins=[{"points": {"box": [[5, 5, 5], [6, 6, 6]]}}]), "takes no point"),
    ],
)
def test_bodies_that_cannot_be_are_told(body, words):
    with pytest.raises(Problem, match=words):
        Stage({"bodies": [body]})
