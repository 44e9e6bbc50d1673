"""Shows, shots, setups and findings, for scripts."""

from __future__ import annotations

from fastapi import APIRouter, UploadFile
from sqlalchemy import select

from zembrik.core.exchange.read_any import MOST_BYTES
from zembrik.core.problem import Problem
from zembrik.library.bakes import board
from zembrik.library.findings import known_findings
from zembrik.library.intake import store_file
from zembrik.library.models import Show
from zembrik.library.shelving import (
    delete_shot,
    delete_show,
    get_show,
    put_away,
    rename_shot,
    rename_show,
)
from zembrik.library.shots import create_shot, create_show, edit, get_shot, redo, undo
from zembrik.web.api.answers import REFUSED, row_out, shot_out
from zembrik.web.api.models import (
    AssetOut,
    DoneOut,
    EditIn,
    FindingOut,
    SetupOut,
    ShotChangeIn,
    ShotIn,
    ShotOut,
    ShowChangeIn,
    ShowIn,
    ShowOut,
    ToldOut,
)
from zembrik.web.fields import Id, MaybeAsked
from zembrik.web.render import Db, Places

router = APIRouter(prefix="/api", tags=["shots and setups"], responses=REFUSED)


@router.get("/shows")
def list_shows(db: Db) -> list[ShowOut]:
    """List all shows."""
    with db.session() as session:
        return [ShowOut.model_validate(s) for s in session.scalars(select(Show).order_by(Show.title))]


@router.post("/shows")
def make_show(db: Db, show: ShowIn) -> ShowOut:
    """Return the show of a title, made if it is not there."""
    with db.session() as session:
        return ShowOut.model_validate(create_show(session, show.title.strip()))


@router.get("/shows/{show_id}/shots")
def list_shots(db: Db, show_id: Id) -> list[ShotOut]:
    """List a show's shots with the state of their bakes."""
    with db.session() as session:
        return [row_out(show_id, *row) for row in board(session, show_id)]


@router.post("/shows/{show_id}/shots")
def make_shot(db: Db, show_id: Id, shot: ShotIn) -> ShotOut:
    """Add a shot to a show."""
    with db.session() as session:
        owner = session.get(Show, show_id)
        if owner is None:
            raise Problem(f"there is no show number {show_id}.", "show")
        document = shot.setup or {"schema": "zembrik.setup/1", "title": shot.title, "bodies": []}
        return shot_out(session, create_shot(session, owner, shot.code, shot.title, document).id)


@router.get("/shots/{shot_id}")
def show_shot(db: Db, shot_id: Id) -> ShotOut:
    """Return a shot and the state of its bake."""
    with db.session() as session:
        return shot_out(session, shot_id)


@router.patch("/shows/{show_id}")
def change_show(db: Db, show_id: Id, change: ShowChangeIn) -> ShowOut:
    """Give a show another title, put it away, or bring it back."""
    with db.session() as session:
        show = get_show(session, show_id)
        if change.title is not None:
            rename_show(session, show_id, change.title)
        if change.archived is not None:
            put_away(show, change.archived)
        return ShowOut.model_validate(show)


@router.delete("/shows/{show_id}")
def delete_show_by_title(db: Db, show_id: Id, title: str) -> DoneOut:
    """Delete a show without shots; its title has to be given."""
    with db.session() as session:
        delete_show(session, show_id, title)
    return DoneOut(told=f"{title} is deleted.")


@router.patch("/shots/{shot_id}")
def change_shot(db: Db, shot_id: Id, change: ShotChangeIn) -> ShotOut:
    """Give a shot another code or title, put it away, or bring it back."""
    with db.session() as session:
        shot = get_shot(session, shot_id, lock=True)
        rename_shot(session, shot_id, change.code or shot.code, change.title or shot.title)
        if change.archived is not None:
            put_away(shot, change.archived)
        session.flush()
        return shot_out(session, shot_id)


@router.delete("/shots/{shot_id}")
def delete_shot_by_code(db: Db, places: Places, shot_id: Id, code: str) -> DoneOut:
    """Delete a shot and all that stands on it; its code has to be given. Files that were delivered stay."""
    with db.session() as session:
        delete_shot(session, places, shot_id, code)
    return DoneOut(told=f"{code} is deleted.")


@router.get("/shots/{shot_id}/setup")
def show_setup(db: Db, shot_id: Id) -> SetupOut:
    """Return a shot's setup as it stands."""
    with db.session() as session:
        return SetupOut.model_validate(get_shot(session, shot_id).head)


@router.patch("/shots/{shot_id}/setup")
def change_setup(db: Db, shot_id: Id, change: EditIn) -> ToldOut:
    """Change a shot's setup by a JSON Patch; every change is a revision. 409 if somebody else changed the same."""
    with db.session() as session:
        return ToldOut(revision=edit(session, shot_id, change.base, change.patch, change.note).number)


@router.post("/shots/{shot_id}/undo")
def undo_setup(db: Db, shot_id: Id, base: MaybeAsked = None) -> ToldOut:
    """Go back to the revision before; with `base`, only if that is still the one there is."""
    with db.session() as session:
        return ToldOut(revision=undo(session, shot_id, base).number)


@router.post("/shots/{shot_id}/redo")
def redo_setup(db: Db, shot_id: Id, base: MaybeAsked = None) -> ToldOut:
    """Go forward again to what was undone last; with `base`, only if that is still the one there is."""
    with db.session() as session:
        return ToldOut(revision=redo(session, shot_id, base).number)


@router.get("/shots/{shot_id}/findings")
def list_findings(db: Db, places: Places, shot_id: Id) -> list[FindingOut]:
    """Return what is found about a setup as it stands, each with the patch that mends it."""
    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        return [FindingOut.model_validate(f) for f in known_findings(session, places, head)]


@router.post("/assets")
def store_asset(db: Db, places: Places, file: UploadFile) -> AssetOut:
    """Store a mesh file by its content; the answer says what it holds and how a setup names it."""
    with db.session() as session:
        shown = store_file(session, places, file.filename or "mesh", file.file.read(MOST_BYTES + 1))
    parts = [
        {"path": p.path, "points": len(p.mesh.points), "faces": len(p.mesh.faces), "moments": len(p.times_s)}
        for p in shown.contents.parts
    ]
    return AssetOut(
        reference=shown.reference, kind=shown.contents.kind, unit=shown.unit, up_axis=shown.up,
        notes=shown.contents.notes, parts=parts,
    )  # fmt: skip
