"""Setups on record: revisions, undo and redo, two people at once, assets by content."""

import pytest

from zembrik.core.problem import Problem
from zembrik.library import shots
from zembrik.library.changes import differences
from zembrik.library.models import Asset, Revision
from zembrik.library.shots import Conflict, create_shot, create_show, edit, get_shot, motions_of_show, redo, undo
from zembrik.library.store import StoredAssets, take_in

TRIANGLE = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"
BEND = "/bodies/0/material/bend"


def put(path, value):
    return [{"op": "add", "path": path, "value": value}]


def test_every_edit_is_a_revision_and_undo_and_redo_walk_them(database, shot):
    with database.session() as session:
        edit(session, shot, 1, put(BEND, 0.1), "one")
        edit(session, shot, 2, put("/quality/substeps", 12), "two")
        assert undo(session, shot).number == 2
        assert undo(session, shot).number == 1
        with pytest.raises(Problem, match="nothing to undo"):
            undo(session, shot)
        assert redo(session, shot).number == 2
        edit(session, shot, 2, put("/fps", 25), "another way")
        with pytest.raises(Problem, match="nothing to redo"):
            redo(session, shot)
        head = get_shot(session, shot).head
        assert head.number == 4 and head.document["fps"] == 25 and head.document["quality"] == {"substeps": 10}
        assert session.query(Revision).filter_by(shot_id=shot).count() == 4  # the branch left behind is still there
        assert undo(session, shot).number == 2


def test_an_edit_that_changes_nothing_or_is_wrong_makes_no_revision(database, shot):
    with database.session() as session:
        assert edit(session, shot, 1, put("/quality/substeps", 10), "same").number == 1
        for path, value in (("/bodies/0/thickness", -1), ("/bodies/9/role", "cloth"), ("/nonsense", 1)):
            with pytest.raises(Problem):
                edit(session, shot, 1, put(path, value), "wrong")
        for path in ("/" + "x" * 3000, "bodies/0/role", "/bodies/\u00b2/role", "/bodies/12345678/role", None):
            with pytest.raises(Problem, match=r"no path of a value|no place in a list"):
                edit(session, shot, 1, [{"op": "add", "path": path, "value": 1}], "wrong")
        assert get_shot(session, shot).head.number == 1


def test_codes_and_motions_are_a_shows_own(database, request):
    """A code may have 40 letters; the motions that can be taken are those of the shots of the same show."""
    box = {"name": "cart", "role": "collider", "mesh": {"shape": "box", "size": [1, 1, 1]}}
    moving = {**box, "motion": {"translate": {"keys": [[1, [0, 0, 0]], [9, [1, 0, 0]]]}}}
    with database.session() as session:
        shows = [create_show(session, f"{request.node.name} {k}") for k in (1, 2, 3)]
        made = [create_shot(session, show, f"A{k}", "A", {"bodies": [moving]}) for k, show in enumerate(shows)]
        still = create_shot(session, shows[1], "x" * 40, "still", {"bodies": [box]})
        assert [m[:3] for m in motions_of_show(session, still, None)] == [(made[1].id, "A1", "cart")]
        assert motions_of_show(session, made[1], "cart") == []
        for code, title in (("x" * 41, "a"), ("", "a"), ("b", ""), ("b", "x" * 301)):
            with pytest.raises(Problem, match="up to 40 letters"):
                create_shot(session, shows[1], code, title, {"bodies": [box]})


def test_two_people_at_once(database, shot):
    with database.session() as session:
        edit(session, shot, 1, put(BEND, 0.1), "hers")
    with database.session() as session:
        merged = edit(session, shot, 1, put("/bodies/0/material/shear", 50), "his, elsewhere")
        assert merged.document["bodies"][0]["material"] == {"preset": "linen", "bend": 0.1, "shear": 50}
        with pytest.raises(Conflict) as told:
            edit(session, shot, 1, put(BEND, 0.2), "his, the same")
        assert (told.value.theirs, told.value.yours, told.value.base) == (0.1, 0.2, None)
        assert get_shot(session, shot).head.document["bodies"][0]["material"]["bend"] == 0.1
        edit(session, shot, 1, put(BEND, 0.1), "the same value is no conflict")
        edit(session, shot, 3, [{"op": "remove", "path": "/bodies/0"}], "removed")
        with pytest.raises(Conflict):  # body 0 is another one now
            edit(session, shot, 3, put("/bodies/0/thickness", 0.01), "late")


def test_differences_are_readable(database, shot):
    with database.session() as session:
        before = get_shot(session, shot).head.document
        after = shots.apply_patch(before, put(BEND, 0.1) + put("/quality/substeps", 12))
    lines = differences(before, after)
    assert "'sheet' material bend: 0.1 (was left to preset, profile or default)" in lines
    assert "quality substeps: 10 → 12" in lines
    held = [{"points": {"side": "top"}}, {"points": {"numbers": [3, 4]}, "release": 20}]
    pinned = shots.apply_patch(after, put("/bodies/0/pins", held))
    told = "'sheet' pins: its highest points, 2 chosen points (was left to preset, profile or default)"
    assert differences(after, pinned) == [told]
    higher = {"op": "replace", "path": "/bodies/0/place/translate/1", "value": 1.5}
    other = shots.apply_patch(pinned, [*put("/bodies/0/pins/1/points/numbers", [5, 6, 9]), higher])
    told = ["'sheet' pin 2: other points", "'sheet' place translate y: 1.02 → 1.5"]
    assert sorted(differences(pinned, other)) == told
    fewer = shots.apply_patch(other, [{"op": "remove", "path": "/bodies/0/pins/1"}])
    assert differences(other, fewer) == ["'sheet' pin 2: 3 chosen points taken away"]
    assert differences(fewer, other) == ["'sheet' pin 2: 3 chosen points added"]


def test_assets_are_stored_once_by_content(database, settings):
    with database.session() as session:
        one, mesh = take_in(session, settings, "C:\\work\\tri.obj", TRIANGLE)
        two, _ = take_in(session, settings, "again.obj", TRIANGLE)
        assert one.endswith("/tri.obj") and one.partition("/")[0] == two.partition("/")[0]
        assert session.query(Asset).filter_by(sha256=one.partition("/")[0]).count() == 1
        assert len(mesh.parts[0].mesh.points) == 3
        with pytest.raises(Problem):
            take_in(session, settings, "bad.obj", b"v 0 0\n")
        with pytest.raises(Problem, match="faces"):
            take_in(session, settings, "tri.stl", TRIANGLE)
    assert StoredAssets(settings).read(one) == TRIANGLE
    for name in ("../../etc/passwd", "f" * 64 + "/gone.obj"):
        with pytest.raises(Problem):
            StoredAssets(settings).read(name)


def test_migrations_give_the_models_tables(database):
    from alembic.autogenerate import compare_metadata
    from alembic.migration import MigrationContext

    from zembrik.library.models import Base

    ours = set(Base.metadata.tables)
    with database.engine.connect() as connection:
        options = {"include_name": lambda name, kind, parents: kind != "table" or name in ours}
        context = MigrationContext.configure(connection, opts=options)
        assert compare_metadata(context, Base.metadata) == []
