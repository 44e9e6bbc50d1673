"""Whether a database is of this edition of the program, asked before anything is done with it."""

from __future__ import annotations

import psycopg

from zembrik.core.problem import Problem
from zembrik.library.ready import VERSIONS
from zembrik.library.settings import Settings

KNOWN = sorted(path.name.partition("_")[0] for path in VERSIONS.glob("[0-9]*.py"))


def database_version(settings: Settings) -> str | None:
    """Return the newest migration that has run; None for a database that is empty."""
    with psycopg.connect(settings.conninfo) as connection:
        try:
            row = connection.execute("SELECT version_num FROM alembic_version").fetchone()
        except psycopg.errors.UndefinedTable:
            return None
    return str(row[0]) if row else None


def refuse_newer(settings: Settings) -> str | None:
    """Raise a Problem for a database that a newer edition has written to; else return its version."""
    version = database_version(settings)
    if version is not None and version not in KNOWN:
        raise Problem(
            f"the database is of a newer edition of Zembrik ({version}); this one knows up to {KNOWN[-1]}.",
            "database", "Start the newer edition, or restore a backup that this one made.",
        )  # fmt: skip
    return version


def refuse_other(settings: Settings) -> None:
    """Raise a Problem for a database of any other edition: a server or worker beside the others changes no tables."""
    version = refuse_newer(settings)
    if version != KNOWN[-1]:
        raise Problem(
            f"the database is of an older edition of Zembrik ({version or 'empty'}); this one needs {KNOWN[-1]}.",
            "database", "Bring it up to date first: './zembrik upgrade', once, with everything else stopped.",
        )  # fmt: skip
