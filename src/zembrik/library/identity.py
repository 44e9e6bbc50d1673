"""What tells one installation from another: a home folder knows who it is, where it was, and which database is its own.

A home that was moved goes on as it was. A home that was copied has the same identity as the one it was copied from,
which is still there: it must not use, and at its end stop, the other's database.
"""

from __future__ import annotations

import hashlib
import json
import os
import secrets
from dataclasses import asdict, dataclass, replace
from pathlib import Path

from zembrik.core.cache.layout import write_whole
from zembrik.core.problem import Problem

NAME = "identity.json"
APART = Path("/var/lib/zembrik")  # the clusters of root, whose home the postgres user cannot reach


@dataclass(frozen=True)
class Identity:
    """Who a home is.

    Attributes:
        id: of the installation; names its cluster where that lies apart.
        at: where the home was when it was started last.
        database: the identity of its database; empty before the first start.
    """

    id: str
    at: str
    database: str = ""


def read_identity(home: Path) -> Identity | None:
    """Return who a home is; None for a new one, or one of before there were identities."""
    try:
        held = json.loads((home / NAME).read_text())
        return Identity(str(held["id"]), str(held["at"]), str(held.get("database", "")))
    except (OSError, ValueError, KeyError, TypeError):
        return None


def keep_identity(home: Path, identity: Identity) -> None:
    """Write down who a home is."""
    home.mkdir(parents=True, exist_ok=True)
    write_whole(home / NAME, json.dumps(asdict(identity), indent=1).encode())


def settle(home: Path, fresh: bool = False) -> Identity:
    """Return who a home is, where it lies now; a new home gets an identity.

    Raises:
        Problem: for a copy that cannot go on by itself: its database was not copied, or while it was written to.
    """
    here, held = str(home.resolve()), read_identity(home)
    if held is None:
        number = _before_identities(home)
        held = Identity(number if (APART / number).exists() else secrets.token_hex(6), here)
    elif held.at != here:
        original = read_identity(Path(held.at))
        if original is not None and original.id == held.id:
            if not fresh:
                _refuse_torn(home, held)
            held = Identity(secrets.token_hex(6), here)
        held = replace(held, at=here)
    keep_identity(home, held)
    return held


def _refuse_torn(home: Path, held: Identity) -> None:
    inside = sorted((home / "postgres").glob("data*"))
    if os.geteuid() == 0 or not inside:
        why = "its database lies apart, and was not copied"
    elif any((data / "postmaster.pid").exists() for data in inside):
        why = "it was copied while its database ran, so that the files do not fit together"
    else:
        return
    raise Problem(
        f"this is a copy of the installation in {held.at}, but {why}.", str(home),
        "Make a backup there ('./zembrik backup FILE') and restore it into an empty folder ('./zembrik restore FILE'), "
        "or begin anew here ('./zembrik demo --fresh').",
    )  # fmt: skip


def _before_identities(home: Path) -> str:
    return hashlib.sha256(str(home.resolve()).encode()).hexdigest()[:12]


def cluster_folder(home: Path) -> Path:
    """Return where the cluster of a home lies.

    The postgres user must be able to reach it, so for root it is not in the home (which may lie in /root) but below
    /var/lib/zembrik, named by the home's identity.
    """
    if os.geteuid() != 0:
        return home / "postgres"
    held = read_identity(home)
    return APART / (held.id if held is not None else _before_identities(home))
