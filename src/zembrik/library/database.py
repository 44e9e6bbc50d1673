"""Sessions, and bringing the database up to date."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy import create_engine, func, select
from sqlalchemy.orm import Session, sessionmaker

from zembrik.library.models import Show
from zembrik.library.settings import Settings


class Database:
    """Gives sessions; each is one transaction."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.engine = create_engine(settings.database_url, pool_size=10, max_overflow=20, pool_pre_ping=True)
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)

    @contextmanager
    def session(self) -> Iterator[Session]:
        """Yield a session that is committed at the end, or rolled back on an error.

        A commit in between lets go of the connection; the next query takes one again.
        """
        session = self._sessions()
        try:
            yield session
            session.commit()
        except BaseException:
            session.rollback()
            raise
        finally:
            session.close()

    def is_empty(self) -> bool:
        """Tell whether there is no show yet."""
        with self.session() as session:
            return session.scalar(select(func.count(Show.id))) == 0


def upgrade(settings: Settings) -> None:
    """Run the migrations that are still to run."""
    from alembic import command  # only the start command needs it
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["database_url"] = settings.database_url
    command.upgrade(config, "head")
