"""A motion from elsewhere on another body: shifted in time and in space, without what that body cannot do."""

from __future__ import annotations

import copy
from typing import Any

from zembrik.core.problem import Problem

Motion = dict[str, Any]
OF_COLLIDER = ("scale", "ripple")  # what changes a form, which only colliders and left out bodies do


def tracks_in(motion: Motion) -> list[tuple[str, dict[str, Any]]]:
    """Return all keyed tracks of a motion as plain values, with their names."""
    found = [(name, motion[name]) for name in ("translate", "rotate", "turn", "scale") if motion.get(name)]
    for driver, names in (("spin", ("angle",)), ("path", ("progress", "bank")), ("ripple", ("strength",))):
        part = motion.get(driver) or {}
        found += [(f"{driver}.{name}", part[name]) for name in names if isinstance(part.get(name), dict)]
    return found


def pasted(
    motion: Motion, role: str, begins: float | None = None, offset_m: tuple[float, float, float] = (0.0, 0.0, 0.0),
    parent: str | None = None,
) -> tuple[Motion, list[str]]:  # fmt: skip
    """Return a motion for a body of a role, and what had to be left behind, in words.

    Args:
        motion: as a setup's body has it.
        begins: the frame at which its first key shall be; None leaves the frames as they are.
        offset_m: added to where it goes, metres.
        parent: a body of the setup that it goes along with from now on.

    Raises:
        Problem: when the role has no motion, or nothing is left of it.
    """
    if role in ("cloth", "soft"):
        raise Problem(f"a body with the role {role} has no motion of its own.", "motion", "Hold its points instead.")
    made, left = copy.deepcopy({name: value for name, value in motion.items() if value is not None}), []
    if made.pop("parent", None) is not None:
        left.append(f"that it went along with '{motion['parent']}'")
    if role == "rigid" or (role == "left out" and "ripple" in made):
        for name in OF_COLLIDER if role == "rigid" else ("ripple",):
            if made.pop(name, None) is not None:
                left.append(f"its {name}, which the role {role} has not")
    tracks = tracks_in(made)
    if not tracks:
        raise Problem("nothing is left of that motion here.", "motion", f"Left behind: {'; '.join(left) or 'no keys'}.")
    if begins is not None:
        shift = begins - min(track["keys"][0][0] for _, track in tracks)
        for _, track in tracks:
            for key in track["keys"]:
                key[0] += shift
    if parent:
        made["parent"] = parent
    if any(offset_m):
        _moved(made, offset_m, begins)
    return made, left


def _moved(motion: Motion, offset_m: tuple[float, float, float], begins: float | None) -> None:
    """Add an offset (3,), metres, to where a motion goes."""
    if "path" in motion:
        for place in motion["path"]["points"]:
            place[:] = [a + b for a, b in zip(place, offset_m, strict=True)]
        return
    track = motion.setdefault("translate", {"keys": [[begins or 1.0, [0.0, 0.0, 0.0]]], "ease": "straight"})
    for key in track["keys"]:
        key[1] = [a + b for a, b in zip(key[1], offset_m, strict=True)]
