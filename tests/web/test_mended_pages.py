"""What pages ask, tell and give back: profiles over values set by hand, names, removals, approvals, shelving."""

import re

import pytest
import zarr

from zembrik.core.mesh import shapes
from zembrik.library import bakes
from zembrik.library.bodies import removal, rename_patch
from zembrik.library.demo_shot import obj_bytes
from zembrik.library.shots import apply_patch, create_shot, create_show, edit, get_shot
from zembrik.web.wording import in_page_words

HX = {"hx-request": "true"}


def document(database, shot):
    with database.session() as session:
        return get_shot(session, shot).head.document


def post(client, shot, action, **fields):
    fields = {"base": 1, "station": "intake", "body": "sheet"} | fields
    if action in ("undo", "redo"):
        del fields["base"]
    return client.post(f"/shots/{shot}/{action}", data=fields, headers=HX)


def test_a_profile_asks_what_becomes_of_values_set_by_hand(client, database, shot):
    """The fixture has 10 substeps by hand: both ways are shown with their costs, and both are done."""
    page = client.get(f"/shots/{shot}/quality").text
    assert "Set by hand and no part of it: substeps" in page and f'hx-get="/shots/{shot}/profile"' in page
    asked = client.get(f"/shots/{shot}/profile", params={"value": "final"}, headers=HX).text
    assert re.search(r"<td>Substeps</td><td>10</td><td>40</td>", asked)
    assert "takes about 4 times as long as now, and more for keeping folds apart" in asked
    assert "takes as long as now, and more for keeping folds apart" in asked
    kept = post(client, shot, "profile", value="final", keep="yes")
    assert kept.status_code == 200 and document(database, shot)["quality"] == {"substeps": 10, "profile": "final"}
    assert post(client, shot, "profile", base=2, value="final", keep="no").status_code == 200
    assert document(database, shot)["quality"] == {"profile": "final"}
    assert "times as long as daily" in client.get(f"/shots/{shot}/quality").text
    assert client.get(f"/shots/{shot}/profile", params={"value": "x"}, headers=HX).status_code == 404


def test_the_files_that_came_together_are_all_still_there_when_one_is_taken_in(client, shot):
    files = [("file", (f"{n}.obj", obj_bytes(shapes.box((1, 1, k + 1)), n), "text/plain")) for k, n in enumerate("abc")]
    shown = client.post(f"/shots/{shot}/upload", data={"station": "intake"}, files=files, headers=HX).text
    references = re.findall(r'"reference": "([^"]+)"', shown)
    assert len(references) == 3
    first = re.search(r'<form class="taken".*?</form>', shown, re.DOTALL)[0]
    waiting = re.findall(r'name="waiting" value="([^"]+)"', first)
    assert len(waiting) == 2 and references[0] not in waiting
    after = post(client, shot, "take", reference=references[0], unit="m", up_axis="y", part="", waiting=waiting).text
    assert all(name in after for name in ("b.obj", "c.obj")) and "a.obj</h3>" not in after
    assert re.findall(r'name="waiting" value="([^"]+)"', after)


def chained():
    """A document in which all refers to one body."""
    box = {"role": "rigid", "mesh": {"shape": "box", "size": [1, 1, 1]}}
    return {
        "bodies": [
            {**box, "name": "hub", "motion": {"translate": {"keys": [[1, [0, 0, 0]], [9, [1, 0, 0]]]}}},
            {**box, "name": "arm", "place": {"translate": [3, 0, 0]}},
            {**box, "name": "rider", "role": "collider", "motion": {"parent": "hub"}},
            {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [4, 4]},
             "place": {"translate": [0, 3, 0]},
             "pins": [{"points": {"side": "left"}, "follow": "hub"}, {"points": {"side": "right"}}]},
        ],
        "joints": [{"kind": "socket", "bodies": ["arm", "hub"], "at": [1, 0, 0]}],
    }  # fmt: skip


def test_a_renamed_body_keeps_all_that_refers_to_it():
    renamed = apply_patch(chained(), rename_patch(chained(), 0, " wheel "))
    assert renamed["bodies"][0]["name"] == "wheel" and "hub" not in str(renamed)
    assert renamed["joints"][0]["bodies"] == ["arm", "wheel"] and renamed["bodies"][3]["pins"][0]["follow"] == "wheel"
    for wrong in ("arm", "  "):
        with pytest.raises(ValueError, match="name"):
            rename_patch(chained(), 0, wrong)


def test_a_removed_body_lets_go_of_what_holds_on_to_it():
    patch, told = removal(chained(), [0])
    assert told == ["'rider', which goes along with it", "1 held place of 'sheet'", "1 joint"]
    left = apply_patch(chained(), patch)
    assert [b["name"] for b in left["bodies"]] == ["arm", "rider", "sheet"] and left["joints"] == []
    assert left["bodies"][2]["pins"] == [{"points": {"side": "right"}}]


def test_removing_asks_first_and_names_go_along(client, database, shot):
    with database.session() as session:
        edit(session, shot, 1, [{"op": "replace", "path": "/bodies", "value": chained()["bodies"]},
                                {"op": "add", "path": "/joints", "value": chained()["joints"]}], "a chain")  # fmt: skip
    asked = post(client, shot, "remove", base=2, number=0)
    assert asked.status_code == 409 and "held on to by" in asked.text and "Remove and let go" in asked.text
    assert len(document(database, shot)["bodies"]) == 4
    assert post(client, shot, "rename", base=2, number=0, value="wheel").status_code == 200
    assert document(database, shot)["bodies"][2]["motion"]["parent"] == "wheel"
    assert post(client, shot, "remove", base=3, number=0, let_go="yes").status_code == 200
    assert [b["name"] for b in document(database, shot)["bodies"]] == ["arm", "rider", "sheet"]


def test_messages_speak_of_bodies_and_labels(client, shot):
    """A refused value is told as the page calls it, with no path of a document and no file of ours."""
    refused = post(client, shot, "set", path="/bodies/0/place/scale", value="-1")
    assert refused.status_code == 422
    assert "&#39;sheet&#39;, Scale must be above 0" in refused.text and "Nothing was changed." in refused.text
    assert "bodies[" not in refused.text and "schema" not in refused.text
    held = {"bodies": [{"name": "a"}, {"name": "b"}]}
    assert in_page_words("bodies[1].pins[0] follows 'mesh'", held) == "'b', hold 1 follows 'mesh'"
    assert in_page_words("quality.substeps must be at least 1", held) == "Substeps must be at least 1"
    assert in_page_words("two bodies of the world", held) == "two bodies of the world"


def test_a_conflict_on_the_frames_has_both_ways_out(client, database, shot):
    assert post(client, shot, "range", first="1", last="20").status_code == 200
    clash = post(client, shot, "range", first="1", last="30")
    assert clash.status_code == 409 and "Keep theirs" in clash.text and "Use mine" in clash.text
    assert document(database, shot)["frames"] == [1, 20]


def test_frames_are_approved_where_they_are_looked_at(client, baked_shot):
    shot, number = baked_shot
    assert "Approve these frames" in client.get(f"/shots/{shot}/review").text
    signed = client.post(f"/bakes/{number}/sign-off", data={"station": "review"}, headers=HX).text
    assert "✓ approved" in signed and "take back" in signed
    listed = client.get(f"/shots/{shot}/bake").text
    assert "✓ approved" in listed and f"/bakes/{number}/discard" not in listed
    back = client.post(f"/bakes/{number}/sign-off", data={"take_back": "yes"}, headers=HX).text
    assert f"/bakes/{number}/discard" in back


def test_a_bake_that_gained_energy_is_marked_from_its_frame_on(client, database, baked_shot):
    """Of a cache whose balance was made to rise: Review says so, its station has failed, the ribbon knows the frame."""
    shot, number = baked_shot
    with database.session() as session:
        path = bakes.cache_path(client.app.state.settings, bakes.get_bake(session, number))
    balance = zarr.open_group(path, mode="r+")["stats/energy_balance"]
    balance[5:] = balance[5:] + 100.0  # J
    page = client.get(f"/shots/{shot}/review").text
    assert "Energy comes from nowhere" in page
    wrong = client.get(f"/shots/{shot}/status.json").json()["bake"]["wrong"]
    assert wrong is not None and f"From frame {wrong} on" in page
    counts = {int(n) for n in re.findall(r"Use (\d+) substeps", page + client.get(f"/shots/{shot}/quality").text)}
    assert len(counts) == 1  # one advice


def test_the_bake_station_tells_its_disk_space(client, shot):
    assert re.search(
        r"On disk they take about [\d.]+ kB; [\d.]+ [GT]B are free", client.get(f"/shots/{shot}/bake").text
    )


def test_deliver_remembers_its_format(client, baked_shot):
    shot, number = baked_shot
    order = {"format": "abc", "first": "1", "last": "6", "unit": "cm", "up_axis": "z"}
    assert client.post(f"/bakes/{number}/deliver", data=order, headers=HX).status_code == 200
    page = client.get(f"/shots/{shot}/deliver").text
    for chosen in ('value="abc" selected', 'value="cm" selected', 'value="z" selected'):
        assert chosen in page


def test_shows_and_shots_are_renamed_put_away_and_deleted(client, database):
    """Put away they leave the board and come back; deleting asks for the code and tells what goes with it."""
    with database.session() as session:
        show = create_show(session, "Shelf")
        shot = create_shot(session, show, "S-1", "One", {"bodies": []}).id
        show_id = show.id
    assert client.post(f"/shots/{shot}/name", data={"code": "S-2", "title": "Two"}).status_code == 200
    assert client.post(f"/shows/{show_id}/rename", data={"title": "Rack"}).status_code == 200
    board = client.get(f"/?show={show_id}").text
    assert "<h1>Rack</h1>" in board and f'href="/shots/{shot}/intake"' in board
    client.post(f"/shots/{shot}/away", data={"away": "yes"})
    board = client.get(f"/?show={show_id}").text
    assert f'href="/shots/{shot}/intake"' not in board and "Bring back" in board
    client.post(f"/shots/{shot}/away", data={"away": "no"})
    assert f'href="/shots/{shot}/intake"' in client.get(f"/?show={show_id}").text
    client.post(f"/shows/{show_id}/away", data={"away": "yes"})
    assert 'Put away: <a class="link"' in client.get("/").text
    assert "With it go its revisions" in client.get(f"/shots/{shot}/delete").text
    assert client.post(f"/shots/{shot}/delete", data={"typed": "S-1"}).status_code == 422
    assert client.post(f"/shows/{show_id}/delete", data={"typed": "Rack"}).status_code == 422  # it has a shot
    assert client.post(f"/shots/{shot}/delete", data={"typed": "S-2"}).status_code == 200
    assert client.get(f"/shots/{shot}/intake").status_code == 404
    assert client.post(f"/shows/{show_id}/delete", data={"typed": "Rack"}).status_code == 200


def test_a_shot_with_an_approved_cache_is_not_deleted_and_one_without_loses_its_folder(
    client, settings, database, baked_shot
):
    shot, number = baked_shot
    code = {"typed": "T-010"}
    with database.session() as session:
        code["typed"] = get_shot(session, shot).code
        folder = settings.caches / bakes.get_bake(session, number).cache.folder
    client.post(f"/bakes/{number}/sign-off", headers=HX)
    refused = client.post(f"/shots/{shot}/delete", data=code)
    assert refused.status_code == 422 and folder.is_dir()
    client.post(f"/bakes/{number}/sign-off", data={"take_back": "yes"}, headers=HX)
    assert client.post(f"/shots/{shot}/delete", data=code).status_code == 200
    assert not folder.exists()


def test_every_page_has_one_heading_a_main_part_and_a_mark_in_the_tab(client, shot):
    for page in ("/", "/caches", "/queue", "/deliveries", "/api", f"/shots/{shot}/quality"):
        text = client.get(page).text
        assert text.count("<h1") == 1 and text.count("<main") == 1, page
    assert client.get("/favicon.ico").headers["content-type"].startswith("image/svg+xml")


def test_scripts_rename_put_away_and_delete(client):
    show = client.post("/api/shows", json={"title": "By script"}).json()["id"]
    shot = client.post(f"/api/shows/{show}/shots", json={"code": "A", "title": "One"}).json()["id"]
    assert client.patch(f"/api/shots/{shot}", json={"code": "B", "archived": True}).json()["code"] == "B"
    assert client.get(f"/api/shows/{show}/shots").json() == []
    assert client.patch(f"/api/shows/{show}", json={"title": "Renamed", "archived": True}).json()["archived"]
    assert client.delete(f"/api/shots/{shot}", params={"code": "A"}).status_code == 422
    assert client.delete(f"/api/shots/{shot}", params={"code": "B"}).json() == {"told": "B is deleted."}
    assert client.delete(f"/api/shows/{show}", params={"title": "Renamed"}).status_code == 200
    assert client.get(f"/api/shots/{shot}").status_code == 404
