"""How long work tells how far it is, and is told to stop."""

from __future__ import annotations

from collections.abc import Callable

# Called with what is done and the whole, both in steps of the work's own; False asks the work to stop.
Tell = Callable[[int, int], bool]


class Stopped(Exception):
    """Work was asked to stop and did, with nothing changed."""


def silent(done: int, total: int) -> bool:
    """Tell nobody, and never stop."""
    return True


def step(tell: Tell, done: int, total: int) -> None:
    """Tell how far it is; raises Stopped when asked to stop."""
    if not tell(done, total):
        raise Stopped
