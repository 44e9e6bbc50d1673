"""Answers that are a sentence: what is wrong, and what to do."""

from __future__ import annotations

from fastapi import Request
from fastapi.responses import HTMLResponse, JSONResponse, Response

from zembrik.web.render import templates


def told(request: Request, status: int, what: str, remedy: str = "", where: str = "") -> Response:
    """Answer with a sentence: as a notice for the open page, or as a page of its own; to scripts as JSON.

    No answer tells where the server keeps its files.
    """
    settings = getattr(request.app.state, "settings", None)
    if settings is not None:
        what, remedy, where = (text.replace(str(settings.home), "…") for text in (what, remedy, where))
    if request.url.path.startswith("/api/"):
        return JSONResponse({"problem": {"what": what, "where": where, "remedy": remedy}}, status)
    words = {"status": status, "what": what, "remedy": remedy}
    if request.headers.get("hx-request"):
        html = templates.get_template("notice.html").render(words)
        return HTMLResponse(html, status, {"HX-Retarget": "#notices", "HX-Reswap": "beforeend"})
    return templates.TemplateResponse(request, "problem.html", words, status_code=status)
