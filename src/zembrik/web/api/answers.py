"""Rows of the library as what the interface for scripts gives."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Session

from zembrik.library.bakes import ACTIVE, USUAL_FRAMES, BoardRow, ShownBake, shown_bake, stale_reasons
from zembrik.library.models import Bake, Delivery, Errand, Shot, Take
from zembrik.library.settings import Settings
from zembrik.library.shots import get_shot
from zembrik.web.api.models import BakeOut, DeliveryOut, ErrandOut, ProblemOut, ShotOut, TakeOut

REFUSED: dict[int | str, dict[str, Any]] = {
    status: {"description": words, "model": ProblemOut}
    for status, words in {
        400: "What was sent is no JSON.", 401: "Nobody is signed in.", 403: "It comes from another site's page.",
        404: "There is no such thing.", 408: "What was sent took too long to come.",
        409: "Somebody else changed the same value.", 413: "What was sent is too large.",
        421: "The server is not called so.",
        422: "It cannot be done; the answer says what is wrong, where, and what to do.",
    }.items()
}  # fmt: skip


def shot_out(session: Session, shot_id: int) -> ShotOut:
    """Return a shot's answer."""
    shot: Shot = get_shot(session, shot_id)
    head, bake = shot.head, shown_bake(session, shot_id)
    assert head is not None
    stale = stale_reasons(bake, head) if bake is not None else []
    shown = None
    if bake is not None:
        shown = ShownBake(bake.id, bake.state, bake.first, bake.setup_hash, bake.cache.done if bake.cache else None)
    return ShotOut(
        id=shot.id, show=shot.show_id, code=shot.code, title=shot.title, revision=head.number,
        setup_hash=head.setup_hash, bake=bake.id if bake else None,
        state=_state(shown, head.setup_hash, head.document.get("frames", USUAL_FRAMES)[1]), stale=stale,
    )  # fmt: skip


def row_out(show_id: int, shot: BoardRow, bake: ShownBake | None) -> ShotOut:
    """Return the answer of a shot in a list."""
    return ShotOut(
        id=shot.id, show=show_id, code=shot.code, title=shot.title, revision=shot.revision,
        setup_hash=shot.setup_hash, bake=bake.id if bake else None,
        state=_state(bake, shot.setup_hash, (shot.frames or USUAL_FRAMES)[1]), stale=None,
    )  # fmt: skip


def _state(bake: ShownBake | None, setup_hash: str, last: int) -> str:
    if bake is None:
        return "not baked"
    if bake.state in (*ACTIVE, "failed"):
        return bake.state
    if bake.setup_hash != setup_hash:
        return "stale"
    return "true" if bake.done is not None and bake.done >= last else "partial"


def bake_out(settings: Settings, bake: Bake) -> BakeOut:
    """Return a bake's answer."""
    cache = bake.cache
    return BakeOut(
        id=bake.id, shot=bake.shot_id, revision=bake.revision.number, state=bake.state, first=bake.first,
        last=bake.last, done=cache.done if cache else None, bytes=cache.size_bytes if cache else 0, error=bake.error,
        label=bake.label, handed_in=bake.handed_in, approved=bool(cache and cache.approved),
        damage=list(cache.damage or []) if cache else [], setup_hash=bake.setup_hash,
        folder=cache.folder if cache else None,
    )  # fmt: skip


def errand_out(errand: Errand) -> ErrandOut:
    """Return an errand's answer."""
    return ErrandOut(
        id=errand.id, kind=errand.kind, shot=errand.shot_id, state=errand.state, done=errand.done,
        total=errand.total, error=errand.error, result=errand.result,
    )  # fmt: skip


def delivery_out(delivery: Delivery) -> DeliveryOut:
    """Return a delivery's answer."""
    return DeliveryOut(
        id=delivery.id, bake=delivery.bake_id, file=delivery.file, state=delivery.state,
        frames_done=delivery.frames_done, frames_all=delivery.frames_all, error=delivery.error, order=delivery.order,
        manifest=delivery.manifest,
    )  # fmt: skip


def take_out(take: Take) -> TakeOut:
    """Return a take's answer."""
    return TakeOut(
        id=take.id, name=take.name, source=take.source, fps=take.fps, favourite=take.favourite, created=take.created,
        bodies=[track["body"] for track in take.tracks],
    )  # fmt: skip
