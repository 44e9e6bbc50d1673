"""Templates and the words that numbers are told in."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Annotated, Any

from fastapi import Depends, Request
from fastapi.templating import Jinja2Templates

from zembrik.library.database import Database
from zembrik.library.settings import Settings

HERE = Path(__file__).parent
STATIC = HERE / "static"
templates = Jinja2Templates(HERE / "templates")


def _version() -> str:
    digest = hashlib.sha256()
    for path in sorted([*STATIC.glob("*.css"), *STATIC.glob("js/*.js")]):
        digest.update(path.read_bytes())
    return digest.hexdigest()[:10]


def number(value: float | None) -> str:
    """Return a number as people write it: at most four digits that matter, no noise."""
    if value is None:
        return ""
    if value == int(value) and abs(value) < 1e6:
        return f"{int(value)}"
    return f"{value:.4g}" if 1e-3 <= abs(value) < 1e5 else f"{value:.3g}"


def brief(value: float) -> str:
    """Return a measured value at three digits: more would be noise to the eye."""
    return number(float(f"{value:.3g}"))


def duration(seconds: float | None) -> str:
    """Return a time in words a person takes in at a glance."""
    if seconds is None:
        return ""
    if seconds < 10:
        return f"{seconds:.1f} s"
    if seconds < 90:
        return f"{seconds:.0f} s"
    minutes = round(seconds / 60)
    return f"{minutes} min" if minutes < 90 else f"{minutes / 60:.1f} h"


def size(count: float) -> str:
    """Return bytes as kB, MB or GB."""
    for unit in ("kB", "MB", "GB"):
        count /= 1000
        if count < 1000:
            return f"{count:.1f} {unit}"
    return f"{count / 1000:.1f} TB"


def sentence(text: str) -> str:
    """Return the text with its first letter raised and the rest as it is."""
    return text[:1].upper() + text[1:]


def combine(one: dict[str, Any], other: dict[str, Any]) -> dict[str, Any]:
    """Return both as one."""
    return one | other


templates.env.filters |= {
    "combine": combine, "sentence": sentence, "brief": brief, "number": number, "duration": duration, "size": size,
}  # fmt: skip
templates.env.globals |= {"version": _version()}


def database(request: Request) -> Database:
    """Give a route the database."""
    found: Database = request.app.state.database
    return found


def settings(request: Request) -> Settings:
    """Give a route the places of this installation."""
    found: Settings = request.app.state.settings
    return found


Db = Annotated[Database, Depends(database)]
Places = Annotated[Settings, Depends(settings)]
Words = dict[str, Any]
