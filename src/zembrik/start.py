"""Starting everything on one machine, and stopping it again: database, web server, worker."""

from __future__ import annotations

import contextlib
import fcntl
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path
from typing import IO, TYPE_CHECKING

import click

from zembrik.core.problem import Problem
from zembrik.library.cluster import Cluster, cluster_folder
from zembrik.library.ready import is_ready
from zembrik.library.settings import Settings

if TYPE_CHECKING:
    from zembrik.library.database import Database

DEFAULT_PORT = 8460


def home_folder() -> Path:
    """Return the folder of everything this installation keeps."""
    return Path(os.environ.get("ZEMBRIK_HOME") or Path(__file__).resolve().parents[2] / "var").resolve()


def prepare(home: Path, fresh: bool) -> tuple[Cluster, Settings]:
    """Start the database, bring it up to date, and fill it with the demo the first time."""
    cluster = Cluster(cluster_folder(home))
    if fresh:
        cluster.remove()
        for name in ("assets", "caches", "deliveries"):
            shutil.rmtree(home / name, ignore_errors=True)
    settings = Settings(home, cluster.start())
    settings.make_folders()
    if not is_ready(settings):
        from zembrik.library.database import Database, upgrade  # these take a second to load

        upgrade(settings)
        database = Database(settings)
        if database.is_empty():
            _fill(database, settings)
        database.engine.dispose()
    return cluster, settings


def _fill(database: Database, settings: Settings) -> None:
    """Add the demo, and queue all its shots, so that there is something to see."""
    from zembrik.library.bakes import queue_bake
    from zembrik.library.demo import fill

    shots = fill(database, settings)
    with database.session() as session:
        for shot in shots:
            queue_bake(session, shot)


def hold_alone(home: Path) -> IO[str]:
    """Make the home folder and return its lock, which the system lets go of when this process ends, however it ends.

    Raises:
        Problem: when the folder cannot be written, or another start command holds it.
    """
    try:
        home.mkdir(parents=True, exist_ok=True)
        lock = (home / "running.lock").open("w")
    except OSError as error:
        raise Problem(
            f"{error.filename} cannot be written: {error.strerror}.", "start", "Set ZEMBRIK_HOME to a folder of yours."
        ) from None
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        lock.close()
        raise Problem(
            f"a Zembrik of {home} is running already.", "start", "Open its page, or stop it first (Ctrl-C there)."
        ) from None
    return lock


def choose_port(asked: int | None) -> int:
    """Return the port to serve on: the one asked for, or the next free one from the usual."""
    for port in [asked] if asked else range(DEFAULT_PORT, DEFAULT_PORT + 50):
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", port))
                return port
            except PermissionError:
                raise Problem(f"port {port} needs more rights.", "start", "Choose one above 1023.") from None
            except OverflowError:
                raise Problem(f"there is no port {port}.", "start", "Ports go to 65535.") from None
            except OSError:
                continue
    raise Problem(
        f"port {asked or DEFAULT_PORT} is in use.", "start", "Choose another with --port, or stop what uses it."
    )


def wait_until_up(port: int, processes: list[subprocess.Popen[bytes]], seconds: float = 60.0) -> None:
    """Wait until the web server answers."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if any(p.poll() is not None for p in processes):
            raise Problem("a part of the program ended while starting; its message stands above.", "start")
        with socket.socket() as probe:
            probe.settimeout(0.2)
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.05)
    raise Problem(f"the web server did not answer within {seconds:.0f} s.", "start")


def tell_address(processes: list[subprocess.Popen[bytes]], settings: Settings) -> None:
    """Tell parts of the program, which wait for it, where the database is."""
    for process in processes:
        assert process.stdin is not None
        with contextlib.suppress(BrokenPipeError):  # it ended already; waiting for it tells so
            process.stdin.write(f"{settings.database_url}\n".encode())
            process.stdin.close()


def demo(asked_port: int | None, fresh: bool) -> None:
    """Start everything and keep it running until Ctrl-C or TERM; then stop it all."""
    home = home_folder()
    signal.signal(signal.SIGINT, signal.default_int_handler)  # a shell may have started this with it ignored
    signal.signal(signal.SIGTERM, lambda *_: (_ for _ in ()).throw(KeyboardInterrupt()))
    port = choose_port(asked_port)
    if asked_port is None and port != DEFAULT_PORT:
        click.echo(f"Port {DEFAULT_PORT} is in use, so this one serves on {port}.")
    cluster = Cluster(cluster_folder(home))
    alone = hold_alone(home)
    processes: list[subprocess.Popen[bytes]] = []
    try:
        environment = {**os.environ, "ZEMBRIK_HOME": str(home)}

        def launch(words: list[str], nice: int) -> None:
            # setpriv: the system ends it with this one, even while it still loads.
            command = ["setpriv", "--pdeathsig", "TERM", "nice", "-n", str(nice), sys.executable, "-m", "zembrik.cli"]
            command += [*words, "--told"]
            processes.append(subprocess.Popen(command, env=environment, start_new_session=True, stdin=subprocess.PIPE))

        # Both load their code while the database starts, and wait for its address on standard input. Bakes are what
        # waits where several want a core: pages and their errands stay quick meanwhile.
        launch(["serve", "--port", str(port)], 0)
        launch(["worker", "--alone", "--queue", "bakes"], 5)
        cluster, settings = prepare(home, fresh)
        tell_address(processes, settings)
        wait_until_up(port, processes)
        # Nobody needs it before there is a page: it does not take a core from what the first one waits for.
        launch(["worker", "--alone", "--queue", "errands"], 2)
        tell_address(processes[-1:], settings)
        click.echo(f"Zembrik is up: http://127.0.0.1:{port}/   (Ctrl-C stops it)")
        sys.stdout.flush()
        while all(p.poll() is None for p in processes):
            time.sleep(0.3)
        raise Problem("a part of the program ended; its message stands above.", "start", "Start it again.")
    finally:
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        for process in processes:
            if process.poll() is None:
                process.terminate()
        for process in processes:
            try:
                process.wait(8)
            except subprocess.TimeoutExpired:
                process.kill()  # it compiles, or is on a long frame: that frame is done again next time
        cluster.stop()
        alone.close()
