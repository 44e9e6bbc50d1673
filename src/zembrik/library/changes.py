"""What changed between two setups, in readable lines."""

from __future__ import annotations

import copy
from collections import Counter
from typing import Any

import jsonpatch
import jsonpointer
from pydantic import ValidationError

from zembrik.core.setup.motion import PinnedPoints
from zembrik.core.setup.pin_words import which_points

AXES = ("x", "y", "z")
ENDS = ("first frame", "last frame")
NAMES = ("name", "preset", "kind", "shape", "file")  # what a part is called by, if it has one of these
# What is told once, whatever of it changed, by the part of its path after it.
WITHIN = {"/keys/": "other keys", "/ease/": "other keys", "/points/": "other points"}


def differences(before: dict[str, Any], after: dict[str, Any]) -> list[str]:
    """Return what changed between two documents, a readable line each."""
    lines: list[str] = []
    at = copy.deepcopy(before)
    for operation in jsonpatch.make_patch(before, after).patch:  # each speaks of what those before it have left
        was = jsonpointer.resolve_pointer(at, operation["path"], None)
        gone = _named(operation["path"], at) if operation["op"] == "remove" else ""
        at = jsonpatch.JsonPatch([operation]).apply(at, in_place=True)
        if operation["op"] == "replace" and was == operation["value"]:
            continue  # 0 became 0.0
        line = _line(operation, was, gone, at)
        lines += [line] if line not in lines else []
    return lines


def _line(operation: dict[str, Any], was: Any, gone: str, after: dict[str, Any]) -> str:
    """Return an operation in words: what was in its place, how that is named if it is gone, and what it leaves."""
    kind, path, now = operation["op"], operation["path"], operation.get("value")
    for part, words in WITHIN.items():
        track, found, _ = (path + "/").partition(part)
        if found:
            return f"{_named(track, after)}: {words}"
    place = gone or _named(path, after)
    if kind == "move":
        return f"{place} has changed places"
    if path.count("/") == 2 and kind in ("add", "remove") and path.startswith("/bodies/"):
        return f"{place} was {'added' if kind == 'add' else 'taken away'}"
    if kind == "remove":
        return f"{place}: {short(was)} taken away"
    if kind == "add" and _in_list(path, after):  # what stood there before has only moved on
        return f"{place}: {short(now)} added"
    if was is None:
        return f"{place}: {short(now)} (was left to preset, profile or default)"
    return f"{place}: {short(was)} → {short(now)}"


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
        elif part in "01" and words[-1] == "frames":
            words[-1] = ENDS[int(part)]
        else:
            words[-1:] = [f"{words[-1].removesuffix('s')} {int(part) + 1}"]
    return " ".join(words)


def called(path: str) -> str:
    """Return what a path of a setup's document is called, without its body: "/bodies/0/pins/1" is "pin 2"."""
    words: list[str] = []
    parts = path.strip("/").split("/")
    for part in parts[2:] if parts[0] == "bodies" and len(parts) > 2 else parts:
        if part.isdigit() and words:
            words[-1] = f"{words[-1].removesuffix('s')} {int(part) + 1}"
        else:
            words.append(part.replace("_", " "))
    return " ".join(words)


def short(value: Any) -> str:
    """Return a value in few words."""
    if value is None or isinstance(value, bool):
        return {None: "nothing", True: "on", False: "off"}[value]
    if isinstance(value, dict):
        if isinstance(value.get("keys"), list):
            return f"{len(value['keys'])} key{'s' if len(value['keys']) > 1 else ''}"
        if isinstance(value.get("points"), dict):
            try:
                return which_points(PinnedPoints.model_validate(value["points"]))
            except ValidationError:  # what somebody asks for is put in words before it is looked over
                return "points"
        named = next((str(value[name]) for name in NAMES if value.get(name)), None)
        return named or ", ".join(str(key).replace("_", " ") for key in value) or "nothing set"
    if isinstance(value, list):
        if all(isinstance(v, int | float) for v in value) and len(value) > 4:
            return f"{len(value)} numbers"
        if value and all(isinstance(v, int | float) for v in value):
            return ", ".join(map(short, value))
        alike = Counter(map(short, value))
        told = [f"{count} × {words}" if count > 1 else words for words, count in alike.items()]
        return (", ".join(told[:4]) + (", …" if len(told) > 4 else "")) or "none"
    return f"{value:g}" if isinstance(value, float) else str(value)[:60]
