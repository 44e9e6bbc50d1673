"""Edits of several bodies at once: copies with what holds them, mirrors, groups, layers out and back."""

import copy
import multiprocessing
import threading

import numpy as np
import pytest

from zembrik.core.problem import Problem
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.farm.live import LiveOrder, run_live
from zembrik.library.bodies import removal, rename_patch
from zembrik.library.duplicates import exchange_patch, mirrored_copies, settings_patch, stepped_copies
from zembrik.library.groups import group_patch, refuse_locked, rename_group_patch, switch_patch, ungroup_patch
from zembrik.library.layers import away_patch, back_patch, borrowed_patch, layer_patch, layers_of_show, rolled_off
from zembrik.library.shots import apply_patch, create_shot, create_show, edit, get_shot, hash_of_stored


def link(name, x):
    return {"name": name, "role": "rigid", "mesh": {"shape": "box", "size": [0.2, 0.1, 0.1]}, "proxy": {"kind": "box"},
            "place": {"translate": [x, 1.0, 0.0], "rotate": [0, 20, 0]}}  # fmt: skip


@pytest.fixture()
def document():
    """Two links on a hinge, a flag that is pinned to one of them, and a pole."""
    flag = {"name": "flag", "role": "cloth", "mesh": {"shape": "grid", "size": [0.2, 0.2], "segments": [4, 4]},
            "place": {"translate": [0, 1, 0]}, "pins": [{"points": {"side": "left"}, "follow": "link 1"}]}  # fmt: skip
    pole = {
        "name": "pole",
        "role": "collider",
        "mesh": {"shape": "cylinder", "radius": 0.1, "height": 2},
        "friction": 0.2,
    }
    hinge = {
        "kind": "hinge",
        "bodies": ["link 1", "link 2"],
        "at": [0.15, 1, 0],
        "axis": [0, 0, 1],
        "limits": [-30, 60],
    }
    groups = [{"name": "chain", "bodies": ["link 1", "link 2"]}]
    bodies = [link("link 1", 0.0), link("link 2", 0.3), flag, pole]
    return {"bodies": bodies, "joints": [hinge], "groups": groups}


def test_copies_by_a_step_keep_their_joints_pins_and_group(document):
    patch = stepped_copies(parse_setup(document), document, [0, 1, 2], 2, [0.0, 0.0, 1.0], 0.0, NoAssets())
    grown = apply_patch(document, patch)
    names = [b["name"] for b in grown["bodies"][4:]]
    assert names == ["link 3", "link 4", "flag 2", "link 5", "link 6", "flag 3"]
    assert [j["bodies"] for j in grown["joints"]] == [["link 1", "link 2"], ["link 3", "link 4"], ["link 5", "link 6"]]
    assert [j["at"][2] for j in grown["joints"]] == [0, 1.0, 2.0]
    assert [b["pins"][0]["follow"] for b in grown["bodies"] if "pins" in b] == ["link 1", "link 3", "link 5"]
    assert [(g["name"], g["bodies"]) for g in grown["groups"][1:]] == [
        ("chain 2", ["link 3", "link 4"]), ("chain 3", ["link 5", "link 6"])
    ]  # fmt: skip
    assert grown["bodies"][7]["place"]["translate"] == [0.0, 1.0, 2.0]
    with pytest.raises(Problem, match="0 copies"):
        stepped_copies(parse_setup(document), document, [0], 0, [0, 0, 0], 0.0, NoAssets())


def test_a_mirrored_chain_swings_as_a_mirror_shows(document):
    """A hinge's axis tells a way round, which a mirror turns: so its limits stay as they are."""
    grown = apply_patch(document, mirrored_copies(parse_setup(document), document, [0, 1], "x", 1.0))
    assert [b["place"]["translate"][0] for b in grown["bodies"][4:]] == pytest.approx([2.0, 1.7])
    assert [b["place"]["rotate"][1] for b in grown["bodies"][4:]] == pytest.approx([-20.0, -20.0])
    hinge = grown["joints"][1]
    assert hinge["at"] == pytest.approx([1.85, 1, 0]) and hinge["axis"] == pytest.approx([0, 0, -1])
    assert hinge["limits"] == [-30, 60]
    with pytest.raises(Problem, match="'flag' has held places"):
        mirrored_copies(parse_setup(document), document, [2], "x", 0.0)


def test_groups_are_made_renamed_switched_and_no_bake_depends_on_them(document):
    setup = parse_setup(document)
    made = apply_patch(document, group_patch(document, ["link 2", "pole"], " corner "))
    assert made["groups"] == [{"name": "chain", "bodies": ["link 1"]}, {"name": "corner", "bodies": ["link 2", "pole"]}]
    locked = apply_patch(made, switch_patch(made, "corner", "locked", True))
    with pytest.raises(Problem, match="'pole' is locked with the group 'corner'"):
        refuse_locked(locked, ["link 1", "pole"])
    renamed = apply_patch(locked, rename_group_patch(locked, "corner", "edge"))
    with pytest.raises(Problem, match="another group is called 'chain'"):
        rename_group_patch(renamed, "edge", "chain")
    apart = apply_patch(renamed, ungroup_patch(renamed, "edge"))
    assert [g["name"] for g in apart["groups"]] == ["chain"] and len(apart["bodies"]) == 4
    assert len({hash_of_stored(parse_setup(d)) for d in (document, made, locked, apart)}) == 1
    body = apply_patch(document, rename_patch(document, 0, "first"))
    assert body["groups"][0]["bodies"] == ["first", "link 2"] and setup.groups[0].name == "chain"


def test_many_are_removed_at_once_with_all_that_names_them(document):
    patch, told = removal(document, [0, 1])
    left = apply_patch(document, patch)
    assert [b["name"] for b in left["bodies"]] == ["flag", "pole"] and not left["joints"] and not left["groups"]
    assert told == ["1 held place of 'flag'", "1 joint"]


def test_settings_go_onto_others_and_a_mesh_is_exchanged(document):
    with pytest.raises(Problem, match="no rigid body has that name"):
        apply_patch(document, settings_patch(document, 3, [0, 3]))
    document["joints"] = []
    grown = apply_patch(document, settings_patch(document, 3, [0, 3]))
    assert grown["bodies"][0] == {
        "name": "link 1", "mesh": document["bodies"][0]["mesh"], "place": document["bodies"][0]["place"],
        "role": "collider", "friction": 0.2,
    }  # fmt: skip
    with pytest.raises(Problem, match="no other body"):
        settings_patch(document, 3, [3])
    changed = apply_patch(document, exchange_patch(document, 1, 3, gone=True))
    assert changed["bodies"][1]["mesh"]["shape"] == "cylinder" and changed["bodies"][1]["role"] == "rigid"
    assert [b["name"] for b in changed["bodies"]] == ["link 1", "link 2", "flag"]
    with pytest.raises(Problem, match="still needed"):
        exchange_patch(document, 3, 0, gone=True)


def test_a_layer_goes_out_of_the_shot_and_comes_back_as_it_was(document):
    drop = {"sources": [{"body": "pole"}], "count": 3, "across": [0, 1], "along": [0, 1]}
    bodies = [{**link(f"pear {n}", 0.5), "role": "collider"} for n in range(3)]
    bodies[2]["place"] = {"translate": [3.0, 0.1, 0.5]}
    full = apply_patch(document, layer_patch(document, "layer", drop, copy.deepcopy(bodies)))
    assert parse_setup(full).groups[1].drop.count == 3
    assert rolled_off(full, "layer") == [6]
    out = apply_patch(full, away_patch(full, "layer"))
    assert len(out["bodies"]) == 4 and len(out["groups"][1]["away"]) == 3
    with pytest.raises(Problem, match="out of the shot already"):
        away_patch(out, "layer")
    out["bodies"].append(link("pear 1", 9.0))  # the name is taken meanwhile
    back = apply_patch(out, back_patch(out, "layer"))
    assert [b["name"] for b in back["bodies"][5:]] == ["pear 0", "pear 1 2", "pear 2"]
    assert back["groups"][1]["bodies"] == ["pear 0", "pear 1 2", "pear 2"] and "away" not in back["groups"][1]
    assert np.allclose(back["bodies"][7]["place"]["translate"], [3.0, 0.1, 0.5])


def test_a_layer_is_laid_out_in_another_shot_of_the_show(database, document):
    drop = {"sources": [{"body": "pole"}], "count": 2, "across": [0, 1], "along": [0, 1]}
    laid = [{**link(f"pear {n}", 0.5 + n), "role": "collider"} for n in range(2)]
    with database.session() as session:
        show = create_show(session, "A fair of layers")
        one = create_shot(
            session, show, "LAY-1", "Laid", apply_patch(document, layer_patch(document, "heap", drop, laid))
        )
        two = create_shot(session, show, "LAY-2", "Empty", {"bodies": [link("pear 1", 5.0)]})
        apart = create_shot(session, create_show(session, "Another fair"), "LAY-3", "Apart", {"bodies": []})
        assert layers_of_show(session, two) == [(one.id, "LAY-1", "heap", 2)]
        assert layers_of_show(session, one) == [] == layers_of_show(session, apart)
        patch = borrowed_patch(two.head.document, one.head.document, "heap")
        edit(session, two.id, 1, patch, "borrowed")
        found = get_shot(session, two.id).head.document
    assert [b["name"] for b in found["bodies"]] == ["pear 1", "pear 0", "pear 1 2"]
    assert found["bodies"][2]["place"] == laid[1]["place"] and found["groups"][0]["bodies"] == ["pear 0", "pear 1 2"]


def test_a_mistyped_bound_costs_a_live_run_nothing(settings, document):
    """Over the pipe, as a page speaks: told, and the same recording is kept by the next try."""
    ours, theirs = multiprocessing.Pipe()
    order = LiveOrder({**document, "joints": [], "groups": []}, "pole")
    running = threading.Thread(target=run_live, args=(theirs, settings, order), daemon=True)
    running.start()

    def hear(key):
        while ours.poll(120):
            message = ours.recv()
            assert "ended" not in message, message
            if key in message:
                return message[key]
        raise AssertionError(f"no {key} came")

    assert hear("ready")["grip"] == "pole"
    ours.send({"do": "play"})
    ours.send({"to": [0.05, 0.0, 0.0]})
    while hear("frame") < 4:
        pass
    ours.send({"do": "let go"})
    assert hear("told").startswith("Only a rigid body is let go of")
    ours.send({"do": "keep", "bound_m": -1.0})
    assert "is no bound" in hear("told")
    ours.send({"do": "keep", "bound_m": 0.0005})
    assert hear("kept")["tracks"][0]["body"] == "pole"
    ours.close()
    running.join(30)
    assert not running.is_alive()
