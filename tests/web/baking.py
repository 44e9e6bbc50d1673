"""Bakes for the tests of pages, whether a worker is up or not."""

import time

from zembrik.farm.worker import run_bake
from zembrik.library import bakes


def bake_now(database, number):
    """Bake here, or wait for the worker that was faster."""
    run_bake(database, number)
    until = time.monotonic() + 120
    while True:
        with database.session() as session:
            if bakes.get_bake(session, number).state not in bakes.ACTIVE:
                return
        assert time.monotonic() < until
        time.sleep(0.1)
