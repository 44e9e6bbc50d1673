"""Takes: kept, named, favoured, used in other shots, with what is left behind told."""

import pytest

from zembrik.core.bake import bake as run
from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.library.bakes import cache_path, queue_bake
from zembrik.library.shots import create_shot, create_show, get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.library.takes import (
    favour_take,
    get_take,
    keep_take,
    keep_take_of_bake,
    remove_take,
    rename_take,
    takes_of_show,
    use_take,
)


def moving(name, **more):
    keys = {"translate": {"keys": [[1, [0, 0, 0]], [25, [1, 0, 0]]]}}
    return {"name": name, "role": "collider", "mesh": {"shape": "box", "size": [1, 1, 1]}, "motion": keys, **more}


def crate(name, x):
    return {"name": name, "role": "rigid", "mesh": {"shape": "box", "size": [0.3, 0.3, 0.3]},
            "place": {"translate": [x, 1.0, 0.0]}}  # fmt: skip


@pytest.fixture
def two(database, request):
    """A show with two shots: one with carts and a crate that falls, at 24; another at 48 frames a second."""
    first = {"frames": [1, 12], "bodies": [moving("cart"), moving("drum"), crate("crate", 4.0)]}
    other = {"fps": 48, "bodies": [
        {"name": "cart", "role": "collider", "mesh": {"shape": "box", "size": [1, 1, 1]}},
        {"name": "rag", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [4, 4]}},
        crate("crate", -2.0),
    ]}  # fmt: skip
    with database.session() as session:
        show = create_show(session, f"Takes of {request.node.name}")
        return [create_shot(session, show, code, code, d).id for code, d in (("A", first), ("B", other))]


def test_a_take_is_kept_named_favoured_and_used_by_names(database, two):
    with database.session() as session:
        shot = get_shot(session, two[0])
        one, all_of = keep_take(session, two[0], "to the gate", ["cart"]), keep_take(session, two[0], "everything", [])
        assert [t["body"] for t in all_of.tracks] == ["cart", "drum"] and one.source == "A, revision 1"
        assert favour_take(session, shot.show_id, one.id) and takes_of_show(session, shot.show_id)[0] is one
        rename_take(session, shot.show_id, one.id, "to the other gate")
        for wrong in ("everything", "", "x" * 200):
            with pytest.raises(Problem, match=r"already|1 to 120"):
                rename_take(session, shot.show_id, one.id, wrong)
        with pytest.raises(Problem, match="no take number"):
            get_take(session, shot.show_id + 1, one.id)
        with pytest.raises(Problem, match="nothing moves by keys"):
            keep_take(session, two[1], "nothing", [])
        # At 48 frames a second the same way takes twice the frames; what has no body here is told.
        setup = head_setup(get_shot(session, two[1]))
        patch, told = use_take(setup, all_of, None, begins=11.0, offset_m=(0.0, 2.0, 0.0), parent="crate")
        assert patch[0]["path"] == "/bodies/0/motion" and "'drum' has no body here" in told and len(patch) == 1
        keys = patch[0]["value"]["translate"]["keys"]
        assert [k[0] for k in keys] == [11, 59] and keys[1][1] == [1, 2, 0]
        assert patch[0]["value"]["parent"] == "crate"
        with pytest.raises(Problem, match="role cloth has no motion"):
            use_take(setup, all_of, "rag")
        assert use_take(setup, all_of, "crate", "drum")[0][0]["path"] == "/bodies/2/motion"
        with pytest.raises(Problem, match="no track 'barrel'"):
            use_take(setup, all_of, "crate", "barrel")
        remove_take(session, shot.show_id, all_of.id)
        assert [t.name for t in takes_of_show(session, shot.show_id)] == ["to the other gate"]


def test_what_a_bake_did_goes_onto_a_body_of_another_shot(database, settings, two):
    """A crate falls in one shot; by its take the crate of another falls as far, from where that one stands."""
    with database.session() as session:
        bake = queue_bake(session, two[0])
        number, path, document = bake.id, cache_path(settings, bake), bake.document
        bake.state = "done"
    path.parent.mkdir(parents=True, exist_ok=True)
    cache = run(parse_setup(document), StoredAssets(settings), path)
    with database.session() as session:
        take = keep_take_of_bake(session, settings, number, "fall", [], 0.001, 0.5)
        assert [t["body"] for t in take.tracks] == ["crate"] and take.fps == 24
        patch, _ = use_take(head_setup(get_shot(session, two[1])), take, None)
    keys = patch[0]["value"]["translate"]["keys"]
    fell = float(cache.points(0, 12)[:, 1].mean() - cache.points(0, 1)[:, 1].mean())
    assert keys[-1][0] == 1 + 2 * 11 and keys[-1][1][1] == pytest.approx(fell, abs=1e-3) and fell < -0.5
