"""What changes in the database, passed on to all pages that are open, so that none of them has to ask.

The database tells of changes by NOTIFY (see migration 0010); one connection listens for the whole server. What is told
of a shot is computed once, however many pages show it.
"""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import Callable
from typing import Any, NamedTuple

import psycopg
from starlette.concurrency import run_in_threadpool

from zembrik.library.settings import Settings

CHANNEL = "zembrik"
GAP_S = 0.28  # between two tellings of one shot: a bake says four times a second how far it is
LATE = 64  # of messages that a page has not taken; it is let go then, connects anew and asks for all there is
SHORTEST_PAUSE_S, LONGEST_PAUSE_S = 0.2, 5.0  # between two tries to reach a database that is away
log = logging.getLogger("zembrik.changes")
ANY = 0  # stands for the changes of all shots

Status = dict[str, Any]
Whole = Callable[[int, int, int], Status]  # of a shot, with the figures after those known of a bake
Grown = Callable[[Status], Status]  # the same, where only the frames of its bake are more


class Change(NamedTuple):
    """A row that was written: its table, its shot and its own number."""

    table: str
    shot: int
    number: int


def as_event(name: str, data: Any) -> bytes:
    """Return a server-sent event (WHATWG HTML, "Server-sent events")."""
    return f"event: {name}\ndata: {json.dumps(data, separators=(',', ':'))}\n\n".encode()


class Page:
    """An open page: what is still to be sent to it; None ends it."""

    def __init__(self) -> None:
        self.waiting: asyncio.Queue[bytes | None] = asyncio.Queue()
        self._late = False

    def tell(self, event: str, data: Any) -> None:
        """Put an event on its way."""
        self.send(as_event(event, data))

    def end(self) -> None:
        """Let the page go."""
        self._late = True
        self.waiting.put_nowait(None)

    def send(self, message: bytes) -> None:
        """Put a message on its way; a page that takes nothing any more is let go."""
        if not self._late:
            self._late = self.waiting.qsize() >= LATE
            self.waiting.put_nowait(None if self._late else message)


class Changes:
    """Tells pages what changed."""

    def __init__(self, settings: Settings, whole: Whole, grown: Grown) -> None:
        self._settings, self._whole, self._grown = settings, whole, grown
        self._pages: dict[int, set[Page]] = {}
        self._due: dict[int, asyncio.TimerHandle] = {}  # the next telling of a shot
        self._told: dict[int, float] = {}  # when a shot was told of last, s
        self._last: dict[int, Status] = {}  # what was told of a shot last
        self._more: set[int] = set()  # shots of which more changed than the frames of their bake
        self._tasks: set[asyncio.Task[None]] = set()

    def join(self, shot: int) -> Page:
        """Return a page that is told of a shot's changes, or of any."""
        page = Page()
        self._pages.setdefault(shot, set()).add(page)
        return page

    def leave(self, shot: int, page: Page) -> None:
        """Let go of a page that was closed."""
        self._pages.get(shot, set()).discard(page)
        if not self._pages.get(shot):
            for held in (self._pages, self._told, self._last):
                held.pop(shot, None)
            self._more.discard(shot)
            if timer := self._due.pop(shot, None):
                timer.cancel()

    async def listen(self) -> None:
        """Pass on what the database tells until this is cancelled; one that is away is waited for."""
        pause = SHORTEST_PAUSE_S
        while True:
            try:
                address = self._settings.conninfo
                async with await psycopg.AsyncConnection.connect(address, autocommit=True) as connection:
                    await connection.execute(f"LISTEN {CHANNEL}")
                    pause = SHORTEST_PAUSE_S
                    for shot in list(self._pages):  # what was told meanwhile was lost
                        self._heard(Change("shot", shot, shot))
                    async for notice in connection.notifies():
                        table, of, number = notice.payload.split()
                        self._heard(Change(table, int(of), int(number)))
            except psycopg.Error as error:
                log.warning("waiting for the database: %s", str(error).partition("\n")[0])
            await asyncio.sleep(pause)
            pause = min(2 * pause, LONGEST_PAUSE_S)

    def _heard(self, change: Change) -> None:
        if change.table == "errand":
            for page in self._pages.get(change.shot, ()):
                page.tell("errand", change.number)
        elif change.shot in self._pages:
            if change.table != "cache":
                self._more.add(change.shot)
            self._plan(change.shot)
        if ANY in self._pages:
            self._plan(ANY)

    def _plan(self, shot: int) -> None:
        """See to it that a shot is told of soon, once for all that changes until then."""
        if shot not in self._due:
            loop = asyncio.get_running_loop()
            when = max(loop.time(), self._told.get(shot, 0.0) + GAP_S)
            self._due[shot] = loop.call_at(when, self._begin, shot)

    def _begin(self, shot: int) -> None:
        task = asyncio.get_running_loop().create_task(self._tell(shot))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _tell(self, shot: int) -> None:
        self._due.pop(shot, None)
        self._told[shot] = asyncio.get_running_loop().time()
        if shot == ANY:
            message = as_event("work", {})
        else:
            last = self._last.get(shot)
            bake = last["bake"] if last else None
            try:
                if last and bake and bake["state"] == "running" and shot not in self._more:
                    status = await run_in_threadpool(self._grown, last)
                else:
                    self._more.discard(shot)
                    known = (bake["done"], bake["id"]) if bake else (0, 0)
                    status = await run_in_threadpool(self._whole, shot, *known)
            except Exception as error:  # the shot was deleted, or the database is away: the page asks again by itself
                log.warning("shot %s: %r", shot, error)
                return
            if shot in self._pages:
                self._last[shot] = status
            message = as_event("status", status)
        for page in self._pages.get(shot, ()):
            page.send(message)
