"""Faults that were not told: a lost backend, a removed folder, another edition, a crash between record and file."""

import os
import shutil
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import psycopg
import pytest
from sqlalchemy import text

from zembrik.core.cache.reader import Cache
from zembrik.core.problem import Problem
from zembrik.farm import worker
from zembrik.library import bakes, queue, version
from zembrik.library.author import acting_as
from zembrik.library.database import Database, upgrade
from zembrik.library.removal import last_removals, leftovers, remove_leftovers
from zembrik.library.shots import create_shot, create_show

ROOT = Path(__file__).parents[2]


def queued(database, shot):
    with database.session() as session:
        return bakes.queue_bake(session, shot).id


def state(database, number):
    with database.session() as session:
        return bakes.get_bake(session, number).state


def wait_until(what, seconds=60.0):
    until = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < until
        time.sleep(0.1)


def test_an_idle_worker_outlives_its_database(elsewhere, sheet):
    """One of its backends is killed (kill -9), which takes all connections down: it says so, waits, and works again."""
    elsewhere.make_folders()
    upgrade(elsewhere)
    database = Database(elsewhere)
    with database.session() as session:
        shot = create_shot(session, create_show(session, "Elsewhere"), "E", "E", sheet).id
    environment = {
        **os.environ, "ZEMBRIK_HOME": str(elsewhere.home), "ZEMBRIK_DATABASE": elsewhere.database_url,
        "PYTHONPATH": str(ROOT / "src"), "PGAPPNAME": "the-worker",
    }  # fmt: skip
    command = [sys.executable, "-m", "zembrik.cli", "worker"]
    process = subprocess.Popen(command, env=environment, stderr=subprocess.PIPE, text=True)
    backends = "SELECT pid FROM pg_stat_activity WHERE application_name = 'the-worker' ORDER BY pid"

    def its_backends():
        with psycopg.connect(elsewhere.conninfo) as connection:
            return [row[0] for row in connection.execute(backends)]

    try:
        for _ in range(2):
            wait_until(lambda: len(its_backends()) > 1)
            time.sleep(1.0)
            os.kill(its_backends()[0], signal.SIGKILL)
            time.sleep(1.0)
        number = queued(database, shot)
        wait_until(lambda: state(database, number) == "done", 120)
        assert process.poll() is None
    finally:
        process.terminate()
        said = process.communicate(timeout=40)[1]
        database.engine.dispose()
    assert process.returncode == 0, said


def test_a_cache_folder_that_is_removed_in_mid_bake(database, shot, settings, sheet):
    """What is said is true, and tried again it is baked whole."""
    from zembrik.library.shots import edit

    with database.session() as session:
        edit(session, shot, 1, [{"op": "add", "path": "/frames", "value": [1, 400]}], "long")
    number = queued(database, shot)
    with database.session() as session:
        path = bakes.cache_path(settings, bakes.get_bake(session, number))
    work = threading.Thread(target=worker.run_bake, args=(database, number))
    work.start()
    wait_until(lambda: (path / "zarr.json").exists() and (Cache(path).done or 0) > 5)
    shutil.rmtree(path, ignore_errors=True)
    shutil.rmtree(path, ignore_errors=True)
    work.join(120)
    with database.session() as session:
        row = bakes.get_bake(session, number)
        assert row.state == "failed" and "folder was removed" in row.error and str(settings.home) not in row.error
        assert row.cache.done is None and row.cache.size_bytes == 0
        row.last = 8
        bakes.retry(session, number)
    worker.run_bake(database, number)
    assert state(database, number) == "done" and Cache(path).damage() == [] and Cache(path).done == 8


def test_files_go_after_the_commit_and_what_is_left_over_is_found(database, shot, settings):
    number = queued(database, shot)
    worker.run_bake(database, number)
    with database.session() as session:
        path = bakes.cache_path(settings, bakes.get_bake(session, number))

    class Died(Exception):
        pass

    with pytest.raises(Died), database.session() as session:
        bakes.discard(session, settings, number)
        assert path.exists()
        raise Died
    assert path.exists() and Cache(path).damage() == [] and state(database, number) == "done"
    copy = path.with_name("bake-999999.zarr")
    shutil.copytree(path, copy)
    with acting_as("pat"), database.session() as session:
        bakes.discard(session, settings, number)
    assert not path.exists()
    with database.session() as session:
        assert copy in leftovers(session, settings)
        last = last_removals(session)[0]
        assert last.author == "pat" and f"bake {number} of T-010" in last.what
        remove_leftovers(session, settings)
    assert not copy.exists()


def test_a_database_of_another_edition_is_told(settings, monkeypatch):
    assert version.database_version(settings) == version.KNOWN[-1]
    version.refuse_other(settings)
    monkeypatch.setattr(version, "KNOWN", version.KNOWN[:-1])
    with pytest.raises(Problem, match="newer edition of Zembrik"):
        version.refuse_newer(settings)
    monkeypatch.setattr(version, "KNOWN", [*version.KNOWN, "0999", "1000"])
    monkeypatch.setattr(version, "database_version", lambda _: "0999")
    with pytest.raises(Problem, match="older edition") as told:
        version.refuse_other(settings)
    assert "zembrik upgrade" in told.value.remedy


def test_a_worker_of_another_edition_leaves_a_bake_alone(database, shot, monkeypatch):
    """It is in a queue of its own; the queue page tells; one click lets this edition bake it."""
    monkeypatch.setattr(queue, "solver_edition", lambda: "zembrik 9, solver 0ther000")
    number = queued(database, shot)
    monkeypatch.undo()
    assert queue.queues_of("bakes")[-1] != "bakes 0ther000"
    where = "SELECT queue_name FROM procrastinate_jobs WHERE args @> :args AND task_name = 'zembrik.bake'"
    with database.session() as session:
        args = {"args": f'{{"number": {number}}}'}
        assert session.execute(text(where), args).scalar() == "bakes 0ther000"
        assert queue.of_other_editions(session)["0ther000"] == 1
        assert queue.take_over_editions(session) >= 1
        assert session.execute(text(where), args).scalar() == queue.queues_of("bakes")[-1]
        assert queue.of_other_editions(session) == {}


def test_a_worker_gives_memory_back():
    """After 400 MB in pieces that were freed, this process is as small as before within 60 MB."""
    code = (
        "import numpy as np, os\n"
        "from zembrik.farm.worker import give_back_memory\n"
        "rss = lambda: int(open('/proc/self/statm').read().split()[1]) * 4096 / 1e6\n"
        "before = rss()\n"
        "held = [np.ones(7_000) for _ in range(7_000)]\n"
        "keep = held[::100]\n"
        "del held\n"
        "give_back_memory()\n"
        "print(rss() - before)\n"
    )
    environment = {**os.environ, "PYTHONPATH": str(ROOT / "src")}
    said = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, env=environment)
    assert float(said.stdout) < 60
