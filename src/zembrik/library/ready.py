"""Whether a database is up to date and filled, asked without loading what would bring it there."""

from __future__ import annotations

from pathlib import Path

import psycopg

from zembrik.library.settings import Settings

VERSIONS = Path(__file__).parent / "migrations" / "versions"


def is_ready(settings: Settings) -> bool:
    """Tell whether the newest migration has run, and there is a show and an account."""
    newest = max(path.name.partition("_")[0] for path in VERSIONS.glob("[0-9]*.py"))
    try:
        with psycopg.connect(settings.conninfo) as connection:
            version = connection.execute("SELECT version_num FROM alembic_version").fetchone()
            show = connection.execute("SELECT 1 FROM show LIMIT 1").fetchone()
            account = connection.execute("SELECT 1 FROM account WHERE ended IS NULL LIMIT 1").fetchone()
    except psycopg.errors.UndefinedTable:
        return False
    return version == (newest,) and show is not None and account is not None


def database_identity(settings: Settings) -> str:
    """Return what tells this database from others."""
    with psycopg.connect(settings.conninfo) as connection:
        row = connection.execute("SELECT value FROM installation WHERE name = 'identity'").fetchone()
    return str(row[0]) if row else ""
