"""A database that goes away, a disk that is full or gone: a clear state, nothing half written, and it goes on."""

import errno
import os
import shutil
import threading
import time

import pytest
from sqlalchemy.exc import OperationalError

from zembrik.core.bake import bake as run
from zembrik.core.cache import writer
from zembrik.core.cache.layout import chunk_path
from zembrik.core.cache.reader import Cache
from zembrik.core.setup.document import parse_setup
from zembrik.farm import worker
from zembrik.library.bakes import cache_path, get_bake, queue_bake
from zembrik.library.cluster import Cluster
from zembrik.library.database import Database, upgrade
from zembrik.library.settings import Settings
from zembrik.library.shots import create_shot, create_show


def queued(database, sheet):
    with database.session() as session:
        show = create_show(session, f"Hard times {os.urandom(4).hex()}")
        shot = create_shot(session, show, "H", "H", sheet).id
        return queue_bake(session, shot).id


def told(database, number):
    with database.session() as session:
        row = get_bake(session, number)
        return row.state, row.error, cache_path(database.settings, row)


def same_frames(one, two):
    assert one.done == two.done
    for frame in range(one.first, one.done + 1):
        assert (one.points(0, frame) == two.points(0, frame)).all()


def test_a_full_disk_stops_a_bake_at_a_named_frame_and_it_goes_on(database, sheet, baked, monkeypatch):
    number = queued(database, sheet)
    whole, left = writer.write_whole, [5]

    def full(path, data):
        if "points" in path.parts:
            left[0] -= 1
            if left[0] < 0:
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        whole(path, data)

    monkeypatch.setattr(writer, "write_whole", full)
    worker.run_bake(database, number)
    state, error, path = told(database, number)
    assert state == "failed" and "frame 5 cannot be written: No space left on device" in error
    assert Cache(path).done == 4 and not Cache(path).damage()
    monkeypatch.setattr(writer, "write_whole", whole)
    with database.session() as session:
        get_bake(session, number).state = "queued"  # as Queue's "try again" does
    worker.run_bake(database, number)
    assert told(database, number)[:2] == ("done", "")
    same_frames(Cache(path), baked)


def test_a_cache_folder_that_is_gone_is_not_made_anew(database, settings, sheet):
    number = queued(database, sheet)
    away = settings.caches.with_name("away")
    settings.caches.rename(away)
    try:
        worker.run_bake(database, number)
        state, error, _ = told(database, number)
        assert state == "failed" and "the folder of all caches is not there" in error and "Is its disk" in error
        assert not settings.caches.exists()
    finally:
        away.rename(settings.caches)
    with database.session() as session:
        get_bake(session, number).state = "queued"
    worker.run_bake(database, number)
    assert told(database, number)[0] == "done"


def test_caches_are_looked_over_in_the_background(database, settings, sheet):
    """What was never looked over comes first; a frame that went bad meanwhile is found without anybody asking."""
    number = queued(database, sheet)
    worker.run_bake(database, number)
    path = told(database, number)[2]
    chunk = chunk_path(path / "bodies/0/points", 6, 0, 0)
    chunk.write_bytes(chunk.read_bytes()[:-1] + b"?")
    assert worker.look_over_some(database, 60.0) >= 1
    with database.session() as session:
        record = get_bake(session, number).cache
        assert record.verified is not None and "frame 7 is damaged" in record.damage[0]
    assert worker.look_over_some(database, 60.0) == 0  # all were, this week


def test_a_database_that_falls_over_in_the_middle_of_a_bake(tmp_path_factory, sheet):
    """Killed, not stopped, and up again after two seconds: the bake notices and goes on; its bytes are the same."""
    import tempfile
    from pathlib import Path

    with tempfile.TemporaryDirectory(prefix="zembrik-tests-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        cluster = Cluster(folder / "postgres", safe=True)
        try:
            settings = Settings(folder / "home", cluster.start())
            settings.make_folders()
            upgrade(settings)
            database = Database(settings)
            number = queued(database, {**sheet, "frames": [1, 60]})
            work = threading.Thread(target=worker.run_bake, args=(database, number))
            work.start()
            path = told(database, number)[2]
            for _ in range(600):
                if (path / "zarr.json").exists() and (Cache(path).done or 0) >= 2:
                    break
                time.sleep(0.1)
            cluster._run("pg_ctl", "stop", "-s", "-m", "immediate", "-w", "-D", cluster._data())
            with pytest.raises(OperationalError):
                told(database, number)
            time.sleep(2.0)
            assert cluster.start() == settings.database_url
            work.join(120)
            assert not work.is_alive() and told(database, number)[:2] == ("done", "")
            undisturbed = tmp_path_factory.mktemp("undisturbed") / "sheet.zarr"
            run(parse_setup({**sheet, "frames": [1, 60]}), worker.StoredAssets(settings), undisturbed)
            same_frames(Cache(path), Cache(undisturbed))
            database.engine.dispose()
        finally:
            cluster.remove()
            shutil.rmtree(folder / "home", ignore_errors=True)
