"""Who does what is being done: kept beside every revision, bake, delivery, approval and removal."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

_author: ContextVar[str] = ContextVar("author", default="")


def author() -> str:
    """Return the name of the account that acts; empty for the program itself."""
    return _author.get()


@contextmanager
def acting_as(name: str) -> Iterator[None]:
    """Let what is written meanwhile, in this thread or task, be by somebody."""
    token = _author.set(name)
    try:
        yield
    finally:
        _author.reset(token)
