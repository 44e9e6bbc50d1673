"""Bodies of a setup under another name, or gone, with all that refers to them."""

from __future__ import annotations

import copy
from typing import Any

from zembrik.core.problem import Problem
from zembrik.library.shots import Patch


def rename_patch(document: dict[str, Any], number: int, name: str) -> Patch:
    """Return the patch that gives a body another name, wherever it stands: pins, parents and joints go along.

    Raises:
        Problem: when the name is none, or another body's.
    """
    bodies = document.get("bodies", [])
    name = name.strip()
    if not 0 <= number < len(bodies):
        raise Problem("there is no such body.", "name", "Load the page again.")
    if not name:
        raise Problem("a body needs a name.", "name", "Type one.")
    if any(b["name"] == name for k, b in enumerate(bodies) if k != number):
        raise Problem(f"another body is called '{name}'.", "name", "Choose another name.")
    old = bodies[number]["name"]
    patch: Patch = [{"op": "replace", "path": f"/bodies/{number}/name", "value": name}]
    for path in _references(document, old):
        patch.append({"op": "replace", "path": path, "value": name})
    return patch


def _references(document: dict[str, Any], name: str) -> list[str]:
    """Return the paths of everything that names a body, but its own name."""
    found = []
    for k, body in enumerate(document.get("bodies", [])):
        if ((body.get("motion") or {}).get("parent")) == name:
            found.append(f"/bodies/{k}/motion/parent")
        for n, pin in enumerate(body.get("pins") or []):
            if pin.get("follow") == name:
                found.append(f"/bodies/{k}/pins/{n}/follow")
            if (pin["points"].get("near") or {}).get("body") == name:
                found.append(f"/bodies/{k}/pins/{n}/points/near/body")
    for j, joint in enumerate(document.get("joints") or []):
        found += [f"/joints/{j}/bodies/{n}" for n, other in enumerate(joint["bodies"]) if other == name]
    return found


def removal(document: dict[str, Any], number: int) -> tuple[Patch, list[str]]:
    """Return the patch that takes a body out and lets go of what refers to it, and what that is, in words.

    Pins that follow it or lie near it and joints that hold it go away; what went along with it stays by itself.
    """
    bodies = document.get("bodies", [])
    if not 0 <= number < len(bodies):
        raise Problem("there is no such body.", "remove", "Load the page again.")
    name, told = bodies[number]["name"], []
    patch: Patch = []
    for k, body in enumerate(bodies):
        if k == number:
            continue
        pins = body.get("pins") or []
        kept = [
            p for p in pins if p.get("follow") != name and (p["points"].get("near") or {}).get("body") != name
        ]  # fmt: skip
        if len(kept) < len(pins):
            gone = len(pins) - len(kept)
            told.append(f"{gone} held place{'s' if gone > 1 else ''} of '{body['name']}'")
            patch.append({"op": "replace", "path": f"/bodies/{k}/pins", "value": copy.deepcopy(kept)})
        if (body.get("motion") or {}).get("parent") == name:
            told.append(f"'{body['name']}', which goes along with it")
            patch.append({"op": "remove", "path": f"/bodies/{k}/motion/parent"})
    joints = document.get("joints") or []
    left = [j for j in joints if name not in j["bodies"]]
    if len(left) < len(joints):
        gone = len(joints) - len(left)
        told.append(f"{gone} joint{'s' if gone > 1 else ''}")
        patch.append({"op": "replace", "path": "/joints", "value": copy.deepcopy(left)})
    patch.append({"op": "remove", "path": f"/bodies/{number}"})
    return patch, told
