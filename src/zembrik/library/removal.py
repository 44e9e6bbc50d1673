"""What is removed for good: who did it is kept, and files go only once nothing on record names them.

A file cannot be brought back when a transaction is taken back; so it goes after the commit. A program that dies in
between leaves folders that nothing names: they are found here, and told on Caches.
"""

from __future__ import annotations

import shutil
from pathlib import Path

from sqlalchemy import event, select
from sqlalchemy.orm import Session

from zembrik.library.models import CacheRecord, Removal
from zembrik.library.settings import Settings


def removed(session: Session, what: str) -> None:
    """Keep who removed something, and when."""
    session.add(Removal(what=what[:500]))


def remove_after_commit(session: Session, settings: Settings, folder: str) -> None:
    """Remove a cache's folder once the session's transaction is through; nothing happens if it is taken back."""
    path = settings.caches / folder

    @event.listens_for(session, "after_commit", once=True)
    def _gone(_: Session) -> None:
        shutil.rmtree(path, ignore_errors=True)


def last_removals(session: Session, most: int = 12) -> list[Removal]:
    """Return what was removed last, the newest first."""
    return list(session.scalars(select(Removal).order_by(Removal.id.desc()).limit(most)))


def leftovers(session: Session, settings: Settings) -> list[Path]:
    """Return the folders of caches that nothing on record names."""
    # The folders first: what is made meanwhile is on record before it is on disk.
    found = sorted(settings.caches.glob("*/*.zarr")) if settings.caches.is_dir() else []
    named = set(session.scalars(select(CacheRecord.folder)))
    return [path for path in found if path.relative_to(settings.caches).as_posix() not in named]


def remove_leftovers(session: Session, settings: Settings) -> int:
    """Remove what nothing names; return how many folders went."""
    found = leftovers(session, settings)
    for path in found:
        shutil.rmtree(path, ignore_errors=True)
    if found:
        removed(session, f"{len(found)} cache folder{'s' if len(found) > 1 else ''} that nothing named")
    return len(found)
