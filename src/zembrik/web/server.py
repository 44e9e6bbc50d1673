"""The server that pages come from: where it listens, and how long it waits for whom."""

from __future__ import annotations

import asyncio
from typing import Any

import uvicorn
from uvicorn.protocols.http.h11_impl import H11Protocol

from zembrik.core.problem import Problem
from zembrik.library.accounts import any_account
from zembrik.library.database import Database
from zembrik.library.settings import Settings
from zembrik.library.version import refuse_other
from zembrik.web.app import make_app
from zembrik.web.sessions import is_loopback

HEAD_S = 15.0  # for the head of a request, from its first byte or from when the connection was made
IDLE_S = 20  # between two requests on one connection
LIVE_BYTES = 1 << 18  # of a message over a WebSocket
LEAVE_S = 1  # for what is still being answered when the server is to end; streams of events go on for ever


class Impatient(H11Protocol):
    """Lets go of a connection whose request does not begin, or whose head does not end, in time."""

    def connection_made(self, transport: Any) -> None:
        """Wait for the first request."""
        super().connection_made(transport)
        self._expect_head()

    def data_received(self, data: bytes) -> None:
        """Take bytes in; a head that is not whole yet has a bounded time."""
        super().data_received(data)
        if getattr(self, "_upgraded", False):
            return
        if self.cycle is None or self.cycle.response_complete:
            if not hasattr(self, "_head") or self._head is None:
                self._expect_head()
        else:
            self._head_came()

    def handle_websocket_upgrade(self, event: Any) -> None:
        """Hand the connection on: its time is another's from now on."""
        self._head_came()
        super().handle_websocket_upgrade(event)
        self._upgraded = True

    def connection_lost(self, exc: Exception | None) -> None:
        """Wait for nothing any more."""
        self._head_came()
        super().connection_lost(exc)

    def _expect_head(self) -> None:
        self._head: asyncio.TimerHandle | None = self.loop.call_later(HEAD_S, self._give_up)

    def _head_came(self) -> None:
        if getattr(self, "_head", None) is not None:
            assert self._head is not None
            self._head.cancel()
        self._head = None

    def _give_up(self) -> None:
        self._head = None
        if (self.cycle is None or self.cycle.response_complete) and not self.transport.is_closing():
            self.transport.close()


def run(settings: Settings, host: str, port: int, names: tuple[str, ...] = (), sign_in: bool = False) -> None:
    """Serve until told to stop.

    Raises:
        Problem: on another address than loopback when there is no account: everybody would come in.
    """
    refuse_other(settings)
    if not is_loopback(host):
        database = Database(settings)
        with database.session() as session:
            known = any_account(session)
        database.engine.dispose()
        if not known:
            raise Problem(
                f"on {host} anybody could come in: there is no account yet.", "serve",
                "Make one first: './zembrik account NAME'.",
            )  # fmt: skip
        names = (*names, host) if host not in ("0.0.0.0", "::") else names
    by_itself = is_loopback(host) and not names and not sign_in
    uvicorn.run(
        make_app(settings, names, by_itself), host=host, port=port, log_level="warning", http=Impatient,
        timeout_keep_alive=IDLE_S, timeout_graceful_shutdown=LEAVE_S, server_header=False, proxy_headers=False,
        ws="wsproto", ws_max_size=LIVE_BYTES,
    )  # fmt: skip
