"""The pages without a browser: what they hold, what they refuse, and that nothing leaks a traceback."""

import json
import re
import struct
import threading

import numpy as np
import pytest
from sqlalchemy import text

from zembrik.core.cache.reader import Cache
from zembrik.core.mesh import shapes
from zembrik.core.motion.rigid import Mover
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import file_hash, load_mesh
from zembrik.core.setup.document import parse_setup
from zembrik.core.trials.proof import judge
from zembrik.farm.errands import run_errand
from zembrik.farm.worker import run_bake
from zembrik.library import bakes
from zembrik.library.demo_shot import obj_bytes
from zembrik.library.errands import get_errand
from zembrik.library.models import Asset
from zembrik.library.shots import create_shot, get_shot
from zembrik.library.store import StoredAssets
from zembrik.library.trials import trials_on
from zembrik.web.pages import bench

STATIONS = ["intake", "proxies", "start", "motion", "quality", "bake", "review", "deliver"]
HX = {"hx-request": "true"}


def head(database, shot):
    with database.session() as session:
        return get_shot(session, shot).head


def post(client, shot, action, **fields):
    fields = {"base": 1, "station": "quality", "body": "sheet"} | fields
    if action in ("undo", "redo"):
        del fields["base"]
    return client.post(f"/shots/{shot}/{action}", data=fields, headers=HX)


@pytest.mark.parametrize("station", STATIONS)
def test_every_station_opens_whole_and_as_a_part(client, baked_shot, station):
    shot, _ = baked_shot
    page = client.get(f"/shots/{shot}/{station}")
    assert page.status_code == 200 and page.text.count("<html") == 1 and "T-010" in page.text
    part = client.get(f"/shots/{shot}/{station}", headers=HX)
    assert part.status_code == 200 and "<html" not in part.text and 'hx-swap-oob="true"' in part.text
    for url in set(re.findall(r'(?:src|href)="(/static/[^"]+)"', page.text)):
        assert client.get(url).status_code == 200, url


def test_an_empty_shot_opens_everywhere_and_cannot_be_baked(client, shot):
    show = re.search(r"show=(\d+)", client.get("/").text)[1]
    made = client.post("/shots", data={"code": "E-1", "title": "Empty <b>", "show": show}, follow_redirects=False)
    shot = made.headers["location"].split("/")[2]
    for station in STATIONS:
        page = client.get(f"/shots/{shot}/{station}")
        assert page.status_code == 200 and "Empty &lt;b&gt;" in page.text
    refused = client.post(f"/shots/{shot}/bake", headers=HX)
    assert refused.status_code == 422 and "cloth" in refused.text
    again = client.post("/shots", data={"code": "E-1", "title": "x", "show": show})
    assert again.status_code == 422 and "already" in again.text


def test_a_dial_is_set_in_its_shown_unit_and_given_back(client, database, shot):
    answer = post(client, shot, "set", path="/bodies/0/thickness", value="7,5")
    assert answer.status_code == 200 and "set by hand" in answer.text
    assert head(database, shot).document["bodies"][0]["thickness"] == 0.0075
    assert post(client, shot, "give-back", base=2, path="/bodies/0/thickness").status_code == 200
    assert "thickness" not in head(database, shot).document["bodies"][0]
    assert client.post(f"/shots/{shot}/undo", data={"station": "quality"}, headers=HX).status_code == 200
    assert head(database, shot).number == 2


@pytest.mark.parametrize(
    ("value", "words"),
    [
        ("many", "is not a number"),
        ("10000", "at most 400"),
        ("0", "at least 1"),
        ("nan", "not a number"),
        ("", "not a number"),
    ],
)
def test_wrong_dials_are_told_and_change_nothing(client, database, shot, value, words):
    answer = post(client, shot, "set", path="/quality/substeps", value=value)
    assert answer.status_code == 422 and words in answer.text and "Traceback" not in answer.text
    assert head(database, shot).number == 1


def test_a_conflict_shows_both_values_and_either_can_win(client, database, shot):
    path = "/bodies/0/material/bend"
    assert post(client, shot, "set", path=path, value="0.1").status_code == 200
    refused = post(client, shot, "set", path=path, value="0.2")
    assert refused.status_code == 409 and "0.1" in refused.text and "0.2" in refused.text
    patch = '[{"op": "add", "path": "/bodies/0/material/bend", "value": 0.2}]'
    assert post(client, shot, "force", patch=patch, note="mine").status_code == 200
    assert head(database, shot).document["bodies"][0]["material"]["bend"] == 0.2


def test_upload_role_and_refusals(client, database, shot):
    def upload(name, data):
        files = [("file", (n, d)) for n, d in (((name, data),) if isinstance(name, str) else name)]
        return client.post(f"/shots/{shot}/upload", data={"station": "intake"}, files=files, headers=HX)

    crate = b"v 0 0 0\nv 100 0 0\nv 0 100 0\nv 0 0 50\nf 1 3 2\nf 1 2 4\nf 2 3 4\nf 3 1 4\n"
    good = upload("crate.obj", crate)
    assert good.status_code == 200 and "does not say its unit" in good.text
    assert re.search(r'value="cm" checked', good.text) and len(head(database, shot).document["bodies"]) == 2
    reference = re.search(r'"reference": "([^"]+)"', good.text.replace("&#34;", '"'))[1]
    taken = post(client, shot, "take", reference=reference, unit="cm", up_axis="z", part="", station="intake")
    assert [re.findall(f'size along {axis}, metres" value="([^"]+)"', taken.text) for axis in "XYZ"] == [
        ["1"],
        ["0.5"],
        ["1"],
    ]
    for name, data, words in [
        ("a.obj", b"", "empty"),
        ("a.obj", b"v 0 0 0\0\1\2", "binary"),
        ("a.obj", b"v 0 0 0\nf 1 2 3\n", "line 2"),
        ("a.stl", b"solid", "no mesh with faces"),
        ("a.zip", b"nothing", "called ZIP, but its content is something else"),
        ("a.txt2", b"\x01nothing", "none of the mesh formats"),
        ("a.obj", b"#" * (256 * 1024 * 1024 + 9), "limit"),
    ]:
        answer = upload(name, data)
        assert answer.status_code == 422 and words in answer.text, answer.text
    both = upload([("crate.obj", crate), ("bad.ply", b"ply\n")], None)
    assert both.status_code == 200 and "bad.ply" in both.text and "crate.obj" in both.text
    assert "no part" in post(client, shot, "take", reference=reference, unit="cm", up_axis="z", part="x").text
    assert post(client, shot, "take", reference=reference, unit="mile", up_axis="z", part="").status_code == 422
    assert [b["name"] for b in head(database, shot).document["bodies"]] == ["sheet", "ball", "crate"]
    sized = post(client, shot, "size", base=2, number=2, axis=1, value="2", station="intake", body="crate")
    assert sized.status_code == 200 and head(database, shot).document["bodies"][2]["place"]["scale"] == 4.0
    post(client, shot, "undo", station="intake", body="crate")
    role = post(client, shot, "role", base=2, number=2, role="collider", station="intake", body="crate")
    assert role.status_code == 200
    errand(client, database, shot, kind="fits", body="crate", station="proxies")
    table = client.get(f"/shots/{shot}/proxies?body=crate", headers=HX).text
    assert "overhang" in table and ">surface<" in table
    assert "<td>0.0</td>" in re.sub(r"\s+", "", table)


# A face is turned round, and one point is doubled.
TORN_TENT = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nv 0 0 0\nf 1 3 2\nf 5 2 4\nf 2 3 4\nf 3 4 1\n"


def test_audit_and_mend_make_a_new_file_from_the_old(client, database, shot):
    """A tetrahedron with a face turned round and a doubled point: both found, mended one after the other, undone."""
    data = TORN_TENT
    answer = client.post(f"/shots/{shot}/upload", files={"file": ("tent.obj", data)}, headers=HX)
    reference = re.search(r'"reference": "([^"]+)"', answer.text.replace("&#34;", '"'))[1]
    post(client, shot, "take", reference=reference, unit="m", up_axis="y", part="")
    page = client.get(f"/shots/{shot}/audit?body=tent", headers=HX).text
    assert "Doubled points" in page and "Join them" in page and "Open borders" in page
    mended = post(client, shot, "mend", base=head(database, shot).number, number=2, kind="doubled points")
    assert "doubled points 1 → 0, points 5 → 4, faces 4 → 4" in mended.text
    page = client.get(f"/shots/{shot}/audit?body=tent", headers=HX).text
    assert "Doubled points" not in page and "Turn them round" in page
    post(client, shot, "mend", base=head(database, shot).number, number=2, kind="turned faces")
    assert "No flaw found" in client.get(f"/shots/{shot}/audit?body=tent", headers=HX).text
    made = head(database, shot).document["bodies"][2]["mesh"]["file"]
    from zembrik.library.models import Asset

    with database.session() as session:
        child = session.get(Asset, made[:64])
        parent = session.get(Asset, child.parent)
        assert child.made_by == "mend: turned faces" and session.get(Asset, parent.parent).name == "tent.obj"
    post(client, shot, "undo", station="intake", body="tent")
    assert "Turn them round" in client.get(f"/shots/{shot}/audit?body=tent", headers=HX).text
    assert "no body" in client.get(f"/shots/{shot}/audit?body=nobody", headers=HX).text
    assert "cannot be mended" in post(client, shot, "mend", number=0, kind="holes").text


def test_another_density_of_a_sheet_and_of_a_file(client, database, shot):
    """The sheet of 16 segments at twice the spacing has 8; a file's mesh is cut finer and keeps its size and parent."""
    page = client.get(f"/shots/{shot}/audit?body=sheet", headers=HX).text
    assert "Density" in page and "289" in page
    assert post(client, shot, "density", number=0, value="125", station="intake").status_code == 200
    assert head(database, shot).document["bodies"][0]["mesh"]["segments"] == [8, 8]
    answer = client.post(f"/shots/{shot}/upload", files={"file": ("tent.obj", TENT)}, headers=HX)
    reference = re.search(r'"reference": "([^"]+)"', answer.text.replace("&#34;", '"'))[1]
    post(client, shot, "take", base=2, reference=reference, unit="cm", up_axis="y", part="")
    fine = post(client, shot, "density", base=3, number=2, value="4", station="intake")
    sizes = re.findall('size along [XYZ], metres" value="([^"]+)"', fine.text)
    assert fine.status_code == 200 and sizes == ["0.01", "0.01", "0.01"]
    made = head(database, shot).document["bodies"][2]["mesh"]
    from zembrik.library.models import Asset

    with database.session() as session:
        asset = session.get(Asset, made["file"][:64])
        assert asset.parent == reference[:64] and asset.points > 10 and made["unit"] == "m"
    assert "more than nothing" in post(client, shot, "density", base=4, number=2, value="0").text


TENT = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 3 2\nf 1 2 4\nf 2 3 4\nf 3 1 4\n"


def test_one_value_on_many_bodies_is_one_revision(client, database, shot):
    fields = {"number": 1, "nx": "3", "ny": "1", "nz": "2", "sx": "2", "sy": "2", "sz": "2", "turn": "0", "low": "1"}
    post(client, shot, "copies", **fields, high="1", seed="1", station="start", body="ball")
    page = client.get(f"/shots/{shot}/table", headers=HX).text
    assert page.count('name="number"') == 7 and "ball 6" in page
    number = head(database, shot).number

    def many(what, **more):
        return post(client, shot, "table", base=head(database, shot).number, what=what, **more)

    assert many("role", choice="rigid", number=[1, 2, 3, 4, 5, 6]).status_code == 200
    assert many("density", value="250", number=[0, 1, 2, 3]).status_code == 200
    bodies = head(database, shot).document["bodies"]
    assert head(database, shot).number == number + 2
    assert [b.get("material", {}).get("density") for b in bodies] == [None, 250, 250, 250, None, None, None]
    assert many("proxy", choice="ball", number=[0, 1]).status_code == 200
    assert many("thickness", value="2", number=list(range(7))).status_code == 200
    assert {b["thickness"] for b in head(database, shot).document["bodies"]} == {0.002}
    assert "No body is ticked" in many("scale", value="2").text
    assert "None of the chosen" in many("area_density", value="1", number=[1]).text
    assert "no role" in many("role", choice="king", number=[1]).text
    assert "is not a number" in many("scale", value="big", number=[1]).text
    post(client, shot, "undo", station="intake")
    assert "thickness" not in head(database, shot).document["bodies"][1]


def errand(client, database, shot, **fields):
    """Have a worker do an errand, and return what the page shows of it."""
    asked = client.post(f"/shots/{shot}/errands", data={"station": "start"} | fields, headers=HX)
    assert asked.status_code == 200, asked.text
    number = re.search(r"/errands/(\d+)", asked.text)
    if number is None:
        return asked.text  # it was done before
    run_errand(database, int(number[1]), threading.Event())
    where = {"shot": shot, "station": "start", "body": ""} | fields
    return client.get(f"/errands/{number[1]}", params=where, headers=HX).text


def apply_errand(client, shot, page, base, **fields):
    """Apply what an errand proposes."""
    number = re.search(r'"errand": (\d+)', page)[1]
    return post(client, shot, "apply-errand", base=base, errand=number, **{"station": "start"} | fields)


def test_overlaps_a_way_out_and_copies_from_the_start_station(client, database, shot):
    """A ball copied half on top of itself: the pair is listed, a way is previewed, applied, and ends it."""
    post(client, shot, "choose", path="/bodies/1/role", value='"rigid"', station="intake", body="ball")
    fields = {"number": 1, "nx": "2", "ny": "1", "nz": "1", "sx": "0.6", "sy": "0", "sz": "0", "turn": "0", "low": "1"}
    made = post(client, shot, "copies", base=2, **fields, high="1", seed="1", station="start", body="ball")
    assert made.status_code == 200 and len(head(database, shot).document["bodies"]) == 3
    listed = client.get(f"/shots/{shot}/overlaps?body=ball", headers=HX).text
    assert "ball · ball 2" in listed and "ease apart" in listed and "thin out" in listed
    assert "m/s" in errand(client, database, shot, kind="probe")
    for way in ("shrink to fit", "thin out", "ease apart"):
        told = errand(client, database, shot, kind="way", way=way)
        assert "Apply it" in told
    number = head(database, shot).number
    done = apply_errand(client, shot, told, number, body="ball")
    assert done.status_code == 200 and head(database, shot).number == number + 1
    assert "ball 2" not in client.get(f"/shots/{shot}/overlaps?body=ball", headers=HX).text.split("Ways out")[0]
    assert "has changed" in apply_errand(client, shot, told, number).text
    assert "has changed" in apply_errand(client, shot, told, number + 1).text
    assert "no rigid bodies overlap" in errand(client, database, shot, kind="way", way="ease apart").lower()
    refused = post(client, shot, "copies", base=number + 1, **{**fields, "nx": "1.5"}, high="1", seed="1")
    assert refused.status_code == 422 and "no whole number" in refused.text


def test_what_cannot_be_put_in_words_is_refused_like_any_other(client, database, shot):
    """Values of no sense at all: a clear refusal, no revision; a good one is noted in words."""
    for path, value in (("pins", '[{"points": {"odd": 1}}]'), ("material/stretch", '{"keys": 5}'), ("pins", "7")):
        answer = post(client, shot, "choose", path=f"/bodies/0/{path}", value=value)
        assert answer.status_code == 422 and head(database, shot).number == 1, answer.text
    post(client, shot, "choose", path="/bodies/0/pins", value='[{"points": {"side": "top"}}]')
    assert head(database, shot).note == "pins set to its highest points"


def test_frames_of_another_edition_of_the_solver_say_so(client, baked_shot, monkeypatch):
    """True frames stay true; that baking them anew may give others is told beside them."""
    shot, _ = baked_shot
    page = client.get(f"/shots/{shot}/bake", headers=HX).text
    assert "its frames are true" in page and "another edition" not in page
    monkeypatch.setattr(bench, "solver_edition", lambda: "a later one")
    page = client.get(f"/shots/{shot}/bake", headers=HX).text
    assert "its frames are true" in page and "Baked by another edition of the solver" in page


def test_scene_frames_and_status(client, database, settings, baked_shot):
    import json
    import struct

    shot, number = baked_shot
    data = client.get(f"/shots/{shot}/scene.bin").content
    length = struct.unpack("<I", data[:4])[0]
    scene = json.loads(data[4 : 4 + length])
    assert [b["name"] for b in scene["bodies"]] == ["sheet", "ball"] and scene["bodies"][1]["proxy"]["kind"] == "ball"
    answer = client.get(f"/bakes/{number}/frames.bin?first=5&count=3")
    points = np.frombuffer(answer.content, "<f4").reshape(3, 289, 3)
    with database.session() as session:
        cache = Cache(bakes.cache_path(settings, bakes.get_bake(session, number)))
    assert answer.headers["x-frames"] == "3" and (points[2] == cache.points(0, 7)).all()
    status = client.get(f"/shots/{shot}/status.json").json()
    assert status["bake"]["done"] == 12 and status["bake"]["stale"] == []
    assert len(status["bake"]["figures"]["worst_stretch"]) == 12
    more = client.get(f"/shots/{shot}/status.json?have=10&bake={number}").json()
    assert len(more["bake"]["figures"]["seconds"]) == 2
    assert client.get(f"/bakes/{number}/frames.bin?first=99").status_code == 404


@pytest.mark.parametrize(
    "url",
    [
        "/nowhere",
        "/shots/999999/intake",
        "/shots/x/intake",
        "/bakes/999999/frames.bin?first=1",
        "/deliveries/9999/file",
    ],
)
def test_what_is_not_there(client, url):
    answer = client.get(url)
    assert answer.status_code in (404, 422) and "Traceback" not in answer.text


def test_a_remedy_is_applied_as_a_revision(client, database, shot):
    post(client, shot, "choose", path="/bodies/0/place", value='{"translate": [0, 0.98, 0]}')
    panel = client.get(f"/shots/{shot}/start", headers=HX).text
    assert "Overlap at the start" in panel and "24.0 mm" in panel
    assert post(client, shot, "remedy", base=2, finding=0, station="start").status_code == 200
    assert "Overlap" not in client.get(f"/shots/{shot}/start", headers=HX).text
    assert head(database, shot).number == 3


def track(client, shot, path, keys, base, ease="straight"):
    fields = {"path": path, "keys": json.dumps(keys), "ease": ease, "station": "motion"}
    return post(client, shot, "track", base=base, **fields)


def test_a_wind_is_added_and_its_strength_is_keyed(client, database, shot):
    assert post(client, shot, "wind", number=-1, x="1", y="0", z="2").status_code == 200
    force = head(database, shot).document["forces"][0]
    assert force["velocity"] == [1, 0, 2] and force["strength"]["keys"] == [[1, 0], [25, 1]]
    keys = [[1, 0, "hold"], [12, 0.5, {"leave": 0.2, "arrive": 0}], [20, 1]]
    assert track(client, shot, "/forces/0/strength", keys, 2).status_code == 200
    assert post(client, shot, "wind", base=3, number=0, x="3", y="0", z="0").status_code == 200
    force = head(database, shot).document["forces"][0]
    assert force["velocity"] == [3, 0, 0] and force["strength"]["keys"] == keys
    for wrong in ([[1, 0], [1, 1]], [[9, 0], [1, 1]], [[1]], [["a", "b"]], [[1, 0, "wobbly"]], {}):
        assert track(client, shot, "/forces/0/strength", wrong, 4).status_code == 422, wrong
    assert post(client, shot, "wind", base=4, number=7, x="3", y="0", z="0").status_code == 404


def test_a_joint_is_added_set_and_taken_away_on_the_page(client, database, shot):
    """A hinge where the body stands; its limits and motor; what makes no sense is told and changes nothing."""
    assert post(client, shot, "role", number=1, role="rigid").status_code == 200
    added = post(client, shot, "joint", base=2, joint=-1, body="ball", station="motion")
    assert added.status_code == 200 and "turns about one axis" in added.text
    assert head(database, shot).document["joints"] == [{"kind": "hinge", "bodies": ["ball", None], "at": [0, 0.5, 0]}]
    turning = {"joint": 0, "body": "ball", "kind": "hinge", "x": "0", "y": "1", "z": "0", "axis_x": "0", "axis_y": "0",
               "axis_z": "1", "least": "-30", "most": "45", "friction": "", "speed": "90", "torque": "2.5"}  # fmt: skip
    assert post(client, shot, "joint", base=3, **turning).status_code == 200
    joint = head(database, shot).document["joints"][0]
    assert joint["limits"] == [-30, 45] and joint["motor"] == {"speed": 90, "torque": 2.5} and joint["at"] == [0, 1, 0]
    for wrong, told in [
        ({"least": "5"}, "limits"),
        ({"friction": "1"}, "friction or a motor"), ({"other": "sheet"}, "sheet"), ({"joint": 4}, "no such joint"),
        ({"speed": "fast"}, "number"), ({"axis_z": "0"}, "direction"), ({"kind": "rope"}, "hinge"),
    ]:  # fmt: skip
        refused = post(client, shot, "joint", base=4, **(turning | wrong))
        assert refused.status_code in (404, 422) and told in refused.text, (wrong, refused.text)
    assert head(database, shot).number == 4
    # Typed field by field: the other limit is as far as it goes, the other of the motor's as usual; no speed ends it.
    fewer = turning | {"most": "", "torque": ""}
    assert post(client, shot, "joint", base=4, **fewer).status_code == 200
    joint = head(database, shot).document["joints"][0]
    assert joint["limits"] == [-30, 170] and joint["motor"] == {"speed": 90}
    assert post(client, shot, "joint", base=5, **(turning | {"speed": ""})).status_code == 200
    assert "motor" not in head(database, shot).document["joints"][0]
    assert post(client, shot, "joint", base=6, **(turning | {"kind": "socket"})).status_code == 200
    assert "limits" not in head(database, shot).document["joints"][0]
    assert post(client, shot, "give-back", base=7, path="/joints/0", station="motion").status_code == 200
    assert not head(database, shot).document["joints"]


def test_a_motion_is_keyed_and_drawn(client, database, shot):
    """A collider's keys become its motion, the scene has its pose frame by frame, and no key takes it away."""
    moves, turns = "/bodies/1/motion/translate", "/bodies/1/motion/rotate"
    answer = track(client, shot, moves, [[1, [0, 0, 0]], [11, [0.5, 0, 0]]], 1)
    assert answer.status_code == 200 and "1 moving" in answer.text
    assert track(client, shot, turns, [[1, [0, 0, 0]], [5, [0, 90, 0]]], 2).status_code == 200
    motion = head(database, shot).document["bodies"][1]["motion"]
    assert motion["translate"] == {"keys": [[1, [0, 0, 0]], [11, [0.5, 0, 0]]], "ease": "straight"}
    data = client.get(f"/shots/{shot}/scene.bin").content
    size = struct.unpack("<I", data[:4])[0]
    start, count = json.loads(data[4 : 4 + size])["bodies"][1]["motion"]
    poses = np.frombuffer(data, "<f4", count, 4 + size + start).reshape(-1, 4, 3)
    assert len(poses) == 12 and np.allclose(poses[0], [*np.eye(3), [0, 0, 0]])
    assert np.allclose(poses[4, :3], [[0, 0, -1], [0, 1, 0], [1, 0, 0]], atol=1e-6)  # a quarter about Y, by columns
    assert np.allclose(poses[10, 3], [0.5, 0, 0], atol=1e-6)
    refused = track(client, shot, moves, [[5, [0, 0, 0]], [1, [0, 0, 0]]], 3)
    assert refused.status_code == 422 and "comes after frame 5" in refused.text
    assert track(client, shot, moves, [], 3).status_code == 200
    assert list(head(database, shot).document["bodies"][1]["motion"]) == ["rotate"]
    assert track(client, shot, turns, [], 4).status_code == 200
    assert "motion" not in head(database, shot).document["bodies"][1]
    assert track(client, shot, turns, [], 5).status_code == 422
    assert track(client, shot, moves, [[1, [0, 0, 0]], [5, [1, 0, 0]]], 5).status_code == 200
    made_cloth = post(client, shot, "role", number=1, role="cloth", base=6)  # its motion goes with its old role
    assert made_cloth.status_code == 200 and "motion" not in head(database, shot).document["bodies"][1]


def test_a_spin_a_path_and_a_parent_are_set_on_the_page(client, database, shot):
    """Each begins over the whole shot; a change of its dials leaves its curve; taken away it leaves nothing."""
    motion = lambda: head(database, shot).document["bodies"][1].get("motion")  # noqa: E731
    assert post(client, shot, "spin", number=1, x="0", y="0", z="1").status_code == 200
    assert motion()["spin"]["angle"]["keys"] == [[1, 0.0], [12, 360.0]]
    assert track(client, shot, "/bodies/1/motion/spin/angle", [[1, 0], [12, 1350]], 2).status_code == 200
    assert post(client, shot, "spin", base=3, number=1, x="0", y="1", z="1").status_code == 200
    assert motion()["spin"] == {"axis": [0, 1, 1], "angle": {"keys": [[1, 0], [12, 1350]], "ease": "straight"}}
    assert post(client, shot, "spin", base=4, number=1, x="0", y="0", z="0").status_code == 422
    assert track(client, shot, "/bodies/1/motion/spin/angle", [], 4).status_code == 422
    assert post(client, shot, "spin", base=4, number=1, off=1).status_code == 200 and motion() is None
    places = {"points": "0 0 0\n1, 0, 0\n2 0 1\n", "forward": "x", "closed": "yes", "x": "0", "y": "0.5", "z": "0"}
    assert post(client, shot, "path", base=5, number=1, **places).status_code == 200
    path = motion()["path"]
    assert path["points"] == [[0, 0, 0], [1, 0, 0], [2, 0, 1]] and path["closed"] and path["offset"] == [0, 0.5, 0]
    for points in ("0 0 0", "0 0", "0 0 0\n0 0 0"):
        wrong = post(client, shot, "path", base=6, number=1, **(places | {"points": points}))
        assert wrong.status_code == 422 and "Traceback" not in wrong.text
    page = client.get(f"/shots/{shot}/motion?body=ball", headers=HX).text
    assert "Along its path" in page and "Leans" in page
    assert post(client, shot, "parent", base=6, number=1, parent="sheet").status_code == 422
    assert post(client, shot, "parent", base=6, number=1, parent="ball").status_code == 422
    assert post(client, shot, "path", base=6, number=1).status_code == 200 and motion() is None


def test_points_are_held_by_rules_on_the_page(client, database, shot):
    pins = lambda: head(database, shot).document["bodies"][0].get("pins")  # noqa: E731
    fields = {"number": 0, "station": "motion"}
    assert post(client, shot, "pin", rule="chosen", numbers="[]", **fields).status_code == 422
    assert post(client, shot, "pin", rule="chosen", numbers="[4, 2, 2]", **fields).status_code == 200
    assert post(client, shot, "pin", rule="side", side="left", base=2, **fields).status_code == 200
    assert pins() == [{"points": {"numbers": [2, 4]}}, {"points": {"side": "left"}}]
    changed = {"pin": 1, "rule": "as it is", "follow": "ball", "release": "9", "falloff": "80"}
    assert post(client, shot, "pin", base=3, **changed, **fields).status_code == 200
    assert pins()[1] == {"points": {"side": "left", "falloff": 0.08}, "follow": "ball", "release": 9}
    assert (
        track(client, shot, "/bodies/0/pins/1/motion/translate", [[1, [0, 0, 0]], [9, [0, 1, 0]]], 4).status_code == 200
    )
    assert track(client, shot, "/bodies/0/pins/1/strength", [[1, 1], [9, 1.5]], 5).status_code == 422
    page = client.get(f"/shots/{shot}/motion?body=sheet", headers=HX).text
    assert "Its left side (-X), fading over 80 mm" in page and "2 chosen points" in page
    near = post(client, shot, "pin", base=5, rule="near", near="ball", distance="60", **fields)
    assert near.status_code == 200 and pins()[2]["points"] == {"near": {"body": "ball", "distance": 0.06}}
    assert post(client, shot, "give-back", base=6, path="/bodies/0/pins/0", station="motion").status_code == 200
    assert len(pins()) == 2


def test_rough_now_is_one_key_and_one_undo(client, database, shot):
    post(client, shot, "set", path="/quality/substeps", value="33")
    done = client.post(f"/shots/{shot}/bake-rough", data={"base": 2}, headers=HX)
    assert done.status_code == 200 and head(database, shot).document["quality"] == {"profile": "rough"}
    with database.session() as session:
        assert bakes.shown_bake(session, shot).document["quality"] == {"profile": "rough"}
    client.post(f"/shots/{shot}/undo", data={"station": "bake"}, headers=HX)
    assert head(database, shot).document["quality"]["substeps"] == 33


def test_turbulence_and_contact_are_set_on_the_page(client, database, shot):
    fields = {"station": "motion", "speed": "2", "size": "0.4", "rate": "1", "seed": "9"}
    answer = post(client, shot, "turbulence", number=-1, **fields)
    assert answer.status_code == 200 and "turbulence" in answer.text
    force = head(database, shot).document["forces"][0]
    assert (force["kind"], force["speed"], force["seed"]) == ("turbulence", 2, 9)
    changed = post(client, shot, "turbulence", number=0, **{**fields, "base": 2, "size": "0.8"})
    assert changed.status_code == 200 and head(database, shot).document["forces"][0]["size"] == 0.8
    wrong = post(client, shot, "turbulence", number=0, **{**fields, "base": 3, "seed": "1.5"})
    assert wrong.status_code == 422 and "seed" in wrong.text
    page = client.get(f"/shots/{shot}/quality").text
    assert "Self-collision" in page and "profile daily" in page
    chosen = post(client, shot, "choose", path="/quality/self_collision", value="true", base=3)
    assert chosen.status_code == 200 and "set by hand" in chosen.text
    assert head(database, shot).document["quality"]["self_collision"] is True
    refused = post(client, shot, "choose", path="/quality/contact", value='"everything"', base=4)
    assert refused.status_code == 422 and head(database, shot).number == 4


def test_rest_length_is_keyed_and_given_back(client, database, shot):
    path = "/bodies/0/material/rest_length"
    answer = track(client, shot, path, [[1, 1], [24, 0.6]], 1, "smooth")
    assert answer.status_code == 200 and "2 keys" in answer.text
    material = head(database, shot).document["bodies"][0]["material"]
    assert material == {"preset": "linen", "rest_length": {"keys": [[1, 1], [24, 0.6]], "ease": "smooth"}}
    refused = track(client, shot, path, [[1, 0]], 2)
    assert refused.status_code == 422 and "must be at least 0.05" in refused.text
    assert track(client, shot, path, [], 2).status_code == 200
    assert head(database, shot).document["bodies"][0]["material"] == {"preset": "linen"}
    assert track(client, shot, "/bodies/0/material/drag", [[1, 0], [9, 1]], 3).status_code == 200
    assert "1 key over" not in (page := client.get(f"/shots/{shot}/quality?body=sheet", headers=HX).text)
    assert "2 keys over the frames" in page and "Bend stiffness over frames" in page


@pytest.mark.parametrize("role", ["cloth", "soft", "rigid", "collider", "left out"])
def test_every_station_opens_for_a_body_of_every_role(client, database, shot, role):
    """With a motion where the role has one: what is left open in the document shows as a dial all the same."""
    answer = post(client, shot, "role", number=0, role=role, station="intake", body="sheet")
    assert answer.status_code == 200, answer.text
    if role == "rigid":
        assert track(client, shot, "/bodies/0/motion/translate", [[1, [0, 0, 0]], [9, [1, 0, 0]]], 2).status_code == 200
    for station in ("intake", "proxies", "start", "motion", "quality", "bake", "review", "deliver"):
        page = client.get(f"/shots/{shot}/{station}?body=sheet")
        assert page.status_code == 200, (station, page.text[:300])
        assert "None" not in page.text, station


def test_a_frame_is_kept_as_the_start(client, database, baked_shot):
    """The sheet begins in the form of frame 12, drawn and baked from there; and as its mesh is again when asked."""
    shot, number = baked_shot
    assert "still moves at its last frame, 12" in client.get(f"/shots/{shot}/rest?body=sheet", headers=HX).text
    refused = post(client, shot, "keep-start", frame="99", station="start")
    assert refused.status_code == 422 and "It has 1 to 12" in refused.text
    kept = post(client, shot, "keep-start", frame="12", station="start")
    assert kept.status_code == 200 and "Begins in a form of its own" in kept.text
    document = head(database, shot).document
    assert document["bodies"][0]["form"]["file"].endswith("/sheet form.obj")
    with database.session() as session:
        cache = Cache(bakes.cache_path(database.settings, bakes.get_bake(session, number)))
        again = bakes.queue_bake(session, shot).id
    run_bake(database, again)
    with database.session() as session:
        later = Cache(bakes.cache_path(database.settings, bakes.get_bake(session, again)))
    assert np.abs(later.points(0, 1) - cache.points(0, 12)).max() < 1e-5
    back = post(client, shot, "choose", base=2, path="/bodies/0/form", value="null", station="start")
    assert back.status_code == 200 and "Begins in a form of its own" not in back.text


def test_fits_are_coloured_and_chosen_for_all_bodies(client, database, shot):
    """The ball in a box: corners of the box stand off by (√3 - 1) of its radius, and what is round is recommended."""
    post(
        client,
        shot,
        "choose",
        path="/bodies/1/proxy",
        value='{"kind": "box", "keep": 0.37}',
        station="proxies",
        body="ball",
    )
    waiting = client.get(f"/shots/{shot}/proxies?body=ball", headers=HX).text
    assert "measuring proxies" in waiting and "would fit" not in waiting
    assert "A proxy stands off" in waiting and "Use surface" in waiting  # surely nearer: nothing is measured yet
    errand(client, database, shot, kind="fits", body="ball", station="proxies")
    page = client.get(f"/shots/{shot}/proxies?body=ball", headers=HX).text
    # Which of the round ones is the fastest is a matter of microseconds.
    advised = re.search(r"(Ball|Capsule) would fit", page)
    assert "Colour by distance" in page and advised is not None
    assert "Use surface" not in page and page.count(f">Use {advised[1].lower()}<") == 2  # finding and advice agree
    answer = client.get(f"/shots/{shot}/fit.bin?body=ball")
    length = int.from_bytes(answer.content[:4], "little")
    told = json.loads(answer.content[4 : 4 + length])
    assert told["overhang_m"] < 1e-6 and 0.1 < told["gap_m"] < 0.5
    assert client.get(f"/shots/{shot}/fit.bin?body=sheet").status_code == 404
    told = errand(client, database, shot, kind="fit all", station="proxies")
    assert "1 of 1 bodies" in told
    done = apply_errand(client, shot, told, 2, station="proxies")
    assert done.status_code == 200
    assert head(database, shot).document["bodies"][1]["proxy"] == {"kind": advised[1].lower(), "keep": 0.37}
    assert "Every body has the proxy" in errand(client, database, shot, kind="fit all", station="proxies")


def test_an_errand_is_done_once_stopped_at_once_and_taken_up_again(client, database, shot):
    """Asked for twice it is one; stopped it changes nothing; a worker that leaves hands it back."""
    ask = {"kind": "spacing", "even": "1", "body": "ball", "spacing": "90", "station": "intake"}
    first, second = (client.post(f"/shots/{shot}/errands", data=ask, headers=HX).text for _ in range(2))
    number = int(re.search(r"/errands/(\d+)", first)[1])
    assert f"/errands/{number}" in second
    leaving = threading.Event()
    leaving.set()
    run_errand(database, number, leaving)
    with database.session() as session:
        assert get_errand(session, number).state == "queued"
        waiting = text("SELECT count(*) FROM procrastinate_jobs WHERE task_name = 'zembrik.errand' AND args @> :args")
        assert session.execute(waiting, {"args": f'{{"number": {number}}}'}).scalar() == 2  # and so is its work, anew
    stopped = client.post(f"/errands/{number}/stop", data={"shot": shot}, headers=HX).text
    run_errand(database, number, threading.Event())
    with database.session() as session:
        assert "nothing was changed" in stopped and get_errand(session, number).state == "stopped"
    again = client.post(f"/shots/{shot}/errands", data=ask, headers=HX).text
    assert f"/errands/{number}?" not in again
    assert client.post(f"/shots/{shot}/errands", data={"kind": "magic"}, headers=HX).status_code == 404


def test_a_proxy_kept_by_name_is_offered_in_every_shot_that_has_the_mesh(client, database, shot, sheet):
    post(client, shot, "choose", path="/bodies/1/proxy", value='{"kind": "hulls", "most": 3}', body="ball")
    kept = client.post(f"/shots/{shot}/keep-proxy", data={"number": 1, "name": "  three   <hulls> "}, headers=HX)
    assert kept.status_code == 200 and "three &lt;hulls&gt;" in kept.text
    assert client.post(f"/shots/{shot}/keep-proxy", data={"number": 1, "name": " "}, headers=HX).status_code == 422
    assert client.post(f"/shots/{shot}/keep-proxy", data={"number": 0, "name": "x"}, headers=HX).status_code == 404
    sheet["bodies"][1]["name"] = "globe"
    sheet["bodies"][1]["place"]["translate"] = [0, 3, 0]
    with database.session() as session:
        other = create_shot(session, get_shot(session, shot).show, "T-020", "Another", sheet).id
    page = client.get(f"/shots/{other}/proxies?body=globe", headers=HX).text
    assert "three &lt;hulls&gt;" in page and "from T-010" in page
    number = re.search(r"/kept-proxies/(\d+)/forget", page)[1]
    gone = client.post(f"/kept-proxies/{number}/forget", data={"shot": other, "body": "globe"}, headers=HX)
    assert gone.status_code == 200 and "three" not in gone.text


def test_a_mesh_is_made_even_by_an_errand_and_its_pins_stay(client, database, shot):
    post(client, shot, "choose", path="/bodies/0/pins", value='[{"points": {"numbers": [0, 16]}}]')
    told = errand(client, database, shot, kind="spacing", even=1, body="sheet", spacing="50", station="intake")
    assert "512 faces become" in told and "Apply it" in told
    assert apply_errand(client, shot, told, 2, station="intake").status_code == 200
    body = head(database, shot).document["bodies"][0]
    assert body["mesh"]["file"].endswith("respaced.obj") and len(body["pins"][0]["points"]["numbers"]) == 2
    refused = client.post(
        f"/shots/{shot}/errands", data={"kind": "spacing", "even": "1", "body": "sheet", "spacing": "x"}, headers=HX
    )
    assert refused.status_code == 422 and "not a number" in refused.text


def test_a_large_file_is_read_by_a_worker_and_refused_with_nothing_stored(
    client, database, settings, shot, monkeypatch
):
    """What it holds is shown once it was read."""
    monkeypatch.setattr("zembrik.web.pages.edits.READ_AT_ONCE_BYTES", 100)

    def handed_in(name, data):
        files = [("file", (name, data))]
        shown = client.post(f"/shots/{shot}/upload", data={"station": "intake"}, files=files, headers=HX).text
        number = int(re.search(r"/errands/(\d+)", shown)[1])
        watch = f"/errands/{number}?shot={shot}&station=intake"
        assert "reading" in client.get(watch, headers=HX).text or "waiting" in client.get(watch, headers=HX).text
        run_errand(database, number, threading.Event())
        return client.get(watch, headers=HX).text

    data = obj_bytes(shapes.ball(0.8), "large")
    told = handed_in("large.obj", data)
    reference = f"{file_hash(data)}/large.obj"
    shown = client.get(f"/shots/{shot}/taken", params={"reference": reference}, headers=HX)
    assert reference in told.replace("%2F", "/") and shown.status_code == 200 and "Take in what is ticked" in shown.text
    broken = data.replace(b"f 1", b"f 99999999", 1)
    told = handed_in("broken.obj", broken)
    assert "99999999" in told and "Traceback" not in told
    assert not (settings.assets / "arriving" / file_hash(broken)).exists()
    assert client.get(f"/shots/{shot}/taken", params={"reference": f"{file_hash(broken)}/x.obj"}).status_code == 422


def test_a_heavy_mesh_is_looked_over_mended_and_made_coarser_by_a_worker(client, database, shot, monkeypatch):
    monkeypatch.setattr("zembrik.web.pages.prepare.HEAVY_FACES", 3)
    data = TORN_TENT
    client.post(f"/shots/{shot}/upload", files={"file": ("tent.obj", data)}, headers=HX)
    base = head(database, shot).number
    fields = {"base": base, "reference": f"{file_hash(data)}/tent.obj", "unit": "m", "up_axis": "y", "part": ""}
    assert client.post(f"/shots/{shot}/take", data=fields, headers=HX).status_code == 200
    asked = client.get(f"/shots/{shot}/audit?body=tent", headers=HX).text
    assert "Asking a worker" in asked and '"audit"' in asked
    assert "/audit?body=tent" in errand(client, database, shot, kind="audit", body="tent", station="intake")
    page = client.get(f"/shots/{shot}/audit?body=tent", headers=HX).text
    assert "Doubled points" in page and '"kind": "mend"' in page
    told = errand(client, database, shot, kind="mend", flaw="doubled points", body="tent", station="intake")
    assert "Doubled points 1 → 0, points 5 → 4" in told and head(database, shot).number == base + 1
    assert apply_errand(client, shot, told, base + 1, station="intake").status_code == 200
    assert head(database, shot).document["bodies"][2]["mesh"]["file"].endswith("tent mended.obj")
    finer = client.post(f"/shots/{shot}/density", data={"base": base + 2, "number": 2, "value": "200"}, headers=HX)
    assert "Asking a worker" in finer.text and finer.headers["HX-Retarget"] == "#respaced"
    told = errand(client, database, shot, kind="spacing", spacing="200", body="tent", station="intake")
    assert "4 faces become" in told and apply_errand(client, shot, told, base + 2, station="intake").status_code == 200


def test_a_render_mesh_is_carried_shown_and_let_go_without_a_new_bake(client, database, baked_shot):
    """A box over the sheet goes with it: its points come with the frames, and the bake stays true."""
    shot, number = baked_shot
    box = shapes.box((0.4, 0.1, 0.4), 2)
    data = obj_bytes(box.moved(box.points + np.array([0.1, 1.1, 0.0])), "box")
    files = [("file", ("padded.obj", data))]
    shown = client.post(f"/shots/{shot}/upload", data={"station": "intake"}, files=files, headers=HX).text
    reference = re.search(r'"reference": "([^"]+)"', shown.replace("&#34;", '"'))[1]
    post(client, shot, "take", reference=reference, unit="m", up_axis="y", part="", station="intake")
    assert "Carry it" in client.get(f"/shots/{shot}/intake?body=sheet", headers=HX).text
    refused = post(client, shot, "carry", base=2, number=1, other="padded", station="intake")
    assert refused.status_code == 422 and "is not simulated" in refused.text
    assert "more than a mesh" in post(client, shot, "carry", base=2, number=0, other="ball").text
    done = post(client, shot, "carry", base=2, number=0, other="padded", station="intake")
    assert done.status_code == 200 and "Carries padded.obj" in done.text
    assert client.get(f"/shots/{shot}/status.json").json()["bake"]["stale"] == []
    plain, more = (
        np.frombuffer(client.get(f"/bakes/{number}/frames.bin?first=1&carried={c}").content, "<f4").reshape(-1, 3)
        for c in (0, 1)
    )
    assert (more[: len(plain)] == plain).all()
    np.testing.assert_allclose(more[len(plain) :], box.points + np.array([0.1, 1.1, 0.0]), atol=2e-5)
    gone = post(client, shot, "carry", base=3, number=0, station="intake")
    assert gone.status_code == 200
    back = head(database, shot).document["bodies"][2]
    assert back["name"] == "sheet render" and back.get("role", "left out") == "left out"
    scene = client.get(f"/shots/{shot}/scene.bin").content
    names = [b["name"] for b in json.loads(scene[4 : 4 + int.from_bytes(scene[:4], "little")])["bodies"]]
    assert names == ["sheet", "ball", "sheet render"]


def test_a_proxy_of_a_rippling_ground_is_measured_over_all_frames(client, database, shot):
    ripple = '{"ripple": {"height": 0.1, "length": 0.5, "rate": 1}}'
    refused = post(client, shot, "choose", path="/bodies/1/motion", value=ripple, body="ball")
    assert refused.status_code == 422 and "reduced" in refused.text  # a ball cannot follow waves
    post(client, shot, "choose", path="/bodies/1/proxy", value='{"kind": "reduced", "keep": 0.3}', body="ball")
    post(client, shot, "choose", base=2, path="/bodies/1/motion", value=ripple, body="ball")
    page = client.get(f"/shots/{shot}/proxies?body=ball", headers=HX).text
    assert "Measure every frame" in page and ">hull<" not in page
    told = errand(client, database, shot, kind="over frames", body="ball", station="proxies")
    assert "At most" in told and "polyline" in told


def test_a_torn_cloth_is_told_on_review(client, database, shot):
    """Cloth a thousand times heavier than it is strong: Review says so and offers more substeps."""
    heavy = '{"preset": "linen", "area_density": 40, "stretch": 5}'
    post(client, shot, "choose", path="/bodies/0/material", value=heavy)
    post(client, shot, "choose", base=2, path="/bodies/0/pins", value='[{"points": {"numbers": [0]}}]')
    with database.session() as session:
        number = bakes.queue_bake(session, shot).id
    run_bake(database, number)
    page = client.get(f"/shots/{shot}/review", headers=HX).text
    assert "A cloth is torn apart" in page and "substeps</button>" in page


def test_plans_of_trials_are_told_before_anything_runs(client, database, shot):
    def plan(**fields):
        usual = {"last": "8", "one": "quality substeps", "one_values": "5, 10"}
        return client.post(f"/shots/{shot}/plan-trials", data=usual | fields, headers=HX)

    assert "2 runs" in plan().text and "not known" in plan().text
    assert "1 run" in plan(one_values="7").text
    million = plan(one="air", one_values="0 to 2 in 1000", two="sheet friction", two_values="0 to 1 in 1000")
    assert million.status_code == 200 and "1,000,000 runs" in million.text and "Run them" not in million.text
    for fields in (
        {"one": "magic"},
        {"one_values": "x"},
        {"last": "many"},
        {"two": "quality substeps", "two_values": "5"},
    ):
        assert plan(**fields).status_code == 422, fields
    refused = client.post(
        f"/shots/{shot}/trials", data={"last": "8", "one": "quality substeps", "one_values": "0, 5"}, headers=HX
    )
    assert refused.status_code == 422 and "at least 1" in refused.text
    assert client.get("/sheets/999999").status_code == 404
    made = client.post(f"/shots/{shot}/spacing-trials", data={"number": 0}, headers=HX)
    page = client.get(made.headers["hx-redirect"])
    assert page.status_code == 200 and page.text.count('class="cell"') == 3 and "sheet at 62.5 mm" in page.text
    sheet = made.headers["hx-redirect"]
    assert client.post(f"{sheet}/explode", data={"trial": 1}, headers=HX).status_code == 404
    assert client.post(f"{sheet}/throw-away", headers=HX).status_code == 422
    assert client.post(f"{sheet}/stop", headers=HX).status_code == 200
    assert client.post(f"{sheet}/throw-away", headers=HX).headers["hx-redirect"] == f"/shots/{shot}/quality"


def test_two_uploads_of_one_name_at_once_are_two_files_and_half_an_upload_is_none(client, database, settings, shot):
    """Ten people hand in 'pear.obj' at the same moment, each with other content: ten assets, each whole."""
    from concurrent.futures import ThreadPoolExecutor

    def send(k):
        size = 1.0 + k // 2  # two by two the same content
        text = f"v 0 0 0\nv {size} 0 0\nv 0 {size} 0\nv 0 0 {size}\nf 1 3 2\nf 1 2 4\nf 2 3 4\nf 3 1 4\n"
        files = [("file", ("pear.obj", text.encode()))]
        return client.post(f"/shots/{shot}/upload", data={"station": "intake"}, files=files, headers=HX)

    with ThreadPoolExecutor(10) as pool:
        answers = list(pool.map(send, range(10)))
    assert [a.status_code for a in answers] == [200] * 10
    found = {re.search(r'"reference": "([^"]+)"', a.text.replace("&#34;", '"'))[1] for a in answers}
    assert len(found) == 5
    for reference in found:
        sha256 = reference.partition("/")[0]
        assert file_hash(StoredAssets(settings).read(reference)) == sha256

    # The connection breaks in the middle of a file: no answer says it was stored, and nothing was.
    before = sorted(settings.assets.rglob("*"))
    head = b'--x\r\nContent-Disposition: form-data; name="file"; filename="half.obj"\r\n\r\nv 0 0 0\nv 1 0 0\nv 0 1'
    half = client.post(
        f"/shots/{shot}/upload", content=head, headers=HX | {"content-type": "multipart/form-data; boundary=x"}
    )
    assert half.status_code in (400, 422) and "Traceback" not in half.text
    assert sorted(settings.assets.rglob("*")) == before


def test_a_proof_and_a_leverage_are_run_and_told_on_their_sheets(client, database, shot):
    def run_all(page):
        for number in re.findall(r'class="cell" data-trial="(\d+)"', page.text):
            run_bake(database, int(number))

    made = client.post(f"/shots/{shot}/proof", data={"last": "5", "bound": "2,5", "spacing": "half"}, headers=HX)
    sheet = made.headers["hx-redirect"]
    page = client.get(sheet)
    assert page.text.count('class="cell"') == 4 and "40 substeps" in page.text and "When all are done" in page.text
    run_all(page)
    told = client.get(f"{sheet}/table").text
    assert "Points half as far apart move the surface by" in told
    with database.session() as session:
        trials = trials_on(session, int(sheet.split("/")[-1]))
        runs = [Cache(bakes.cache_path(client.app.state.settings, b)) for b in trials]
    same = [c for c in runs if c.point_counts == runs[0].point_counts]  # but the one with other points
    verdict = judge(sorted(same, key=lambda c: c.attributes["setup"]["quality"]["substeps"]), 0.0025)
    assert verdict is not None and told.count("<polyline") == len(verdict.ways) == 2
    assert verdict.enough == 0 and max(verdict.errors_m) < 0.0025
    assert "10 substeps are enough for 2.5 mm" in told
    dials = ["quality substeps", "sheet friction", "sheet area_density"]
    fields = {"last": "5", "spread": "50", "walks": "2", "seed": "3", "dial": dials}
    made = client.post(f"/shots/{shot}/leverage", data=fields, headers=HX)
    sheet = made.headers["hx-redirect"]
    page = client.get(sheet)
    assert page.text.count('class="cell"') == 8
    run_all(page)
    told = client.get(f"{sheet}/table").text
    # What a dial costs is measured by the clock, and runs this short all cost about the same: it is told for each.
    assert told.count("<li>") == 3 and len(re.findall("costs nothing|changes the time", told)) == 3
    assert "Substeps" in told
    for wrong in (
        {"spread": "0"},
        {"walks": "1"},
        {"dial": ["quality contact", "sheet friction"]},
        {"dial": ["x", "y"]},
    ):
        refused = client.post(f"/shots/{shot}/leverage", data=fields | wrong, headers=HX)
        assert refused.status_code == 422, wrong
    assert client.post(f"/shots/{shot}/proof", data={"last": "5", "bound": "0"}, headers=HX).status_code == 422


def test_simulated_bodies_become_keys_in_one_step_and_back(client, database, settings, shot):
    """A ball that was simulated goes by few keys, within the bound that is told; undo brings the simulation back."""
    post(client, shot, "choose", path="/bodies/1/role", value='"rigid"', station="intake", body="ball")
    post(client, shot, "choose", base=2, path="/bodies/1/place/translate", value="[0, 3, 0]")
    with database.session() as session:
        number = bakes.queue_bake(session, shot).id
    run_bake(database, number)
    page = client.get(f"/shots/{shot}/deliver", headers=HX).text
    assert "Work out the keys" in page and "<option>ball</option>" in page
    told = errand(client, database, shot, kind="keys", bake=number, bound_mm="0.5", bound_deg="0.1", station="deliver")
    assert (
        "ball&#39;: 12 frames become 2 keys" in told and "0.5 mm" not in told.split("become")[0] and "<polyline" in told
    )
    assert "off, between frames too" in told
    assert apply_errand(client, shot, told, 3, station="deliver").status_code == 200
    ball = head(database, shot).document["bodies"][1]
    assert ball["role"] == "collider" and ball["motion"]["translate"]["keys"][0][:2] == [1, [0.0, 0.0, 0.0]]
    with database.session() as session:
        cache = Cache(bakes.cache_path(settings, bakes.get_bake(session, number)))
    motion = parse_setup(head(database, shot).document).bodies[1].motion.model_dump(mode="json")
    place = Mover(motion, [0, 3, 0]).at(10)
    k = cache.body_number("ball")
    start, now = cache.points(k, 1), cache.points(k, 10)
    assert np.abs(start @ place[0].T + place[1] - now).max() < 0.002
    client.post(f"/shots/{shot}/undo", data={"station": "deliver"}, headers=HX)
    assert head(database, shot).document["bodies"][1]["role"] == "rigid"
    bad = {"kind": "keys", "bake": number, "bound_mm": "x", "station": "deliver"}
    refused = client.post(f"/shots/{shot}/errands", data=bad, headers=HX)
    assert refused.status_code == 422 and "is not a number" in refused.text


def test_the_caches_page_finds_approves_and_puts_into_the_trash(client, database, baked_shot):
    shot, number = baked_shot
    with database.session() as session:
        show = get_shot(session, shot).show.title
    page = client.get("/caches")
    assert page.status_code == 200 and "<rect" in page.text and page.text.count("<html") == 1
    mine = client.get("/caches", params={"q": show}, headers=HX).text
    assert f'value="{number}"' in mine and "1 cache," in mine and "<html" not in mine
    assert client.get("/caches", params={"state": "odd"}).status_code == 404

    def do(what, **fields):
        return client.post(f"/caches/{what}", data={"bake": [number], "q": show} | fields, headers=HX)

    assert "✓ approved" in do("approve").text
    refused = do("trash").text
    assert "the cache is approved" in refused
    assert client.post(f"/bakes/{number}/discard", headers=HX).status_code == 422
    assert "✓ approved" not in do("disapprove").text
    told = do("verify").text
    assert "being looked over" in told
    assert (
        "1 cache," not in do("trash").text
        and "1 cache," in client.get("/caches", params={"q": show, "state": "trash"}, headers=HX).text
    )
    assert "No cache fits" in do("take-back", state="trash").text
    do("trash")
    gone = do("empty", state="trash", bake=[]).text
    assert "deleted for good" in gone and "No cache fits" in gone
    with database.session() as session, pytest.raises(Problem):
        bakes.get_bake(session, number)
    assert do("burn").status_code == 404


def test_the_queue_page_tells_what_waits_and_lets_one_be_next(client, database, shot):
    with database.session() as session:
        number = bakes.queue_bake(session, shot).id
    page = client.get("/queue").text
    assert "Sheet on a ball" in page and "no worker is running" in page and page.count("<html") == 1
    part = client.post("/queue/first", data={"number": number}, headers=HX)
    assert part.status_code == 200 and "waits" in part.text
    with database.session() as session:
        query = (
            "SELECT priority FROM procrastinate_jobs WHERE (args->>'number')::int = :n AND task_name = 'zembrik.bake'"
        )
        assert session.execute(text(query), {"n": number}).scalar() >= 1
    assert client.post("/queue/stop", data={"number": number}, headers=HX).status_code == 200
    with database.session() as session:
        bake = bakes.get_bake(session, number)
        assert bake.state == "stopped"
        bake.state, bake.error = "failed", "it blew up"
    assert "it blew up" in client.get("/queue", headers=HX).text
    assert client.post("/queue/again", data={"number": number}, headers=HX).status_code == 200
    with database.session() as session:
        assert bakes.get_bake(session, number).state == "queued"
    run_bake(database, number)
    assert client.post("/queue/again", data={"number": number}, headers=HX).status_code == 422
    assert client.post("/queue/first", data={"number": number}, headers=HX).status_code == 422


def test_a_still_is_a_mesh_of_its_own_with_its_lineage(client, database, settings, baked_shot):
    """A frame of the sheet, 8 mm thick and smoothed once: closed, where the sheet was, a left out body."""
    shot, number = baked_shot
    fields = {"bake": number, "body": "sheet", "frame": 9, "thickness": "8", "rounds": 1, "station": "review"}
    told = errand(client, database, shot, kind="still", **fields)
    assert "is closed" in told
    assert apply_errand(client, shot, told, 1, station="review").status_code == 200
    still = head(database, shot).document["bodies"][2]
    assert still["name"] == "sheet still 9" and still["role"] == "left out"
    mesh = load_mesh(parse_setup(head(database, shot).document).bodies[2], StoredAssets(settings))
    with database.session() as session:
        cache = Cache(bakes.cache_path(settings, bakes.get_bake(session, number)))
        made_by = session.get(Asset, still["mesh"]["file"].partition("/")[0]).made_by
    assert mesh.is_closed and made_by == f"still: sheet, frame 9 of bake {number}"
    assert np.abs(mesh.points.mean(axis=0) - cache.points(0, 9).mean(axis=0)).max() < 0.02
    gone = errand(client, database, shot, kind="still", **(fields | {"frame": 99}))
    assert "rame 99 is not in the cache" in gone


def test_a_motion_is_taken_from_another_shot_at_a_frame_and_beside_it(client, database, shot, sheet):
    moves = {"translate": {"keys": [[5, [0, 0, 0]], [9, [1, 0, 0]]]}, "parent": "post"}
    sheet["bodies"][1] |= {"name": "globe", "motion": moves}
    sheet["bodies"].append({"name": "post", "role": "left out", "mesh": {"shape": "box", "size": [1, 1, 1]}})
    with database.session() as session:
        other = create_shot(session, get_shot(session, shot).show, "T-030", "Third", sheet).id
    page = client.get(f"/shots/{shot}/motion?body=ball", headers=HX).text
    assert f'value="{other}/globe"' in page and "T-030 · globe (parent, translate)" in page
    fields = {"number": 1, "source": f"{other}/globe", "begins": "2", "x": "0", "y": "0.5", "z": "0", "body": "ball"}
    told = post(client, shot, "paste-motion", **fields)
    assert told.status_code == 200 and "went along with &#39;post&#39;" in told.text
    motion = head(database, shot).document["bodies"][1]["motion"]
    assert motion["translate"]["keys"] == [[2, [0, 0.5, 0]], [6, [1, 0.5, 0]]] and "parent" not in motion
    for wrong in ({"source": "0/globe"}, {"source": f"{other}/none"}, {"number": 0}):
        assert post(client, shot, "paste-motion", base=2, **(fields | wrong)).status_code in (404, 422)
