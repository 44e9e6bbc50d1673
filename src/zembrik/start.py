"""Starting everything on one machine, and stopping it again: database, web server, worker."""

from __future__ import annotations

import contextlib
import fcntl
import getpass
import os
import re
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import IO, TYPE_CHECKING

import click

from zembrik.core.problem import Problem
from zembrik.library.cluster import Cluster
from zembrik.library.identity import NAME as IDENTITY
from zembrik.library.identity import cluster_folder, keep_identity, read_identity, settle
from zembrik.library.ready import database_identity, is_ready
from zembrik.library.settings import Settings
from zembrik.library.version import refuse_newer

if TYPE_CHECKING:
    from zembrik.library.database import Database

DEFAULT_PORT = 8460
SHORTEST_PAUSE_S, LONGEST_PAUSE_S = 1.0, 60.0  # before a part that ended is started again


def home_folder() -> Path:
    """Return the folder of everything this installation keeps."""
    return Path(os.environ.get("ZEMBRIK_HOME") or Path(__file__).resolve().parents[2] / "var").resolve()


def prepare(home: Path, fresh: bool) -> tuple[Cluster, Settings]:
    """Start the database, bring it up to date, and fill it with the demo the first time."""
    identity = settle(home, fresh)
    cluster = Cluster(cluster_folder(home))
    if fresh:
        cluster.remove()
        for name in ("assets", "caches", "deliveries"):
            shutil.rmtree(home / name, ignore_errors=True)
    settings = Settings(home, cluster.start())
    settings.make_folders()
    refuse_newer(settings)
    if not is_ready(settings):
        from zembrik.library.database import Database, upgrade  # these take a second to load

        upgrade(settings)
        database = Database(settings)
        if database.is_empty():
            _fill(database, settings)
        _make_first_account(database)
        database.engine.dispose()
    own = database_identity(settings)
    if identity.database not in ("", own):
        raise Problem(
            "the database is another installation's.", str(home), "Restore a backup, or begin anew with --fresh."
        )
    keep_identity(home, replace(identity, database=own))
    return cluster, settings


def _make_first_account(database: Database) -> None:
    """Make an account if there is none, and print its password, this once."""
    from zembrik.library.accounts import any_account, create_account

    with database.session() as session:
        if any_account(session):
            return
        password = secrets.token_urlsafe(12)
        name = create_account(session, re.sub(r"[^a-z0-9._-]", "", getpass.getuser().lower()) or "first", password).name
    click.echo(
        f"The first account is '{name}', with the password {password}\n"
        "It is shown this once. On this machine nobody is asked for it; './zembrik serve' elsewhere asks."
    )


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


@dataclass
class Part:
    """A part of the program that runs in a process of its own, and is started again if it ends by itself."""

    name: str
    words: list[str]
    nice: int
    environment: dict[str, str]
    process: subprocess.Popen[bytes] | None = None
    begun: float = 0.0
    pause_s: float = 0.0
    again: float = 0.0  # when it is to be started again

    def launch(self) -> None:
        """Start it; setpriv sees to it that the system ends it with this process, even while it still loads."""
        command = ["setpriv", "--pdeathsig", "TERM", "nice", "-n", str(self.nice), sys.executable, "-m", "zembrik.cli"]
        command += [*self.words, "--told"]
        self.process = subprocess.Popen(command, env=self.environment, start_new_session=True, stdin=subprocess.PIPE)
        self.begun = time.monotonic()

    def tell_address(self, settings: Settings) -> None:
        """Tell it, which waits for it, where the database is."""
        assert self.process is not None and self.process.stdin is not None
        with contextlib.suppress(BrokenPipeError):  # it ended already; looking after it tells so
            self.process.stdin.write(f"{settings.database_url}\n".encode())
            self.process.stdin.close()

    def see_to(self, settings: Settings) -> None:
        """Start it again if it ended, with pauses that grow while it ends soon each time."""
        now = time.monotonic()
        if self.process is not None and self.process.poll() is not None:
            lasted, code = now - self.begun, self.process.returncode
            self.pause_s = SHORTEST_PAUSE_S if lasted > LONGEST_PAUSE_S else min(2 * self.pause_s + 1, LONGEST_PAUSE_S)
            self.process, self.again = None, now + self.pause_s
            say(f"{self.name} has ended (exit code {code}); it is started again in {self.pause_s:.0f} s")
        elif self.process is None and now >= self.again:
            self.launch()
            self.tell_address(settings)


def say(words: str) -> None:
    """Print a line for whoever reads the log."""
    click.echo(f"zembrik: {time.strftime('%Y-%m-%d %H:%M:%S')} {words}", err=True)


def demo(asked_port: int | None, fresh: bool) -> None:
    """Start everything and keep it running until Ctrl-C or TERM; then stop it all."""
    home = home_folder()
    signal.signal(signal.SIGINT, signal.default_int_handler)  # a shell may have started this with it ignored
    signal.signal(signal.SIGTERM, lambda *_: (_ for _ in ()).throw(KeyboardInterrupt()))
    port = choose_port(asked_port)
    if asked_port is None and port != DEFAULT_PORT:
        click.echo(f"Port {DEFAULT_PORT} is in use, so this one serves on {port}.")
    alone = hold_alone(home)
    parts: list[Part] = []
    cluster: Cluster | None = None
    try:
        environment = {**os.environ, "ZEMBRIK_HOME": str(home)}
        # Both load their code while the database starts, and wait for its address on standard input. Bakes are what
        # waits where several want a core: pages and their errands stay quick meanwhile.
        parts.append(Part("the web server", ["serve", "--port", str(port)], 0, environment))
        parts.append(Part("the worker for bakes", ["worker", "--alone", "--queue", "bakes"], 5, environment))
        for part in parts:
            part.launch()
        cluster, settings = prepare(home, fresh)
        for part in parts:
            part.tell_address(settings)
        wait_until_up(port, [part.process for part in parts if part.process is not None])
        # Nobody needs it before there is a page: it does not take a core from what the first one waits for.
        parts.append(Part("the worker for errands", ["worker", "--alone", "--queue", "errands"], 2, environment))
        parts[-1].launch()
        parts[-1].tell_address(settings)
        click.echo(f"Zembrik is up: http://127.0.0.1:{port}/   (Ctrl-C stops it)")
        sys.stdout.flush()
        while True:
            time.sleep(0.3)
            if not cluster.running():
                say("the database has stopped; it is started again")
                settings = Settings(home, cluster.start())
            for part in parts:
                part.see_to(settings)
    finally:
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        running = [part.process for part in parts if part.process is not None]
        for process in running:
            if process.poll() is None:
                process.terminate()
        for process in running:
            try:
                process.wait(8)
            except subprocess.TimeoutExpired:
                process.kill()  # it compiles, or is on a long frame: that frame is done again next time
        if cluster is not None:
            cluster.stop()
        alone.close()


@contextlib.contextmanager
def at_hand() -> Iterator[Settings]:
    """Give the installation's settings, running or not: its database is started for as long as this takes.

    Where ZEMBRIK_DATABASE names a database, it is that one.
    """
    home = home_folder()
    if address := os.environ.get("ZEMBRIK_DATABASE"):
        yield Settings(home, address)
        return
    cluster = Cluster(cluster_folder(home))
    if not (cluster.folder / "access.json").exists():
        raise Problem(f"there is no installation in {home}.", "start", "Set ZEMBRIK_HOME to the one that is meant.")
    running = cluster.running()
    try:
        yield Settings(home, cluster.start())
    finally:
        if not running:
            cluster.stop()


def restore(file: Path) -> None:
    """Bring a backup back into the home folder, which has to be empty, and its database up to date."""
    from zembrik.library.backup import restore as bring_back
    from zembrik.library.database import upgrade

    home = home_folder()
    alone = hold_alone(home)
    if read_identity(home) is not None:
        raise Problem("there is an installation here already.", str(home), "Set ZEMBRIK_HOME to an empty folder.")
    settle(home)
    cluster = Cluster(cluster_folder(home))
    try:
        settings = Settings(home, cluster.start())
        bring_back(settings, file)
        refuse_newer(settings)
        upgrade(settings)
        cluster.stop()
    except BaseException:
        cluster.remove()
        (home / IDENTITY).unlink(missing_ok=True)
        raise
    finally:
        alone.close()
