"""Where everything lies, and how to reach the database."""

from __future__ import annotations

import os
import signal
import sys
import threading
import time
from dataclasses import dataclass
from pathlib import Path

from zembrik.core.problem import Problem


@dataclass(frozen=True)
class Settings:
    """The places of one installation.

    Attributes:
        home: the folder of assets, caches and deliveries.
        database_url: as SQLAlchemy wants it, with the psycopg driver.
    """

    home: Path
    database_url: str

    @property
    def assets(self) -> Path:
        """Mesh files by their content's hash."""
        return self.home / "assets"

    @property
    def caches(self) -> Path:
        """One Zarr group a bake."""
        return self.home / "caches"

    @property
    def deliveries(self) -> Path:
        """One folder a delivery."""
        return self.home / "deliveries"

    @property
    def conninfo(self) -> str:
        """The database address as psycopg wants it."""
        return self.database_url.replace("postgresql+psycopg://", "postgresql://", 1)

    def make_folders(self) -> None:
        """Create the folders."""
        for folder in (self.assets, self.caches, self.deliveries):
            folder.mkdir(parents=True, exist_ok=True)


def refuse_missing(settings: Settings) -> None:
    """Raise a Problem when the folder of all caches is not there: its disk is away, and nothing may be made instead."""
    if not settings.caches.is_dir():
        raise Problem(
            "the folder of all caches is not there.", str(settings.caches),
            "Is its disk mounted? Once it is back, try again on the Queue page.",
        )  # fmt: skip


def _end_with(parent: int) -> None:
    """End this process in order once its parent is gone, even if that was killed."""
    while os.getppid() == parent:
        time.sleep(0.5)
    os.kill(os.getpid(), signal.SIGTERM)


def settings_from_environment(told: bool = False) -> Settings:
    """Return the settings that the start command put into the environment.

    With `told`, the database's address is not there yet: it comes as one line on standard
    input, once the database is up and migrated. Until then the process loads its code.
    """
    try:
        home = Path(os.environ["ZEMBRIK_HOME"])
        if told:
            threading.Thread(target=_end_with, args=(os.getppid(),), daemon=True).start()
            address = sys.stdin.readline().strip()
            if not address:
                raise SystemExit(0)  # whoever started this gave up
            return Settings(home, address)
        return Settings(home, os.environ["ZEMBRIK_DATABASE"])
    except KeyError as missing:
        raise SystemExit(f"{missing} is not set: start with './zembrik demo', or set it by hand.") from None
