"""The interface for scripts, and the commands that are made from it: the whole job without a page."""

import json
import threading
import time

import jsonschema
import pytest
import uvicorn
from click.testing import CliRunner
from fastapi.testclient import TestClient

from zembrik.cli import main
from zembrik.core.cache.reader import Cache
from zembrik.farm.errands import run_errand
from zembrik.farm.worker import run_bake, run_delivery
from zembrik.start import choose_port
from zembrik.web.api.described import openapi, operations
from zembrik.web.app import make_app

PEER = ("127.0.0.1", 50000)
DOCS = __import__("pathlib").Path(__file__).parents[2] / "docs"


@pytest.fixture(scope="module")
def client(settings):
    with TestClient(
        make_app(settings), base_url="http://127.0.0.1", raise_server_exceptions=False, client=PEER
    ) as client:
        yield client


def good(answer):
    assert answer.status_code == 200, answer.text
    return answer.json()


@pytest.fixture
def made(client, database, sheet):
    """A show with a baked shot, made through the interface; returns show, shot and bake."""
    show = good(client.post("/api/shows", json={"title": f"By script {time.monotonic_ns()}"}))["id"]
    crate = {"name": "crate", "role": "rigid", "mesh": {"shape": "box", "size": [0.2, 0.2, 0.2]},
             "place": {"translate": [2, 1, 0]}}  # fmt: skip
    setup = {**sheet, "bodies": [*sheet["bodies"], crate], "frames": [1, 6]}
    shot = good(client.post(f"/api/shows/{show}/shots", json={"code": "S1", "title": "One", "setup": setup}))["id"]
    bake = good(client.post(f"/api/shots/{shot}/bakes"))
    assert bake["state"] == "queued" and bake["done"] is None
    run_bake(database, bake["id"])
    return show, shot, bake["id"]


def test_it_is_described_and_the_description_is_the_published_one(client):
    published = json.loads((DOCS / "openapi.json").read_text())
    assert published == json.loads(json.dumps(openapi())), "run tools/write_examples.py"
    assert good(client.get("/api/openapi.json")) == published
    ids = [o["id"] for o in operations()]
    assert len(ids) == len(set(ids)) > 45 and all(o["summary"] for o in operations())
    page = client.get("/api").text
    assert all(name in page for name in ids)


def test_the_whole_job_by_script(client, database, made):
    """Edit, conflict, undo, bake, look at figures and points, approve, place, key, take, deliver; answers fit."""
    show, shot, bake = made
    assert good(client.get(f"/api/shots/{shot}"))["state"] == "true"
    edit = {"base": 1, "patch": [{"op": "add", "path": "/quality/substeps", "value": 12}]}
    assert good(client.patch(f"/api/shots/{shot}/setup", json=edit)) == {"revision": 2, "told": ""}
    edit["patch"][0]["value"] = 14
    refused = client.patch(f"/api/shots/{shot}/setup", json=edit)
    assert refused.status_code == 409 and "changed by somebody else" in refused.json()["problem"]["what"]
    stale = good(client.get(f"/api/shots/{shot}"))
    assert stale["state"] == "stale" and stale["stale"] == ["quality substeps: 10 → 12"]
    assert [b["shot"] for b in good(client.post(f"/api/shows/{show}/bakes?stale_only=true"))] == [shot]
    good(client.post(f"/api/shots/{shot}/undo"))
    assert good(client.get(f"/api/shots/{shot}"))["state"] == "true"
    held = Cache(database.settings.caches / good(client.get(f"/api/bakes/{bake}"))["folder"])
    raw = client.get(f"/api/bakes/{bake}/points", params={"body": "sheet", "frame": 4}).content
    assert raw == held.points(0, 4).tobytes()
    figures = good(client.get(f"/api/bakes/{bake}/figures"))
    assert len(figures["contacts"]) == 6
    assert figures["seconds"] == pytest.approx(held.figure("timing/seconds").tolist(), rel=1e-4)
    assert isinstance(good(client.get(f"/api/shots/{shot}/findings")), list)
    # Approved, no way of the interface changes or deletes it.
    good(client.post(f"/api/caches/{bake}/approve"))
    for method, path in (("POST", f"caches/{bake}/trash"), ("DELETE", f"bakes/{bake}"), ("DELETE", f"caches/{bake}"),
                         ("POST", f"caches/{bake}/rebake")):  # fmt: skip
        assert client.request(method, f"/api/{path}").status_code == 422
    assert held.done == 6 and not held.damage()
    other = good(client.post(f"/api/shows/{show}/shots", json={"code": "S2", "title": "Two"}))["id"]
    placed = good(client.post(f"/api/shots/{other}/placements", json={
        "bake": bake, "bodies": ["crate"], "starts": 11, "offset_m": [0, 1, 0]}))  # fmt: skip
    assert placed == {"revision": 2, "told": "crate"}
    good(client.post(f"/api/caches/{bake}/disapprove"))
    refused = client.post(f"/api/caches/{bake}/trash").json()["problem"]
    assert refused["what"] == "S2 plays it."
    found = good(client.get("/api/caches", params={"words": "S1 One"}))
    mine = next(c for c in found["caches"] if c["bake"] == bake)
    assert mine["played_in"] == ["S2"] and mine["state"] == "true"
    errand = good(client.post(f"/api/shots/{shot}/keys", json={"bake": bake, "bound_m": 0.0005, "angles": "zyx"}))
    run_errand(database, errand["id"], threading.Event())
    done = good(client.get(f"/api/errands/{errand['id']}"))
    assert done["state"] == "done" and "1 keys" not in done["result"]["words"]
    assert good(client.post(f"/api/errands/{errand['id']}/apply"))["revision"] == 3
    take = good(client.post(f"/api/shots/{shot}/takes", json={"name": "drop"}))
    assert take["bodies"] == ["crate"] and not take["favourite"]
    assert good(client.patch(f"/api/shows/{show}/takes/{take['id']}", json={"favourite": True}))["favourite"]
    assert good(client.get(f"/api/shows/{show}/takes"))[0]["name"] == "drop"
    used = good(client.post(f"/api/shots/{other}/use-take", json={"take": take["id"], "base": 2, "body": "crate"}))
    assert "goes by the take 'drop'" in used["told"]
    moved = good(client.post(f"/api/shots/{other}/retime", json={"body": "crate", "how": "shift", "one": 10}))
    assert moved["revision"] == 4 and "they are at 11 to 16 now" in moved["told"]
    planned = good(client.post("/api/deliveries/plan", json={
        "shots": [shot], "pattern": "[shot]-[last 3]", "format": "json"}))  # fmt: skip
    assert planned[0]["file"] == "S1-006.json"
    order = {"format": "abc", "pattern": "x/[shot]", "fps": 48}
    delivery = good(client.post(f"/api/bakes/{bake}/deliveries", json=order))
    run_delivery(database, delivery["id"])
    done = good(client.get(f"/api/deliveries/{delivery['id']}"))
    assert done["state"] == "done" and done["file"].endswith("x/S1.abc") and done["manifest"]["frames"] == [1, 11]
    shape = openapi()["components"]["schemas"]["DeliveryOut"]
    jsonschema.validate(done, {**shape, "components": openapi()["components"]})


@pytest.mark.parametrize(("method", "path", "body", "status", "told"), [
    ("GET", "shots/999999", None, 404, "there is no shot"), ("GET", "nothing", None, 404, "no such page"),
    ("POST", "shows", {"title": ""}, 422, "title"), ("POST", "shows", {"name": "x"}, 422, "title"),
    ("POST", "shots/999999/bakes", None, 404, "there is no shot"),
    ("POST", "deliveries", {"shots": [], "pattern": "[nope]", "format": "abc"}, 422, "no shot is chosen"),
    ("POST", "deliveries", {"shots": [], "pattern": "", "format": "fbx"}, 422, "format"),
])  # fmt: skip
def test_what_is_refused_says_why(client, method, path, body, status, told):
    answer = client.request(method, f"/api/{path}", json=body)
    assert answer.status_code == status and told in answer.json()["problem"]["what"].lower() + str(answer.json())
    assert "Traceback" not in answer.text


@pytest.fixture(scope="module")
def served(settings):
    port = choose_port(None)
    server = uvicorn.Server(uvicorn.Config(make_app(settings), port=port, log_level="warning"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.02)
    yield f"http://127.0.0.1:{port}"
    server.should_exit = True
    thread.join(10)


def command(server, *words, code=0):
    told = CliRunner().invoke(main, ["at", "--server", server, *map(str, words)])
    assert told.exit_code == code, told.output
    return json.loads(told.stdout) if code == 0 else told.output


def test_every_operation_is_a_command(served, made, database, tmp_path):
    """One for each, with its options; they answer as the interface does, and say why not."""
    show, shot, bake = made
    listed = CliRunner().invoke(main, ["at", "--help"]).output
    assert all(o["id"] in listed for o in operations())
    assert command(served, "show-bake", bake)["done"] == 6
    assert [s["code"] for s in command(served, "list-shots", show)] == ["S1"]
    found = command(served, "search-caches", "--words", "S1 One", "--state", "true")
    assert bake in [c["bake"] for c in found["caches"]]
    mesh = tmp_path / "fold.obj"
    mesh.write_text("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
    stored = command(served, "store-asset", mesh)
    assert stored["parts"] == [{"path": "", "points": 3, "faces": 1, "moments": 0}]
    errand = command(served, "hand-in-cache", shot, "--reference", stored["reference"], "--parts", "", "--fps", 25)
    work = threading.Thread(target=run_errand, args=(database, errand["id"], threading.Event()))
    work.start()
    number = None
    for _ in range(100):
        state = command(served, "show-errand", errand["id"])
        if state["state"] == "done":
            number = state["result"]["bake"]
            break
        time.sleep(0.1)
    work.join()
    assert command(served, "show-bake", number)["handed_in"] == "fold.obj"
    patch = '[{"op": "add", "path": "/title", "value": "By command"}]'
    assert command(served, "change-setup", shot, "--base", 1, "--patch", patch)["revision"] == 2
    assert "there is no bake number 987654" in command(served, "show-bake", 987654, code=2)
    assert "no Zembrik answers" in command("http://127.0.0.1:9", "list-shows", code=2)
