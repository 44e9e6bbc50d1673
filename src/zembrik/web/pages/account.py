"""Signing in and out, accounts, and tokens for scripts."""

from __future__ import annotations

import time
from urllib.parse import unquote

from fastapi import APIRouter, Request
from fastapi.responses import RedirectResponse, Response

from zembrik.core.problem import Problem
from zembrik.library.accounts import (
    Who,
    accounts,
    change_password,
    create_account,
    end_account,
    end_token,
    make_token,
    sign_in,
    tokens_of,
)
from zembrik.web.fields import Text, Whole
from zembrik.web.render import Db, Words, templates
from zembrik.web.sessions import COOKIE, Doors

router = APIRouter()
MOST_TRIES, TRIES_S = 10, 300.0  # of wrong passwords for a name or from an address, and the time they count
_tries: dict[str, list[float]] = {}


@router.get("/sign-in")
def ask(request: Request, to: str = "/") -> Response:
    """Show where to sign in."""
    return templates.TemplateResponse(request, "sign_in.html", {"to": _inside(to), "problem": ""})


@router.post("/sign-in")
def enter(request: Request, db: Db, name: Text, password: Text, to: Text = "/") -> Response:
    """Sign in and go on to where one was going."""
    doors: Doors = request.app.state.doors
    keys = [f"name {name.strip().lower()[:80]}", f"from {request.client.host if request.client else ''}"]
    if any(_tried(key) >= MOST_TRIES for key in keys):
        return _refused(request, to, "Too many tries; wait five minutes.", 429)
    with db.session() as session:
        who = sign_in(session, name, password)
    if who is None:
        for key in keys:
            _tries.setdefault(key, []).append(time.monotonic())
        return _refused(request, to, "There is no account with this name and this password.", 422)
    response = RedirectResponse(_inside(to), 303)
    passed_on = request.headers.get("x-forwarded-proto", "")
    doors.let_in(response, who, "https" in (request.url.scheme, passed_on))
    return response


def _refused(request: Request, to: str, problem: str, status: int) -> Response:
    words = {"to": _inside(to), "problem": problem}
    return templates.TemplateResponse(request, "sign_in.html", words, status_code=status)


def _tried(key: str) -> int:
    """Return how often a key was tried of late; what is long past is forgotten, so that the table stays small."""
    now = time.monotonic()
    if len(_tries) > 10_000:
        _tries.clear()
    held = [t for t in _tries.get(key, ()) if now - t < TRIES_S]
    if held:
        _tries[key] = held
    else:
        _tries.pop(key, None)
    return len(held)


def _inside(to: str) -> str:
    """Return a path of this server; of any other address, the board's."""
    path = unquote(to)
    return path if path.startswith("/") and not path.startswith(("//", "/\\")) and path.isprintable() else "/"


@router.post("/sign-out")
def leave() -> Response:
    """End this browser's session."""
    response = RedirectResponse("/sign-in", 303)
    response.delete_cookie(COOKIE, path="/")
    return response


@router.get("/account")
def show(request: Request, db: Db) -> Response:
    """Show who is signed in, the tokens there are, and all accounts."""
    return _shown(request, db)


def _shown(request: Request, db: Db, token: str = "", told: str = "") -> Response:
    who: Who = request.state.who
    with db.session() as session:
        words: Words = {"accounts": accounts(session), "tokens": tokens_of(session, who.id)}
    return templates.TemplateResponse(request, "account.html", words | {"token": token, "told": told})


@router.post("/account/token")
def new_token(request: Request, db: Db, name: Text) -> Response:
    """Make a token and show it, this once."""
    who: Who = request.state.who
    with db.session() as session:
        if not who.id:
            raise Problem("tokens belong to an account.", "token", "Make an account first.")
        token = make_token(session, who.id, name)
    return _shown(request, db, token)


@router.post("/account/token-end")
def no_token(request: Request, db: Db, number: Whole) -> Response:
    """End a token."""
    who: Who = request.state.who
    with db.session() as session:
        end_token(session, who.id, number)
    request.app.state.doors.forget()
    return _shown(request, db, told="The token is ended; scripts that have it are refused.")


@router.post("/account/new")
def new_account(request: Request, db: Db, name: Text, password: Text) -> Response:
    """Make an account for somebody."""
    with db.session() as session:
        made = create_account(session, name, password).name
    request.app.state.doors.forget()
    return _shown(request, db, told=f"{made} can sign in now.")


@router.post("/account/password")
def new_password(request: Request, db: Db, old: Text, new: Text) -> Response:
    """Change one's own password; all sessions of the account end."""
    who: Who = request.state.who
    with db.session() as session:
        change_password(session, who.id, old, new)
    request.app.state.doors.forget()
    return RedirectResponse("/sign-in", 303)


@router.post("/account/end")
def no_account(request: Request, db: Db, number: Whole) -> Response:
    """End an account with its sessions and tokens."""
    with db.session() as session:
        end_account(session, number)
    request.app.state.doors.forget()
    return _shown(request, db, told="The account is ended. What it made keeps its name.")
