"""Shots and their setups: every edit is a revision, nothing is lost."""

from __future__ import annotations

import copy
import json
from typing import Any

import jsonpatch
import jsonpointer
from sqlalchemy import cast, func, select
from sqlalchemy.dialects.postgresql import JSONPATH
from sqlalchemy.orm import Session

from zembrik.core.problem import Problem
from zembrik.core.setup.document import MOST_BYTES, Setup, parse_setup
from zembrik.core.setup.limits import refuse_too_many_points
from zembrik.core.setup.resolve import setup_hash
from zembrik.library.models import Revision, Shot, Show

Patch = list[dict[str, Any]]
OPERATIONS = ("add", "remove", "replace", "move", "copy", "test")  # of JSON Patch, RFC 6902
MOST_OPERATIONS, LONGEST_PATH = 20_000, 500
_ABSENT = object()
_MOVES = "$.bodies[*].motion ? (@ != null)"  # bodies that have a motion, as a path in JSON


class Refused(Problem):
    """A change whose result is no setup; `document` is that result, for naming what is wrong in it."""

    def __init__(self, problem: Problem, document: dict[str, Any]) -> None:
        self.document = document
        super().__init__(problem.what, problem.where, problem.remedy)


class Conflict(Problem):
    """Somebody else changed the same value since the page was loaded.

    Attributes:
        path: the value's place in the document.
        base, theirs, yours: what it was, what it is now, what was to be set (None: not there).
        patch: the edit that was refused, ready to be applied on the newest revision.
    """

    def __init__(self, path: str, base: Any, theirs: Any, yours: Any, patch: Patch) -> None:
        self.path, self.base, self.theirs, self.yours, self.patch = path, base, theirs, yours, patch
        super().__init__(
            f"{path} was changed by somebody else: it is {theirs!r} now, you set {yours!r}.",
            "setup",
            "Keep theirs, or use yours all the same.",
        )


def create_show(session: Session, title: str) -> Show:
    """Return the show of that title, made if it is not there."""
    show = session.scalar(select(Show).where(Show.title == title))
    if show is None:
        show = Show(title=title)
        session.add(show)
        session.flush()
    return show


def create_shot(session: Session, show: Show, code: str, title: str, document: dict[str, Any]) -> Shot:
    """Add a shot with its first revision.

    Raises:
        Problem: when the code is taken or the document is wrong.
    """
    code, title = code.strip(), title.strip()
    if not code or not title or len(code) > 40 or len(title) > 300:
        raise Problem("a shot has a code of up to 40 letters and a title of up to 300.", "shot")
    if session.scalar(select(Shot.id).where(Shot.show_id == show.id, Shot.code == code)):
        raise Problem(f"the show has a shot {code} already.", "shot", "Choose another code.")
    shot = Shot(show_id=show.id, code=code, title=title, redo=[])
    session.add(shot)
    session.flush()
    _add_revision(session, shot, None, document, "made")
    return shot


def get_shot(session: Session, shot_id: int, lock: bool = False) -> Shot:
    """Return a shot; raises Problem when there is none."""
    query = select(Shot).where(Shot.id == shot_id)
    shot = session.scalar(query.with_for_update() if lock else query)
    if shot is None or shot.head is None:
        raise Problem(f"there is no shot number {shot_id}.", "shot", "Go back to the shots board.")
    return shot


def head_setup(shot: Shot) -> Setup:
    """Return the shot's setup as it stands."""
    assert shot.head is not None
    return parse_setup(shot.head.document)


def hash_of_stored(setup: Setup) -> str:
    """Return the setup's hash; a stored file's name begins with the hash of its content."""
    return setup_hash(setup, lambda file: file.partition("/")[0])


def edit(session: Session, shot_id: int, base_number: int, patch: Patch, note: str) -> Revision:
    """Apply a JSON Patch (RFC 6902) to a shot's setup and return the new revision.

    Args:
        session: the transaction.
        shot_id: which shot.
        base_number: the revision that the editor saw.
        patch: the change.
        note: what was done, in words.

    An edit made on an older revision still goes in when nobody touched the same values.

    Raises:
        Conflict: when somebody did.
        Problem: when the result is no valid setup; nothing is changed then.
    """
    shot = get_shot(session, shot_id, lock=True)
    head = shot.head
    assert head is not None
    refuse_odd_patch(patch)
    if base_number != head.number:
        base = session.scalar(select(Revision).where(Revision.shot_id == shot_id, Revision.number == base_number))
        if base is None:
            raise Problem(f"there is no revision {base_number}.", "setup", "Load the page again.")
        _refuse_conflicts(base.document, head.document, patch)
    document = apply_patch(head.document, patch)
    if document == head.document:
        return head
    revision = _add_revision(session, shot, head, document, note)
    shot.redo = []
    return revision


def apply_patch(document: dict[str, Any], patch: Patch) -> dict[str, Any]:
    """Return the document with a patch applied, parents made where they are missing.

    Raises:
        Problem: when the patch does not fit or its result is no setup.
    """
    result = copy.deepcopy(document)
    refuse_odd_patch(patch)
    left = 2 * MOST_BYTES - _size(result)
    try:
        for operation in patch:
            _make_parents(result, operation)
            added = operation.get("value")
            if operation["op"] == "copy":
                added = jsonpointer.resolve_pointer(result, operation["from"])
            left -= _size(added)
            if left < 0:  # before it is there: an array copied into itself grows twofold with each operation
                raise Problem(f"the setup would be larger than {MOST_BYTES / 1e6:.0f} MB.", "setup", "Change less.")
            result = jsonpatch.apply_patch(result, [operation], in_place=True)
    except (jsonpatch.JsonPatchException, jsonpointer.JsonPointerException, TypeError, KeyError, ValueError) as error:
        raise Problem(
            f"the change does not fit the setup: {str(error)[:200]}.", "setup", "Load the page again."
        ) from None
    try:
        refuse_too_many_points(parse_setup(result))
    except Problem as problem:
        raise Refused(problem, result) from None
    return result


def refuse_odd_patch(patch: Patch) -> None:
    """Refuse a patch that is none, or has operations without end; raises Problem with the operation's number."""
    if len(patch) > MOST_OPERATIONS:
        raise Problem(f"a change has at most {MOST_OPERATIONS:,} operations.", "patch", "Send it in parts.")
    for number, operation in enumerate(patch):
        where = f"patch[{number}]"
        if not isinstance(operation, dict) or operation.get("op") not in OPERATIONS:
            raise Problem(f"{where}.op is none of {', '.join(OPERATIONS)}.", where, "See RFC 6902.")
        needed = ["path"] + (["from"] if operation["op"] in ("copy", "move") else [])
        for name in needed:
            path = operation.get(name)
            if not isinstance(path, str) or len(path) > LONGEST_PATH or not (path == "" or path.startswith("/")):
                raise Problem(f"{where}.{name} is no path of a value.", where, "It is like /quality/substeps.")
            if any(part.isdigit() and not (part.isascii() and len(part) < 7) for part in path.split("/")):
                raise Problem(
                    f"{where}.{name} has a number that is no place in a list.", where, "It is like /bodies/0."
                )


def _size(value: Any) -> int:
    """Return how many bytes a value takes in a document, about."""
    return len(json.dumps(value))


def _make_parents(document: dict[str, Any], operation: dict[str, Any]) -> None:
    """Give "add" the objects on its way, so that a dial can be set in a material that was left out."""
    if operation.get("op") != "add":
        return
    place: Any = document
    for part in jsonpointer.JsonPointer(operation["path"]).parts[:-1]:
        if isinstance(place, dict):
            if place.get(part) is None:
                place[part] = {}
            place = place[part]
        elif isinstance(place, list) and str(part).isdigit() and int(part) < len(place):
            place = place[int(part)]
        else:
            return


def _refuse_conflicts(base: dict[str, Any], head: dict[str, Any], patch: Patch) -> None:
    for operation in patch:
        path = operation["path"]
        if path.endswith("/-"):
            continue  # adding to the end of a list disturbs nobody
        parts = path.split("/")
        if parts[1:2] == ["bodies"] and len(parts) > 2:
            was, now = (jsonpointer.resolve_pointer(d, f"/bodies/{parts[2]}/name", None) for d in (base, head))
            if was != now:
                raise Conflict(f"/bodies/{parts[2]}", was, now, operation.get("value"), patch)
        was, now = (jsonpointer.resolve_pointer(d, path, _ABSENT) for d in (base, head))
        if was != now and now != operation.get("value", _ABSENT):
            shown = [None if v is _ABSENT else v for v in (was, now)]
            raise Conflict(path, shown[0], shown[1], operation.get("value"), patch)


def undo(session: Session, shot_id: int, seen: int | None = None) -> Revision:
    """Go back to the revision before.

    Args:
        session: the transaction. shot_id: which shot.
        seen: number of the revision that is to be undone; None for whatever it is.

    Raises:
        Problem: at the first one, and when somebody else was faster: what they did is told, and stays.
    """
    shot = get_shot(session, shot_id, lock=True)
    head = shot.head
    assert head is not None
    _refuse_overtaken(session, shot, seen)
    if head.parent_id is None:
        raise Problem("this is the first revision; there is nothing to undo.", "setup")
    shot.redo = [*shot.redo, head.id]
    return _move_head(session, shot, head.parent_id)


def redo(session: Session, shot_id: int, seen: int | None = None) -> Revision:
    """Go forward again to what was undone last; `seen` as of `undo`."""
    shot = get_shot(session, shot_id, lock=True)
    _refuse_overtaken(session, shot, seen)
    if not shot.redo:
        raise Problem("nothing was undone; there is nothing to redo.", "setup")
    *rest, revision_id = shot.redo
    shot.redo = rest
    return _move_head(session, shot, revision_id)


def _refuse_overtaken(session: Session, shot: Shot, seen: int | None) -> None:
    head = shot.head
    if head is None or seen is None or head.number == seen:
        return
    last = session.get(Revision, shot.redo[-1]) if shot.redo else None
    if last is not None and last.number == seen:
        what = f"somebody else has undone revision {seen} already ({last.note}); the shot is at {head.number} now."
    else:
        what = f"somebody else has changed the shot meanwhile: it is at revision {head.number} now ({head.note})."
    raise Problem(what, "setup", "Nothing was undone. Look at what there is, then undo again if you still want to.")


def _move_head(session: Session, shot: Shot, revision_id: int) -> Revision:
    revision = session.get(Revision, revision_id)
    assert revision is not None
    shot.head = revision
    session.flush()
    return revision


def _add_revision(
    session: Session, shot: Shot, parent: Revision | None, document: dict[str, Any], note: str
) -> Revision:
    setup = parse_setup(document)
    refuse_too_many_points(setup)
    last = session.scalar(select(func.max(Revision.number)).where(Revision.shot_id == shot.id)) or 0
    revision = Revision(
        shot_id=shot.id,
        number=last + 1,
        parent_id=parent.id if parent else None,
        document=document,
        setup_hash=hash_of_stored(setup),
        note=note[:500],
    )
    session.add(revision)
    session.flush()
    shot.head = revision
    session.flush()
    return revision


def mark_frame(session: Session, shot_id: int, frame: int) -> list[int]:
    """Mark a frame, or take its mark away; return all that are marked, in order."""
    shot = get_shot(session, shot_id, lock=True)
    shot.marks = sorted({int(f) for f in shot.marks or []} ^ {frame})
    return list(shot.marks)


def motions_of_show(session: Session, shot: Shot, but: str | None) -> list[tuple[int, str, str, str]]:
    """Return the bodies of a show's shots that move: shot's number and code, body, and what moves it, in words.

    The shot's own come first; `but` names one of them that is left out.
    """
    query = (
        select(Shot.id, Shot.code, Revision.document)
        .join(Revision, Revision.id == Shot.head_id)
        .where(Shot.show_id == shot.show_id, func.jsonb_path_exists(Revision.document, cast(_MOVES, JSONPATH)))
        .order_by((Shot.id == shot.id).desc(), Shot.code)
        .limit(60)
    )
    found = []
    for number, code, document in session.execute(query):
        for body in document.get("bodies", []):
            motion = body.get("motion")
            if motion and not (number == shot.id and body["name"] == but):
                found.append(
                    (number, code, body["name"], ", ".join(sorted(k for k, v in motion.items() if v is not None)))
                )
    return found[:200]
