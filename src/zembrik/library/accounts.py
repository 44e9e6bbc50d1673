"""Accounts of people, and tokens for their scripts.

Passwords are kept as argon2id hashes (RFC 9106) by argon2-cffi with its own parameters; of a token, which is random,
its SHA-256 is enough. A cookie names an account and its stamp, signed: a new password, or an account that is ended,
makes another stamp, and so ends all sessions.
"""

from __future__ import annotations

import datetime
import hashlib
import re
import secrets
from dataclasses import dataclass
from functools import cache

import argon2
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from zembrik.core.problem import Problem
from zembrik.library.models import Account, ApiToken, Installation

NAME = re.compile(r"[a-z0-9][a-z0-9._-]{0,39}")
SHORTEST, LONGEST = 10, 200  # letters of a password
TOKEN_BEGINS = "zbk_"


@dataclass(frozen=True)
class Who:
    """Somebody who is signed in: the account's number, name and stamp."""

    id: int
    name: str
    stamp: int


@cache
def _hasher() -> argon2.PasswordHasher:
    return argon2.PasswordHasher()


@cache
def _nobodys() -> str:
    return _hasher().hash(secrets.token_urlsafe(16))


def installation_secret(session: Session) -> str:
    """Return what this installation signs cookies with."""
    return session.get_one(Installation, "secret").value


def any_account(session: Session) -> bool:
    """Tell whether there is an account that is not ended."""
    return session.scalar(select(Account.id).where(Account.ended.is_(None)).limit(1)) is not None


def first_account(session: Session) -> Who | None:
    """Return the oldest account; a start command on loopback signs in as it."""
    row = session.scalar(select(Account).where(Account.ended.is_(None)).order_by(Account.id).limit(1))
    return None if row is None else Who(row.id, row.name, row.stamp)


def create_account(session: Session, name: str, password: str) -> Account:
    """Make an account.

    Raises:
        Problem: for a name that is taken or none, and a password that is too short or too long.
    """
    name = name.strip().lower()
    if not NAME.fullmatch(name):
        raise Problem(
            "a name has 1 to 40 small letters, digits, dots, dashes and underscores.", "name", "Type another."
        )
    if session.scalar(select(Account.id).where(Account.name == name)) is not None:
        raise Problem(f"there is an account '{name}' already, or was.", "name", "Choose another name.")
    account = Account(name=name, password=_hashed(password), stamp=secrets.randbelow(2**31))
    session.add(account)
    session.flush()
    return account


def _hashed(password: str) -> str:
    if not SHORTEST <= len(password) <= LONGEST:
        raise Problem(f"a password has {SHORTEST} to {LONGEST} letters.", "password", "Type a longer one.")
    return _hasher().hash(password)


def sign_in(session: Session, name: str, password: str) -> Who | None:
    """Return who has this name and password; None for a wrong one. Both take as long."""
    row = session.scalar(select(Account).where(Account.name == name.strip().lower(), Account.ended.is_(None)))
    try:
        _hasher().verify(row.password if row else _nobodys(), password[:LONGEST])
    except argon2.exceptions.VerifyMismatchError:
        return None
    return Who(row.id, row.name, row.stamp) if row else None


def change_password(session: Session, account_id: int, old: str, new: str) -> None:
    """Give an account another password; all its sessions end.

    Raises:
        Problem: when the old one is wrong, or the new one too short.
    """
    row = _account(session, account_id)
    if sign_in(session, row.name, old) is None:
        raise Problem("this is not the password there is.", "password", "Type it again.")
    row.password, row.stamp = _hashed(new), secrets.randbelow(2**31)


def end_account(session: Session, account_id: int) -> None:
    """End an account with its sessions and tokens; what it made keeps its name. The last one stays."""
    row = _account(session, account_id)
    others = select(func.count(Account.id)).where(Account.ended.is_(None), Account.id != account_id)
    if not session.scalar(others):
        raise Problem("this is the last account.", "account", "Make another one first.")
    row.ended, row.stamp = _now(), secrets.randbelow(2**31)
    for token in session.scalars(select(ApiToken).where(ApiToken.account_id == account_id, ApiToken.ended.is_(None))):
        token.ended = row.ended


def _account(session: Session, account_id: int) -> Account:
    row = session.get(Account, account_id)
    if row is None or row.ended is not None:
        raise Problem("there is no such account.", "account", "Load the page again.")
    return row


def account_with(session: Session, account_id: int, stamp: int) -> Who | None:
    """Return the account that a cookie names, if its stamp is still the one."""
    row = session.get(Account, account_id)
    if row is None or row.ended is not None or row.stamp != stamp:
        return None
    return Who(row.id, row.name, row.stamp)


def accounts(session: Session) -> list[Account]:
    """Return all accounts that are not ended, by name."""
    return list(session.scalars(select(Account).where(Account.ended.is_(None)).order_by(Account.name)))


def make_token(session: Session, account_id: int, name: str) -> str:
    """Make a token for scripts under a name and return it: it is not kept, and cannot be shown again."""
    name = name.strip()
    if not 1 <= len(name) <= 80:
        raise Problem("a token has a name of 1 to 80 letters.", "token", "Say what it is for.")
    _account(session, account_id)
    token = TOKEN_BEGINS + secrets.token_urlsafe(32)
    session.add(ApiToken(account_id=account_id, name=name, sha256=_sum(token)))
    session.flush()
    return token


def tokens_of(session: Session, account_id: int) -> list[ApiToken]:
    """Return an account's tokens that are not ended, the newest first."""
    query = select(ApiToken).where(ApiToken.account_id == account_id, ApiToken.ended.is_(None))
    return list(session.scalars(query.order_by(ApiToken.id.desc())))


def end_token(session: Session, account_id: int, token_id: int) -> None:
    """End a token: scripts that have it are refused."""
    row = session.get(ApiToken, token_id)
    if row is None or row.account_id != account_id or row.ended is not None:
        raise Problem("there is no such token.", "token", "Load the page again.")
    row.ended = _now()


def account_of_token(session: Session, token: str) -> Who | None:
    """Return whose token this is; None when it is nobody's or was ended."""
    row = session.scalar(select(ApiToken).where(ApiToken.sha256 == _sum(token), ApiToken.ended.is_(None)))
    if row is None:
        return None
    row.used = _now()
    account = session.get_one(Account, row.account_id)
    return None if account.ended is not None else Who(account.id, account.name, account.stamp)


def _sum(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _now() -> datetime.datetime:
    return datetime.datetime.now(datetime.UTC)
