"""Pages about what is kept and handed on: caches from elsewhere, placed caches, takes, keys in time, deliveries."""

import re
import threading

from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.delivery import Order, deliver
from zembrik.core.mesh import shapes
from zembrik.core.setup.document import parse_setup
from zembrik.farm.errands import run_errand
from zembrik.farm.worker import run_delivery
from zembrik.library import bakes
from zembrik.library.demo_shot import obj_bytes
from zembrik.library.models import Delivery, Errand
from zembrik.library.shots import create_shot, get_shot

HX = {"hx-request": "true"}


def other_shot(database, shot, *bodies, **more):
    with database.session() as session:
        show = get_shot(session, shot).show
        return create_shot(session, show, "T-020", "Another", {"bodies": list(bodies), **more}).id


def head(database, shot):
    with database.session() as session:
        return get_shot(session, shot).head


def good(answer):
    assert answer.status_code == 200, answer.text[:600]
    return answer.text


def post(client, shot, action, **fields):
    return client.post(f"/shots/{shot}/{action}", data={"station": "intake", "body": ""} | fields, headers=HX)


def run_asked(database, kind):
    """Do what was asked for last of a kind, as a worker would."""
    from sqlalchemy import select

    with database.session() as session:
        number = session.scalar(select(Errand.id).where(Errand.kind == kind).order_by(Errand.id.desc()).limit(1))
    run_errand(database, number, threading.Event())
    return number


def taken_reference(text):
    return re.search(r'"reference": "([0-9a-f]{64}/[^"]+)"', text)[1]


def test_a_file_is_kept_as_a_cache_and_held_against_ours(client, database, settings, baked_shot, tmp_path):
    shot, ours = baked_shot
    with database.session() as session:
        path = bakes.cache_path(settings, bakes.get_bake(session, ours))
    deliver(Cache(path), tmp_path / "sheet.abc", Order("abc"))
    files = [("file", ("sheet.abc", (tmp_path / "sheet.abc").read_bytes()))]
    shown = good(client.post(f"/shots/{shot}/upload", files=files, data={"station": "intake"}, headers=HX))
    assert "Keep it as a cache" in shown and "changes its form over 12 moments" in shown
    order = {"reference": taken_reference(shown), "unit": "m", "up_axis": "y", "fps": "24", "first": "1"}
    refused = post(client, shot, "hand-in", **order)
    assert refused.status_code == 422 and "No part was chosen" in refused.text
    assert "waiting for a worker" in good(post(client, shot, "hand-in", part="sheet", label="From elsewhere", **order))
    number = run_asked(database, "hand in")
    told = good(client.get(f"/errands/{number}?shot={shot}&station=intake"))
    assert "Kept as a cache" in told and "frames 1 to 12 at 24 a second" in told
    theirs = int(re.search(r"compare\?bake=(\d+)", told)[1])
    # The shot still shows its own bake; the other stands beside it and is where ours is.
    assert client.get(f"/shots/{shot}/status.json").json()["bake"]["id"] == ours
    assert "From elsewhere" in (page := good(client.get(f"/shots/{shot}/bake"))) and "handed in" in page
    sheet = good(client.get(f"/shots/{shot}/compare?bake={ours}&bake={theirs}&against={ours}"))
    assert "From elsewhere" in sheet and "handed in" in sheet and "0 · 0" in sheet
    for name in ("mesh.bin", "scene.bin", "frames.bin?first=3", "figures.json", "picture.png"):
        assert client.get(f"/bakes/{theirs}/{name}").status_code == 200, name
    assert client.get(f"/bakes/{theirs}/figures.json").json()["done"] == 12
    apart = client.get(f"/bakes/{theirs}/colours.bin?what=apart&frame=5&other={ours}")
    assert apart.status_code == 200
    assert client.get(f"/bakes/{theirs}/colours.bin?what=stretch&frame=5").status_code == 422
    assert "From elsewhere" in good(client.get("/caches?state=foreign"))


def test_a_sequence_is_taken_for_one_thing(client, database, shot):
    """Numbered files come together; a gap and other points from frame to frame are told; it plays as loose faces."""
    meshes = {f: shapes.ball(0.5, 5 + f % 2) for f in (1, 2, 4)}
    files = [("file", (f"blob.{f:04d}.obj", obj_bytes(m, "blob"))) for f, m in meshes.items()]
    shown = good(client.post(f"/shots/{shot}/upload", files=files, data={"station": "intake"}, headers=HX))
    assert shown.count('<form class="taken"') == 1 and "blob.zip" in shown
    assert "frame 3 is not there" in shown and "it can only be kept as a cache" in shown
    reference = taken_reference(shown)
    refused = post(client, shot, "take", base=1, reference=reference, unit="m", up_axis="y", part="blob")
    assert refused.status_code == 422 and "no body can have it" in refused.text
    good(post(client, shot, "hand-in", reference=reference, unit="m", up_axis="y", fps="24", first="1", part="blob"))
    number = run_asked(database, "hand in")
    told = good(client.get(f"/errands/{number}?shot={shot}&station=intake"))
    bake = int(re.search(r"compare\?bake=(\d+)", told)[1])
    answer = client.get(f"/bakes/{bake}/frames.bin?first=1&count=4")
    most = max(len(m.faces) for m in meshes.values())
    assert answer.headers["X-Frames"] == "4" and len(answer.content) == 4 * most * 3 * 12
    with database.session() as session:
        assert bakes.get_bake(session, bake).handed_in == "blob.zip"


def test_a_cache_plays_in_another_shot_until_it_is_taken_out(client, database, settings, baked_shot):
    shot, bake = baked_shot
    other = other_shot(database, shot, frames=[1, 20])
    offered = good(client.get(f"/shots/{other}/placeable?q=Sheet"))
    assert "Sheet on a ball" in offered and f'name="only-{bake}" value="sheet"' in offered
    assert "No cache fits" in good(client.get(f"/shots/{other}/placeable?q=nothing-like-it"))
    assert post(client, other, "place-cache", base=1).status_code == 422
    wrong = post(client, other, "place-cache", base=1, bake=bake, x="one")
    assert wrong.status_code == 422 and "Traceback" not in wrong.text
    page = good(post(client, other, "place-cache", base=1, bake=bake, starts="6", x="2", turn="90", role="left out"))
    assert f"Plays sheet of cache {bake}" in page and "T-010" in page
    body = parse_setup(head(database, other).document).bodies[0]
    assert body.role == "left out" and body.mesh.starts == 6.0 and body.place.translate == (2.0, 0.0, 0.0)
    assert client.get(f"/shots/{other}/scene.bin").status_code == 200
    assert "T-020" in good(client.get("/caches?q=Sheet"))
    for answer in (
        client.post(f"/bakes/{bake}/discard", headers=HX),
        client.post("/caches/trash", data={"bake": bake}, headers=HX),
    ):
        assert "T-020 plays it" in answer.text
    good(post(client, other, "remove", base=2, number=0))
    assert "plays it" not in good(client.post("/caches/trash", data={"bake": bake}, headers=HX))
    # What it named is in the trash; going back to where it plays tells so, and nothing breaks.
    client.post(f"/shots/{other}/undo", data={"station": "intake"}, headers=HX)
    gone = good(client.get(f"/shots/{other}/intake"))
    assert "gone" in gone and client.get(f"/shots/{other}/scene.bin").status_code == 200


CART = {"name": "cart", "role": "collider", "mesh": {"shape": "box", "size": [1, 1, 1]},
        "motion": {"translate": {"keys": [[1, [0, 0, 0]], [13, [1, 0, 0]]]}}}  # fmt: skip


def test_takes_and_keys_in_time(client, database, shot):
    other = other_shot(database, shot, CART, {**CART, "name": "drum"})
    page = good(post(client, other, "keep-take", name="to the gate", what="all", body="cart"))
    assert "to the gate" in page and "2 bodies · T-020" in page
    assert "already" in post(client, other, "keep-take", name="to the gate", what="all").text
    number = re.search(r'"take": (\d+)', page)[1]
    assert 'aria-pressed="true"' in good(post(client, other, "takes/favour", take=number))
    assert "uphill" in good(post(client, other, "takes/rename", take=number, name="uphill"))
    third = {"name": "ball", "role": "collider", "mesh": {"shape": "ball", "radius": 1}}
    with database.session() as session:
        show = get_shot(session, shot).show
        third = create_shot(session, show, "T-030", "Third", {"bodies": [third, {**CART, "motion": None}]}).id
    page = good(post(client, third, "use-take", base=1, source=number, to="names", begins="5", station="motion"))
    assert "Left behind: &#39;drum&#39; has no body here" in page
    keys = head(database, third).document["bodies"][1]["motion"]["translate"]["keys"]
    assert [k[0] for k in keys] == [5, 17]
    good(post(client, third, "use-take", base=2, source=f"{number}/drum", to="body", body="ball", station="motion"))
    revision = 3
    for how, one, two, first, last in (
        ("shift", "10", "", 11, 23), ("trim", "14", "20", 14, 20), ("loop on", "2", "", 14, 26),
        ("every", "3", "", 14, 26), ("hold", "20", "", 14, 20), ("rate", "12", "", 14, 26),
    ):  # fmt: skip
        answer = post(client, third, "retime", base=revision, number=0, how=how, one=one, two=two, station="motion")
        assert f"they are at {first} to {last} now" in good(answer), how
        revision += 1
    for how, one in (("loop on", "1"), ("rate", "0"), ("every", "0"), ("shift", "soon"), ("nothing", "1")):
        answer = post(client, third, "retime", base=revision, number=0, how=how, one=one, station="motion")
        assert answer.status_code in (404, 422) and "Traceback" not in answer.text
    good(post(client, other, "takes/remove", take=number))
    assert "no take number" in post(client, third, "use-take", base=revision, source=number).text


def test_many_shots_are_delivered_from_one_page(client, database, baked_shot):
    shot, _ = baked_shot
    with database.session() as session:
        show = get_shot(session, shot).show_id
    page = good(client.get(f"/deliveries?show={show}"))
    assert "T-010" in page and "No file was written yet" in page
    order = {"show": show, "shot": shot, "format": "usda", "pattern": "[shot low]/[title]_[last 4]"}
    assert "t-010/Sheet-on-a-ball_0012.usda" in good(client.post("/deliveries/plan", data=order))
    for pattern, told in (("[shott]", "no word [shott]"), ("", "pattern is empty"), ("a:b", "no name for a file")):
        assert told in good(client.post("/deliveries/plan", data=order | {"pattern": pattern}))
    assert "between 1 and 1,000" in good(client.post("/deliveries/plan", data=order | {"fps": "0"}))
    assert "waits" in good(client.post("/deliveries/write", data=order, headers=HX))
    twice = client.post("/deliveries/write", data=order, headers=HX)
    assert twice.status_code == 422 and "being written already" in twice.text
    with database.session() as session:
        number = session.query(Delivery).order_by(Delivery.id.desc()).first().id
    run_delivery(database, number)
    listed = good(client.get(f"/deliveries/list?show={show}"))
    assert "✓ written" in listed and "t-010/Sheet-on-a-ball_0012.usda" in listed
    assert client.get(f"/deliveries/{number}/file").content.startswith(b"#usda")
    good(client.post("/deliveries/write", data=order | {"format": "csv"}, headers=HX))
    with database.session() as session:
        waiting = session.query(Delivery).order_by(Delivery.id.desc()).first().id
    assert "stopped" in good(client.post("/deliveries/stop", data={"number": waiting, "show": show}, headers=HX))


def test_pages_tell_when_the_caches_are_away(client, settings, baked_shot):
    shot, bake = baked_shot
    away = settings.caches.with_name("away")
    settings.caches.rename(away)
    try:
        for station in ("intake", "motion", "bake", "review", "deliver"):
            page = client.get(f"/shots/{shot}/{station}")
            assert page.status_code == 200 and "The folder of all caches is not there" in page.text, station
        for path in ("/", "/caches", "/queue", "/deliveries", f"/shots/{shot}/status.json"):
            assert client.get(path).status_code == 200, path
        answer = client.get(f"/bakes/{bake}/frames.bin?first=1")
        assert answer.status_code in (404, 422) and "Traceback" not in answer.text
    finally:
        away.rename(settings.caches)
    assert "is not there" not in client.get(f"/shots/{shot}/bake").text


def test_what_is_stale_is_baked_from_the_board(client, database, baked_shot):
    shot, _ = baked_shot
    with database.session() as session:
        show = get_shot(session, shot).show_id
    assert "Bake the" not in good(client.get(f"/?show={show}"))
    good(client.post(f"/shots/{shot}/set", data={
        "base": 1, "path": "/quality/substeps", "value": "12", "station": "quality"}, headers=HX))  # fmt: skip
    assert "Bake the 1 stale" in good(client.get(f"/?show={show}"))
    board = good(client.post(f"/shows/{show}/bake", data={"which": "stale"}))
    assert "1 bake put into the queue" in board and "in the queue" in board
