"""Bakes and deliveries through the queue, with a worker that is a process of its own."""

import os
import subprocess
import sys
import time
from pathlib import Path

import pytest
from sqlalchemy import text

from zembrik.core.bake import bake
from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.delivery import Order
from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.farm.worker import run_bake, run_delivery
from zembrik.library import bakes
from zembrik.library.deliveries import get_delivery, order_delivery
from zembrik.library.shots import edit, get_shot, undo
from zembrik.library.store import StoredAssets

ROOT = Path(__file__).parents[2]


def start(database, shot):
    with database.session() as session:
        return bakes.queue_bake(session, shot).id


def state(database, number):
    with database.session() as session:
        bake = bakes.get_bake(session, number)
        return bake.state, bakes.progress_of(database.settings, bake)[0]


def change(database, shot, path, value):
    with database.session() as session:
        head = get_shot(session, shot).head.number
        edit(session, shot, head, [{"op": "add", "path": path, "value": value}], "test")


def test_bake_stale_true_again_and_lengthened(database, shot, settings):
    number = start(database, shot)
    with pytest.raises(Problem, match="being baked already"):
        start(database, shot)
    run_bake(database, number)
    assert state(database, number)[0] == "done"
    with pytest.raises(Problem, match="baked already"):
        start(database, shot)
    with database.session() as session:
        row = bakes.get_bake(session, number)
        held = Cache(bakes.cache_path(settings, row))
        assert held.done == 12 and (held.path / "picture.png").read_bytes()[:4] == b"\x89PNG"
        assert held.attributes["setup_hash"] == row.setup_hash and row.cache.size_bytes > 10_000
    change(database, shot, "/bodies/0/material/bend", 0.01)
    with database.session() as session:
        row, head = bakes.get_bake(session, number), get_shot(session, shot).head
        assert bakes.stale_reasons(row, head) == [
            "'sheet' material bend: 0.01 (was left to preset, profile or default)"
        ]
        undo(session, shot)
        assert bakes.stale_reasons(row, get_shot(session, shot).head) == []
    change(database, shot, "/frames", [1, 15])
    assert start(database, shot) == number  # the same bake goes on
    run_bake(database, number)
    assert state(database, number)[1].done == 15


def test_a_failed_bake_says_why(database, shot):
    change(database, shot, "/bodies/0/pins", [{"points": {"box": [[8, 8, 8], [9, 9, 9]]}}])
    number = start(database, shot)
    run_bake(database, number)
    with database.session() as session:
        row = bakes.get_bake(session, number)
        assert row.state == "failed" and "takes no point" in row.error


def test_discard_takes_the_cache_away(database, shot, settings):
    number = start(database, shot)
    with database.session() as session, pytest.raises(Problem, match="Stop it first"):
        bakes.discard(session, settings, number)
    run_bake(database, number)
    with database.session() as session:
        path = bakes.cache_path(settings, bakes.get_bake(session, number))
        assert path.exists()
        bakes.discard(session, settings, number)
    assert not path.exists()
    with database.session() as session, pytest.raises(Problem, match="no bake"):
        bakes.get_bake(session, number)


def test_delivery_is_recorded_with_its_manifest(database, shot, settings):
    number = start(database, shot)
    run_bake(database, number)
    with database.session() as session:
        with pytest.raises(Problem, match="always in metres"):
            order_delivery(session, settings, number, Order("glb", unit="cm"))
        delivery = order_delivery(session, settings, number, Order("usdc", (2, 5), (), "cm", "z")).id
    run_delivery(database, delivery)
    with database.session() as session:
        row = get_delivery(session, delivery)
        assert row.state == "done" and row.manifest["frames"] == [2, 5]
        assert (settings.deliveries / row.file).name == "t-010-sheet-on-a-ball-r1.usdc"


def test_a_bake_goes_on_with_another_worker_when_its_own_is_killed(database, shot, settings, tmp_path):
    """Killed in the middle (kill -9): another worker ends the bake, in the bytes of one undisturbed."""
    change(database, shot, "/frames", [1, 200])
    environment = {
        **os.environ,
        "ZEMBRIK_HOME": str(settings.home),
        "ZEMBRIK_DATABASE": settings.database_url,
        "ZEMBRIK_DEAD_AFTER": "2",
        "PYTHONPATH": str(ROOT / "src"),
    }
    begin = lambda: subprocess.Popen([sys.executable, "-m", "zembrik.cli", "worker"], env=environment)  # noqa: E731
    first, second = begin(), None
    try:
        number = start(database, shot)
        wait_until(lambda: state(database, number)[1].done > 15)
        first.kill()
        first.wait()
        held = state(database, number)[1].done
        assert state(database, number)[0] == "running" and 15 < held < 200  # nobody could say that it is over
        second = begin()
        wait_until(lambda: state(database, number)[0] == "done", 120)
    finally:
        for worker in (first, second):
            if worker is not None:
                worker.kill()
    with database.session() as session:
        row = bakes.get_bake(session, number)
        cache, document = Cache(bakes.cache_path(settings, row)), row.document
    assert cache.done == 200 and cache.damage() == []
    whole = bake(parse_setup(document), StoredAssets(settings), tmp_path / "whole.zarr")
    for frame in (held, held + 1, held + 2, 200):
        assert cache.points(0, frame).tobytes() == whole.points(0, frame).tobytes()


def test_a_worker_process_bakes_stops_and_delivers(database, shot, settings):
    """A long bake is stopped while it runs; its frames are kept and it goes on later."""
    change(database, shot, "/frames", [1, 4000])
    environment = {
        **os.environ,
        "ZEMBRIK_HOME": str(settings.home),
        "ZEMBRIK_DATABASE": settings.database_url,
        "PYTHONPATH": str(ROOT / "src"),
    }
    worker = subprocess.Popen([sys.executable, "-m", "zembrik.cli", "worker"], env=environment)
    try:
        number = start(database, shot)
        wait_until(lambda: state(database, number)[1].done > 20)
        progress = state(database, number)[1]
        assert progress.left_s is not None and 0.05 < progress.left_s < 3600
        with database.session() as session:
            bakes.ask_stop(session, number)
        wait_until(lambda: state(database, number)[0] == "stopped")
        kept = state(database, number)[1].done
        assert 20 < kept < 4000
        with database.session() as session:
            delivery = order_delivery(session, settings, number, Order("obj.zip", (1, 3))).id

        def delivered():
            with database.session() as session:
                return get_delivery(session, delivery).state == "done"

        wait_until(delivered)
        assert start(database, shot) == number
        wait_until(lambda: state(database, number)[1].done > kept)
        with database.session() as session:
            bakes.ask_stop(session, number)
        wait_until(lambda: state(database, number)[0] == "stopped")
    finally:
        worker.terminate()
        assert worker.wait(20) in (0, -15)


def wait_until(true, seconds=90):
    until = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < until, "it took too long"
        time.sleep(0.1)


def test_what_is_on_record_is_in_the_queue_and_the_other_way_round(database, shot):
    """A server that dies before its commit leaves neither; after it, both: nothing waits that nobody will do."""
    jobs = text("SELECT count(*) FROM procrastinate_jobs WHERE task_name = 'zembrik.bake' AND args @> :args")

    class Died(Exception):
        pass

    with pytest.raises(Died), database.session() as session:
        lost = bakes.queue_bake(session, shot).id
        assert session.execute(jobs, {"args": f'{{"number": {lost}}}'}).scalar() == 1
        raise Died
    with database.session() as session:
        assert bakes.bakes_of(session, shot) == []
        assert session.execute(jobs, {"args": f'{{"number": {lost}}}'}).scalar() == 0
    number = start(database, shot)
    with database.session() as session:
        assert session.execute(jobs, {"args": f'{{"number": {number}}}'}).scalar() == 1
