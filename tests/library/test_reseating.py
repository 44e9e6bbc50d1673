"""A baked result on another surface, as a cache beside its base."""

import threading
import uuid

import numpy as np
import pytest

from zembrik.core.cache.reader import Cache
from zembrik.core.mesh import shapes
from zembrik.farm.errands import run_errand
from zembrik.farm.worker import run_bake, run_delivery
from zembrik.library import bakes
from zembrik.library.deliveries import order_delivery
from zembrik.library.demo_shot import obj_bytes
from zembrik.library.errands import ask, get_errand
from zembrik.library.shots import create_shot, create_show, edit
from zembrik.library.store import take_in


@pytest.fixture
def dish(database, settings):
    """Balls on the hull of a dish, whose middle is 0.1 m below that; returns the shot's and the bake's number."""
    sheet = shapes.grid((2.0, 2.0), (40, 40))
    deep = sheet.moved(sheet.points + np.outer(0.1 * (sheet.points[:, [0, 2]] ** 2).sum(axis=1), [0, 1, 0]))
    ball = {"role": "rigid", "mesh": {"shape": "ball", "radius": 0.1}, "proxy": {"kind": "ball"},
            "material": {"rolling_resistance": 0.01}}  # fmt: skip
    balls = [{**ball, "name": f"ball {n}", "place": {"translate": [x, 0.36, 0.0]}} for n, x in enumerate((-0.3, 0.0))]
    with database.session() as session:
        mesh = {"file": take_in(session, settings, "dish.obj", obj_bytes(deep, "dish"))[0]}
        ground = {"name": "dish", "role": "collider", "mesh": mesh, "proxy": {"kind": "hull"}}
        document = {"bodies": [ground, *balls], "frames": [1, 30], "world": {"ground": None}}
        code = f"SEAT-{uuid.uuid4().hex[:8]}"
        shot = create_shot(session, create_show(session, "Windfall Fair"), code, "Dish", document)
        number = bakes.queue_bake(session, shot.id).id
        shot_id = shot.id
    run_bake(database, number)
    return shot_id, number


def seated(database, shot_id, order):
    with database.session() as session:
        errand = ask(session, shot_id, "re-seat", order).id
    run_errand(database, errand, threading.Event())
    with database.session() as session:
        found = get_errand(session, errand)
        return found.state, found.error, found.result


def revision_of(database, shot_id):
    from zembrik.library.shots import get_shot

    with database.session() as session:
        return get_shot(session, shot_id).head.id


def test_a_hull_becomes_the_mesh_it_stood_for(database, settings, dish):
    shot_id, number = dish
    order = {"bake": number, "old": "dish", "old_as": "proxy", "new": "dish", "new_as": "mesh", "reach_m": 0.3,
             "revision": revision_of(database, shot_id)}  # fmt: skip
    state, error, result = seated(database, shot_id, order)
    assert (state, error) == ("done", "") and "2 bodies shifted by" in result["words"], (error, result)
    with database.session() as session:
        base, made = (bakes.get_bake(session, n) for n in (number, result["bake"]))
        before, after = (Cache(bakes.cache_path(settings, b)) for b in (base, made))
        assert made.label == "re-seated: dish (proxy) to dish (mesh)" and after.damage() == []
        assert not made.cache.approved and after.attributes["foreign"]["layers"][0]["base"] == number
    poses = [[c.pose(n, 30) for n in range(2)] for c in (before, after)]
    for n in range(2):
        x, y, z = poses[1][n][:3] + np.array([(-0.3, 0.0)[n], 0.36, 0.0])
        assert y - 0.1 == pytest.approx(0.1 * (x**2 + z**2), abs=0.012)  # it lies in the dish, not on air
        assert (poses[1][n][3:] == poses[0][n][3:]).all()
    # The same order gives the same bytes, and the base is as it was.
    with database.session() as session:
        delivery = order_delivery(session, settings, result["bake"], _order()).id
    run_delivery(database, delivery)
    assert bakes_done(database, delivery) == "done"


def _order():
    from zembrik.core.exchange.delivery import Order

    return Order("usdc")


def bakes_done(database, delivery):
    from zembrik.library.deliveries import get_delivery

    with database.session() as session:
        return get_delivery(session, delivery).state


def test_a_changed_ground_takes_the_result_along_and_what_cannot_be_is_told(database, settings, dish):
    shot_id, number = dish
    with database.session() as session:
        lifted = [{"op": "add", "path": "/bodies/0/place", "value": {"translate": [0, 0.4, 0]}}]
        edit(session, shot_id, 1, lifted, "lifted")
    order = {"bake": number, "old": "dish", "old_as": "proxy", "new": "dish", "new_as": "proxy", "reach_m": 0.3,
             "revision": revision_of(database, shot_id)}  # fmt: skip
    _, _, result = seated(database, shot_id, order)
    assert "400.0 to 400.0 mm" in result["words"] and "farther apart than" in result["words"]
    with database.session() as session:
        before, after = (
            Cache(bakes.cache_path(settings, bakes.get_bake(session, n))) for n in (number, result["bake"])
        )
    for frame in (1, 15, 30):
        assert after.pose(0, frame)[1] - before.pose(0, frame)[1] == pytest.approx(0.4, abs=1e-9)
    state, error, _ = seated(database, shot_id, {**order, "new": "plate"})
    assert state == "failed" and "no body 'plate' to lie on" in error
