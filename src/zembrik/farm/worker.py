"""A worker: takes bakes, deliveries and errands from their queues, one at a time."""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import datetime
import gc
import logging
import os
import shutil
import signal
import threading
import time
import traceback
from collections.abc import Callable, Iterator

import procrastinate
import psycopg
from sqlalchemy import select, text
from sqlalchemy.exc import DBAPIError, OperationalError
from sqlalchemy.orm import Session

from zembrik.core.bake import Progress, bake
from zembrik.core.cache.reader import Cache
from zembrik.core.compiled import use_threads
from zembrik.core.exchange.delivery import deliver
from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.farm.errands import run_errand
from zembrik.farm.picture import make_picture
from zembrik.library.bakes import cache_path
from zembrik.library.caches import longest_unseen, verify
from zembrik.library.database import Database
from zembrik.library.deliveries import held_meshes, kept_order
from zembrik.library.models import Bake, Delivery, Errand
from zembrik.library.queue import BAKE, DELIVER, ERRAND, QUEUE_OF, REBAKE, enqueue, queues_of, take_over_editions
from zembrik.library.settings import Settings, refuse_missing
from zembrik.library.shots import get_shot, head_setup
from zembrik.library.store import StoredAssets

LEAVING = threading.Event()  # set when this worker is told to stop
# A worker says that it is there three times in this time; one that did not is taken for dead, and its work is done by
# another.
DEAD_AFTER_S = float(os.environ.get("ZEMBRIK_DEAD_AFTER", "30"))
LOOK_AGAIN, LOOK_OVER_S = datetime.timedelta(days=7), 20.0  # caches are looked over weekly, some every ten minutes
SHORTEST_PAUSE_S, LONGEST_PAUSE_S = 0.5, 30.0  # between two tries to reach a database that is away
PATIENCE_S = 600.0  # how long a worker waits for a database that is away
LOOK_EVERY_S = 0.25  # how often a running bake asks the database whether it is to stop
GONE = "The cache's folder was removed meanwhile, and its frames with it. Tried again, it begins anew."
BAKE_LOCK = 0x5A65  # tells our advisory locks in the database from anybody else's
log = logging.getLogger("zembrik.worker")


@contextlib.contextmanager
def alone_on(database: Database, number: int) -> Iterator[bool]:
    """Give whether nobody else bakes this number, and see to it that nobody does meanwhile.

    The database holds the lock for as long as this process's connection lives: a worker that dies lets go of it.
    """
    # Outside of a transaction: one that stays open for hours would keep the database from cleaning up.
    with database.engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        mine = bool(connection.scalar(text("SELECT pg_try_advisory_lock(:kind, :n)"), {"kind": BAKE_LOCK, "n": number}))
        try:
            yield mine
        finally:
            if mine:
                with while_away():  # a database that went away meanwhile has let go of it
                    connection.execute(text("SELECT pg_advisory_unlock(:kind, :n)"), {"kind": BAKE_LOCK, "n": number})


@contextlib.contextmanager
def while_away() -> Iterator[None]:
    """Go on where the database is away for a moment."""
    try:
        yield
    except DBAPIError as error:
        if not (error.connection_invalidated or isinstance(error, OperationalError)):
            raise
        log.warning("the database is away: %s", str(error.orig).strip().partition("\n")[0])


def database_back(database: Database, work: Callable[[Session], None]) -> None:
    """Do something in a transaction, and wait for the database where it is away: frames lie on disk meanwhile."""
    until = time.monotonic() + PATIENCE_S
    while True:
        try:
            with database.session() as session:
                work(session)
            return
        except DBAPIError as error:
            if not (error.connection_invalidated or isinstance(error, OperationalError)) or time.monotonic() > until:
                raise
            log.warning("waiting for the database")
            time.sleep(1.0)


def run_bake(database: Database, number: int) -> None:
    """Bake number: continue its cache if it has one; write down how it went."""
    with alone_on(database, number) as mine:
        if mine:
            _run_bake(database, number)


def _run_bake(database: Database, number: int) -> None:
    settings = database.settings
    with database.session() as session:
        job = session.get(Bake, number, with_for_update=True)
        if job is None or job.state not in ("queued", "running") or job.cache is None:
            return  # stopped or discarded while it waited
        job.state, job.started = "running", _now()
        document = {**job.document, "frames": [job.first, job.last]}
        path, had = cache_path(settings, job), job.cache.done is not None
    asked, began = [time.monotonic()], [False]

    def tell(progress: Progress) -> bool:
        began[0] = True
        if time.monotonic() - asked[0] < LOOK_EVERY_S and progress.done < progress.total:
            return not LEAVING.is_set()
        asked[0] = time.monotonic()
        with while_away(), database.session() as session:
            row = session.get(Bake, number)
            if row is None or row.cache is None:
                return False
            row.cache.done = progress.frame
            return not row.stop_asked and not LEAVING.is_set()
        return not LEAVING.is_set()  # the database is away: the frames are not

    state, error, cache = "failed", "", None
    try:
        refuse_missing(settings)
        path.parent.mkdir(exist_ok=True)
        if path.exists() and not (path / "zarr.json").exists():
            shutil.rmtree(path)  # what was left of a cache that somebody removed: nothing can be read of it
        setup, assets = parse_setup(document), StoredAssets(settings)
        cache = bake(setup, assets, path, resume=True, tell=tell)
        state = "done" if cache.done == job.last else "stopped"
        make_picture(cache, path / "picture.png", setup, assets)
    except Problem as problem:
        error = told_without_paths(problem)
    except Exception as fault:  # a fault of ours must show on the page, not only in the log
        log.error("bake %s: %s", number, traceback.format_exc())
        error = f"A fault in the program: {type(fault).__name__}: {fault}"[:500]
    gone = (had or began[0]) and settings.caches.is_dir() and not (path / "zarr.json").exists()
    if gone:
        state, error = "failed", GONE

    def write_down(session: Session) -> None:
        row = session.get(Bake, number, with_for_update=True)
        if row is None:
            return
        if gone and row.cache:
            row.cache.done, row.cache.size_bytes = None, 0
        # The worker goes: another one, or this one started again, carries on from here.
        left = state == "stopped" and LEAVING.is_set() and not row.stop_asked
        row.state, row.error, row.ended = "queued" if left else state, error, None if left else _now()
        if left:
            enqueue(session, BAKE, number)
        if row.cache and (path / "zarr.json").exists():
            held = Cache(path)
            row.cache.done, row.cache.size_bytes = held.done, held.size_bytes()

    database_back(database, write_down)


def told_without_paths(problem: Problem) -> str:
    """Return what a page tells of a problem: where the server keeps its files is nobody's business."""
    where = "" if problem.where.startswith("/") else f"{problem.where}: "
    return f"{where}{problem.what} {problem.remedy}".strip()


def run_delivery(database: Database, number: int) -> None:
    """Write a delivery's file; write down how it went."""
    settings = database.settings
    with database.session() as session:
        job = session.get(Delivery, number, with_for_update=True)
        if job is None or job.state not in ("queued", "running"):
            return
        job.state = "running"
        order, source, out = kept_order(job.order), cache_path(settings, job.bake), settings.deliveries / job.file
        setup = head_setup(get_shot(session, job.bake.shot_id))
    told = [0.0]
    stopped = [False]

    def tell(done: int, total: int) -> bool:
        if time.monotonic() - told[0] > LOOK_EVERY_S:
            told[0] = time.monotonic()
            with while_away(), database.session() as session:
                row = session.get(Delivery, number)
                if row is not None:
                    row.frames_done, row.frames_all = done, total
                    stopped[0] = row.stop_asked
        return not stopped[0] and not LEAVING.is_set()

    manifest, error = None, ""
    try:
        out.parent.mkdir(parents=True, exist_ok=True)
        cache = Cache(source)
        manifest = deliver(cache, out, order, tell, held_meshes(setup, cache, settings, order))
    except Problem as problem:
        error = told_without_paths(problem)
    except OSError as problem:
        error = f"The file cannot be written: {problem.strerror}."
    except Exception as fault:
        log.error("delivery %s: %s", number, traceback.format_exc())
        error = f"A fault in the program: {type(fault).__name__}: {fault}"[:500]
    left = LEAVING.is_set() and manifest is None and not stopped[0]
    state = "done" if manifest is not None else ("queued" if left else "stopped" if stopped[0] else "failed")

    def write_down(session: Session) -> None:
        row = session.get(Delivery, number)
        if row is not None:
            row.state, row.manifest, row.error = state, manifest, error if state == "failed" else ""
            if left:
                enqueue(session, DELIVER, number)

    database_back(database, write_down)


def look_over_some(database: Database, seconds: float = LOOK_OVER_S) -> int:
    """Read caches against their checksums that nobody looked over for long, for some time; return how many.

    It begins with what was never looked over. A cache that is damaged is marked so, wherever caches are listed.
    """
    until, count = time.monotonic() + seconds, 0
    while time.monotonic() < until and not LEAVING.is_set() and database.settings.caches.is_dir():
        with database.session() as session:
            number = longest_unseen(session, _now() - LOOK_AGAIN)
            if number is None:
                break
            verify(session, database.settings, number)
        count += 1
    return count


def give_back_memory() -> None:
    """Hand memory that a large piece of work took back to the system: glibc keeps what was freed otherwise."""
    gc.collect()
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL("libc.so.6").malloc_trim(0)


def make_app(database: Database) -> procrastinate.App:
    """Return the queue's application with its tasks."""
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=database.settings.conninfo))

    @app.task(name=BAKE)  # type: ignore[untyped-decorator]
    def _bake(number: int) -> None:
        use_threads(int(os.environ.get("ZEMBRIK_THREADS", "2")))
        run_bake(database, number)
        give_back_memory()

    @app.task(name=DELIVER)  # type: ignore[untyped-decorator]
    def _deliver(number: int) -> None:
        run_delivery(database, number)
        give_back_memory()

    def run(number: int) -> None:
        use_threads(int(os.environ.get("ZEMBRIK_THREADS", "2")))
        run_errand(database, number, LEAVING)
        give_back_memory()

    @app.task(name=ERRAND)  # type: ignore[untyped-decorator]
    def _errand(number: int) -> None:
        run(number)

    @app.periodic(cron="*/10 * * * *", periodic_id="look over")  # type: ignore[untyped-decorator]
    @app.task(name="zembrik.look-over", queue="errands", queueing_lock="look-over", pass_context=False)  # type: ignore[untyped-decorator]
    def _look_over(timestamp: int) -> None:
        look_over_some(database)

    @app.task(name=REBAKE)  # type: ignore[untyped-decorator]
    def _rebake(number: int) -> None:
        run(number)

    return app


def put_back_orphans(database: Database, queues: list[str]) -> list[tuple[str, int]]:
    """Put the work of some queues whose worker died into them again: its rows still say running. Return what.

    Only for an installation where one worker takes from those queues, before that worker starts.
    """
    with database.session() as session:
        bakes = list(session.scalars(select(Bake.id).where(Bake.state == "running")))
        deliveries = list(session.scalars(select(Delivery.id).where(Delivery.state == "running")))
        errands = session.execute(select(Errand.id, Errand.kind).where(Errand.state == "running")).all()
        left = [(BAKE, n) for n in bakes] + [(DELIVER, n) for n in deliveries]
        left += [(REBAKE if kind == "rebake" else ERRAND, n) for n, kind in errands]
        orphans = [(task, n) for task, n in left if QUEUE_OF[task] in queues]
        for task, number in orphans:
            enqueue(session, task, number)
    return orphans


async def _run(app: procrastinate.App, queues: list[str]) -> None:
    """Work until TERM or INT: then leave the bake at hand after the frame it is on."""
    async with app.open_async():
        log.info("at work")
        work = asyncio.create_task(
            app.run_worker_async(
                queues=queues,
                concurrency=1,
                name=f"worker-{os.getpid()}",
                fetch_job_polling_interval=1.0,
                install_signal_handlers=False,
                update_heartbeat_interval=DEAD_AFTER_S / 3.0,
                stalled_worker_timeout=DEAD_AFTER_S,
                shutdown_graceful_timeout=30.0,
            )
        )

        watch = asyncio.create_task(_take_over(app, queues))

        def leave() -> None:
            LEAVING.set()
            work.cancel()

        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, leave)
        with contextlib.suppress(asyncio.CancelledError):
            await work
        watch.cancel()
        if work.done() and not work.cancelled():
            work.result()  # what ended it, if it was not told to


async def _take_over(app: procrastinate.App, queues: list[str]) -> None:
    """Put the work of workers that died back into the queue, for as long as this one works."""
    while True:
        await asyncio.sleep(DEAD_AFTER_S / 3.0)
        with contextlib.suppress(procrastinate.exceptions.ProcrastinateException):
            for queue in queues:
                for job in await app.job_manager.get_stalled_jobs(queue=queue, seconds_since_heartbeat=DEAD_AFTER_S):
                    log.warning("job %s: its worker is gone; it goes on here or elsewhere", job.id)
                    await app.job_manager.retry_job(job)


def run_worker(settings: Settings, alone: bool = False, queues: tuple[str, ...] = ()) -> None:
    """Take work from some queues, or all, until told to stop; alone, begin with what a worker that died has left."""
    database, taken = Database(settings), list(queues) or sorted(set(QUEUE_OF.values()))
    if alone:
        put_back_orphans(database, taken)
        if "bakes" in taken:
            with database.session() as session:
                take_over_editions(session)  # the program is another edition since it was asked for
    queues_taken = [q for name in taken for q in queues_of(name)]
    pause = SHORTEST_PAUSE_S
    while not LEAVING.is_set():
        begun = time.monotonic()
        try:
            asyncio.run(_run(make_app(database), queues_taken))
            if not LEAVING.is_set():
                log.warning("waiting for the database: the queue let go of this worker")
        except (psycopg.Error, procrastinate.exceptions.ProcrastinateException, OSError) as error:
            log.warning("waiting for the database: %s", str(error).strip().partition("\n")[0])
        if LEAVING.is_set():
            break
        pause = SHORTEST_PAUSE_S if time.monotonic() - begun > LONGEST_PAUSE_S else min(2 * pause, LONGEST_PAUSE_S)
        LEAVING.wait(pause)


def _now() -> datetime.datetime:
    return datetime.datetime.now(datetime.UTC)
