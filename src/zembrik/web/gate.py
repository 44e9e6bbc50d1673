"""What every request passes first: whose server is meant, from where it comes, how large it is, and who asks."""

from __future__ import annotations

import asyncio
import hmac
from collections.abc import MutableMapping
from typing import Any
from urllib.parse import parse_qs, quote, urlsplit

from fastapi import Request
from fastapi.exceptions import HTTPException
from fastapi.responses import RedirectResponse, Response
from starlette.concurrency import run_in_threadpool
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from zembrik.library.author import acting_as
from zembrik.web.sessions import Doors, is_loopback
from zembrik.web.told import told

OPEN = ("/static/", "/sign-in")  # what anybody may see
SAFE = ("GET", "HEAD", "OPTIONS")
FORM_TOKEN = "form_token"
PLAIN_BYTES, UPLOAD_BYTES = 16 << 20, 1 << 30  # of a request's body: of a form or a document, and of mesh files
PIECE_S, BODY_S = 20.0, 900.0  # between two pieces of a body, and for all of it
POLICY = "; ".join([
    "default-src 'none'", "script-src 'self'", "style-src 'self'", "img-src 'self' blob: data:", "font-src 'self'",
    "connect-src 'self'", "form-action 'self'", "frame-ancestors 'none'", "base-uri 'none'",
])  # fmt: skip
HEADERS = {
    "content-security-policy": POLICY,
    "x-content-type-options": "nosniff",
    "x-frame-options": "DENY",
    "referrer-policy": "same-origin",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
}


class Refusal(HTTPException):
    """A request that is not let through."""

    def __init__(self, status: int, what: str, remedy: str = "") -> None:
        self.remedy = remedy
        super().__init__(status, what)


class Gate:
    """Lets through what may come in, bounded in size and time."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request, or refuse it."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        request = Request(scope, receive)
        doors: Doors = scope["app"].state.doors
        begun = [False]

        async def guarded(message: Message) -> None:
            if message["type"] == "http.response.start":
                begun[0] = True
                held = {name for name, _ in message["headers"]}
                added = [(n.encode(), v.encode()) for n, v in HEADERS.items() if n.encode() not in held]
                message = {**message, "headers": [*message["headers"], *added]}
            await send(message)

        try:
            _refuse_strangers(request, doors)
            bounded = Bounded(receive, _most_bytes(request))
            answer = await self._signed_in(request, doors, bounded)
            if answer is not None:
                await answer(scope, receive, guarded)
                return
            with acting_as(scope["state"]["who"].name):
                await self.app(scope, bounded, guarded)
        except Refusal as refusal:
            if not begun[0]:
                answer = told(request, refusal.status_code, refusal.detail, refusal.remedy)
                answer.headers["connection"] = "close"
                await answer(scope, receive, guarded)

    async def _signed_in(self, request: Request, doors: Doors, body: Bounded) -> Response | None:
        """Put who asks, and the token of their forms, into the request's state; else return where to sign in."""
        who = await run_in_threadpool(doors.who, request)
        path = request.url.path
        if who is None and not path.startswith(OPEN):
            if path.startswith("/api/"):
                return told(request, 401, "Nobody is signed in.", "Send a token: Authorization: Bearer …")
            if request.headers.get("hx-request"):
                return Response(status_code=204, headers={"HX-Redirect": "/sign-in"})
            asked = path + (f"?{request.url.query}" if request.url.query else "")
            return RedirectResponse(f"/sign-in?to={quote(asked) if request.method == 'GET' else '/'}", 303)
        known = who or ANYBODY
        token = await run_in_threadpool(doors.form_token, known)
        request.scope.setdefault("state", {}).update(who=known, form_token=token)
        if request.method not in SAFE and not _by_script(request):
            sent = request.headers.get("x-form-token") or await _typed_token(request, body)
            if not hmac.compare_digest(sent.encode(), token.encode()):
                raise Refusal(403, "This form is not of this session.", "Load the page again, then send it.")
        return None


class _Anybody:
    id, name, stamp = 0, "", 0


ANYBODY: Any = _Anybody()


def _by_script(request: Request) -> bool:
    """Tell whether a request is a script's: no browser sends it by itself, so no other site's page can."""
    return "authorization" in request.headers or (
        request.url.path.startswith("/api/") and "cookie" not in request.headers
    )


def _refuse_strangers(request: Request, doors: Doors) -> None:
    """Refuse what names another server, or comes from another site's page."""
    host = request.headers.get("host", "")
    name = urlsplit(f"//{host}").hostname or ""
    if not (is_loopback(name) or name in doors.names):
        raise Refusal(421, f"This server is not called '{name[:80]}'.", "Start it with --name to have it so called.")
    if request.method in SAFE:
        return
    origin, site = request.headers.get("origin"), request.headers.get("sec-fetch-site", "none")
    if site not in ("same-origin", "none") or (origin is not None and urlsplit(origin).netloc != host):
        raise Refusal(403, "This comes from a page of another site.", "Do it on the page here.")


def _most_bytes(request: Request) -> int:
    path = request.url.path
    uploads = path == "/api/assets" or (path.startswith(("/shots/", "/api/shots/")) and path.endswith("/upload"))
    most = UPLOAD_BYTES if uploads else PLAIN_BYTES
    declared = request.headers.get("content-length", "0")
    if not declared.isascii() or not declared.isdigit():
        raise Refusal(400, "The length of what was sent is no number.")
    if len(declared) > 15 or int(declared) > most:
        raise Refusal(413, f"What was sent is larger than {most >> 20} MiB.", "Send less at once.")
    return most


class Bounded:
    """Takes a request's body in, piece by piece, bounded in size and time; what was taken in ahead is given again."""

    def __init__(self, receive: Receive, most: int) -> None:
        self._receive, self._left = receive, most
        self._ahead: list[MutableMapping[str, Any]] = []
        self._until: float | None = None
        self._whole = False

    async def __call__(self) -> Message:
        """Return the next message of the body."""
        return self._ahead.pop(0) if self._ahead else await self._next()

    async def _next(self) -> Message:
        if self._whole:
            return await self._receive()  # waits until the page is gone
        now = asyncio.get_running_loop().time()
        self._until = self._until or now + BODY_S
        try:
            message = await asyncio.wait_for(self._receive(), max(min(PIECE_S, self._until - now), 0.001))
        except TimeoutError:
            raise Refusal(408, "What was sent took too long to come.", "Send it again.") from None
        self._left -= len(message.get("body", b""))
        if self._left < 0:
            raise Refusal(413, "What was sent is larger than allowed.", "Send less at once.")
        self._whole = message["type"] != "http.request" or not message.get("more_body", False)
        return message

    async def look_ahead(self) -> bytes:
        """Return the whole body, which is then given once more."""
        pieces = []
        while not self._whole:
            message = await self._next()
            self._ahead.append(message)
            pieces.append(message.get("body", b""))
        return b"".join(pieces)


async def _typed_token(request: Request, body: Bounded) -> str:
    """Return the token that a plain form sends in a field of its own."""
    if not request.headers.get("content-type", "").startswith("application/x-www-form-urlencoded"):
        return ""
    fields = parse_qs((await body.look_ahead()).decode("latin-1"), max_num_fields=2000)
    return fields.get(FORM_TOKEN, [""])[0]
