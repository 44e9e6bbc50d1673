"""The small picture of a bake: all of what was simulated, on what it lies."""

import io

import numpy as np
import pytest
from PIL import Image

from zembrik.core.mesh import shapes
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.farm.picture import HEIGHT, WIDTH, colliders_at, draw


def drawn(meshes, around=()):
    """Return where a picture is green, and where it is grey: two arrays (HEIGHT, WIDTH)."""
    picture = np.asarray(Image.open(io.BytesIO(draw(meshes, list(around))))).astype(int)
    assert picture.shape == (HEIGHT, WIDTH, 4)
    green = picture[..., 1] > 1.4 * picture[..., 2]
    there = picture[..., 3] > 250
    return green & there, ~green & there


def ball(at, radius=0.1):
    mesh = shapes.ball(radius, 12)
    return mesh.moved(mesh.points + np.asarray(at))


def board(wide):
    mesh = shapes.box((wide, 0.05, wide), 1)
    return mesh.moved(mesh.points - [0.0, 0.026, 0.0])


@pytest.mark.parametrize("wide", [1.3, 3.0, 300.0])
def test_nothing_that_lies_on_a_board_is_covered_by_it(wide):
    """However large the board is: a sheet shows as many points as it does alone, and the board shows around it."""
    sheet = shapes.grid((1.0, 1.0), (40, 40))
    alone, nothing = drawn([sheet])
    green, grey = drawn([sheet], [board(wide)])
    assert not nothing.any()
    assert abs(int(green.sum()) - int(alone.sum())) < 0.03 * alone.sum()  # its rim is mixed
    assert grey.any()


def test_what_lies_behind_a_wall_is_covered():
    wall = shapes.box((2.0, 2.0, 0.02), 1)
    wall = wall.moved(wall.points + np.array([0.0, 0.0, 0.6]))  # it is seen from +z and +x, from above
    alone, _ = drawn([ball((0, 0, 0))])
    green, grey = drawn([ball((0, 0, 0))], [wall])
    assert alone.sum() > 10_000 and green.sum() < 0.02 * alone.sum() and grey.sum() > alone.sum()


def test_a_collider_of_very_many_faces_is_left_out_instead_of_waited_for():
    ground = shapes.grid((3.0, 3.0), (400, 400))  # 320,000 faces
    ground = ground.moved(ground.points - np.array([0.0, 0.05, 0.0]))
    assert not drawn([ball((0, 0, 0), 2.0)], [ground])[1].any()
    assert drawn([ball((0, 0, 0), 0.2)], [ground])[1].any()  # what is in this picture is few of them


def test_a_few_that_rolled_far_off_do_not_make_the_rest_specks():
    near = [ball((0.25 * (k % 5), 0.0, 0.25 * (k // 5))) for k in range(20)]
    together, _ = drawn(near)
    with_strays, _ = drawn([*near, ball((30.0, 0.0, 0.0)), ball((0.0, 0.0, -40.0))])
    assert with_strays.sum() > 0.8 * together.sum()
    few, _ = drawn([ball((0, 0, 0)), ball((30.0, 0.0, 0.0))])  # of two, both are shown
    assert 0 < few.sum() < 0.05 * together.sum()


def test_colliders_are_where_they_are_at_that_frame():
    keys = {"keys": [[1, [0, 0, 0]], [11, [2, 0, 0]]]}
    setup = parse_setup({"bodies": [
        {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [4, 4]}},
        {"name": "mover", "role": "collider", "mesh": {"shape": "ball", "radius": 0.1}, "motion": {"translate": keys}},
        {"name": "still", "role": "collider", "mesh": {"shape": "ball", "radius": 0.2},
         "place": {"translate": [0, 3, 0]}},
        {"name": "out", "role": "left out", "mesh": {"shape": "ball", "radius": 0.2}},
    ]})  # fmt: skip
    middles = [mesh.points.mean(axis=0) for mesh in colliders_at(setup, NoAssets(), 11)]
    assert np.allclose(middles, [[2, 0, 0], [0, 3, 0]], atol=1e-6)
