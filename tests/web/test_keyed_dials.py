"""Dials keyed over frames, on every page that has to do with them."""

import json
import re

from zembrik.farm.worker import run_bake
from zembrik.library import bakes
from zembrik.library.changes import differences
from zembrik.library.shots import edit, get_shot

HX = {"hx-request": "true"}
STATIONS = ["intake", "proxies", "start", "motion", "quality", "bake", "review", "deliver"]
KEYED = {
    "/quality/substeps": [[1, 10], [6, 16]],
    "/quality/iterations": [[1, 1], [6, 2]],
    "/bodies/0/thickness": [[1, 2], [6, 4]],
    "/bodies/0/material/friction": [[1, 0.1], [6, 0.5, {"leave": 0, "arrive": 0}], [9, 0.2]],
    "/bodies/0/material/stretch": [[1, 8000], [6, 4000]],
    "/bodies/1/friction": [[1, 0.1], [6, 0.5]],
    "/world/air_density": [[1, 0], [6, 1.2]],
    "/world/ground/friction": [[1, 0.5], [6, 0.1]],
}


def document(database, shot):
    with database.session() as session:
        return get_shot(session, shot).head.document


def number(database, shot):
    with database.session() as session:
        return get_shot(session, shot).head.number


def post(client, database, shot, action, **fields):
    fields = {"base": number(database, shot), "station": "quality", "body": "sheet"} | fields
    return client.post(f"/shots/{shot}/{action}", data=fields, headers=HX)


def test_all_pages_know_keyed_dials(client, database, shot):
    """Keyed on the Quality station, in the units shown there; every station, the table and the bake take it."""
    for path, keys in KEYED.items():
        answer = post(client, database, shot, "track", path=path, keys=json.dumps(keys), ease="straight")
        assert answer.status_code == 200, (path, answer.text)
    held = document(database, shot)
    assert held["bodies"][0]["thickness"]["keys"] == [[1, 0.002], [6, 0.004]]  # typed in millimetres
    assert held["quality"]["substeps"]["keys"] == [[1, 10], [6, 16]]
    for body in ("sheet", "ball"):
        for station in STATIONS:
            page = client.get(f"/shots/{shot}/{station}?body={body}")
            assert page.status_code == 200 and "None" not in page.text, (station, body, page.text[:300])
    motion = client.get(f"/shots/{shot}/motion?body=sheet", headers=HX).text
    for title in ("Thickness", "Friction", "Stretch stiffness", "Substeps", "Iterations"):
        assert f"<b>{title}</b><small>" in motion, title
    shown = json.loads(re.search(r"data-track='([^']*bodies/0/thickness[^']*)'", motion)[1])
    assert shown["keys"] == [[1, 2], [6, 4]] and shown["unit"] == "mm"
    keys = {"keys": [[1, 90], [6, 96]], "ease": "straight"}
    post(client, database, shot, "track", path="/quality/substeps", keys=json.dumps(keys["keys"]), ease="straight")
    assert client.get(f"/shots/{shot}/quality").status_code == 200
    assert client.get(f"/shots/{shot}/table", headers=HX).text.count("keyed") >= 3
    with database.session() as session:
        bake = bakes.queue_bake(session, shot).id
    run_bake(database, bake)
    with database.session() as session:
        assert bakes.get_bake(session, bake).state == "done"
    assert client.get(f"/shots/{shot}/bake").status_code == 200
    assert "true to the setup" in client.get(f"/shots/{shot}/review").text


def test_the_air_is_keyed_beside_what_is_typed(client, database, shot):
    """Turbulence's size keyed by its curve; typing its speed afterwards leaves the keys; damping's rate alike."""
    plain = {"number": -1, "speed": "1.5", "size": "0.6", "rate": "0.8", "seed": "1"}
    assert post(client, database, shot, "turbulence", **plain).status_code == 200
    keys = json.dumps([[1, 0.6], [6, 0.2]])
    assert post(client, database, shot, "track", path="/forces/0/size", keys=keys).status_code == 200
    page = post(client, database, shot, "turbulence", number=0, speed="2", rate="0.8", seed="1", station="motion")
    assert page.status_code == 200 and "Size of the swirls over frames" in page.text
    force = document(database, shot)["forces"][0]
    assert force["speed"] == 2 and force["size"]["keys"] == [[1, 0.6], [6, 0.2]]
    assert post(client, database, shot, "air-damping", number=-1, rate="0.5").status_code == 200
    assert post(client, database, shot, "track", path="/forces/1/rate", keys=keys).status_code == 200
    assert post(client, database, shot, "air-damping", number=1).status_code == 200
    assert document(database, shot)["forces"][1]["rate"]["keys"] == [[1, 0.6], [6, 0.2]]
    assert client.get(f"/shots/{shot}/air.bin").status_code == 200
    turned = json.dumps([[1, [0, 0, 0]], [9, [0, 0, 20]]])
    rolled = post(client, database, shot, "track", path="/world/gravity_turn", keys=turned, station="motion")
    assert rolled.status_code == 200 and "<b>Gravity turns</b><small>2 keys</small>" in rolled.text
    assert document(database, shot)["world"]["gravity_turn"]["keys"] == [[1, [0, 0, 0]], [9, [0, 0, 20]]]


def test_how_long_a_shot_takes_whatever_frame_it_begins_at(client, database, shot):
    """From frame 101 on, baked once: the Bake station and a plan of trials tell how long, by the passes there are."""
    with database.session() as session:
        edit(session, shot, 1, [{"op": "add", "path": "/frames", "value": [101, 106]}], "other frames")
        bake = bakes.queue_bake(session, shot).id
    run_bake(database, bake)
    keys = json.dumps([[101, 20], [106, 40]])
    assert post(client, database, shot, "track", path="/quality/substeps", keys=keys).status_code == 200
    page = client.get(f"/shots/{shot}/bake")
    assert page.status_code == 200 and "About" in page.text
    asked = {"last": "104", "one": "quality iterations", "one_values": "1, 2"}
    plan = client.post(f"/shots/{shot}/plan-trials", data=asked, headers=HX)
    assert plan.status_code == 200 and "2 runs" in plan.text


def test_trials_proof_and_leverage_beside_keyed_substeps(client, database, shot):
    """Proof doubles every key; the others leave alone what is keyed and take the fewest substeps for cheap."""
    keys = json.dumps([[1, 2], [6, 4]])
    assert post(client, database, shot, "track", path="/quality/substeps", keys=keys).status_code == 200
    plan = client.post(
        f"/shots/{shot}/plan-trials", data={"last": "4", "one": "quality iterations", "one_values": "1, 2"}, headers=HX
    )
    assert plan.status_code == 200 and "2 runs" in plan.text
    sheet = client.post(f"/shots/{shot}/proof", data={"last": "4", "bound": "5"}, headers=HX)
    assert sheet.status_code in (200, 204), sheet.text
    page = client.get(sheet.headers.get("hx-redirect", f"/shots/{shot}/quality")).text
    assert "up to 4 substeps" in page and "up to 16 substeps" in page
    dials = {"last": "4", "spread": "50", "walks": "2", "seed": "1", "dial": ["sheet friction", "sheet bend"]}
    screened = client.post(f"/shots/{shot}/leverage", data=dials, headers=HX)
    assert screened.status_code in (200, 204), screened.text


def test_what_is_wrong_with_keys_is_told_and_nothing_changes(client, database, shot):
    """Beyond limits, no keys at all, of text: each by name."""
    before = number(database, shot)
    for path, keys, words in (
        ("/bodies/0/thickness", [[1, 2000]], "comes to 2 over the frames, but must be at most 1"),
        ("/bodies/0/thickness", [["a", "b"]], "no keys of a number"),
        ("/bodies/0/thickness", [3], "no keys of a number"),
        ("/quality/substeps", [[1, 0]], "must be at least 1"),
        ("/bodies/0/material/bend", [[1, 0, {"leave": -1, "arrive": 0}], [10, 0]], "must be at least 0"),
    ):
        refused = post(client, database, shot, "track", path=path, keys=json.dumps(keys))
        assert refused.status_code == 422 and words in refused.text, (path, keys, refused.text)
    assert number(database, shot) == before


def test_what_changed_is_told_in_keys():
    """A number that becomes keys, other keys, another ease: a readable line each."""
    plain = {"quality": {"substeps": 10}}
    keyed = {"quality": {"substeps": {"keys": [[1, 4], [6, 8]], "ease": "hold"}}}
    other = {"quality": {"substeps": {"keys": [[2, 4], [6, 9]], "ease": "smooth"}}}
    assert differences(plain, keyed) == ["quality substeps: 10 → 2 keys"]
    assert differences(keyed, other) == ["quality substeps: other keys"]
    assert differences(keyed, plain) == ["quality substeps: 2 keys → 10"]
