"""The kinds of values that routes take, and what all of them share: bounded numbers, plain text, flat documents."""

from __future__ import annotations

import json
from typing import Annotated, Any

from fastapi import Form, Path, Query, Request
from starlette.requests import HTTPConnection

from zembrik.core.problem import Problem

MOST = 2**31 - 1  # of a number that the database keeps
DEEPEST = 40  # of lists and objects within one another
LONGEST_DIGITS = 400  # of a number in a document: longer ones are no numbers that anything is measured in

Text = Annotated[str, Form()]
Whole = Annotated[int, Form(ge=-MOST, le=MOST)]
MaybeWhole = Annotated[int | None, Form(ge=-MOST, le=MOST)]
Numbers = Annotated[list[Annotated[int, Form(ge=0, le=MOST)]], Form()]
Id = Annotated[int, Path(ge=0, le=MOST)]
Asked = Annotated[int, Query(ge=-MOST, le=MOST)]
MaybeAsked = Annotated[int | None, Query(ge=-MOST, le=MOST)]


def read_json(text: str, where: str) -> Any:
    """Return what a field holds as JSON; raises Problem for what is none, or holds odd values."""
    try:
        value = json.loads(text)
    except (ValueError, RecursionError):
        raise Problem(f"{where}: the value is no JSON.", where, "Load the page again.") from None
    refuse_odd(value, where)
    return value


async def plain_values(request: HTTPConnection) -> None:
    """Refuse what no field takes: a NUL, which the database cannot keep, and values nested without end.

    Raises:
        Problem: with the name of the field.
    """
    for name, value in (*request.path_params.items(), *request.query_params.multi_items()):
        refuse_odd(value, name)
    if not isinstance(request, Request):
        return  # what comes over a WebSocket is looked at where it is taken in
    if getattr(request, "_form", None) is not None:
        for name, value in (await request.form()).multi_items():
            refuse_odd(name, "a field's name")
            refuse_odd(value if isinstance(value, str) else value.filename, name)
    elif hasattr(request, "_json"):
        refuse_odd(await request.json(), "body")


def refuse_odd(value: Any, where: str) -> None:
    """Refuse a value with a NUL anywhere in it, a number of thousands of digits, or nested too deep."""
    level = [(value, where)]
    for _ in range(DEEPEST):
        if not level:
            return
        below: list[tuple[Any, str]] = []
        for one, name in level:
            if isinstance(one, str):
                if "\0" in one:
                    raise Problem(f"{name}: there is a NUL character in it.", name[:120], "Take it out.")
                # Half of a pair of code units is no character (RFC 8259, 8.2), and cannot be written down.
                if any("\ud800" <= c <= "\udfff" for c in one):
                    raise Problem(f"{name}: there is half a character in it.", name[:120], "Take it out.")
            elif isinstance(one, int) and one.bit_length() > LONGEST_DIGITS * 3:
                raise Problem(f"{name}: the number is too large.", name[:120], "Give a smaller one.")
            elif isinstance(one, dict):
                below += [(key, name) for key in one]
                below += [(v, f"{where}.{key}" if name == where else name) for key, v in one.items()]
            elif isinstance(one, list):
                below += [(v, name) for v in one]
        level = below
    if level:
        raise Problem(f"{where}: it is nested more than {DEEPEST} deep.", where, "Give it flatter.")
