"""The cache library: what is found, what approval holds off, what the trash gives back, what looking over finds."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from zembrik.core.bake import bake
from zembrik.core.cache import lock
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.farm.worker import run_bake
from zembrik.library import bakes, caches
from zembrik.library.shots import edit, get_shot


@pytest.fixture
def cached(database, shot):
    """A shot with a bake of 12 frames."""
    with database.session() as session:
        number = bakes.queue_bake(session, shot).id
    run_bake(database, number)
    return shot, number


def change(database, shot, path, value):
    with database.session() as session:
        edit(session, shot, get_shot(session, shot).head.number, [{"op": "add", "path": path, "value": value}], "test")


def row_of(database, number, state=""):
    with database.session() as session:
        return next((r for r in caches.find_caches(session, state=state)[0] if r.bake == number), None)


def folder_of(database, settings, number):
    with database.session() as session:
        return bakes.cache_path(settings, session.get(bakes.Bake, number))


def bytes_of(folder):
    return {p.relative_to(folder): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


def test_an_approved_cache_is_changed_and_deleted_by_no_path(database, settings, cached):
    """Discard, trash, a longer bake, a worker, the command line's resume: each is refused or goes elsewhere."""
    shot, number = cached
    with database.session() as session:
        caches.approve(session, settings, number)
    folder = folder_of(database, settings, number)
    before = bytes_of(folder)
    assert lock.is_locked(folder) and row_of(database, number, "approved").state == "true"
    for forbidden in (lambda s: bakes.discard(s, settings, number), lambda s: caches.trash(s, number)):
        with pytest.raises(Problem, match="approved"), database.session() as session:
            forbidden(session)
    change(database, shot, "/frames", [1, 15])
    with database.session() as session:
        longer = bakes.queue_bake(session, shot).id
    assert longer != number  # what is approved stays 12 frames long
    run_bake(database, longer)
    with database.session() as session:
        session.get(bakes.Bake, number).state = "queued"
    run_bake(database, number)
    document = {**get_document(database, number), "frames": [1, 20]}
    with pytest.raises(Problem, match="approved"):
        bake(parse_setup(document), NoAssets(), folder, resume=True)
    assert bytes_of(folder) == before
    with database.session() as session:
        caches.disapprove(session, settings, number)
    assert not lock.is_locked(folder) and row_of(database, number, "approved") is None


def get_document(database, number):
    with database.session() as session:
        return session.get(bakes.Bake, number).document


def test_the_trash_gives_back_what_was_put_there_until_it_is_emptied(database, settings, cached):
    shot, number = cached
    folder = folder_of(database, settings, number)
    with database.session() as session:
        caches.trash(session, number)
    with database.session() as session:
        assert bakes.bakes_of(session, shot) == [] and bakes.shown_bake(session, shot) is None
        with pytest.raises(Problem):
            bakes.get_bake(session, number)
    assert row_of(database, number) is None and row_of(database, number, "trash").state == "trash"
    with database.session() as session:
        caches.take_back(session, number)
    assert row_of(database, number).state == "true"
    with database.session() as session:
        assert bakes.get_bake(session, number).state == "done"
        caches.trash(session, number)
    assert folder.exists()
    with database.session() as session:
        assert number in caches.in_trash(session)
        caches.delete_trashed(session, settings, number)
    with pytest.raises(Problem), database.session() as session:
        caches.delete_trashed(session, settings, number)
    assert not folder.exists() and row_of(database, number, "trash") is None


def test_looking_over_names_the_damaged_frame(database, settings, cached):
    _, number = cached
    folder = folder_of(database, settings, number)
    with database.session() as session:
        assert caches.verify(session, settings, number) == []
    assert row_of(database, number).verified is not None
    chunk = next(p for p in (folder / "bodies/0/points").rglob("*") if p.is_file() and p.name != "zarr.json")
    data = bytearray(chunk.read_bytes())
    data[len(data) // 2] ^= 1
    chunk.write_bytes(data)
    with database.session() as session:
        (told,) = caches.verify(session, settings, number)
    assert "sheet" in told and "frame" in told
    row = row_of(database, number)
    assert row.state == "damaged" and row.damage == [told]
    with pytest.raises(Problem, match="damaged"), database.session() as session:
        caches.approve(session, settings, number)


def test_words_states_and_orders(database, settings, cached):
    shot, number = cached
    with database.session() as session:
        show, code = get_shot(session, shot).show.title, get_shot(session, shot).code
        rows, count, size = caches.find_caches(session, f"{show[:9]} {code.lower()}")
        assert [r.bake for r in rows] == [number] and count == 1 and size == rows[0].bytes > 10_000
        assert caches.find_caches(session, f"{show} nowhere")[1] == 0
        assert caches.find_caches(session, "%")[1] == caches.find_caches(session)[1]
    assert row_of(database, number).state == "true" and not row_of(database, number).unused
    change(database, shot, "/quality/substeps", 7)
    row = row_of(database, number)
    assert (row.state, row.revision, row.head) == ("stale", 1, 2) and row.unused
    with database.session() as session:
        assert any(r[2] == shot and r[3] > 10_000 for r in caches.space_of(session))
        for sort in caches.SORTS:
            sizes = [r.bytes for r in caches.find_caches(session, sort=sort)[0]]
            assert sort != "largest" or sizes == sorted(sizes, reverse=True)


@given(st.lists(st.floats(0.001, 1e6), min_size=1, max_size=40))
def test_a_treemap_fills_its_rectangle_with_areas_as_sizes_are(sizes):
    sizes = sorted(sizes, reverse=True)
    boxes = caches.treemap(sizes, 300.0, 100.0)
    assert [b.which for b in boxes] == list(range(len(sizes)))
    area = np.array([b.width * b.height for b in boxes])
    assert area == pytest.approx(np.array(sizes) / sum(sizes) * 30_000, rel=1e-6, abs=1e-9)
    assert all(
        b.x >= -1e-6 and b.y >= -1e-6 and b.x + b.width <= 300 + 1e-6 and b.y + b.height <= 100 + 1e-6 for b in boxes
    )
    for k, a in enumerate(boxes):
        for b in boxes[k + 1 :]:
            wide = min(a.x + a.width, b.x + b.width) - max(a.x, b.x)
            high = min(a.y + a.height, b.y + b.height) - max(a.y, b.y)
            assert wide <= 1e-6 or high <= 1e-6
