"""The web application: its pages, streams, errors and what they share."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from functools import partial

from fastapi import Depends, FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import Response
from fastapi.staticfiles import StaticFiles
from sqlalchemy.exc import DataError
from starlette.exceptions import HTTPException

from zembrik.core.problem import Problem
from zembrik.library.database import Database
from zembrik.library.settings import Settings
from zembrik.library.shots import Conflict, Refused
from zembrik.web.api import described
from zembrik.web.changes import Changes
from zembrik.web.fields import plain_values
from zembrik.web.gate import Gate
from zembrik.web.pages import (
    account,
    bakes,
    begin,
    bench,
    board,
    caches,
    deliver,
    deliveries,
    edits,
    errands,
    hand,
    handing,
    joints,
    layers,
    motion,
    placing,
    prepare,
    queue,
    review,
    table,
    takes,
    trials,
)
from zembrik.web.render import STATIC
from zembrik.web.sessions import Doors
from zembrik.web.streams import air, colours, events, fit, frames, live, scene, status
from zembrik.web.streams.live import LiveRuns
from zembrik.web.streams.status import status_grown, status_of
from zembrik.web.told import told
from zembrik.web.wording import in_page_words


def _warm_up() -> None:
    """Load and compile what pages need, then take the libraries' objects out of the garbage collector's rounds.

    The solver and what it stands on take seconds to load: pages that do not ask for it are served meanwhile.
    """
    from zembrik.core.warm import warm_up

    warm_up()
    gc.collect()
    gc.freeze()  # without it, a round in the middle of a request takes 100 ms and more


def make_app(settings: Settings, names: tuple[str, ...] = (), by_itself: bool = True) -> FastAPI:
    """Return the application for one installation.

    Args:
        settings: where everything lies.
        names: host names of this server, besides those of loopback.
        by_itself: whether who comes over loopback is signed in without a password.
    """

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        app.state.settings = settings
        app.state.database = database = Database(settings)
        app.state.doors = Doors(database, names, by_itself)
        app.state.live = LiveRuns()
        app.state.changes = Changes(settings, partial(status_of, database), partial(status_grown, database))
        listening = asyncio.create_task(app.state.changes.listen())
        threading.Thread(target=_warm_up, daemon=True).start()
        yield
        listening.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await listening
        database.engine.dispose()

    app = FastAPI(
        title="Zembrik", lifespan=lifespan, docs_url=None, redoc_url=None, openapi_url=None,
        dependencies=[Depends(plain_values)],
    )  # fmt: skip
    app.add_middleware(Gate)
    app.mount("/static", StaticFiles(directory=STATIC), name="static")
    # The bench comes last: it takes any name of a station.
    for api in described.ROUTERS:
        app.include_router(api, include_in_schema=False)
    app.include_router(described.router)
    for pages in (
        account,
        board,
        scene,
        air,
        colours,
        fit,
        frames,
        status,
        events,
        live,
        edits,
        motion,
        joints,
        hand,
        handing,
        layers,
        placing,
        takes,
        caches,
        queue,
        review,
        errands,
        prepare,
        begin,
        table,
        bakes,
        trials,
        deliveries,
        deliver,
        bench,
    ):
        app.include_router(pages.router)
    app.add_exception_handler(Problem, _problem)
    app.add_exception_handler(HTTPException, _http_error)
    app.add_exception_handler(RequestValidationError, _wrong_request)
    app.add_exception_handler(DataError, _no_value)
    app.add_exception_handler(Exception, _fault)
    return app


async def _problem(request: Request, problem: Exception) -> Response:
    assert isinstance(problem, Problem)
    status = 404 if problem.what.startswith("there is no") else 422
    if request.url.path.startswith("/api/"):
        return told(
            request, 409 if isinstance(problem, Conflict) else status, problem.what, problem.remedy, problem.where
        )
    if isinstance(problem, Refused):
        what = in_page_words(problem.what, problem.document)
        return told(request, status, what[:1].upper() + what[1:], "Nothing was changed.")
    what = f"{problem.where}: {problem.what}" if "line" in problem.where or "." in problem.where else problem.what
    return told(request, status, what[:1].upper() + what[1:], problem.remedy)


async def _http_error(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    if error.status_code == 404:
        return told(request, 404, "There is no such page.", "Go back to the shots board.")
    return told(request, error.status_code, str(error.detail), getattr(error, "remedy", ""))


async def _wrong_request(request: Request, error: Exception) -> Response:
    assert isinstance(error, RequestValidationError)
    first = error.errors()[0]
    place = ".".join(str(part) for part in first["loc"][1:])[:200] or "what was sent"
    return told(request, 422, f"{place}: {first['msg']}.", "Load the page again.")


async def _no_value(request: Request, error: Exception) -> Response:
    assert isinstance(error, DataError)
    return told(request, 422, f"A value cannot be kept: {str(error.orig).partition(chr(10))[0]}.", "Give another one.")


async def _fault(request: Request, error: Exception) -> Response:
    del error  # uvicorn writes it to the log
    return told(
        request, 500, "A fault in the program; nothing was changed.", "Load the page again; the log has the details."
    )
