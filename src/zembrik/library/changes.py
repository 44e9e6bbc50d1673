"""What changed between two setups, in readable lines."""

from __future__ import annotations

from typing import Any

import jsonpatch
import jsonpointer

from zembrik.core.setup.motion import PinnedPoints
from zembrik.core.setup.pin_words import which_points

AXES = ("x", "y", "z")
# What is told once, whatever of it changed, by the part of its path after it.
WITHIN = {"/keys/": "other keys", "/ease/": "other keys", "/points/": "other points"}


def differences(before: dict[str, Any], after: dict[str, Any]) -> list[str]:
    """Return what changed between two documents, a readable line each."""
    lines: list[str] = []
    for operation in jsonpatch.make_patch(before, after).patch:
        line = _line(operation, before, after)
        lines += [line] if line not in lines else []
    return lines


def _line(operation: dict[str, Any], before: dict[str, Any], after: dict[str, Any]) -> str:
    kind, path = operation["op"], operation["path"]
    for part, words in WITHIN.items():
        track, found, _ = (path + "/").partition(part)
        if found:
            return f"{_named(track, after)}: {words}"
    place = _named(path, after if kind != "remove" else before)
    if kind == "move":
        return f"{place} has changed places"
    if path.count("/") == 2 and kind in ("add", "remove") and path.startswith("/bodies/"):
        return f"{place} was {'added' if kind == 'add' else 'taken away'}"
    was = jsonpointer.resolve_pointer(before, path, None)
    if kind == "remove":
        return f"{place}: {_short(was)} taken away"
    if _in_list(path, after):  # what stood there before has only moved on
        was = was if kind == "replace" else None
    elif was is None:
        return f"{place}: {_short(operation.get('value'))} (was left to preset, profile or default)"
    if was is None:
        return f"{place}: {_short(operation.get('value'))} added"
    return f"{place}: {_short(was)} → {_short(operation.get('value'))}"


def _in_list(path: str, document: dict[str, Any]) -> bool:
    return isinstance(jsonpointer.resolve_pointer(document, path.rpartition("/")[0], None), list)


def _named(path: str, document: dict[str, Any]) -> str:
    """Return a path in words: a body by its name, one of three numbers by its axis, others counted from one."""
    parts = path.strip("/").split("/")
    words, at = [], ""
    for part in parts:
        held = jsonpointer.resolve_pointer(document, at, None) if at else document
        at += f"/{part}"
        if not (isinstance(held, list) and part.isdigit()):
            words.append(part.replace("_", " "))
        elif at.count("/") == 2 and parts[0] == "bodies":
            words = [f"'{jsonpointer.resolve_pointer(document, at + '/name', part)}'"]
        elif len(held) == 3 and int(part) < 3 and all(isinstance(v, int | float) for v in held):
            words.append(AXES[int(part)])
        else:
            words[-1:] = [f"{words[-1].removesuffix('s')} {int(part) + 1}"]
    return " ".join(words)


def _short(value: Any) -> str:
    """Return a value in few words."""
    if isinstance(value, dict):
        if "keys" in value:
            return f"{len(value['keys'])} key{'s' if len(value['keys']) > 1 else ''}"
        if isinstance(value.get("points"), dict):
            return which_points(PinnedPoints.model_validate(value["points"]))
        return str(value.get("name") or value.get("kind") or value.get("shape") or value.get("file") or "values")
    if isinstance(value, list):
        if all(isinstance(v, int | float) for v in value) and len(value) > 4:
            return f"{len(value)} numbers"
        return (", ".join(_short(v) for v in value[:4]) + (", …" if len(value) > 4 else "")) or "none"
    return f"{value:g}" if isinstance(value, float) else str(value)[:60]
