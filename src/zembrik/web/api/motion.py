"""Keys instead of simulation, stills and takes, for scripts."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import APIRouter, Query, Request, UploadFile

from zembrik.core.problem import Problem
from zembrik.library.errands import ask, get_errand
from zembrik.library.motion_in import ask_for_take
from zembrik.library.retiming import retimed
from zembrik.library.shots import edit, get_shot, head_setup
from zembrik.library.takes import (
    favour_take,
    get_take,
    keep_take,
    remove_take,
    rename_take,
    takes_of_show,
    use_take,
)
from zembrik.web.api.answers import REFUSED, errand_out, take_out
from zembrik.web.api.models import (
    ErrandOut,
    KeysIn,
    RetimeIn,
    StillIn,
    TakeChange,
    TakeIn,
    TakeOut,
    ToldOut,
    UseTakeIn,
)
from zembrik.web.fields import Id
from zembrik.web.render import Db, Places

router = APIRouter(prefix="/api", tags=["motion"], responses=REFUSED)


def _asked(request: Request, db: Db, shot_id: int, kind: str, order: dict[str, Any], again: bool = False) -> ErrandOut:
    with db.session() as session:
        shot = get_shot(session, shot_id)
        assert shot.head is not None
        of_setup = {} if kind == "take" else {"revision": shot.head.id}
        errand = ask(session, shot_id, kind, of_setup | order, again)
        answer = errand_out(errand)
    return answer


@router.post("/shots/{shot_id}/keys")
def key_shot(request: Request, db: Db, shot_id: Id, order: KeysIn) -> ErrandOut:
    """Have few keys found for what bodies did in a bake; apply the errand to switch their simulation off."""
    return _asked(request, db, shot_id, "keys", order.model_dump() | {"angles": order.angles or ""})


@router.post("/shots/{shot_id}/motion/upload")
def take_from_file(
    db: Db, places: Places, shot_id: Id, file: UploadFile,
    name: Annotated[str, Query(max_length=120, description="of the take; the file's if left out")] = "",
    body: Annotated[str, Query(max_length=120, description="whose; none for bodies of the same names")] = "",
    stands: Annotated[bool, Query(description="whether bodies stand where the file has them")] = True,
    unit: Annotated[Literal["", "m", "cm", "mm", "in", "ft"], Query(description="empty: as the file says")] = "",
    up_axis: Annotated[Literal["", "y", "z"], Query(description="empty: as the file says")] = "",
    begins: Annotated[float | None, Query(description="frame at which the file begins; none: as it says")] = None,
    bound_m: Annotated[float, Query(ge=0, lt=100)] = 5e-4, bound_deg: Annotated[float, Query(ge=0, lt=180)] = 0.2,
) -> ErrandOut:  # fmt: skip
    """Have a take made of what moves in a file: a table of tracks (CSV, JSON), glTF or USD."""
    with db.session() as session:
        errand = ask_for_take(
            session, places, shot_id, file.file, file.filename or "motion", name, body, stands, unit, up_axis, begins,
            bound_m, bound_deg,
        )  # fmt: skip
        answer = errand_out(errand)
    return answer


@router.post("/shots/{shot_id}/stills")
def still_shot(request: Request, db: Db, shot_id: Id, order: StillIn) -> ErrandOut:
    """Have one frame of a baked body made a mesh; apply the errand to add it to the shot."""
    return _asked(request, db, shot_id, "still", order.model_dump())


@router.post("/errands/{number}/apply")
def apply_errand(db: Db, number: Id) -> ToldOut:
    """Make a revision of what an errand proposes; it must be about the setup as it stands."""
    with db.session() as session:
        errand = get_errand(session, number)
        head = get_shot(session, errand.shot_id).head
        assert head is not None
        if errand.order.get("revision") != head.id:
            raise Problem("the setup has changed since this was worked out.", "errand", "Have it worked out again.")
        if not errand.result or not errand.result.get("patch"):
            raise Problem(f"the errand is {errand.state} and proposes nothing.", "errand", "Wait until it is done.")
        title = str(errand.result["title"]).lower()
        made = edit(session, errand.shot_id, head.number, errand.result["patch"], title)
        return ToldOut(revision=made.number, told=str(errand.result["words"]))


@router.post("/shots/{shot_id}/retime")
def retime_keys(db: Db, shot_id: Id, order: RetimeIn) -> ToldOut:
    """Shift, trim, hold or loop a body's keyed motion, key it anew, or take it to another frame rate."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        assert shot.head is not None
        setup = head_setup(shot)
        number = next((k for k, b in enumerate(setup.bodies) if b.name == order.body), None)
        if number is None:
            raise Problem(f"there is no body '{order.body[:80]}'.", "motion", "The setup has its names.")
        motion, told, note = retimed(setup, number, order.how, order.one, order.two)
        patch = [{"op": "add", "path": f"/bodies/{number}/motion", "value": motion}]
        return ToldOut(revision=edit(session, shot_id, shot.head.number, patch, note).number, told=told)


@router.get("/shows/{show_id}/takes")
def list_takes(db: Db, show_id: Id) -> list[TakeOut]:
    """List a show's takes: favourites first, then the newest."""
    with db.session() as session:
        return [take_out(t) for t in takes_of_show(session, show_id)]


@router.get("/shows/{show_id}/takes/{take_id}/tracks")
def show_tracks(db: Db, show_id: Id, take_id: Id) -> list[dict[str, Any]]:
    """Return a take's tracks: the motion of each of its bodies, as a setup has it."""
    with db.session() as session:
        return list(get_take(session, show_id, take_id).tracks)


@router.post("/shots/{shot_id}/takes")
def keep_shot_take(request: Request, db: Db, shot_id: Id, order: TakeIn) -> TakeOut | ErrandOut:
    """Keep the keyed motion of a shot as a take; with a bake, have a worker keep what its bodies did there."""
    if order.bake is not None:
        plain = order.model_dump() | {"angles": order.angles or ""}
        return _asked(request, db, shot_id, "take", plain, again=True)
    with db.session() as session:
        take = keep_take(session, shot_id, order.name, order.bodies)
        session.flush()
        session.refresh(take)
        return take_out(take)


@router.patch("/shows/{show_id}/takes/{take_id}")
def change_take(db: Db, show_id: Id, take_id: Id, change: TakeChange) -> TakeOut:
    """Rename a take, or make it a favourite or none any more."""
    with db.session() as session:
        if change.name is not None:
            rename_take(session, show_id, take_id, change.name)
        take = get_take(session, show_id, take_id)
        if change.favourite is not None and change.favourite != take.favourite:
            favour_take(session, show_id, take_id)
        return take_out(take)


@router.delete("/shows/{show_id}/takes/{take_id}")
def delete_take(db: Db, show_id: Id, take_id: Id) -> None:
    """Take a take away; what was made with it stays."""
    with db.session() as session:
        remove_take(session, show_id, take_id)


@router.post("/shots/{shot_id}/use-take")
def use_shot_take(db: Db, shot_id: Id, order: UseTakeIn) -> ToldOut:
    """Give one body of a shot a take's motion, or all bodies of the same names; what is left behind is told."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        take = get_take(session, shot.show_id, order.take)
        patch, told = use_take(
            head_setup(shot), take, order.body, order.track, order.begins, order.offset_m, order.parent
        )
        made = edit(session, shot_id, order.base, patch, f"take {take.name}")
        return ToldOut(revision=made.number, told=told)
