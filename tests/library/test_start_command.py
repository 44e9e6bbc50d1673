"""The start command: one line for what is in the way, nothing left behind, nothing lost."""

import json
import os
import re
import signal
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

import pytest

from zembrik.core.problem import Problem
from zembrik.library.cluster import Cluster, free_port
from zembrik.library.identity import cluster_folder
from zembrik.start import choose_port, hold_alone

ROOT = Path(__file__).parents[2]


@pytest.fixture
def home():
    with tempfile.TemporaryDirectory(prefix="zembrik-start-") as folder:
        Path(folder).chmod(0o755)
        yield Path(folder)
        Cluster(cluster_folder(Path(folder))).remove()


class Demo:
    """A start command in a process of its own."""

    def __init__(self, home, *words):
        environment = {**os.environ, "ZEMBRIK_HOME": str(home), "PYTHONPATH": str(ROOT / "src")}
        command = [sys.executable, "-m", "zembrik.cli", "demo", "--port", str(free_port()), *words]
        self.process = subprocess.Popen(
            command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )

    def address(self):
        said = ""
        for line in self.process.stdout:
            said += line
            if found := re.search(r"http://\S+", line):
                return found[0]
        raise AssertionError(f"it ended without an address: {said}")

    def stop(self, how=signal.SIGTERM):
        self.process.send_signal(how)
        self.process.wait(30)


def processes_of(home):
    """Return the command lines that belong to a home."""
    found = []
    for place in Path("/proc").glob("[0-9]*"):
        try:
            words = (place / "cmdline").read_bytes().replace(b"\0", b" ").decode()
            surroundings = (place / "environ").read_bytes().decode(errors="replace")
        except (OSError, UnicodeDecodeError):
            continue
        if f"ZEMBRIK_HOME={home}" in surroundings or str(cluster_folder(home)) in words:
            found.append(words)
    return found


def wait_until(what, seconds=20.0):
    until = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < until
        time.sleep(0.1)


def test_killed_in_the_middle_it_starts_again_keeps_its_data_and_leaves_nothing(home):
    for seconds in (1.2, 0.8, 1.6):  # while the cluster is made, started and filled, on one machine or another
        demo = Demo(home)
        time.sleep(seconds)
        demo.stop(signal.SIGKILL)
    demo = Demo(home)
    address = demo.address()
    shots = urllib.request.urlopen(address).read().decode()
    assert all(code in shots for code in ("WF-010", "WF-020", "WF-030"))
    patch = [{"op": "add", "path": "/world/gravity", "value": [0, -5, 0]}]
    data = json.dumps({"base": 1, "patch": patch}).encode()
    asked = urllib.request.Request(
        f"{address}api/shots/1/setup", data, {"Content-Type": "application/json"}, method="PATCH"
    )
    urllib.request.urlopen(asked)
    demo.stop()
    wait_until(lambda: not processes_of(home))
    demo = Demo(home)
    setup = json.load(urllib.request.urlopen(f"{demo.address()}shots/1/setup.json"))
    assert setup["world"]["gravity"] == [0, -5, 0]
    demo.stop(signal.SIGINT)
    wait_until(lambda: not processes_of(home))


def test_a_second_start_of_the_same_home_is_told(home):
    lock = hold_alone(home)
    with pytest.raises(Problem, match="is running already"):
        hold_alone(home)
    lock.close()
    hold_alone(home).close()


def test_what_is_in_the_way_is_told():
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        with pytest.raises(Problem, match=f"port {port} is in use"):
            choose_port(port)
    assert choose_port(port) == port
    with pytest.raises(Problem, match="no port 70000"):
        choose_port(70000)
    with pytest.raises(Problem, match="cannot be written"):
        hold_alone(Path("/proc/nothing/here"))
