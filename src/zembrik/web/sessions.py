"""Who is signed in: by a signed cookie, a token, or, on loopback, by itself."""

from __future__ import annotations

import hashlib
import hmac
import ipaddress
import time
from dataclasses import dataclass, field

from fastapi import Response
from itsdangerous import BadData, URLSafeTimedSerializer
from starlette.requests import HTTPConnection

from zembrik.library.accounts import Who, account_of_token, account_with, first_account, installation_secret
from zembrik.library.database import Database

COOKIE, LASTS_S = "zembrik", 14 * 24 * 3600
REMEMBERED_S = 5.0  # how long an ended session or token may still come in
BY_ITSELF = Who(0, "", 0)  # on loopback, where there is no account yet


@dataclass
class Doors:
    """How one comes in.

    Attributes:
        database: where accounts are.
        names: the host names that are this server's own, besides those of loopback.
        by_itself: whether who comes over loopback is signed in without a password.
    """

    database: Database
    names: tuple[str, ...] = ()
    by_itself: bool = True
    _secret: str = ""
    _known: dict[str, tuple[float, Who | None]] = field(default_factory=dict)

    def _key(self) -> str:
        if not self._secret:
            with self.database.session() as session:
                self._secret = installation_secret(session)
        return self._secret

    def _signer(self) -> URLSafeTimedSerializer:
        return URLSafeTimedSerializer(self._key(), salt="session")

    def let_in(self, response: Response, who: Who, secure: bool) -> None:
        """Give the cookie of a session with an answer."""
        value = self._signer().dumps([who.id, who.stamp])
        response.set_cookie(COOKIE, value, LASTS_S, path="/", secure=secure, httponly=True, samesite="lax")

    def who(self, request: HTTPConnection) -> Who | None:
        """Return who asks; None when nobody is signed in."""
        kind, _, token = request.headers.get("authorization", "").partition(" ")
        if kind:
            return self._remembered(f"token {token}") if kind.lower() == "bearer" else None
        if (cookie := request.cookies.get(COOKIE)) and (found := self._remembered(f"cookie {cookie}")) is not None:
            return found
        if self.by_itself and is_direct(request):
            return self._remembered("first") or BY_ITSELF
        return None

    def _remembered(self, key: str) -> Who | None:
        now = time.monotonic()
        if (held := self._known.get(key)) is not None and now - held[0] < REMEMBERED_S:
            return held[1]
        found = self._found(key)
        if len(self._known) > 1000:
            self._known.clear()
        self._known[key] = (now, found)
        return found

    def _found(self, key: str) -> Who | None:
        kind, _, value = key.partition(" ")
        if kind == "cookie":
            try:
                number, stamp = self._signer().loads(value, max_age=LASTS_S)
            except (BadData, ValueError, TypeError):
                return None
        with self.database.session() as session:
            if kind == "token":
                return account_of_token(session, value)
            return first_account(session) if kind == "first" else account_with(session, int(number), int(stamp))

    def forget(self) -> None:
        """Ask the database anew about everybody: accounts or tokens have changed."""
        self._known.clear()

    def form_token(self, who: Who) -> str:
        """Return what every form of a page sends along, so that no page of another site can send it."""
        return hmac.new(self._key().encode(), f"form {who.id} {who.stamp}".encode(), hashlib.sha256).hexdigest()


def is_direct(request: HTTPConnection) -> bool:
    """Tell whether a request comes from this machine itself, not through a proxy on it."""
    passed_on = any(name in request.headers for name in ("forwarded", "x-forwarded-for", "x-real-ip", "via"))
    peer = request.client.host if request.client else ""
    return not passed_on and is_loopback(peer)


def is_loopback(host: str) -> bool:
    """Tell whether an address or name is this machine's own."""
    try:
        return host == "localhost" or ipaddress.ip_address(host).is_loopback
    except ValueError:  # a name, though it may begin like an address
        return False
