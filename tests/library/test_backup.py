"""Backups while a bake goes on, brought back elsewhere; homes that are moved and copied."""

import json
import os
import shutil
import tarfile
import threading
import time
from pathlib import Path

import pytest

from zembrik.core.bake import bake
from zembrik.core.cache.reader import Cache
from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.farm import worker
from zembrik.library import bakes, identity
from zembrik.library.accounts import create_account, installation_secret, sign_in
from zembrik.library.backup import back_up, restore
from zembrik.library.cluster import Cluster
from zembrik.library.database import Database, upgrade
from zembrik.library.shots import edit, get_shot
from zembrik.library.store import StoredAssets


def test_a_backup_made_in_mid_bake_is_whole_and_goes_on_elsewhere(database, shot, settings, elsewhere, tmp_path):
    with database.session() as session:
        edit(session, shot, 1, [{"op": "add", "path": "/frames", "value": [1, 400]}], "longer")
        number = bakes.queue_bake(session, shot).id
        path = bakes.cache_path(settings, bakes.get_bake(session, number))
        if sign_in(session, "keeper", "kept for long enough") is None:
            create_account(session, "keeper", "kept for long enough")
    work = threading.Thread(target=worker.run_bake, args=(database, number))
    work.start()
    until = time.monotonic() + 120
    while not ((path / "zarr.json").exists() and (Cache(path).done or 0) > 8):
        assert time.monotonic() < until
        time.sleep(0.02)
    back_up(settings, tmp_path / "all.tar")
    assert work.is_alive(), "the bake was over before its backup"
    work.join(120)

    restore(elsewhere, tmp_path / "all.tar")
    other = Database(elsewhere)
    with other.session() as session:
        row = bakes.get_bake(session, number)
        document = row.document
        held = Cache(bakes.cache_path(elsewhere, row))
        assert row.state == "running" and held.damage() == [] and 8 < held.done < 400
        assert get_shot(session, shot).head.number == 2 and sign_in(session, "keeper", "kept for long enough")
        with database.session() as mine:
            assert installation_secret(session) != installation_secret(mine)
    worker.put_back_orphans(other, ["bakes"])
    worker.run_bake(other, number)
    whole = bake(parse_setup(document), StoredAssets(settings), tmp_path / "whole.zarr")
    done = Cache(held.path)
    assert done.done == 400 and done.damage() == []
    assert all(done.points(0, f).tobytes() == whole.points(0, f).tobytes() for f in range(1, 401))
    other.engine.dispose()


def test_a_backup_without_caches_and_what_is_no_backup(database, settings, elsewhere, tmp_path):
    size = back_up(settings, tmp_path / "small.tar", ("caches", "deliveries"))
    with tarfile.open(tmp_path / "small.tar") as tar:
        names = tar.getnames()
        head = json.load(tar.extractfile("backup.json"))
    assert size > 10_000 and not any(n.startswith(("caches", "deliveries")) for n in names) and head["left_out"]
    for wrong in (b"nothing", (tmp_path / "small.tar").read_bytes()[:2000]):
        (tmp_path / "wrong.tar").write_bytes(wrong)
        with pytest.raises(Problem, match="no backup"):
            restore(elsewhere, tmp_path / "wrong.tar")
    with tarfile.open(tmp_path / "wicked.tar", "w") as tar:
        tar.add(tmp_path / "wrong.tar", "../../outside")
    with pytest.raises(Problem, match="nothing of a backup"):
        restore(elsewhere, tmp_path / "wicked.tar")
    assert not any(elsewhere.home.glob("*/*"))
    restore(elsewhere, tmp_path / "small.tar")
    with pytest.raises(Problem, match="cannot be written"):
        back_up(settings, Path("/proc/nothing.tar"))
    (elsewhere.assets / "x").write_bytes(b"x")
    with pytest.raises(Problem, match="not empty"):
        restore(elsewhere, tmp_path / "small.tar")


def test_a_database_with_data_comes_up_from_each_earlier_migration(elsewhere):
    """Rows of every edition's tables survive all migrations after it."""
    from alembic import command
    from alembic.config import Config
    from sqlalchemy import create_engine, text

    from zembrik.library import database as module
    from zembrik.library.version import KNOWN

    config = Config()
    config.set_main_option("script_location", str(Path(module.__file__).parent / "migrations"))
    config.attributes["database_url"] = elsewhere.database_url
    engine = create_engine(elsewhere.database_url)
    setup = {"bodies": [], "frames": [1, 5]}
    for number in KNOWN[:-1]:
        command.upgrade(config, number)
        with engine.begin() as connection:
            show = connection.execute(
                text("INSERT INTO show (title) VALUES (:t) RETURNING id"), {"t": f"of {number}"}
            ).scalar()
            row = {"s": show, "d": json.dumps(setup)}
            of = connection.execute(
                text("INSERT INTO shot (show_id, code, title, redo) VALUES (:s, 'A', 'A', '[]') RETURNING id"), row
            ).scalar()
            head = connection.execute(
                text(
                    "INSERT INTO revision (shot_id, number, document, setup_hash, note) "
                    "VALUES (:of, 1, :d, 'x', 'made') RETURNING id"
                ),
                row | {"of": of},
            ).scalar()
            connection.execute(text("UPDATE shot SET head_id = :h WHERE id = :of"), {"h": head, "of": of})
    upgrade(elsewhere)
    engine.dispose()
    opened = Database(elsewhere)
    with opened.session() as session:
        shots = session.execute(text("SELECT id FROM shot ORDER BY id")).scalars().all()
        assert len(shots) == len(KNOWN) - 1
        for number in shots:
            assert get_shot(session, number).head.document == setup and get_shot(session, number).head.author == ""
            assert edit(session, number, 1, [{"op": "add", "path": "/fps", "value": 30}], "now").number == 2
    opened.engine.dispose()


def test_a_home_that_is_moved_goes_on_and_a_copy_is_told(tmp_path, monkeypatch):
    monkeypatch.setattr(identity, "APART", tmp_path / "apart")
    home = tmp_path / "one"
    first = identity.settle(home)
    assert identity.settle(home) == first
    home.rename(tmp_path / "two")
    moved = identity.settle(tmp_path / "two")
    assert moved.id == first.id and moved.at == str(tmp_path / "two")
    shutil.copytree(tmp_path / "two", tmp_path / "copy")
    monkeypatch.setattr(os, "geteuid", lambda: 0)
    with pytest.raises(Problem, match="its database lies apart") as told:
        identity.settle(tmp_path / "copy")
    assert "zembrik backup" in told.value.remedy and str(tmp_path / "two") in told.value.what
    assert identity.settle(tmp_path / "two") == moved
    assert identity.settle(tmp_path / "copy", fresh=True).id != first.id
    monkeypatch.setattr(os, "geteuid", lambda: 1000)
    for name, running in (("torn", True), ("sound", False)):
        data = tmp_path / name / "postgres" / "data-1"
        shutil.copytree(tmp_path / "two", tmp_path / name)
        data.mkdir(parents=True)
        if running:
            (data / "postmaster.pid").write_text("1\n/somewhere/else\n")
            with pytest.raises(Problem, match="while its database ran"):
                identity.settle(tmp_path / name)
        else:
            assert identity.settle(tmp_path / name).id not in (first.id, "")


def test_a_clusters_pid_file_that_was_copied_is_not_trusted(settings, elsewhere, tmp_path):
    """The copy neither takes the original's server for its own nor stops it."""
    folder = elsewhere.home.parent / "postgres"
    original, copy = Cluster(folder, safe=False), Cluster(folder.parent / "copied", safe=False)
    shutil.copytree(folder, copy.folder, ignore=shutil.ignore_patterns("socket"))
    assert original.running() and not copy.running()
    copy.stop()
    assert original.running()
    Database(elsewhere).engine.connect().close()
