"""A revision's findings: computed once, whoever asks, and by a worker where they take longer than a page may wait."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, NamedTuple

from sqlalchemy import select
from sqlalchemy.orm import Session

from zembrik.core.problem import Problem
from zembrik.core.setup.document import FileMesh, Setup, parse_setup
from zembrik.core.setup.limits import points_of_shape
from zembrik.library.advice import agreed
from zembrik.library.errands import ask
from zembrik.library.models import Asset, Revision
from zembrik.library.settings import Settings
from zembrik.library.store import StoredAssets

Findings = list[dict[str, Any]]
AT_ONCE_S = 0.3  # what takes longer, a worker does
# What findings take, seconds, as measured over the examples: in any case, a point of cloth, one of a soft body, and a
# rigid body.
IN_ANY_CASE_S, A_CLOTH_POINT_S, A_SOFT_POINT_S, A_RIGID_BODY_S = 0.08, 4.5e-5, 6e-4, 0.02
_working: dict[int, tuple[threading.Lock, int]] = {}
_table = threading.Lock()


class Looking(NamedTuple):
    """Findings that a worker is at: the errand's number."""

    errand: int


def findings_of(session: Session, settings: Settings, revision: Revision) -> Findings | Looking:
    """Return a revision's findings, computed now if that is quick; a proxy's remedy is by its fits, see `advice`."""
    if revision.findings is None:
        setup = parse_setup(revision.document)
        if seconds_about(session, setup) > AT_ONCE_S:
            errand = ask(session, revision.shot_id, "findings", {"revision": revision.id}, again=True)
            return Looking(errand.id)
        compute_findings(session, settings, revision, setup)
    return agreed(session, settings, revision)


def known_findings(session: Session, settings: Settings, revision: Revision) -> Findings:
    """Return the same where a worker must be done with them first; raises Problem while it is not."""
    found = findings_of(session, settings, revision)
    if isinstance(found, Looking):
        raise Problem("the setup is still being looked over.", "findings", "Ask again in a moment.")
    return found


def compute_findings(session: Session, settings: Settings, revision: Revision, setup: Setup) -> None:
    """Compute a revision's findings and keep them. Whoever else asks meanwhile waits, without a connection."""
    session.commit()  # what was done is done, and the connection is others' while this is computed
    with _alone_on(revision.id):
        session.refresh(revision, ["findings"])
        if revision.findings is not None:
            return
        session.commit()
        from zembrik.core.findings.check import check_setup  # brings the solver, which takes a second to load

        found = [f.plain() for f in check_setup(setup, StoredAssets(settings))]
        revision.findings = found
        session.commit()


@contextmanager
def _alone_on(number: int) -> Iterator[None]:
    with _table:
        lock, count = _working.get(number, (threading.Lock(), 0))
        _working[number] = lock, count + 1
    try:
        with lock:
            yield
    finally:
        with _table:
            count = _working[number][1] - 1
            if count:
                _working[number] = lock, count
            else:
                del _working[number]


def seconds_about(session: Session, setup: Setup) -> float:
    """Return about how long the findings of a setup take to compute, seconds."""
    files = {b.mesh.file.partition("/")[0] for b in setup.bodies if isinstance(b.mesh, FileMesh)}
    query = select(Asset.sha256, Asset.points).where(Asset.sha256.in_(files))
    held = {row.sha256: row.points for row in session.execute(query)} if files else {}
    total = IN_ANY_CASE_S
    for body in setup.bodies:
        points = points_of_shape(body)
        if isinstance(body.mesh, FileMesh):
            points = held.get(body.mesh.file.partition("/")[0], 0)
        if body.role == "rigid":
            total += A_RIGID_BODY_S + points * A_CLOTH_POINT_S
        elif body.role == "soft":
            total += points * A_SOFT_POINT_S
        elif body.role != "left out":
            total += points * A_CLOTH_POINT_S
    return total
