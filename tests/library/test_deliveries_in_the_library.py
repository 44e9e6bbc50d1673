"""Deliveries on record: many shots by a pattern, stopped, started twice, into places that refuse."""

import uuid

import pytest

from zembrik.core.bake import bake as run
from zembrik.core.exchange.delivery import Order, manifest_path
from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.farm import worker
from zembrik.library.bakes import cache_path, queue_bake, queue_show
from zembrik.library.deliveries import (
    all_deliveries,
    get_delivery,
    order_batch,
    order_delivery,
    plan_batch,
    stop_delivery,
)
from zembrik.library.shots import create_shot, create_show, edit, get_shot
from zembrik.library.store import StoredAssets


@pytest.fixture
def three(database, settings, sheet):
    """A show with three shots: two are baked, with titles that are no names of files; one is not."""
    with database.session() as session:
        show = create_show(session, f"Fair / {uuid.uuid4()}")
        shots = [
            create_shot(session, show, code, title, {**sheet, "frames": [1, 3]}).id
            for code, title in (("A", 'Sheet "one"/left'), ("B", "Ткань 二"), ("C", "Not baked"))
        ]
        bakes = [queue_bake(session, s) for s in shots[:2]]
        todo = [(b.id, cache_path(settings, b), b.document) for b in bakes]
    for number, path, document in todo:
        path.parent.mkdir(parents=True, exist_ok=True)
        run(parse_setup(document), StoredAssets(settings), path)
        with database.session() as session:
            row = session.get(worker.Bake, number)
            row.state, row.cache.done = "done", 3
    return show.id, shots, [n for n, _, _ in todo]


def test_a_batch_is_planned_and_written_by_a_pattern(database, settings, three):
    show, shots, _ = three
    order = Order("ply.zip", subdivided=1)
    with database.session() as session:
        planned = plan_batch(session, settings, shots, order, "[shot low]/[title]-[last 4]")
        assert [p.file for p in planned] == ["a/Sheet-one-left-0003.ply.zip", "b/Ткань-二-0003.ply.zip", ""]
        assert [p.problem for p in planned] == ["", "", "it is not baked"] and planned[0].frames == 3
        same = plan_batch(session, settings, shots[:2], order, "sheet")
        assert same[1].problem.startswith("another file has this name")
        for wanted, told in ((shots, "C: it is not baked"), ([], "no shot is chosen")):
            with pytest.raises(Problem, match=told):
                order_batch(session, settings, wanted, order, "[shot]")
        made = [d.id for d in order_batch(session, settings, shots[:2], order, "[shot low]/[title]")]
    for number in made:
        worker.run_delivery(database, number)
    with database.session() as session:
        rows = all_deliveries(session, show)
        assert [(d.state, s.code) for d, s in rows] == [("done", "B"), ("done", "A")]
        assert rows[0][0].manifest["subdivided"] == 1 and rows[0][0].manifest["bodies"] == ["sheet"]
        for d, _ in rows:
            path = settings.deliveries / d.file
            assert path.is_file() and manifest_path(path).is_file() and path.stat().st_size == d.manifest["bytes"]
            assert [p.name for p in path.parent.iterdir() if ".part" in p.name] == []


def test_the_same_twice_and_a_stop(database, settings, three, monkeypatch):
    _, _, (bake, _) = three
    with database.session() as session:
        number = order_delivery(session, settings, bake, Order("usdc")).id
        with pytest.raises(Problem, match="just this file is being written already"):
            order_delivery(session, settings, bake, Order("usdc"))
        other = order_delivery(session, settings, bake, Order("usdc", unit="cm")).id
        stop_delivery(session, other)
        assert get_delivery(session, other).state == "stopped"
    worker.run_delivery(database, other)  # it was stopped while it waited
    monkeypatch.setattr(worker, "LOOK_EVERY_S", 0.0)
    with database.session() as session:
        stop_delivery(session, number).state = "running"
        get_delivery(session, number).stop_asked = True
    worker.run_delivery(database, number)
    with database.session() as session:
        for one in (number, other):
            row = get_delivery(session, one)
            assert (row.state, row.manifest, row.error) == ("stopped", None, "")
            folder = (settings.deliveries / row.file).parent
            assert not folder.exists() or not list(folder.iterdir())  # no half file
        order_delivery(session, settings, bake, Order("usdc"))  # and it can be ordered again
        with pytest.raises(Problem, match="no such delivery"):
            stop_delivery(session, other)


def test_a_place_that_cannot_be_written_is_told(database, settings, three):
    _, _, (bake, _) = three
    with database.session() as session:
        row = order_delivery(session, settings, bake, Order("obj.zip"))
        number, blocked = row.id, settings.deliveries / row.file
    blocked.parent.parent.mkdir(parents=True, exist_ok=True)
    blocked.parent.write_text("no folder")
    worker.run_delivery(database, number)
    with database.session() as session:
        row = get_delivery(session, number)
        assert row.state == "failed" and "cannot be written" in row.error and "Traceback" not in row.error


def test_all_that_is_not_true_is_baked_or_only_the_stale(database, three):
    show, shots, _ = three
    with database.session() as session:
        assert queue_show(session, show, stale_only=True) == []
        head = get_shot(session, shots[0]).head.number
        edit(session, shots[0], head, [{"op": "add", "path": "/quality/substeps", "value": 12}], "test")
        assert [b.shot_id for b in queue_show(session, show, stale_only=True)] == [shots[0]]
        assert [b.shot_id for b in queue_show(session, show, stale_only=False)] == [shots[2]]
        assert queue_show(session, show, stale_only=False) == []
