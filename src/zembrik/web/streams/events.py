"""The stream of events that an open page listens to."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator

from fastapi import APIRouter, Request
from fastapi.responses import StreamingResponse

from zembrik.web.changes import Changes
from zembrik.web.fields import Asked

router = APIRouter()
ALIVE_S = 20.0  # a line that says nothing, so that what lies between does not take the stream for dead


@router.get("/events")
async def events(request: Request, shot: Asked = 0) -> StreamingResponse:
    """Send what changes of a shot, or with 0 that anything did, for as long as the page is open."""
    changes: Changes = request.app.state.changes
    page = changes.join(shot)

    async def stream() -> AsyncIterator[str]:
        try:
            yield "retry: 1000\n\n"
            while True:
                try:
                    message = await asyncio.wait_for(page.waiting.get(), ALIVE_S)
                except TimeoutError:
                    message = ":\n\n"
                if message is None:
                    return
                yield message
        finally:
            changes.leave(shot, page)

    return StreamingResponse(stream(), media_type="text/event-stream", headers={"Cache-Control": "no-store"})
