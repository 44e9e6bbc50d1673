"""Who comes in: hosts, sites, tokens of forms, accounts, and what every answer carries."""

import re

import pytest
from fastapi.testclient import TestClient
from starlette.websockets import WebSocketDisconnect

from zembrik.library.accounts import create_account, end_account, make_token, sign_in
from zembrik.library.shots import edit, get_shot
from zembrik.web.app import make_app
from zembrik.web.pages import account as account_pages
from zembrik.web.sessions import COOKIE

PEER = ("127.0.0.1", 50000)
PASSWORD = "a long enough one"


@pytest.fixture
def person(database):
    """An account; ended again afterwards, so that other tests come in by themselves."""
    import secrets

    from zembrik.library.models import Account

    with database.session() as session:
        made = create_account(session, f"pat-{secrets.token_hex(3)}", PASSWORD)
    account_pages._tries.clear()
    yield made
    with database.session() as session:
        row = session.get(Account, made.id)
        row.ended = row.ended or row.created


@pytest.fixture
def strict(settings):
    """The application as it is served to a network."""
    app = make_app(settings, ("zembrik.studio",), by_itself=False)
    with TestClient(app, base_url="http://zembrik.studio", raise_server_exceptions=False, client=PEER) as client:
        yield client


def token_of(page):
    return re.search(r'name="form_token" value="(\w+)"', page)[1]


def enter(client, name, password=PASSWORD, to="/"):
    fields = {"form_token": token_of(client.get("/sign-in").text), "name": name, "password": password, "to": to}
    return client.post("/sign-in", data=fields, follow_redirects=False)


def test_another_sites_page_can_change_nothing(client, database, shot):
    """A form or a script of another site, a page in which this server's name was bound to another address."""
    move = {"base": 1, "path": "/world/gravity", "x": "0", "y": "-5", "z": "0", "station": "motion"}
    place = f"/shots/{shot}/vector"
    for headers in (
        {"Origin": "http://elsewhere.example"}, {"Sec-Fetch-Site": "cross-site"}, {"Sec-Fetch-Site": "same-site"},
        {"Origin": "null"}, {"X-Form-Token": "0" * 64}, {"X-Form-Token": "ü".encode()},
        {"Origin": "http://127.0.0.1:9999"},
    ):  # fmt: skip
        assert client.post(place, data=move, headers=headers).status_code == 403, headers
    assert client.post(place, data=move, headers={"Host": "elsewhere.example"}).status_code == 421
    for host in ("elsewhere.example:8460", "127.elsewhere.example", "localhost.elsewhere.example", "testclient", ""):
        assert client.get("/", headers={"Host": host}).status_code == 421, host
    patch = {"base": 1, "patch": [{"op": "add", "path": "/title", "value": "x"}]}
    crossed = client.patch(f"/api/shots/{shot}/setup", json=patch, headers={"Origin": "http://elsewhere.example"})
    assert crossed.status_code == 403 and crossed.json()["problem"]["what"]
    with database.session() as session:
        assert get_shot(session, shot).head.number == 1
    assert client.post(place, data=move, headers={"Origin": "http://127.0.0.1"}).status_code == 200


def test_every_answer_has_its_headers_and_no_page_has_script_of_its_own(client, shot):
    for path in ("/", "/caches", "/queue", "/deliveries", "/api", "/account", "/sign-in", f"/shots/{shot}/intake",
                 "/nothing", "/static/js/shell.js", f"/shots/{shot}/status.json"):  # fmt: skip
        answer = client.get(path)
        policy = answer.headers["content-security-policy"]
        assert "unsafe" not in policy and "default-src 'none'" in policy and "frame-ancestors 'none'" in policy
        assert answer.headers["x-content-type-options"] == "nosniff" and answer.headers["referrer-policy"]
        if "html" in answer.headers["content-type"]:
            assert not re.search(r"<script(?![^>]*\bsrc=)|\son[a-z]+=|\sstyle=|javascript:", answer.text), path


@pytest.mark.parametrize(
    "headers",
    [{"origin": "http://elsewhere.example"}, {"origin": "http://127.0.0.1", "host": "elsewhere.example"}, {}],
)
def test_a_live_run_is_opened_by_this_servers_own_pages_alone(client, shot, headers):
    with (
        pytest.raises(WebSocketDisconnect) as refused,
        client.websocket_connect(f"/shots/{shot}/live", headers=headers),
    ):
        pass
    assert refused.value.code == 4401


def test_nobody_who_is_not_signed_in_opens_a_live_run(strict, shot):
    headers = {"origin": "http://zembrik.studio", "host": "zembrik.studio"}
    with pytest.raises(WebSocketDisconnect), strict.websocket_connect(f"/shots/{shot}/live", headers=headers):
        pass


@pytest.mark.parametrize(
    ("asked", "words"),
    [
        ("[1]", "no message"), ("{", "no JSON"), ("9" * 200_000, "too long"),
        ('{"body": 3}', "no live run"), ('{"body": "x", "pin": -1}', "no live run"),
        ('{"body": "x", "coarser": 99}', "no live run"), ('{"body": "nobody here"}', "no body"),
    ],
)  # fmt: skip
def test_odd_orders_of_a_live_run_are_told(client, shot, asked, words):
    """Nothing of it costs more than its own connection, and a process that ends by itself."""
    headers = {"origin": "http://127.0.0.1", "host": "127.0.0.1"}
    with client.websocket_connect(f"/shots/{shot}/live", headers=headers) as socket:
        socket.send_text(asked)
        assert words in socket.receive_json()["ended"]


def test_nobody_comes_in_unasked(strict, person, shot):
    assert strict.get("/", follow_redirects=False).headers["location"] == "/sign-in?to=/"
    deep = strict.get(f"/shots/{shot}/review?body=a", follow_redirects=False)
    assert deep.status_code == 303 and deep.headers["location"].startswith("/sign-in?to=/shots/")
    assert strict.get("/queue", headers={"HX-Request": "true"}).headers["hx-redirect"] == "/sign-in"
    refused = strict.get("/api/shows")
    assert refused.status_code == 401 and "token" in refused.json()["problem"]["remedy"]
    unasked = strict.post(f"/shots/{shot}/undo", data={"station": "intake"}, follow_redirects=False)
    assert unasked.status_code == 303 and unasked.headers["location"].startswith("/sign-in")
    for header in ("Bearer nothing", "Basic abc", "Bearer zbk_0000"):
        assert strict.get("/api/shows", headers={"Authorization": header}).status_code == 401
    assert strict.get("/", headers={"Cookie": f"{COOKIE}=W10.x.y"}, follow_redirects=False).status_code == 303


def test_a_person_signs_in_works_under_their_name_and_signs_out(strict, database, person, shot):
    wrong = enter(strict, person.name, "another long one")
    assert wrong.status_code == 422 and "no account with this name and this password" in wrong.text
    done = enter(strict, f" {person.name.upper()} ", to="%2Fqueue")
    cookie = done.headers["set-cookie"].lower()
    assert done.headers["location"] == "/queue" and "httponly" in cookie and "samesite=lax" in cookie
    assert enter(strict, person.name, to="//elsewhere.example").headers["location"] == "/"
    page = strict.get("/account").text
    headers = {"X-Form-Token": token_of(page), "HX-Request": "true"}
    move = {"base": 1, "path": "/world/gravity", "x": "0", "y": "-5", "z": "0", "station": "motion"}
    assert strict.post(f"/shots/{shot}/vector", data=move, headers=headers).status_code == 200
    assert strict.post(f"/shots/{shot}/bake", headers=headers).status_code == 200
    assert person.name in strict.get(f"/shots/{shot}/history").text
    assert person.name in strict.get(f"/shots/{shot}/bake").text
    with database.session() as session:
        assert get_shot(session, shot).head.author == person.name
    gone = strict.post("/sign-out", headers=headers, follow_redirects=False)
    assert gone.headers["location"] == "/sign-in" and strict.get("/", follow_redirects=False).status_code == 303


def test_tokens_are_made_named_used_and_ended(strict, database, person, shot):
    enter(strict, person.name)
    page = strict.get("/account").text
    made = strict.post("/account/token", data={"form_token": token_of(page), "name": "nightly <b>"}).text
    token = re.search(r"<code>(zbk_[\w-]+)</code>", made)[1]
    assert "nightly &lt;b&gt;" in made and token not in strict.get("/account").text
    strict.cookies.clear()
    headers = {"Authorization": f"Bearer {token}"}
    assert strict.get("/api/shows", headers=headers).status_code == 200
    change = {"base": 1, "patch": [{"op": "add", "path": "/title", "value": "By token"}]}
    assert strict.patch(f"/api/shots/{shot}/setup", json=change, headers=headers).status_code == 200
    with database.session() as session:
        assert get_shot(session, shot).head.author == person.name
    enter(strict, person.name)
    number = re.search(r'name="number" value="(\d+)">end it', strict.get("/account").text)[1]
    ended = strict.post("/account/token-end", data={"form_token": token_of(page), "number": number})
    strict.cookies.clear()
    assert ended.status_code == 200 and strict.get("/api/shows", headers=headers).status_code == 401


def test_a_new_password_ends_all_sessions_and_tries_are_bounded(strict, database, person):
    enter(strict, person.name)
    fields = {"form_token": token_of(strict.get("/account").text), "old": PASSWORD, "new": "short"}
    assert strict.post("/account/password", data=fields).status_code == 422
    fields["new"] = "another long enough one"
    assert strict.post("/account/password", data=fields, follow_redirects=False).status_code == 303
    assert strict.get("/", follow_redirects=False).status_code == 303  # the cookie is of the old stamp
    assert [enter(strict, person.name).status_code for _ in range(11)] == [422] * 10 + [429]
    with database.session() as session:
        assert sign_in(session, person.name, "another long enough one").id == person.id


def test_an_account_that_is_ended_is_out_with_its_tokens(strict, database, person, settings):
    from zembrik.core.problem import Problem

    with database.session() as session:
        token = make_token(session, person.id, "script")
        with pytest.raises(Problem, match="the last account"):
            end_account(session, person.id)
        other = create_account(session, "sam-the-other", PASSWORD)
        end_account(session, person.id)
    assert strict.get("/api/shows", headers={"Authorization": f"Bearer {token}"}).status_code == 401
    assert enter(strict, person.name).status_code == 422
    with database.session() as session:
        from zembrik.library.models import Account

        session.get(Account, other.id).ended = other.created


def test_a_proxy_on_this_machine_signs_nobody_in(client, database, person):
    assert client.get("/", follow_redirects=False).status_code == 200
    passed_on = {"X-Forwarded-For": "10.1.2.3"}
    assert client.get("/", headers=passed_on, follow_redirects=False).status_code == 303


def test_a_cookie_given_behind_a_secure_proxy_goes_over_https_alone(strict, person):
    """A proxy that was asked over https says so; without one the cookie would never come back over http."""
    assert "secure" not in enter(strict, person.name).headers["set-cookie"].lower()
    strict.cookies.clear()
    strict.headers["X-Forwarded-Proto"] = "https"
    assert "; secure" in enter(strict, person.name).headers["set-cookie"].lower()


def test_serving_a_network_without_accounts_is_refused(settings, database):
    from zembrik.core.problem import Problem
    from zembrik.web.server import run

    with pytest.raises(Problem, match="anybody could come in"):
        run(settings, "0.0.0.0", 1)


def test_two_people_undo_at_once(client, database, shot):
    """The second is told what was undone, and nothing else is."""
    for value in (-5, -6):
        with database.session() as session:
            head = get_shot(session, shot).head.number
            edit(session, shot, head, [{"op": "add", "path": "/world/gravity", "value": [0, value, 0]}], f"to {value}")
    undo = {"station": "motion", "base": 3}
    first, second = (client.post(f"/shots/{shot}/undo", data=undo, headers={"HX-Request": "true"}) for _ in range(2))
    assert first.status_code == 200 and second.status_code == 422
    assert "has undone revision 3 already (to -6)" in second.text
    with database.session() as session:
        assert get_shot(session, shot).head.number == 2
