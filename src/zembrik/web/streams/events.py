"""The stream of events that an open page listens to."""

from __future__ import annotations

import asyncio

from fastapi import APIRouter, Request
from fastapi.responses import Response
from starlette.types import Receive, Scope, Send

from zembrik.web.changes import Changes, Page
from zembrik.web.fields import Asked

router = APIRouter()
ALIVE_S = 20.0  # between lines that say nothing, so that what lies between does not take the stream for dead
NOTHING = b":\n\n"


class Events(Response):
    """Server-sent events (WHATWG HTML) of a page, until it is closed or let go."""

    media_type = "text/event-stream"

    def __init__(self, changes: Changes, shot: int) -> None:
        super().__init__(headers={"Cache-Control": "no-store"})
        del self.headers["content-length"]
        self._changes, self._shot = changes, shot

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Send what there is to tell as it comes."""
        page = self._changes.join(self._shot)
        watch = asyncio.create_task(_closed(receive, page))
        later = asyncio.get_running_loop().call_later
        alive = later(ALIVE_S, page.send, NOTHING)
        try:
            await send({"type": "http.response.start", "status": 200, "headers": self.raw_headers})
            message: bytes | None = b"retry: 1000\n\n"
            while message is not None:
                await send({"type": "http.response.body", "body": message, "more_body": True})
                message = await page.waiting.get()
                if message == NOTHING:
                    alive = later(ALIVE_S, page.send, NOTHING)
            await send({"type": "http.response.body", "body": b""})
        finally:
            alive.cancel()
            watch.cancel()
            self._changes.leave(self._shot, page)


async def _closed(receive: Receive, page: Page) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass
    page.end()


@router.get("/events")
async def events(request: Request, shot: Asked = 0) -> Response:
    """Send what changes of a shot, or with 0 that anything did, for as long as the page is open."""
    return Events(request.app.state.changes, shot)
