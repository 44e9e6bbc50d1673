"""The queue, kept in PostgreSQL by procrastinate: any worker on any machine can take from it.

What is to be done is put on record and into the queue in one transaction: there is no moment between the two in which
a server that dies leaves something on record that nobody will ever do.
"""

from __future__ import annotations

import procrastinate
from sqlalchemy import text
from sqlalchemy.orm import Session

from zembrik.core.sources import solver_edition

BAKE, DELIVER, ERRAND, REBAKE = "zembrik.bake", "zembrik.deliver", "zembrik.errand", "zembrik.rebake"
# Errands have a queue of their own: a page that waits must not stand behind a night of bakes.
QUEUE_OF = {BAKE: "bakes", DELIVER: "bakes", ERRAND: "errands", REBAKE: "bakes"}  # a rebake is an errand that bakes
OF_EDITION = (BAKE, REBAKE)  # what comes out otherwise by another edition of the solver
_APP = procrastinate.App(connector=procrastinate.SyncPsycopgConnector())  # never opened: it writes where it is told to


def enqueue(session: Session, task: str, number: int) -> None:
    """Put a bake, a delivery or an errand into its queue, in the session's own transaction."""
    connection = session.connection().connection.driver_connection
    queue = queues_of(QUEUE_OF[task])[-1] if task in OF_EDITION else QUEUE_OF[task]
    job = _APP.configure_task(task, lock=f"{task}/{number}", queue=queue, connection=connection)
    job.defer(number=number)


def queues_of(name: str) -> list[str]:
    """Return the queues that a worker takes from who is to take from one: its own edition's last.

    A worker of another edition would bake other frames than the page was promised; so it does not see these.
    """
    return [name, f"{name} {edition()}"] if name == "bakes" else [name]


def edition() -> str:
    """Return which edition of the solver this program has, in short."""
    return solver_edition().rpartition(" ")[2]


def of_other_editions(session: Session) -> dict[str, int]:
    """Return how many bakes wait for a worker of another edition, by that edition."""
    rows = session.execute(
        text(
            "SELECT queue_name, count(*) FROM procrastinate_jobs WHERE status = 'todo' AND queue_name LIKE 'bakes %' "
            "AND queue_name <> :own GROUP BY queue_name ORDER BY queue_name"
        ),
        {"own": queues_of("bakes")[-1]},
    )
    return {name.partition(" ")[2]: int(count) for name, count in rows}


def take_over_editions(session: Session) -> int:
    """Let workers of this edition do what was asked for by another one; return how much it is."""
    found = of_other_editions(session)
    session.execute(
        text("UPDATE procrastinate_jobs SET queue_name = :own WHERE status = 'todo' AND queue_name LIKE 'bakes %'"),
        {"own": queues_of("bakes")[-1]},
    )
    return sum(found.values())
