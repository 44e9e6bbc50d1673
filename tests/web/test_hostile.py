"""What is sent to bring the server down: it is refused with the field's name, soon, and nobody else notices."""

import io
import json
import socket
import threading
import time

import pytest

from zembrik.library import findings
from zembrik.library.bakes import get_bake
from zembrik.library.shots import get_shot

HX = {"HX-Request": "true"}
CHOSEN = {"base": 1, "path": "/title", "station": "intake"}
MADE_BY_HAND = r"""f["']{1,3}\s*<\w|Markup\(|HTMLResponse\(f?["']|["']<[a-z]+[^"']*["'] ?[+%]"""


def soon(call, seconds=5.0):
    begun = time.monotonic()
    answer = call()
    assert time.monotonic() - begun < seconds
    return answer


def deep(levels):
    value: list = []
    for _ in range(levels):
        value = [value]
    return value


@pytest.mark.parametrize("patch", [
    [{"op": "add"}], [{"op": "add", "path": 3, "value": 1}], [{"path": "/title", "value": "x"}],
    [{"op": "burn", "path": "/title"}],
    [{"op": "add", "path": "/bodies/²", "value": {}}], [{"op": "add", "path": "/bodies/" + "9" * 5000, "value": {}}],
    [{"op": "copy", "path": "/title"}], [{"op": "add", "path": "title", "value": 1}],
    [{"op": "add", "path": "/title", "value": "a\0b"}], [{"op": "add", "path": "/title", "value": deep(900)}],
    [{"op": "add", "path": "/world/wind", "value": 10**4000}], [{"op": "remove", "path": "/a~b/c"}],
    [{"op": "test", "path": "/title", "value": "no"}], [{"op": "move", "from": "/bodies", "path": "/bodies/0"}],
    [{"op": "add", "path": "", "value": []}],
], ids=str)  # fmt: skip
def test_a_patch_that_is_none_is_refused(client, shot, patch):
    answer = soon(lambda: client.patch(f"/api/shots/{shot}/setup", json={"base": 1, "patch": patch}))
    assert answer.status_code == 422 and answer.json()["problem"]["what"]
    told = soon(lambda: client.post(
        f"/shots/{shot}/force", data={"patch": json.dumps(patch), "note": "x", "station": "intake"}, headers=HX
    ))  # fmt: skip
    assert told.status_code == 422 and "A fault" not in told.text


def test_an_array_copied_into_itself_is_refused_before_it_has_grown(client, database, shot):
    patch = [{"op": "copy", "from": "/bodies", "path": "/bodies/-"}] * 22
    answer = soon(lambda: client.patch(f"/api/shots/{shot}/setup", json={"base": 1, "patch": patch}))
    assert answer.status_code == 422 and "larger than" in answer.json()["problem"]["what"]
    many = [{"op": "add", "path": "/title", "value": "x"}] * 30_000
    assert soon(lambda: client.patch(f"/api/shots/{shot}/setup", json={"base": 1, "patch": many})).status_code == 422
    with database.session() as session:
        assert get_shot(session, shot).head.number == 1


@pytest.mark.parametrize(("method", "path", "fields", "named"), [
    ("GET", "/shots/99999999999/intake", None, "shot_id"),
    ("GET", "/shots/{}/status.json?have=3000000000", None, "have"),
    ("GET", "/bakes/-1/figures.json", None, "bake_id"), ("GET", "/api/bakes/2147483648", None, "bake_id"),
    ("GET", "/shots/{}/intake?body=a%00b", None, "body"), ("GET", "/caches?q=%00", None, "q"),
    ("POST", "/shots/{}/set", {"base": 4_000_000_000, "path": "/fps", "value": "3", "station": "bake"}, "base"),
    ("POST", "/shots/{}/rename", {"base": 1, "number": 0, "value": "a\0b", "station": "intake"}, "value"),
    ("POST", "/shots/{}/choose", CHOSEN | {"value": "[" * 900 + "]" * 900}, "title"),
    ("POST", "/shots/{}/choose", CHOSEN | {"value": "[" * 90_000}, "title"),
    ("POST", "/shots/{}/place-cache", {"bake": "²", "base": "1"}, "cache"),
    ("POST", "/shots/{}/place-cache", {"bake": "9" * 400, "base": "1"}, "cache"),
], ids=str)  # fmt: skip
def test_values_that_no_field_takes_are_named(client, shot, method, path, fields, named):
    answer = soon(lambda: client.request(method, path.format(shot), data=fields, headers=HX))
    assert answer.status_code == 422 and named in answer.text.lower().replace("&#39;", "'"), answer.text


def test_a_body_that_is_too_large_is_refused_unread(client, shot):
    large = {"Content-Length": str(2 << 30)}
    assert client.post(f"/shots/{shot}/upload", content=b"x", headers=large | HX).status_code == 413
    assert client.post("/api/shows", content=b"{}", headers={"Content-Length": str(17 << 20)}).status_code == 413

    def unsaid():
        for _ in range(18):
            yield b" " * (1 << 20)

    assert client.post("/api/shows", content=unsaid()).status_code == 413


def test_more_points_than_can_be_worked_with_are_told_with_a_way_out(client, database, shot):
    grid = {"shape": "grid", "size": [1, 1], "segments": [1000, 1000]}
    patch = [{"op": "replace", "path": "/bodies/0/mesh", "value": grid}]
    answer = soon(lambda: client.patch(f"/api/shots/{shot}/setup", json={"base": 1, "patch": patch}), 1.0)
    problem = answer.json()["problem"]
    assert answer.status_code == 422 and "1,002,001 points of cloth" in problem["what"]
    assert "'sheet' fewer segments" in problem["remedy"] or "'sheet' fewer segments" in problem["what"]
    with database.session() as session:
        assert get_shot(session, shot).head.number == 1


def test_what_takes_long_to_look_over_is_a_workers(client, database, shot):
    import threading as threads

    from zembrik.farm.errands import run_errand
    from zembrik.library.errands import Errand

    grid = {"shape": "grid", "size": [1, 1], "segments": [90, 90]}
    patch = [{"op": "replace", "path": "/bodies/0/mesh", "value": grid}]
    assert client.patch(f"/api/shots/{shot}/setup", json={"base": 1, "patch": patch}).status_code == 200
    page = soon(lambda: client.get(f"/shots/{shot}/intake", headers=HX), 3.0)
    assert "being looked over by a worker" in page.text
    assert client.get(f"/api/shots/{shot}/findings").status_code == 422
    with database.session() as session:
        from sqlalchemy import select

        number = session.scalar(select(Errand.id).where(Errand.shot_id == shot, Errand.kind == "findings"))
    run_errand(database, number, threads.Event())
    assert "being looked over" not in client.get(f"/shots/{shot}/intake", headers=HX).text
    assert client.get(f"/api/shots/{shot}/findings").status_code == 200


def test_thirty_people_open_a_station_after_an_edit(client, database, shot, monkeypatch):
    """Its findings are computed once, and nobody holds a connection while they wait: the pool has thirty."""
    from zembrik.core.findings import check

    whole, count, held = check.check_setup, [], []

    def slow(*words):
        count.append(1)
        held.append(database.engine.pool.checkedout())
        time.sleep(0.7)
        return whole(*words)

    monkeypatch.setattr(check, "check_setup", slow)
    statuses: list[int] = []

    def look(station):
        statuses.append(client.get(f"/shots/{shot}/{station}", headers=HX).status_code)

    people = [threading.Thread(target=look, args=(("intake", "start", "quality")[n % 3],)) for n in range(31)]
    for one in people:
        one.start()
    for one in people:
        one.join()
    assert statuses == [200] * 31 and len(count) == 1
    assert findings._working == {}


def test_a_mesh_path_with_markup_is_text(client, shot):
    """A part's path is a stranger's words: on Intake, and in what Start says of it."""
    wicked = "<img src=x onerror=alert(1)>"
    lines = f"o {wicked}\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n".encode()
    files = {"file": ("a.obj", io.BytesIO(lines), "text/plain")}
    page = client.post(f"/shots/{shot}/upload", files=files, data={"station": "intake"}, headers=HX)
    assert page.status_code == 200 and "<img src=x" not in page.text
    gone = {"file": f"{'0' * 64}/{wicked}.obj", "part": wicked}
    patch = [{"op": "replace", "path": "/bodies/1/mesh", "value": gone}]
    client.patch(f"/api/shots/{shot}/setup", json={"base": 1, "patch": patch})
    for part in ("intake", "start", "proxies", "overlaps", "audit?body=ball&station=intake"):
        assert "<img src=x" not in client.get(f"/shots/{shot}/{part}", headers=HX).text, part


def test_no_html_is_made_by_formatting_strings():
    """Templates escape; a string that is formatted into markup does not."""
    import re
    from pathlib import Path

    source = Path(__file__).parents[2] / "src" / "zembrik"
    for path in [*source.glob("web/**/*.py"), *source.glob("library/**/*.py"), *source.glob("farm/**/*.py")]:
        text = path.read_text()
        assert not re.search(MADE_BY_HAND, text), path
    for path in source.glob("web/templates/**/*.html"):
        assert "| safe" not in path.read_text() and "|safe" not in path.read_text(), path
    for path in source.glob("web/static/js/*.js"):
        assert not re.search(r"`[^`]*<\w[^`]*\$\{", path.read_text()), path


def test_two_viewers_that_colour_one_cache_at_two_frames(client, database, baked_shot):
    """Each gets its own frame's depths, though both are computed with one world."""
    _, bake = baked_shot
    with database.session() as session:
        assert get_bake(session, bake).cache.done == 12

    def colours(frame):
        return client.get(f"/bakes/{bake}/colours.bin?what=penetration&frame={frame}").content

    alone = {frame: colours(frame) for frame in (3, 12)}
    found: list[tuple[int, bytes]] = []
    people = [threading.Thread(target=lambda f=f: found.append((f, colours(f)))) for f in (3, 12) * 8]
    for one in people:
        one.start()
    for one in people:
        one.join()
    assert len(found) == 16 and all(data == alone[frame] for frame, data in found)


def test_half_a_request_is_let_go(settings, monkeypatch):
    """Three hundred that never end their head, and one that never ends its body: all are closed, others are served."""
    import urllib.request

    import uvicorn

    from zembrik.library.cluster import free_port
    from zembrik.web import gate, server
    from zembrik.web.app import make_app

    monkeypatch.setattr(server, "HEAD_S", 1.0)
    monkeypatch.setattr(gate, "PIECE_S", 1.0)
    port = free_port()
    config = uvicorn.Config(make_app(settings), host="127.0.0.1", port=port, log_level="error", http=server.Impatient)
    running = uvicorn.Server(config)
    thread = threading.Thread(target=running.run, daemon=True)
    thread.start()
    while not running.started:
        time.sleep(0.05)
    halves = [socket.create_connection(("127.0.0.1", port)) for _ in range(300)]
    for n, half in enumerate(halves):
        half.sendall(b"" if n % 2 else b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Slow: ")
    body = socket.create_connection(("127.0.0.1", port))
    body.sendall(
        f"POST /api/shows HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nContent-Type: application/json\r\n"
        'Content-Length: 50\r\n\r\n{"title"'.encode()
    )
    assert urllib.request.urlopen(f"http://127.0.0.1:{port}/queue", timeout=10).status == 200
    body.settimeout(10)
    assert b" 408 " in body.recv(200)
    for half in halves:
        half.settimeout(10)
        assert half.recv(1) == b""
    running.should_exit = True
    thread.join(10)
