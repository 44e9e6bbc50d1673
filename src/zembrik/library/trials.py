"""Trial sheets on record: several runs of one setup with other values, held against one another."""

from __future__ import annotations

import shutil
from typing import Any

import jsonpatch
from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload

from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.core.setup.materials import SIMULATED
from zembrik.core.trials.plan import MOST_TRIALS, Trial
from zembrik.library.bakes import ACTIVE, GONE, new_bake
from zembrik.library.models import Bake, Revision, TrialSheet
from zembrik.library.queue import BAKE, enqueue
from zembrik.library.settings import Settings
from zembrik.library.shots import Patch, apply_patch, edit, get_shot, hash_of_stored


def create_sheet(
    session: Session, shot_id: int, title: str, trials: list[Trial], last: int | None = None, kind: str = "trials",
    plan: dict[str, Any] | None = None, base: Patch | None = None,
) -> TrialSheet:  # fmt: skip
    """Put a sheet and its trials of the setup as it stands into the queue.

    Args:
        title: in words. trials: what each changes.
        last: the last frame of all; None for the shot's own.
        kind, plan: what the runs are there to tell, see `models.TrialSheet`.
        base: what all runs change besides, to be cheaper; who adopts one takes its own values only.

    Raises:
        Problem: when a trial's setup is none, nothing is simulated, or the range is empty; nothing is kept then.
    """
    shot = get_shot(session, shot_id, lock=True)
    assert shot.head is not None
    setup = parse_setup(shot.head.document)
    if not any(b.role in SIMULATED for b in setup.bodies):
        raise Problem("no body is simulated.", "trials", "Give a body the role cloth, soft or rigid on Intake.")
    first, end = setup.frames
    end = end if last is None else last
    if end <= first:
        raise Problem(f"there is nothing from frame {first} to {end}.", "trials", f"The last is at least {first + 1}.")
    if not 2 <= len(trials) <= MOST_TRIALS:
        raise Problem(f"a sheet has 2 to {MOST_TRIALS} runs.", "trials", "Give fewer or more values.")
    sheet = TrialSheet(shot_id=shot_id, revision_id=shot.head.id, title=title[:300], chosen_id=None)
    sheet.kind, sheet.plan = kind, plan or {}
    session.add(sheet)
    session.flush()
    runs, own = [], {}
    for trial in trials:
        document = apply_patch(shot.head.document, [*(base or []), *trial.patch])
        patch = jsonpatch.make_patch(shot.head.document, document).patch  # whole in itself, parents and all
        fields = {"sheet_id": sheet.id, "patch": patch, "label": trial.label}
        changed = hash_of_stored(parse_setup(document))
        runs.append(new_bake(session, shot_id, shot.head.id, changed, (first, end), **fields).id)
        enqueue(session, BAKE, runs[-1])
        if base:
            alone = apply_patch(shot.head.document, trial.patch)
            own[str(runs[-1])] = jsonpatch.make_patch(shot.head.document, alone).patch
    sheet.plan = {**sheet.plan, "runs": runs} | ({"own": own} if base else {})
    return sheet


def get_sheet(session: Session, number: int, lock: bool = False) -> TrialSheet:
    """Return a sheet; raises Problem when there is none."""
    query = select(TrialSheet).where(TrialSheet.id == number)
    sheet = session.scalar(query.with_for_update() if lock else query)
    if sheet is None:
        raise Problem(f"there is no trial sheet number {number}.", "trials", "It may have been thrown away.")
    return sheet


def trials_on(session: Session, sheet_id: int) -> list[Bake]:
    """Return a sheet's trials in the order they were planned, without those thrown away."""
    query = select(Bake).where(Bake.sheet_id == sheet_id, Bake.state.not_in(GONE)).order_by(Bake.id)
    return list(session.scalars(query.options(joinedload(Bake.cache), joinedload(Bake.revision))))


def sheets_of(session: Session, shot_id: int) -> list[TrialSheet]:
    """Return a shot's sheets, the newest first."""
    return list(session.scalars(select(TrialSheet).where(TrialSheet.shot_id == shot_id).order_by(TrialSheet.id.desc())))


def trial_of(session: Session, sheet_id: int, bake_id: int) -> Bake:
    """Return a trial of a sheet; raises Problem when it is none."""
    bake = session.get(Bake, bake_id)
    if bake is None or bake.sheet_id != sheet_id or bake.state in GONE:
        raise Problem(f"there is no trial number {bake_id} on this sheet.", "trials", "Load the page again.")
    return bake


def adopt(session: Session, sheet_id: int, bake_id: int) -> Revision:
    """Make a trial's values the shot's: a revision whose cache is the trial's, unless that was a cheaper version.

    Raises:
        Conflict: when one of the values was changed since the sheet was made.
    """
    bake = trial_of(session, sheet_id, bake_id)
    own = get_sheet(session, sheet_id).plan.get("own")
    patch: Patch = own.get(str(bake_id), []) if own else bake.patch or []
    revision = edit(session, bake.shot_id, bake.revision.number, patch, f"adopted a trial: {bake.label}")
    bake.adopted = not own
    return revision


def stop_all(session: Session, sheet_id: int) -> None:
    """Stop what is left to run; finished trials and frames stay."""
    for bake in trials_on(session, sheet_id):
        if bake.state == "queued":
            bake.state = "stopped"
        elif bake.state == "running":
            bake.stop_asked = True


def throw_away(session: Session, settings: Settings, sheet_id: int) -> int:
    """Take a sheet away with its caches, but for adopted trials, which are the shot's; return the shot's number.

    Raises:
        Problem: while one of its trials is being baked.
    """
    sheet = get_sheet(session, sheet_id, lock=True)
    trials = trials_on(session, sheet_id)
    if any(b.state in ACTIVE and not b.adopted for b in trials):
        raise Problem("some trials are still going on.", "trials", "Stop them first.")
    shot_id, folders = sheet.shot_id, []
    for bake in session.scalars(select(Bake).where(Bake.sheet_id == sheet_id)):
        bake.sheet_id = None
        if bake.adopted or bake.state in GONE or (bake.cache and bake.cache.approved):
            continue
        bake.state = "discarded"
        if bake.cache:
            folders.append(settings.caches / bake.cache.folder)
            session.delete(bake.cache)
    session.flush()
    session.delete(sheet)
    session.flush()
    for folder in folders:
        shutil.rmtree(folder, ignore_errors=True)
    return shot_id
