"""Groups of bodies: made, renamed, taken apart, hidden and locked."""

from __future__ import annotations

from typing import Any

from zembrik.core.problem import Problem
from zembrik.library.bodies import without
from zembrik.library.shots import Patch

SWITCHES = ("hidden", "locked")


def group_patch(document: dict[str, Any], names: list[str], title: str) -> Patch:
    """Return the patch that makes a group of bodies, which leave the groups they were in.

    Raises:
        Problem: for a name that is none, or is taken.
    """
    title = _title(title)
    if not names:
        raise Problem("no body is chosen.", "group", "Choose one by a click, or by its name.")
    patch = without(document, set(names))
    left = patch[0]["value"] if patch else document.get("groups") or []
    _refuse_taken(left, title)
    return [{"op": "add", "path": "/groups", "value": [*left, {"name": title, "bodies": names}]}]


def rename_group_patch(document: dict[str, Any], old: str, title: str) -> Patch:
    """Return the patch that gives a group another name; raises Problem for one that is none, or is taken."""
    number, title = _number(document, old), _title(title)
    if title == old:
        return []
    _refuse_taken(document["groups"], title)
    return [{"op": "replace", "path": f"/groups/{number}/name", "value": title}]


def ungroup_patch(document: dict[str, Any], name: str) -> Patch:
    """Return the patch that takes a group apart; its bodies stay."""
    return [{"op": "remove", "path": f"/groups/{_number(document, name)}"}]


def switch_patch(document: dict[str, Any], name: str, switch: str, on: bool) -> Patch:
    """Return the patch that hides, shows, locks or frees a group."""
    if switch not in SWITCHES:
        raise Problem(f"a group cannot be '{switch[:40]}'.", "group", f"It is {' or '.join(SWITCHES)}, or not.")
    return [{"op": "add", "path": f"/groups/{_number(document, name)}/{switch}", "value": on}]


def refuse_locked(document: dict[str, Any], names: list[str]) -> None:
    """Raise a Problem when a body is in a group that is locked."""
    for group in document.get("groups") or []:
        if group.get("locked") and (held := set(names).intersection(group["bodies"])):
            raise Problem(
                f"'{min(held)}' is locked with the group '{group['name']}'.", "chosen", "Unlock the group first."
            )


def kept_groups(document: dict[str, Any], copies: list[dict[str, str]]) -> Patch:
    """Return the patch that gives every group of which all bodies were copied a copy of its own.

    Args:
        copies: for each round of copying, the name of each copy by that of what it is a copy of.
    """
    groups = list(document.get("groups") or [])
    taken = {group["name"] for group in groups}
    for names in copies:
        for group in document.get("groups") or []:
            if set(group["bodies"]) <= set(names):
                number = 2
                while (title := f"{group['name']} {number}") in taken:
                    number += 1
                taken.add(title)
                groups.append({"name": title, "bodies": [names[n] for n in group["bodies"]]})
    before = document.get("groups") or []
    return [{"op": "add", "path": "/groups", "value": groups}] if len(groups) > len(before) else []


def _title(title: str) -> str:
    title = title.strip()
    if not 0 < len(title) <= 120:
        raise Problem("a group has a name of up to 120 letters.", "group", "Type one.")
    return title


def _refuse_taken(groups: list[dict[str, Any]], title: str) -> None:
    if any(group["name"] == title for group in groups):
        raise Problem(f"another group is called '{title}'.", "group", "Choose another name.")


def _number(document: dict[str, Any], name: str) -> int:
    for number, group in enumerate(document.get("groups") or []):
        if group["name"] == name:
            return number
    raise Problem(f"there is no group '{name[:80]}'.", "group", "Load the page again.")
