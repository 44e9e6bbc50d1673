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
    for g, group in enumerate(document.get("groups") or []):
        found += [f"/groups/{g}/bodies/{n}" for n, other in enumerate(group["bodies"]) if other == name]
    for j, joint in enumerate(document.get("joints") or []):
        found += [f"/joints/{j}/bodies/{n}" for n, other in enumerate(joint["bodies"]) if other == name]
    return found


def removal(document: dict[str, Any], numbers: list[int]) -> tuple[Patch, list[str]]:
    """Return the patch that takes bodies out and lets go of what refers to them, and what that is, in words.

    Pins that follow them or lie near them and joints that hold them go away; what went along with one stays by itself.
    Groups lose them, and go when none is left.
    """
    bodies = document.get("bodies", [])
    if not numbers or not all(0 <= n < len(bodies) for n in numbers):
        raise Problem("there is no such body.", "remove", "Load the page again.")
    gone, told = {bodies[n]["name"] for n in numbers}, []
    patch: Patch = []
    for k, body in enumerate(bodies):
        if body["name"] in gone:
            continue
        pins = body.get("pins") or []
        kept = [
            p for p in pins if p.get("follow") not in gone and (p["points"].get("near") or {}).get("body") not in gone
        ]  # fmt: skip
        if len(kept) < len(pins):
            lost = len(pins) - len(kept)
            told.append(f"{lost} held place{'s' if lost > 1 else ''} of '{body['name']}'")
            patch.append({"op": "replace", "path": f"/bodies/{k}/pins", "value": copy.deepcopy(kept)})
        if (body.get("motion") or {}).get("parent") in gone:
            told.append(f"'{body['name']}', which goes along with it")
            patch.append({"op": "remove", "path": f"/bodies/{k}/motion/parent"})
    joints = document.get("joints") or []
    left = [j for j in joints if not gone.intersection(j["bodies"])]
    if len(left) < len(joints):
        lost = len(joints) - len(left)
        told.append(f"{lost} joint{'s' if lost > 1 else ''}")
        patch.append({"op": "replace", "path": "/joints", "value": copy.deepcopy(left)})
    patch += without(document, gone)
    patch += [{"op": "remove", "path": f"/bodies/{n}"} for n in sorted(set(numbers), reverse=True)]
    return patch, told


def without(document: dict[str, Any], names: set[str]) -> Patch:
    """Return the patch that takes bodies out of their groups; a group of which nothing is left goes."""
    groups = document.get("groups") or []
    left = [dict(group, bodies=[n for n in group["bodies"] if n not in names]) for group in groups]
    left = [group for group in left if group["bodies"]]
    return [{"op": "replace", "path": "/groups", "value": left}] if left != groups else []
