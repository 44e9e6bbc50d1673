"""The queue, kept in PostgreSQL by procrastinate: any worker on any machine can take from it."""

from __future__ import annotations

import procrastinate

from zembrik.library.settings import Settings

BAKE, DELIVER, ERRAND, REBAKE = "zembrik.bake", "zembrik.deliver", "zembrik.errand", "zembrik.rebake"
# Errands have a queue of their own: a page that waits must not stand behind a night of bakes.
QUEUE_OF = {BAKE: "bakes", DELIVER: "bakes", ERRAND: "errands", REBAKE: "bakes"}  # a rebake is an errand that bakes


class Queue:
    """Puts work into the queue."""

    def __init__(self, settings: Settings) -> None:
        self.app = procrastinate.App(
            connector=procrastinate.SyncPsycopgConnector(conninfo=settings.conninfo, min_size=1, max_size=4)
        )
        self.app.open()

    def add(self, task: str, number: int) -> None:
        """Put a bake, a delivery or an errand into its queue."""
        self.app.configure_task(task, lock=f"{task}/{number}", queue=QUEUE_OF[task]).defer(number=number)

    def close(self) -> None:
        """Let go of the database."""
        self.app.close()
