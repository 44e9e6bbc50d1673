"""The queue, kept in PostgreSQL by procrastinate: any worker on any machine can take from it.

What is to be done is put on record and into the queue in one transaction: there is no moment between the two in which
a server that dies leaves something on record that nobody will ever do.
"""

from __future__ import annotations

import procrastinate
from sqlalchemy.orm import Session

BAKE, DELIVER, ERRAND, REBAKE = "zembrik.bake", "zembrik.deliver", "zembrik.errand", "zembrik.rebake"
# Errands have a queue of their own: a page that waits must not stand behind a night of bakes.
QUEUE_OF = {BAKE: "bakes", DELIVER: "bakes", ERRAND: "errands", REBAKE: "bakes"}  # a rebake is an errand that bakes
_APP = procrastinate.App(connector=procrastinate.SyncPsycopgConnector())  # never opened: it writes where it is told to


def enqueue(session: Session, task: str, number: int) -> None:
    """Put a bake, a delivery or an errand into its queue, in the session's own transaction."""
    connection = session.connection().connection.driver_connection
    job = _APP.configure_task(task, lock=f"{task}/{number}", queue=QUEUE_OF[task], connection=connection)
    job.defer(number=number)
