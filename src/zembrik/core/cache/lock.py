"""Approved caches: a mark in the cache's folder, which everything that would write there looks at first."""

from __future__ import annotations

from pathlib import Path

from zembrik.core.cache.layout import write_whole
from zembrik.core.problem import Problem

NAME = "approved"


def is_locked(path: Path) -> bool:
    """Whether a cache is approved."""
    return (path / NAME).exists()


def lock(path: Path, words: str) -> None:
    """Approve a cache; the words say by whom and when."""
    try:
        write_whole(path / NAME, words.encode())
    except OSError as error:
        raise Problem(f"the cache cannot be approved: {error.strerror}.", str(path), "Is it still there?") from None


def unlock(path: Path) -> None:
    """Take the approval back."""
    (path / NAME).unlink(missing_ok=True)


def check_unlocked(path: Path) -> None:
    """Raise a Problem when a cache is approved."""
    if is_locked(path):
        raise Problem("the cache is approved, so nothing may change it.", str(path), "Take the approval back first.")
