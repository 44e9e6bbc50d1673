"""Backups: database, meshes, caches and deliveries in one file, made while everything runs, and brought back.

The database is read first, at one moment (pg_dump, in one transaction). What is on record then is on disk, and stays:
frames are only added to a cache, and of each cache the heads are read before the frames that they name.
"""

from __future__ import annotations

import datetime
import json
import os
import secrets
import shutil
import subprocess
import tarfile
import tempfile
import uuid
from collections.abc import Iterator
from io import BytesIO
from pathlib import Path
from urllib.parse import unquote, urlsplit

from zembrik import __version__
from zembrik.core.problem import Problem
from zembrik.library.cluster import programs
from zembrik.library.settings import Settings
from zembrik.library.version import database_version

HEAD, DUMP = "backup.json", "database.dump"
KINDS = ("assets", "caches", "deliveries")


def back_up(settings: Settings, target: Path, leave_out: tuple[str, ...] = ()) -> int:
    """Write a backup and return its bytes; the file is there whole or not at all.

    Args:
        settings: the installation's; everything may be running.
        target: the file, a tar.
        leave_out: of KINDS; caches that are left out are baked again when they are wanted.

    Raises:
        Problem: when the database or the disk refuses.
    """
    part = target.with_name(f".{target.name}.{os.getpid()}.part")
    try:
        with tempfile.TemporaryDirectory(prefix="zembrik-backup-") as room, tarfile.open(part, "w") as tar:
            dump = Path(room) / DUMP
            _run(settings, "pg_dump", "-Fc", "-f", str(dump))
            head = {
                "zembrik": __version__, "database": database_version(settings), "left_out": list(leave_out),
                "made": datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds"),
            }  # fmt: skip
            text = json.dumps(head, indent=1).encode()
            entry = tarfile.TarInfo(HEAD)
            entry.size = len(text)
            tar.addfile(entry, BytesIO(text))
            tar.add(dump, DUMP)
            for kind in KINDS:
                if kind not in leave_out:
                    for path in _files(settings.home / kind):
                        _add(tar, path, path.relative_to(settings.home).as_posix())
        os.replace(part, target)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise Problem(f"the backup cannot be written: {error.strerror}.", str(target), "Is there room?") from None
    except BaseException:
        part.unlink(missing_ok=True)
        raise
    return target.stat().st_size


def _files(folder: Path) -> Iterator[Path]:
    """Return all files below a folder: of each cache its heads before its frames, and no file half written."""
    for path in sorted(folder.iterdir()) if folder.is_dir() else ():
        if path.is_dir():
            if path.suffix == ".zarr":
                yield from sorted(p for p in path.rglob("*") if p.is_dir())  # an empty one waits for its frames
                every = sorted(p for p in path.rglob("*") if p.is_file())
                heads = [p for p in every if "c" not in p.relative_to(path).parts]
                yield from heads
                yield from (p for p in path.rglob("*") if p.is_file() and p not in set(heads))
            else:
                yield from _files(path)
        elif not path.name.endswith(".part"):
            yield path


def _add(tar: tarfile.TarFile, path: Path, name: str) -> None:
    if path.name.endswith(".part"):
        return
    if path.is_dir():
        tar.add(path, name, recursive=False)
        return
    try:
        with path.open("rb") as file:
            entry = tar.gettarinfo(arcname=name, fileobj=file)
            tar.addfile(entry, file)
    except FileNotFoundError:
        return  # it was removed meanwhile; the record of it is told as missing after a restore


def restore(settings: Settings, source: Path) -> None:
    """Bring a backup back into an empty home with an empty database.

    What is restored is an installation of its own: with another identity, and no session of the old one is valid.

    Raises:
        Problem: when the home is not empty, or the file is no backup.
    """
    if any((settings.home / kind).exists() and any((settings.home / kind).iterdir()) for kind in KINDS):
        raise Problem("the home is not empty.", str(settings.home), "Set ZEMBRIK_HOME to a folder that is.")
    settings.make_folders()
    try:
        with tarfile.open(source) as tar, tempfile.TemporaryDirectory(prefix="zembrik-restore-") as room:
            names = set()
            for entry in tar:
                names.add(entry.name)
                kind = entry.name.partition("/")[0]
                if entry.name in (HEAD, DUMP):
                    tar.extract(entry, room, filter="data")
                elif kind in KINDS and (entry.isfile() or entry.isdir()):
                    tar.extract(entry, settings.home, filter="data")
                else:
                    raise Problem(f"'{entry.name[:80]}' is nothing of a backup.", source.name, "Choose another file.")
            if not {HEAD, DUMP} <= names:
                raise Problem("the file is no backup, or not a whole one.", source.name, "Choose another file.")
            _run(settings, "pg_restore", "--no-owner", "--exit-on-error", str(Path(room) / DUMP))
    except (tarfile.TarError, EOFError) as error:
        _clear(settings)
        raise Problem(f"the file is no backup, or is damaged: {error}.", source.name, "Choose another file.") from None
    except (OSError, Problem) as error:
        _clear(settings)
        if isinstance(error, Problem):
            raise
        raise Problem(f"the backup cannot be read: {error.strerror}.", str(source)) from None
    _new_identity(settings)


def _clear(settings: Settings) -> None:
    for kind in KINDS:
        shutil.rmtree(settings.home / kind, ignore_errors=True)


def _new_identity(settings: Settings) -> None:
    import psycopg

    with psycopg.connect(settings.conninfo) as connection:
        for name, value in (("identity", str(uuid.uuid4())), ("secret", secrets.token_urlsafe(48))):
            try:
                with connection.transaction():
                    connection.execute("UPDATE installation SET value = %s WHERE name = %s", (value, name))
            except psycopg.errors.UndefinedTable:
                return  # of before there were identities: bringing it up to date makes one


def _run(settings: Settings, program: str, *words: str) -> None:
    """Run one of PostgreSQL's programs on the database; its password goes by the environment, which others cannot see.

    Raises:
        Problem: with its last line when it fails.
    """
    url = urlsplit(settings.conninfo)
    environment = {k: v for k, v in os.environ.items() if not k.startswith("PG")} | {
        "PGPASSWORD": unquote(url.password or ""), "PGHOST": url.hostname or "", "PGPORT": str(url.port or 5432),
        "PGUSER": unquote(url.username or ""),
    }  # fmt: skip
    command = [str(programs() / program), "-d", url.path.lstrip("/"), *words]
    done = subprocess.run(command, capture_output=True, text=True, env=environment)
    if done.returncode:
        last = (done.stderr.strip().splitlines() or ["no reason given"])[-1]
        raise Problem(f"{program} failed: {last}.", "database", "Is the database running?")
