"""Edits of what moves: tracks from the curve view, drivers, pins, forces."""

from __future__ import annotations

from typing import Any

import jsonpointer
from fastapi import APIRouter, Request
from fastapi.responses import Response

from zembrik.core.keys.paste import pasted
from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup
from zembrik.library.shots import Patch, get_shot, head_setup
from zembrik.web.dials import from_shown, keys_from_shown
from zembrik.web.fields import Id, Text, Whole, read_json
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places

router = APIRouter()


def _document(db: Db, shot_id: int) -> tuple[dict[str, Any], Setup]:
    with db.session() as session:
        shot = get_shot(session, shot_id)
        assert shot.head is not None
        return shot.head.document, head_setup(shot)


def put(document: dict[str, Any], path: str, value: Any) -> Patch:
    """Return the patch that sets a value deep in a document, with whatever must hold it.

    None takes it away, and a motion with it that has nothing else.
    """
    parts = path.strip("/").split("/")
    patch: Patch = []
    for k in range(1, len(parts)):
        above = "/" + "/".join(parts[:k])
        if jsonpointer.resolve_pointer(document, above, None) is None:
            patch.append({"op": "add", "path": above, "value": {}})
    if value is not None:
        return [*patch, {"op": "add", "path": path, "value": value}]
    if patch or jsonpointer.resolve_pointer(document, path, None) is None:
        return []
    above = path.rpartition("/")[0]
    alone = above.endswith("/motion") and len(jsonpointer.resolve_pointer(document, above)) == 1
    return [{"op": "remove", "path": above if alone else path}]


@router.post("/shots/{shot_id}/track")
def set_track(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, path: Text, keys: Text = "[]",
    ease: Text = "smooth", station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Set what a value is over frames: keys as JSON; none gives the track up."""
    pairs = read_json(keys, "keys")
    if not isinstance(pairs, list):
        raise Problem("the keys are no list.", "curves", "Load the page again.")
    pairs = keys_from_shown(path, pairs)
    document, _ = _document(db, shot_id)
    name = path.rsplit("/", 1)[-1].replace("_", " ")
    if not pairs and path.endswith(("/spin/angle", "/path/progress")):
        raise Problem("it needs at least one key.", name, "Take the whole driver away instead.")
    patch = put(document, path, {"keys": pairs, "ease": ease} if pairs else None)
    if not patch:
        raise Problem("there are no keys to take away.", name, "")
    note = f"{name}: {len(pairs)} key{'s' if len(pairs) != 1 else ''}"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, body)


def _vector(path: str, *texts: str) -> list[float]:
    return [from_shown(path, text) for text in texts]


def _placed(text: str) -> list[list[float]]:
    """Return typed places, a line each."""
    places = []
    for line in text.replace(",", " ").splitlines():
        if numbers := line.split():
            if len(numbers) != 3:
                raise Problem(f"'{line.strip()[:60]}' is no place.", "path", "A line has x, y and z in metres.")
            places.append(_vector("place", *numbers))
    return places


@router.post("/shots/{shot_id}/spin")
def set_spin(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, x: Text = "0", y: Text = "1",
    z: Text = "0", off: Whole = 0, station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Let a body spin about an axis: once round over the shot until its curve says otherwise; `off` takes it away."""
    document, setup = _document(db, shot_id)
    first, last = setup.frames
    held = jsonpointer.resolve_pointer(document, f"/bodies/{number}/motion/spin", None) or {}
    angle = held.get("angle") or {"keys": [[first, 0.0], [max(last, first + 1), 360.0]], "ease": "straight"}
    value = None if off else {"axis": _vector("axis", x, y, z), "angle": angle}
    patch = put(document, f"/bodies/{number}/motion/spin", value)
    return apply_patch(
        request, db, places, shot_id, base, patch, "spin taken away" if off else "spin set", station, body
    )


@router.post("/shots/{shot_id}/path")
def set_path(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, points: Text = "",
    forward: Text = "z", closed: Text = "", x: Text = "0", y: Text = "0", z: Text = "0", station: Text = "motion",
    body: Text = "",
) -> Response:  # fmt: skip
    """Let a body follow a path, from its start to its end over the shot until its curve says otherwise."""
    document, setup = _document(db, shot_id)
    first, last = setup.frames
    held = jsonpointer.resolve_pointer(document, f"/bodies/{number}/motion/path", None) or {}
    typed, value = _placed(points), None
    if typed:
        start = {"keys": [[first, 0.0], [max(last, first + 1), 1.0]], "ease": "smooth"}
        value = {"progress": start} | held | {
            "points": typed, "closed": bool(closed), "forward": forward, "offset": _vector("offset", x, y, z),
        }  # fmt: skip
    patch = put(document, f"/bodies/{number}/motion/path", value)
    return apply_patch(
        request, db, places, shot_id, base, patch, "path set" if typed else "path taken away", station, body
    )


@router.post("/shots/{shot_id}/parent")
def set_parent(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, parent: Text = "",
    station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Let a body go along with another, or with no name by itself again."""
    document, _ = _document(db, shot_id)
    patch = put(document, f"/bodies/{number}/motion/parent", parent or None)
    return apply_patch(
        request, db, places, shot_id, base, patch, f"goes along with {parent or 'nothing'}", station, body
    )


@router.post("/shots/{shot_id}/paste-motion")
def paste_motion(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, source: Text,
    begins: Text = "", x: Text = "0", y: Text = "0", z: Text = "0", station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Give a body the motion of another, of this shot or another of its show: at a frame, and some way beside it."""
    from_shot, _, from_body = source.partition("/")
    with db.session() as session:
        shot = get_shot(session, shot_id)
        other = get_shot(session, int(from_shot) if from_shot.isdigit() else 0)
        if other.show_id != shot.show_id:
            raise Problem("there is no such shot in this show.", "motion", "Load the page again.")
        held = next((b for b in head_setup(other).bodies if b.name == from_body), None)
        setup = head_setup(shot)
        code = other.code
    if held is None or held.motion is None or not 0 <= number < len(setup.bodies):
        raise Problem("there is no such motion any more.", "motion", "Load the page again.")
    start = float(from_shown("frame", begins)) if begins.strip() else None
    dx, dy, dz = _vector("offset", x, y, z)
    plain = held.motion.model_dump(mode="json", exclude_none=True)
    motion, left = pasted(plain, setup.bodies[number].role, start, (dx, dy, dz))
    patch: Patch = [{"op": "add", "path": f"/bodies/{number}/motion", "value": motion}]
    told = f"Left behind: {'; '.join(left)}." if left else ""
    note = f"motion of {code} {from_body}"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, body, told)


@router.post("/shots/{shot_id}/pin")
def set_pin(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, rule: Text, pin: Whole = -1,
    numbers: Text = "[]", side: Text = "top", above: Text = "0", near: Text = "", distance: Text = "10",
    falloff: Text = "0", follow: Text = "", release: Text = "", station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Hold points of a body by a rule; with a number the pin that there is changes, and keeps what it does besides."""
    document, _ = _document(db, shot_id)
    pins = list(jsonpointer.resolve_pointer(document, f"/bodies/{number}/pins", None) or [])
    held = dict(pins[pin]) if 0 <= pin < len(pins) else {}
    points: dict[str, Any]
    if rule == "chosen":
        chosen = read_json(numbers or "[]", "numbers")
        if not chosen:
            raise Problem("no point is chosen.", "pins", "Click points in the viewport, or drag a box around them.")
        points = {"numbers": sorted({int(n) for n in chosen})}
    elif rule == "side":
        points = {"side": side}
    elif rule == "above":
        points = {"above": from_shown("above", above)}
    elif rule == "near":
        points = {"near": {"body": near, "distance": from_shown("distance", distance) / 1e3}}
    elif rule == "as it is" and held:
        points = {k: v for k, v in held["points"].items() if k != "falloff"}
    else:
        raise Problem(f"there is no rule '{rule[:40]}'.", "pins", "Load the page again.")
    if (fade := from_shown("falloff", falloff)) > 0:
        points["falloff"] = fade / 1e3
    held |= {"points": points, "follow": follow or None}
    held["release"] = from_shown("release", release) if release.strip() else None
    held = {name: value for name, value in held.items() if value is not None}
    pins[pin if 0 <= pin < len(pins) else len(pins) : pin + 1 if pin >= 0 else len(pins)] = [held]
    patch: Patch = [{"op": "add", "path": f"/bodies/{number}/pins", "value": pins}]
    note = "pin changed" if pin >= 0 else "points held"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, body)


@router.post("/shots/{shot_id}/wind")
def set_wind(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, x: Text, y: Text, z: Text,
    station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Set a wind's velocity. Number -1 adds one that sets in over a second."""
    changed = {"velocity": _vector("velocity", x, y, z)}
    patch = _force_patch(db, shot_id, number, "wind", changed, ease_in=True)
    return apply_patch(request, db, places, shot_id, base, patch, "wind set", station, body)


@router.post("/shots/{shot_id}/turbulence")
def set_turbulence(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, speed: Text = "",
    size: Text = "", rate: Text = "", seed: Text = "", station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Set turbulent air; what is left out, as what is keyed is, stays. Number -1 adds one."""
    typed = {"speed": speed, "size": size, "rate": rate, "seed": seed}
    changed = {name: from_shown(name, text) for name, text in typed.items() if text.strip()}
    patch = _force_patch(db, shot_id, number, "turbulence", changed)
    return apply_patch(request, db, places, shot_id, base, patch, "turbulence set", station, body)


@router.post("/shots/{shot_id}/air-damping")
def set_damping(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, rate: Text = "",
    station: Text = "motion", body: Text = "",
) -> Response:  # fmt: skip
    """Set air that slows everything alike; a rate that is keyed stays. Number -1 adds one."""
    changed = {"rate": from_shown("rate", rate)} if rate.strip() else {}
    patch = _force_patch(db, shot_id, number, "air damping", changed)
    return apply_patch(request, db, places, shot_id, base, patch, "air damping set", station, body)


def _force_patch(db: Db, shot_id: int, number: int, kind: str, changed: dict[str, Any], ease_in: bool = False) -> Patch:
    """Return the patch that changes a force and leaves its strength as it is, or with number -1 adds one."""
    document, setup = _document(db, shot_id)
    forces = document.get("forces", [])
    if number < 0:
        first = setup.frames[0]
        force: dict[str, Any] = {"kind": kind, **changed}
        if ease_in:
            force["strength"] = {"keys": [[first, 0], [first + round(setup.fps), 1]], "ease": "smooth"}
        return [{"op": "add", "path": "/forces", "value": [*forces, force]}]
    if number >= len(forces) or forces[number]["kind"] != kind:
        raise Problem("there is no such force.", "motion", "Load the page again.")
    return [{"op": "replace", "path": f"/forces/{number}", "value": forces[number] | changed}]
