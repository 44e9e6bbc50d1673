"""Server time of the shots board and every bench page, with 200 shots in the database.

A cluster, a web server and their data of their own; each shot has 12 revisions and 3 bakes with caches.

usage: PYTHONPATH=src python bench/pages.py [shots]
"""

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import httpx
import numpy as np
from sqlalchemy import select, text

from zembrik.core.bake import bake
from zembrik.core.setup.document import parse_setup
from zembrik.library.cluster import Cluster, free_port
from zembrik.library.database import Database, upgrade
from zembrik.library.fair import demo_shots
from zembrik.library.models import Bake, CacheRecord
from zembrik.library.placing import placed_bodies
from zembrik.library.settings import Settings
from zembrik.library.shots import create_shot, create_show, edit
from zembrik.library.store import StoredAssets, take_in
from zembrik.web.stations import NAMES

REPEATS = 15
FRAMES = 12
REVISIONS = 12
CACHES_A_SHOT, MANY_FRAMES = 25, 400  # 200 shots: 5,000 caches, 2 million frames


def fill(database: Database, settings: Settings, shots: int) -> int:
    """Add the shots; returns the number of one in the middle."""
    with database.session() as session:
        show = create_show(session, "Windfall Fair")
        model = demo_shots()[0]
        document = dict(model.setup, frames=[1, FRAMES], quality={"profile": "rough"})
        names = {name: take_in(session, settings, name, data)[0] for name, data in model.files.items()}
        for body in document["bodies"]:
            if "file" in body["mesh"]:
                body["mesh"] = dict(body["mesh"], file=names[body["mesh"]["file"]])
        baked = settings.home / "one.zarr"
        bake(parse_setup(document), StoredAssets(settings), baked)
        for k in range(shots):
            shot = create_shot(session, show, f"WF-{k:03}", "Awning in gusts", document)
            for turn in range(REVISIONS):
                if turn % 4 == 3:
                    add_bake(session, settings, shot, baked)
                patch = [{"op": "add", "path": "/title", "value": f"Awning, revision {turn}"}]
                edit(session, shot.id, shot.head.number, patch, "title")
            if k % 2:  # every other shot plays the cache of the one before it
                add_guest(session, settings, shot)
            for _ in range(CACHES_A_SHOT - REVISIONS // 4):  # on record only: nobody opens them here
                add_bake(session, settings, shot, None, MANY_FRAMES)
        return shot.id - shots // 2


def add_guest(session, settings, shot):
    number = session.scalar(select(Bake.id).where(Bake.shot_id == shot.id - 1, Bake.setup_hash != "0" * 64).limit(1))
    guest = placed_bodies(session, settings, number, [], "left out", 1.0, (3.0, 0.0, 0.0), 0.0, {"awning"})
    edit(session, shot.id, shot.head.number, [{"op": "add", "path": "/bodies/-", "value": g} for g in guest], "guest")


def add_bake(session, settings, shot, baked, frames=FRAMES):
    row = Bake(shot_id=shot.id, revision_id=shot.head.id, setup_hash=shot.head.setup_hash, first=1, last=frames)
    row.state, row.stop_asked, row.error = "done", False, ""
    session.add(row)
    session.flush()
    folder = f"{shot.id:06d}/bake-{row.id:06d}.zarr"
    row.cache = CacheRecord(folder=folder, size_bytes=row.id % 977 * 100_000, done=frames)
    if baked is None:
        row.setup_hash = "0" * 64  # stale, so that pages show the others
    else:
        shutil.copytree(baked, settings.caches / folder, copy_function=os.link)


def main() -> None:
    shots = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    with tempfile.TemporaryDirectory(prefix="zembrik-bench-") as folder:
        Path(folder).chmod(0o755)
        cluster = Cluster(Path(folder) / "postgres", safe=False)
        server = None
        try:
            settings = Settings(Path(folder) / "home", cluster.start())
            settings.make_folders()
            upgrade(settings)
            database = Database(settings)
            middle = fill(database, settings, shots)
            with database.session() as session:
                session.execute(text("ANALYZE"))  # as autovacuum does within a minute
            port = free_port()
            environment = {**os.environ, "ZEMBRIK_HOME": str(settings.home), "ZEMBRIK_DATABASE": settings.database_url}
            server = subprocess.Popen(
                [sys.executable, "-m", "zembrik.cli", "serve", "--port", str(port)], env=environment
            )
            measure(f"http://127.0.0.1:{port}", middle, shots)
        finally:
            if server:
                server.terminate()
                server.wait(20)
            cluster.remove()


def measure(address: str, middle: int, shots: int) -> None:
    until = time.monotonic() + 60
    with httpx.Client(base_url=address, timeout=60) as client:
        while time.monotonic() < until:
            try:
                client.get("/")
                break
            except httpx.ConnectError:
                time.sleep(0.1)
        time.sleep(8.0)  # the server loads the solver in the background; pages wait for nothing, but share its cores
        print(f"{shots} shots, {CACHES_A_SHOT * shots} caches; ms from request to whole answer, one client")
        print("page            first   median     p95     KiB")
        paths = {"board": "/"} | {name: f"/shots/{middle}/{name}" for name in NAMES}
        paths["status.json"] = f"/shots/{middle}/status.json"
        paths |= {"caches": "/caches", "caches, typed": "/caches?q=WF-10", "caches, large": "/caches?sort=largest",
                  "queue": "/queue", "deliveries": "/deliveries", "for scripts": "/api",
                  "place a cache": f"/shots/{middle}/placeable?q=WF-10",
                  "api: shots": "/api/shows/1/shots", "api: caches": "/api/caches?words=WF-10"}  # fmt: skip
        for name, path in paths.items():
            times = []
            for _ in range(REPEATS + 1):
                start = time.perf_counter()
                answer = client.get(path)
                times.append(1000 * (time.perf_counter() - start))
                assert answer.status_code == 200, answer.text
            rest, size = times[1:], len(answer.content) / 1024
            print(f"{name:14}{times[0]:7.1f}{np.median(rest):9.1f}{np.percentile(rest, 95):8.1f}{size:8.0f}")


if __name__ == "__main__":
    main()
