"""The application without and with a server, a baked shot, and a browser, for the tests of pages."""

import os
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import pytest
from baking import bake_now
from fastapi.testclient import TestClient
from selenium import webdriver
from selenium.webdriver.chrome.service import Service

from zembrik.library import bakes
from zembrik.library.cluster import free_port
from zembrik.web.app import make_app
from zembrik.web.sessions import BY_ITSELF

PEER = ("127.0.0.1", 50000)
ROOT = Path(__file__).parents[2]
FLAGS = (
    "--headless=new --no-sandbox --disable-quic --no-first-run --disable-background-networking "
    "--disable-component-update --disable-sync --use-angle=swiftshader --enable-unsafe-swiftshader "
    "--ignore-gpu-blocklist --window-size=1280,800"
)


@pytest.fixture(scope="module")
def address(settings):
    """A web server and a worker, each a process of its own."""
    port = free_port()
    environment = {
        **os.environ,
        "ZEMBRIK_HOME": str(settings.home),
        "ZEMBRIK_DATABASE": settings.database_url,
        "PYTHONPATH": str(ROOT / "src"),
    }
    words = [["serve", "--port", str(port)], ["worker"]]
    running = [subprocess.Popen([sys.executable, "-m", "zembrik.cli", *w], env=environment) for w in words]
    until = time.monotonic() + 60
    while True:
        try:
            urllib.request.urlopen(f"http://127.0.0.1:{port}/")
            break
        except OSError:
            assert time.monotonic() < until
            time.sleep(0.1)
    yield f"http://127.0.0.1:{port}"
    for process in running:
        process.terminate()
        process.wait(20)


@pytest.fixture(scope="module")
def browser():
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in FLAGS.split():
        options.add_argument(flag)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    # Drawing in software on two busy cores may hold a page up; what waits for it must wait longer than it may take.
    driver.set_script_timeout(240)
    driver.command_executor.client_config.timeout = 300
    yield driver
    driver.quit()


@pytest.fixture(scope="module")
def client(settings):
    """The application, asked without a server."""
    app = make_app(settings)
    with TestClient(app, base_url="http://127.0.0.1", raise_server_exceptions=False, client=PEER) as client:
        client.event_hooks["request"] = [lambda request: with_token(app, request)]
        yield client


def with_token(app, request):
    """Send along what every form of a page does, as the account that loopback signs in as."""
    doors = app.state.doors
    if "x-form-token" not in request.headers:
        request.headers["X-Form-Token"] = doors.form_token(doors._remembered("first") or BY_ITSELF)


@pytest.fixture
def baked_shot(database, shot):
    """A shot and the number of its bake."""
    with database.session() as session:
        number = bakes.queue_bake(session, shot).id
    bake_now(database, number)
    return shot, number
