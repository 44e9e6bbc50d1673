"""The web application: its pages, streams, errors and what they share."""

from __future__ import annotations

import gc
import threading
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, JSONResponse, Response
from fastapi.staticfiles import StaticFiles
from starlette.exceptions import HTTPException

from zembrik.core.problem import Problem
from zembrik.library.database import Database
from zembrik.library.settings import Settings
from zembrik.library.shots import Conflict, Refused
from zembrik.web.api import described
from zembrik.web.pages import (
    bakes,
    begin,
    bench,
    board,
    caches,
    deliver,
    deliveries,
    edits,
    errands,
    motion,
    placing,
    prepare,
    queue,
    review,
    table,
    takes,
    trials,
)
from zembrik.web.render import STATIC, templates
from zembrik.web.streams import air, colours, fit, frames, scene, status
from zembrik.web.wording import in_page_words


def _warm_up() -> None:
    """Load and compile what pages need, then take the libraries' objects out of the garbage collector's rounds.

    The solver and what it stands on take seconds to load: pages that do not ask for it are served meanwhile.
    """
    from zembrik.core.warm import warm_up

    warm_up()
    gc.collect()
    gc.freeze()  # without it, a round in the middle of a request takes 100 ms and more


def make_app(settings: Settings) -> FastAPI:
    """Return the application for one installation."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        app.state.settings = settings
        app.state.database = Database(settings)
        threading.Thread(target=_warm_up, daemon=True).start()
        yield
        app.state.database.engine.dispose()

    app = FastAPI(title="Zembrik", lifespan=lifespan, docs_url=None, redoc_url=None)
    app.mount("/static", StaticFiles(directory=STATIC), name="static")
    # The bench comes last: it takes any name of a station.
    for api in described.ROUTERS:
        app.include_router(api, include_in_schema=False)
    app.include_router(described.router)
    for pages in (
        board,
        scene,
        air,
        colours,
        fit,
        frames,
        status,
        edits,
        motion,
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
    app.add_exception_handler(Exception, _fault)
    return app


def _told(request: Request, status: int, what: str, remedy: str = "") -> Response:
    """Answer with a sentence: as a notice for the open page, or as a page of its own; to scripts as JSON."""
    words = {"status": status, "what": what, "remedy": remedy}
    if request.url.path.startswith("/api/"):
        return JSONResponse({"problem": {"what": what, "where": "", "remedy": remedy}}, status)
    if request.headers.get("hx-request"):
        html = templates.get_template("notice.html").render(words)
        return HTMLResponse(html, status, {"HX-Retarget": "#notices", "HX-Reswap": "beforeend"})
    return templates.TemplateResponse(request, "problem.html", words, status_code=status)


async def _problem(request: Request, problem: Exception) -> Response:
    assert isinstance(problem, Problem)
    status = 404 if problem.what.startswith("there is no") else 422
    if request.url.path.startswith("/api/"):
        told = {"what": problem.what, "where": problem.where, "remedy": problem.remedy}
        return JSONResponse({"problem": told}, 409 if isinstance(problem, Conflict) else status)
    if isinstance(problem, Refused):
        what = in_page_words(problem.what, problem.document)
        return _told(request, status, what[:1].upper() + what[1:], "Nothing was changed.")
    what = f"{problem.where}: {problem.what}" if "line" in problem.where or "." in problem.where else problem.what
    return _told(request, status, what[:1].upper() + what[1:], problem.remedy)


async def _http_error(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    if error.status_code == 404:
        return _told(request, 404, "There is no such page.", "Go back to the shots board.")
    return _told(request, error.status_code, str(error.detail))


async def _wrong_request(request: Request, error: Exception) -> Response:
    assert isinstance(error, RequestValidationError)
    first = error.errors()[0]
    place = ".".join(str(part) for part in first["loc"][1:])
    return _told(request, 422, f"{place}: {first['msg']}.", "Load the page again.")


async def _fault(request: Request, error: Exception) -> Response:
    del error  # uvicorn writes it to the log
    return _told(
        request, 500, "A fault in the program; nothing was changed.", "Load the page again; the log has the details."
    )
