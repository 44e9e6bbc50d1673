"""Fifty people who are signed in, for five minutes: edits, plays, bakes, uploads, and tabs that stay open.

usage: PYTHONPATH=src python bench/fifty_people.py [PEOPLE] [SECONDS]

Starts an installation in a temporary home, served as to a network; prints the 95th percentile of each kind of page, how
soon open tabs are told of a change, lost edits and 5xx answers (none is right), and memory before and after.
"""

import contextlib
import os
import random
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections import defaultdict
from pathlib import Path

import httpx

from zembrik.library.accounts import create_account, make_token
from zembrik.library.cluster import Cluster, free_port
from zembrik.library.database import Database, upgrade
from zembrik.library.settings import Settings
from zembrik.library.shots import create_shot, create_show

PEOPLE, SECONDS = int(sys.argv[1]) if len(sys.argv) > 1 else 50, int(sys.argv[2]) if len(sys.argv) > 2 else 300
SHOTS = 10
SHEET = {
    "frames": [1, 48],
    "bodies": [
        {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1.0, 1.0], "segments": [24, 24]},
         "place": {"translate": [0.0, 1.02, 0.0]}, "material": {"preset": "linen"}},
        {"name": "ball", "role": "collider", "mesh": {"shape": "ball", "radius": 0.5},
         "place": {"translate": [0.0, 0.5, 0.0]}, "proxy": {"kind": "ball"}},
    ],
}  # fmt: skip
TENT = b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 3 2\nf 1 2 4\nf 2 3 4\nf 3 1 4\n"


def memory_mb(process):
    """Return what a process holds in memory, MB, without what it shares."""
    with open(f"/proc/{process.pid}/smaps_rollup") as file:
        return next(int(line.split()[1]) for line in file if line.startswith("Pss:")) / 1000


def cpu_s(process):
    fields = Path(f"/proc/{process.pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


class Tally:
    """What was asked, how long it took, and what failed."""

    def __init__(self):
        self.times, self.failed, self.lock = defaultdict(list), [], threading.Lock()
        self.edits = defaultdict(int)

    def timed(self, kind, call, *words, **more):
        """Ask, and keep how long it took, s."""
        begun = time.monotonic()
        answer = call(*words, **more)
        with self.lock:
            self.times[kind].append(time.monotonic() - begun)
            if answer.status_code >= 500:
                self.failed.append((kind, answer.status_code, answer.text[:200]))
        return answer


def person(address, token, shots, tally, until, seed):
    dice = random.Random(seed)
    headers = {"Authorization": f"Bearer {token}", "HX-Request": "true"}
    with httpx.Client(base_url=address, headers=headers, timeout=60) as client:
        while time.monotonic() < until:
            shot = dice.choice(shots)
            what = dice.random()
            if what < 0.45:
                station = dice.choice(["intake", "proxies", "start", "motion", "quality", "bake", "review", "deliver"])
                tally.timed("page", client.get, f"/shots/{shot}/{station}")
            elif what < 0.60:
                tally.timed("board", client.get, "/")
            elif what < 0.75:
                base = client.get(f"/api/shots/{shot}/setup").json()["number"]
                patch = [{"op": "add", "path": "/bodies/0/material/bend", "value": dice.uniform(1e-5, 1e-4)}]
                sent = {"base": base, "patch": patch}
                done = tally.timed("edit", client.patch, f"/api/shots/{shot}/setup", json=sent)
                if done.status_code == 200:
                    with tally.lock:
                        tally.edits[shot] += 1
            elif what < 0.90:
                bake = client.get(f"/api/shots/{shot}").json()["bake"]
                if bake:
                    tally.timed("play", client.get, f"/bakes/{bake}/frames.bin?first=1&count=12")
            elif what < 0.95:
                tally.timed("bake", client.post, f"/api/shots/{shot}/bakes")
            else:
                files = {"file": (f"{seed}.obj", TENT + b"# %d" % dice.randrange(10**9))}
                tally.timed("upload", client.post, "/api/assets", files=files)
            time.sleep(dice.uniform(2.0, 14.0))


def tab(address, token, shot, told, until):
    headers = {"Authorization": f"Bearer {token}"}
    with (
        contextlib.suppress(httpx.HTTPError),
        httpx.stream("GET", f"{address}/events?shot={shot}", headers=headers, timeout=httpx.Timeout(60)) as answer,
    ):
        for line in answer.iter_lines():
            if line.startswith('data: {"revision"'):
                told.append((shot, time.monotonic(), int(line.split('"revision":')[1].split(",")[0])))
            if time.monotonic() > until:
                return


def main():
    with tempfile.TemporaryDirectory(prefix="zembrik-fifty-") as name:
        Path(name).chmod(0o755)
        cluster = Cluster(Path(name) / "postgres")
        settings = Settings(Path(name) / "home", cluster.start())
        settings.make_folders()
        upgrade(settings)
        database = Database(settings)
        with database.session() as session:
            who = create_account(session, "everybody", "a long enough one").id
            tokens = [make_token(session, who, f"person {n}") for n in range(PEOPLE)]
            show = create_show(session, "Windfall Fair")
            shots = [create_shot(session, show, f"WF-{n:03}", "Cloth on a ball", SHEET).id for n in range(SHOTS)]
        port = free_port()
        environment = {**os.environ, "ZEMBRIK_HOME": str(settings.home), "ZEMBRIK_DATABASE": settings.database_url}
        run = lambda *w: subprocess.Popen([sys.executable, "-m", "zembrik.cli", *w], env=environment)  # noqa: E731
        server = run("serve", "--port", str(port), "--sign-in")
        workers = [run("worker", "--queue", "bakes"), run("worker", "--queue", "errands")]
        address = f"http://127.0.0.1:{port}"
        headers = {"Authorization": f"Bearer {tokens[0]}"}
        try:
            while True:
                with contextlib.suppress(httpx.HTTPError):
                    httpx.get(address, headers=headers, timeout=30)
                    break
                time.sleep(0.2)
            for shot in shots:
                httpx.post(f"{address}/api/shots/{shot}/bakes", headers=headers, timeout=60)
            time.sleep(10)
            quiet(server, address, tokens, shots, database)
            busy(server, workers, address, tokens, shots, database)
            flat(server, workers, address, headers, shots)
        finally:
            for process in (server, *workers):
                process.terminate()
            for process in (server, *workers):
                process.wait(60)
            database.engine.dispose()
            cluster.stop()


def quiet(server, address, tokens, shots, database):
    """Fifty tabs on one shot while it is baked, and nothing else: what they cost the server."""
    told, until = [], time.monotonic() + 240
    tabs = [
        threading.Thread(target=tab, args=(address, tokens[n], shots[0], told, until), daemon=True)
        for n in range(PEOPLE)
    ]
    for one in tabs:
        one.start()
    time.sleep(2)
    headers = {"Authorization": f"Bearer {tokens[0]}"}
    base = httpx.get(f"{address}/api/shots/{shots[0]}/setup", headers=headers).json()["number"]
    patch = [{"op": "add", "path": "/frames", "value": [1, 4000]}]
    httpx.patch(
        f"{address}/api/shots/{shots[0]}/setup", json={"base": base, "patch": patch}, headers=headers, timeout=60
    )
    bake = httpx.post(f"{address}/api/shots/{shots[0]}/bakes", headers=headers, timeout=60).json()["id"]
    while httpx.get(f"{address}/api/bakes/{bake}", headers=headers, timeout=60).json()["state"] != "running":
        time.sleep(0.5)
    time.sleep(3)
    begun, used = time.monotonic(), cpu_s(server)
    count = len(told)
    time.sleep(20)
    share = (cpu_s(server) - used) / (time.monotonic() - begun)
    rate = (len(told) - count) / 20 / PEOPLE
    print(f"{PEOPLE} tabs during a bake: {100 * share:.1f}% of a core, each told {rate:.1f} times a second")
    httpx.post(f"{address}/api/bakes/{bake}/stop", headers=headers, timeout=60)
    late = []
    for _ in range(20):
        time.sleep(0.6)
        base = httpx.get(f"{address}/api/shots/{shots[1]}/setup", headers=headers).json()["number"]
        seen = []
        one = threading.Thread(
            target=tab, args=(address, tokens[1], shots[1], seen, time.monotonic() + 30), daemon=True
        )
        one.start()
        time.sleep(0.4)
        patch = [{"op": "add", "path": "/title", "value": f"{base}"}]
        begun = time.monotonic()
        httpx.patch(f"{address}/api/shots/{shots[1]}/setup", json={"base": base, "patch": patch}, headers=headers)
        while not any(r == base + 1 for _, _, r in seen) and time.monotonic() < begun + 5:
            time.sleep(0.002)
        late.append(next((t for _, t, r in seen if r == base + 1), begun + 5) - begun)
    middle, most = 1e3 * statistics.median(late), 1e3 * max(late)
    print(f"from sending an edit to an event in an open tab: median {middle:.0f} ms, most {most:.0f} ms")


def busy(server, workers, address, tokens, shots, database):
    tally, until = Tally(), time.monotonic() + SECONDS
    with httpx.Client(base_url=address, headers={"Authorization": f"Bearer {tokens[0]}"}, timeout=60) as client:
        before = {shot: client.get(f"/api/shots/{shot}/setup").json()["number"] for shot in shots}
        begun = memory_mb(server)
        told = []
        tabs = [threading.Thread(target=tab, args=(address, tokens[n], shots[n % SHOTS], told, until), daemon=True)
                for n in range(PEOPLE)]  # fmt: skip
        people = [
            threading.Thread(target=person, args=(address, tokens[n], shots, tally, until, n)) for n in range(PEOPLE)
        ]
        for one in (*tabs, *people):
            one.start()
        for one in people:
            one.join()
        after = {shot: client.get(f"/api/shots/{shot}/setup").json()["number"] for shot in shots}
    lost = sum(tally.edits[shot] for shot in shots) - sum(after[s] - before[s] for s in shots)
    print(f"{PEOPLE} people for {SECONDS} s: {sum(map(len, tally.times.values())):,} requests, "
          f"{len(tally.failed)} answers 5xx, {sum(tally.edits.values())} edits, {lost} of them lost")  # fmt: skip
    for failed in tally.failed[:5]:
        print("  ", *failed)
    for kind, times in sorted(tally.times.items()):
        times.sort()
        print(f"  {kind:7} {len(times):5} × median {1e3 * statistics.median(times):6.0f} ms, "
              f"p95 {1e3 * times[int(0.95 * len(times))]:6.0f} ms")  # fmt: skip
    print(f"server: {begun:.0f} MB before, {memory_mb(server):.0f} MB after")


def flat(server, workers, address, headers, shots):
    """1,000 pages and 30 bakes: memory in steps of a quarter."""
    with httpx.Client(base_url=address, headers=headers, timeout=60) as client:
        held = []
        for n in range(1000):
            client.get(f"/shots/{shots[n % SHOTS]}/{('review', 'quality', 'intake')[n % 3]}")
            if n % 250 == 249:
                held.append(memory_mb(server))
        print("server after each 250 pages, MB:", *(f"{v:.0f}" for v in held))
        held = []
        for n in range(30):
            shot = shots[n % SHOTS]
            base = client.get(f"/api/shots/{shot}/setup").json()["number"]
            patch = [{"op": "add", "path": "/bodies/0/material/bend", "value": 1e-5 * (n + 2)},
                     {"op": "add", "path": "/frames", "value": [1, 24]}]  # fmt: skip
            client.patch(f"/api/shots/{shot}/setup", json={"base": base, "patch": patch})
            bake = client.post(f"/api/shots/{shot}/bakes").json()
            while client.get(f"/api/bakes/{bake['id']}").json()["state"] in ("queued", "running"):
                time.sleep(0.05)
            if n % 10 == 9:
                held.append(memory_mb(workers[0]))
        print("worker after each 10 bakes, MB:", *(f"{v:.0f}" for v in held))


if __name__ == "__main__":
    main()
