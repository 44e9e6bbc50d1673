"""Every change of a setup: a patch on a revision, answered with the panel as it is then."""

from __future__ import annotations

import io
import json
from collections.abc import Iterator
from typing import Annotated, Any, BinaryIO

from fastapi import APIRouter, File, Form, Request, UploadFile
from fastapi.responses import JSONResponse, Response

from zembrik.core.exchange.kept import READ_AT_ONCE_BYTES, kept_contents
from zembrik.core.exchange.read_any import MOST_BYTES
from zembrik.core.exchange.read_sequence import is_sequence, packed
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import placed_mesh
from zembrik.core.setup.document import parse_setup
from zembrik.library.bodies import removal, rename_patch
from zembrik.library.changes import called, differences, short
from zembrik.library.errands import ask, get_errand
from zembrik.library.findings import known_findings
from zembrik.library.groups import refuse_locked
from zembrik.library.intake import Shown, bodies_of, scale_for, show_file, store_file
from zembrik.library.many import role_patch
from zembrik.library.shots import Conflict, Patch, edit, get_shot, head_setup, redo, undo
from zembrik.library.store import StoredAssets, clean_name, hold
from zembrik.web.dials import LABELS, from_shown
from zembrik.web.fields import Id, MaybeWhole, Numbers, Text, Whole, read_json
from zembrik.web.pages.bench import render_bench
from zembrik.web.pages.profile import set_by_hand, ways_to_profile
from zembrik.web.render import Db, Places, templates

router = APIRouter()


def apply_patch(
    request: Request, db: Db, places: Places, shot_id: int, base: int, patch: Patch, note: str, station: str, body: str,
    told: str = "", **more: Any,
) -> Response:  # fmt: skip
    """Make a revision of a patch and return the panel, with what there is to tell; a conflict shows both values."""
    try:
        with db.session() as session:
            before = get_shot(session, shot_id).head
            revision = edit(session, shot_id, base, patch, note)
            others = [told] if told else []
            if before is not None and before.number != base and revision is not before:
                others.append(f"Revision {before.number} was made by somebody else meanwhile; yours is on top of it.")
            return render_bench(request, session, places, shot_id, station, body, others=others, **more)
    except Conflict as conflict:
        words = {"conflict": conflict, "shot_id": shot_id, "station": station, "body": body, "note": note}
        words["patch"] = json.dumps(conflict.patch)
        html = templates.get_template("conflict.html").render(words)
        return Response(html, 409, {"HX-Retarget": "#notices", "HX-Reswap": "beforeend"}, "text/html")


@router.post("/shots/{shot_id}/set")
def set_dial(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, path: Text, station: Text,
    value: Text = "", body: Text = "",
) -> Response:  # fmt: skip
    """Set one dial to a typed number, in the unit it is shown in."""
    number = from_shown(path, value)
    patch = [{"op": "add", "path": path, "value": number}]
    label = LABELS.get(path.rsplit("/", 1)[-1], called(path))
    return apply_patch(request, db, places, shot_id, base, patch, f"{label} set to {value}", station, body)


@router.post("/shots/{shot_id}/give-back")
def give_back(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, path: Text, station: Text, body: Text = ""
) -> Response:
    """Let preset, profile or default decide a dial again."""
    patch = [{"op": "remove", "path": path}]
    done = "taken away" if path.rpartition("/")[2].isdigit() else "given back"
    return apply_patch(request, db, places, shot_id, base, patch, f"{called(path)} {done}", station, body)


@router.post("/shots/{shot_id}/choose")
def choose(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, path: Text, value: Text, station: Text,
    body: Text = "",
) -> Response:  # fmt: skip
    """Set a value that is given as JSON: a choice, a vector, a switch."""
    chosen = read_json(value, called(path))
    patch: Patch = [{"op": "add", "path": path, "value": chosen}]
    return apply_patch(
        request, db, places, shot_id, base, patch, f"{called(path)} set to {short(chosen)}", station, body
    )


@router.get("/shots/{shot_id}/profile")
def ask_profile(request: Request, db: Db, shot_id: Id, value: str, body: str = "") -> Response:
    """Ask what becomes of the values set by hand when another profile is chosen; both ways with what they cost."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        words = {"shot": shot, "head": shot.head, "body": body, "value": value}
        return templates.TemplateResponse(request, "profile.html", words | ways_to_profile(head_setup(shot), value))


@router.post("/shots/{shot_id}/profile")
def choose_profile(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, value: Text, keep: Text = "yes",
    body: Text = "",
) -> Response:  # fmt: skip
    """Choose a profile, and keep what was set by hand or give all of it to the profile."""
    with db.session() as session:
        by_hand = set_by_hand(head_setup(get_shot(session, shot_id)))
    patch: Patch = [{"op": "add", "path": "/quality/profile", "value": value}]
    note = f"profile set to {value}"
    if keep == "no":
        patch += [{"op": "remove", "path": f"/quality/{name}"} for name in by_hand]
        note += ", with all its values"
    return apply_patch(request, db, places, shot_id, base, patch, note, "quality", body)


@router.post("/shots/{shot_id}/vector")
def set_vector(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, path: Text, x: Text, y: Text, z: Text,
    station: Text, body: Text = "",
) -> Response:  # fmt: skip
    """Set three numbers at once."""
    values = [from_shown(path, v) for v in (x, y, z)]
    patch: Patch = [{"op": "add", "path": path, "value": values}]
    return apply_patch(
        request, db, places, shot_id, base, patch, f"{called(path)} set to {short(values)}", station, body
    )


@router.post("/shots/{shot_id}/role")
def set_role(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, role: Text, station: Text,
    body: Text = "",
) -> Response:  # fmt: skip
    """Give a body a role; what only its old role had goes away with it."""
    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        bodies = head.document.get("bodies", [])
        held: dict[str, Any] = bodies[number] if number < len(bodies) else {}
    patch = role_patch(held, number, role)
    return apply_patch(request, db, places, shot_id, base, patch, f"role set to {role}", station, body)


@router.post("/shots/{shot_id}/remove")
def remove_body(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Numbers, station: Text,
    let_go: Text = "",
) -> Response:  # fmt: skip
    """Take bodies out of the setup; what refers to them is told first, and let go when that is asked for."""
    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        patch, held = removal(head.document, number)
        names = [head.document["bodies"][n]["name"] for n in number]
        refuse_locked(head.document, names)
    title = f"'{names[0]}'" if len(names) == 1 else f"{len(names)} bodies"
    if held and let_go != "yes":
        words = {"shot_id": shot_id, "base": base, "number": number, "station": station, "title": title, "held": held}
        html = templates.get_template("let_go.html").render(words)
        return Response(html, 409, {"HX-Retarget": "#notices", "HX-Reswap": "beforeend"}, "text/html")
    note = f"{title} removed" + (f"; let go: {', '.join(held)}" if held else "")
    return apply_patch(request, db, places, shot_id, base, patch, note, station, "")


@router.post("/shots/{shot_id}/rename")
def rename_body(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, value: Text, station: Text
) -> Response:
    """Give a body another name, wherever it stands."""
    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        patch = rename_patch(head.document, number, value)
        old = head.document["bodies"][number]["name"]
    note = f"'{old}' is called '{value.strip()}'"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, value.strip())


@router.post("/shots/{shot_id}/remedy")
def apply_remedy(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, finding: Whole, station: Text, body: Text = ""
) -> Response:
    """Apply the remedy of a finding as a revision."""
    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        found = known_findings(session, places, head)
        if head.number != base or not 0 <= finding < len(found) or not found[finding]["patch"]:
            raise Problem("the finding is from an older revision.", "remedy", "Load the page again.")
        patch, note = found[finding]["patch"], found[finding]["remedy"]
    return apply_patch(request, db, places, shot_id, base, patch, f"remedy: {note}", station, body)


@router.post("/shots/{shot_id}/undo")
def undo_edit(
    request: Request, db: Db, places: Places, shot_id: Id, station: Text, base: MaybeWhole = None, body: Text = ""
) -> Response:
    """Go one revision back."""
    with db.session() as session:
        undo(session, shot_id, base)
        return render_bench(request, session, places, shot_id, station, body)


@router.post("/shots/{shot_id}/redo")
def redo_edit(
    request: Request, db: Db, places: Places, shot_id: Id, station: Text, base: MaybeWhole = None, body: Text = ""
) -> Response:
    """Go one revision forward again."""
    with db.session() as session:
        redo(session, shot_id, base)
        return render_bench(request, session, places, shot_id, station, body)


@router.post("/shots/{shot_id}/force")
def use_mine(
    request: Request, db: Db, places: Places, shot_id: Id, patch: Text, note: Text, station: Text, body: Text = ""
) -> Response:
    """Apply a refused edit on the newest revision: both values are on record then."""
    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        base = head.number
    return apply_patch(
        request, db, places, shot_id, base, read_json(patch, "patch"), f"{note} (over a conflict)", station, body
    )


@router.post("/shots/{shot_id}/upload")
def upload(
    request: Request, db: Db, places: Places, shot_id: Id, file: Annotated[list[UploadFile], File()],
    station: Text = "intake", body: Text = "",
) -> Response:  # fmt: skip
    """Store mesh files and show what they hold; nothing changes in the shot yet. A worker reads the large ones."""
    shown, refused, reading = [], [], []
    with db.session() as session:
        for name, size, data in _arrived(file):
            try:
                if READ_AT_ONCE_BYTES < size <= MOST_BYTES:
                    order = {"sha256": hold(places, data), "name": clean_name(name)}
                    reading.append(ask(session, shot_id, "read", order, again=True).id)
                else:
                    shown.append(store_file(session, places, name, data.read(MOST_BYTES + 1)))
            except Problem as problem:
                if len(file) == 1:
                    raise
                refused.append(str(problem))
    with db.session() as session:
        return render_bench(
            request, session, places, shot_id, station, body, others=refused, taken=shown,
            reading=[get_errand(session, number) for number in reading],
        )  # fmt: skip


def _arrived(files: list[UploadFile]) -> Iterator[tuple[str, int, BinaryIO]]:
    """Return what was handed in, one after the other: name, bytes, and the file; numbered files are one of frames."""
    names = [one.filename or "mesh.obj" for one in files]
    if is_sequence(names) and sum(one.size or 0 for one in files) <= MOST_BYTES:
        name, data = packed([(name, one.file.read()) for name, one in zip(names, files, strict=True)])
        yield name, len(data), io.BytesIO(data)
        return
    for name, one in zip(names, files, strict=True):
        yield name, one.size or 0, one.file


@router.get("/shots/{shot_id}/taken")
def taken_of(request: Request, db: Db, places: Places, shot_id: Id, reference: str) -> Response:
    """Show what a stored file holds."""
    contents = kept_contents(StoredAssets(places).read(reference), reference.partition("/")[2])
    with db.session() as session:
        shot = get_shot(session, shot_id)
        words = {"shot": shot, "head": shot.head, "taken": [show_file(reference, contents)]}
        return templates.TemplateResponse(request, "taken.html", words)


@router.post("/shots/{shot_id}/take")
def take(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, reference: Text, unit: Text, up_axis: Text,
    forward: Text = "z", part: Annotated[list[str], Form()] = [], station: Text = "intake",  # noqa: B006
    waiting: Annotated[list[str], Form()] = [],  # noqa: B006
) -> Response:  # fmt: skip
    """Make bodies of chosen parts of a stored file, left out until they are given a role.

    `waiting` names the other files that were handed in with it; they are shown again.
    """
    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        setup = parse_setup(head.document)
        taken = {b.name for b in setup.bodies}
        bodies = bodies_of(places, reference, part, unit, up_axis, setup.fps, setup.frames[0], taken, forward)
    patch: Patch = [{"op": "add", "path": "/bodies/-", "value": b} for b in bodies]
    title = bodies[0]["name"]
    words = f"took in {title}" if len(bodies) == 1 else f"took in {title} and {len(bodies) - 1} more"
    left = [_shown(places, one) for one in waiting[:100]]
    return apply_patch(request, db, places, shot_id, base, patch, words, station, title, taken=left)


def _shown(places: Places, reference: str) -> Shown:
    return show_file(reference, kept_contents(StoredAssets(places).read(reference), reference.partition("/")[2]))


@router.post("/shots/{shot_id}/size")
def set_size(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, axis: Whole, value: Text,
    station: Text, body: Text = "",
) -> Response:  # fmt: skip
    """Scale a body so that it is as long along an axis as typed, metres."""
    wanted = from_shown("size", value)
    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        setup = parse_setup(head.document)
    if not 0 <= number < len(setup.bodies) or axis not in (0, 1, 2):
        raise Problem("there is no such body.", "size", "Load the page again.")
    one = setup.bodies[number]
    scale = scale_for(float(placed_mesh(one, StoredAssets(places)).size[axis]), wanted, one.place.scale)
    place = {**one.place.model_dump(mode="json"), "scale": scale}
    patch: Patch = [{"op": "add", "path": f"/bodies/{number}/place", "value": place}]
    return apply_patch(request, db, places, shot_id, base, patch, f"size set to {value} m", station, body)


@router.get("/shots/{shot_id}/setup.json")
def setup_document(db: Db, shot_id: Id) -> Response:
    """Return the setup as it stands, as a document."""
    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        return JSONResponse(head.document)


@router.get("/shots/{shot_id}/history")
def history(request: Request, db: Db, shot_id: Id) -> Response:
    """List the revisions, newest first, with what each changed."""
    from sqlalchemy import select

    from zembrik.library.models import Revision

    with db.session() as session:
        shot = get_shot(session, shot_id)
        rows = list(
            session.scalars(
                select(Revision).where(Revision.shot_id == shot_id).order_by(Revision.number.desc()).limit(60)
            )
        )
        by_id = {r.id: r for r in rows}
        told = []
        for row in rows:
            parent = by_id.get(row.parent_id) if row.parent_id else None
            told.append({"row": row, "lines": differences(parent.document, row.document) if parent else []})
        return templates.TemplateResponse(request, "history.html", {"shot": shot, "told": told})


@router.post("/shots/{shot_id}/preset")
def set_preset(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, value: Text, station: Text,
    body: Text = "",
) -> Response:  # fmt: skip
    """Choose another fabric or stuff; dials set by hand stay as they are."""
    patch: Patch = [{"op": "add", "path": f"/bodies/{number}/material/preset", "value": value}]
    return apply_patch(request, db, places, shot_id, base, patch, f"preset set to {value}", station, body)
