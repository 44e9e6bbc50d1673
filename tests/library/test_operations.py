"""docs/operations.md, followed to the letter: its own commands, on one machine instead of three.

Only what would touch the system is stood in for: `apt-get` does nothing, `service` restarts the test's own PostgreSQL.
"""

import os
import re
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

import httpx
import pytest

from zembrik.library.cluster import free_port, programs

ROOT = Path(__file__).parents[2]
PASSWORD = "kept for long enough"


def blocks():
    """Return the commands of the page by the comment that they begin with."""
    text = (ROOT / "docs" / "operations.md").read_text()
    return dict(re.findall(r"```sh\n# (on [^\n]+)\n(.*?)```", text, re.DOTALL))


@pytest.fixture
def studio():
    """A cluster as Debian makes one, the folder that is shared, and what the page leaves to be filled in."""
    if os.geteuid():
        pytest.skip("the page's commands for the database are root's")
    with tempfile.TemporaryDirectory(prefix="zembrik-studio-") as name:
        room = Path(name)
        room.chmod(0o755)
        data, port = room / "data", free_port()
        data.mkdir()
        shutil.chown(data, "postgres", "postgres")
        as_postgres = ["setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"]
        run = lambda *w: subprocess.run([*as_postgres, *map(str, w)], check=True, capture_output=True, cwd="/")  # noqa: E731
        auth = ("--auth-local=peer", "--auth-host=scram-sha-256")
        run(programs() / "initdb", "-D", data, *auth, "--no-sync")
        control = f"{' '.join(as_postgres)} {programs()}/pg_ctl -D {data} -w -l {data}/log"
        stand_ins = room / "bin"
        stand_ins.mkdir()
        options = f"-p {port} -c unix_socket_directories={data}"
        for command, does in (("apt-get", "true"), ("service", f'{control} -o "{options}" restart')):
            (stand_ins / command).write_text(f"#!/bin/sh\n{does}\n")
            (stand_ins / command).chmod(0o755)
        (room / "share").mkdir()
        (room / "mounted").symlink_to(room / "share")  # the farm sees it at another path
        environment = {k: v for k, v in os.environ.items() if not k.startswith(("ZEMBRIK_", "PG"))} | {
            "PATH": f"{stand_ins}:{programs()}:{os.environ['PATH']}", "PGHOST": str(data), "PGPORT": str(port),
            "DB_HOST": "localhost", "DB_PORT": str(port), "DB_DATA": str(data), "DB_CONF": str(data),
            "STUDIO_NET": "127.0.0.0/8", "PASSWORD": "s3cret-of-the-studio", "CERT": str(data / "server.crt"),
            "SHARE": str(room / "share"), "FIRST_PERSON": "pat", "WEB_ADDRESS": "0.0.0.0", "WEB_NAME": "zembrik.studio",
            "WEB_PORT": str(free_port()), "ZEMBRIK_KERNELS": os.environ.get("ZEMBRIK_KERNELS", ""),
        }  # fmt: skip
        if not environment["ZEMBRIK_KERNELS"]:
            del environment["ZEMBRIK_KERNELS"]
        try:
            yield environment
        finally:
            subprocess.run(f"{control} -m immediate stop", shell=True, capture_output=True)


def follow(environment, commands, **more):
    return subprocess.run(
        ["bash", "-e", "-c", commands], env=environment, cwd=ROOT, capture_output=True, text=True, timeout=120, **more
    )


def test_the_page_for_a_studio_is_followed_to_the_letter(studio, sheet):
    told = blocks()
    assert set(told) == {"on db", "on web and farm", "on web, once", "on web", "on farm"}
    done = follow(studio, told["on db"])
    assert done.returncode == 0, done.stderr
    web, farm = told["on web and farm"], told["on web and farm"]
    refused = follow(studio, web + told["on web"])
    assert refused.returncode == 2 and "older edition" in refused.stderr  # before the tables are made
    once = follow(studio, web + told["on web, once"], input=f"{PASSWORD}\n{PASSWORD}\n", start_new_session=True)
    assert once.returncode == 0 and "pat can sign in now" in once.stdout, once.stderr
    running = [
        subprocess.Popen(["bash", "-e", "-c", commands], env=where, cwd=ROOT, start_new_session=True)
        for commands, where in (
            (web + "exec " + told["on web"].strip(), studio),
            (
                farm + "exec " + told["on farm"].strip(),
                studio | {"SHARE": str(Path(studio["SHARE"]).parent / "mounted")},
            ),
        )
    ]
    try:
        address = f"http://127.0.0.1:{studio['WEB_PORT']}"
        with httpx.Client(base_url=address, headers={"Host": "zembrik.studio"}, timeout=60) as client:
            until = time.monotonic() + 60
            while True:
                try:
                    page = client.get("/sign-in")
                    break
                except httpx.ConnectError:
                    assert time.monotonic() < until
                    time.sleep(0.2)
            assert client.get("/", follow_redirects=False).status_code == 303
            assert httpx.get(address, headers={"Host": "other.studio"}).status_code == 421
            token = re.search(r'name="form_token" value="(\w+)"', page.text)[1]
            fields = {"form_token": token, "name": "pat", "password": PASSWORD, "to": "/account"}
            page = client.post("/sign-in", data=fields, follow_redirects=True)
            token = re.search(r'name="form_token" value="(\w+)"', page.text)[1]
            made = client.post("/account/token", data={"form_token": token, "name": "a script"})
            key = re.search(r"<code>(zbk_[\w-]+)</code>", made.text)[1]
        headers = {"Host": "zembrik.studio", "Authorization": f"Bearer {key}"}
        with httpx.Client(base_url=address, headers=headers, timeout=60) as client:
            show = client.post("/api/shows", json={"title": "Windfall Fair"}).json()["id"]
            shot = {"code": "WF-010", "title": "Cloth", "setup": sheet}
            shot = client.post(f"/api/shows/{show}/shots", json=shot).json()["id"]
            bake = client.post(f"/api/shots/{shot}/bakes").json()
            until = time.monotonic() + 240
            while (bake := client.get(f"/api/bakes/{bake['id']}").json())["state"] in ("queued", "running"):
                assert time.monotonic() < until
                time.sleep(0.3)
            assert bake["state"] == "done" and (Path(studio["SHARE"]) / "caches" / bake["folder"]).is_dir()
        kept = follow(studio, web + f"./zembrik backup {studio['SHARE']}/kept.tar")
        assert kept.returncode == 0, kept.stderr
    finally:
        for process in running:
            process.terminate()
        for process in running:
            process.wait(40)
