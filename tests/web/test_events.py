"""Pages are told of what changes: soon, once for all pages, and again after the database was away."""

import json
import threading
import time

import httpx
import psycopg
import pytest

from zembrik.library import bakes


class Page(threading.Thread):
    """A page that listens, in a thread of its own; `events` are (when, name, data)."""

    def __init__(self, address, shot):
        super().__init__(daemon=True)
        self.address, self.shot, self.events, self.opened = address, shot, [], threading.Event()
        self.start()
        assert self.opened.wait(20)

    def run(self):
        with httpx.stream("GET", f"{self.address}/events?shot={self.shot}", timeout=60) as answer:
            name = ""
            for line in answer.iter_lines():
                self.opened.set()
                if line.startswith("event: "):
                    name = line[7:]
                elif line.startswith("data: "):
                    self.events.append((time.monotonic(), name, json.loads(line[6:])))

    def wait(self, what, seconds=20.0):
        until = time.monotonic() + seconds
        while True:
            for event in list(self.events):
                if what(event):
                    return event
            assert time.monotonic() < until, self.events[-3:]
            time.sleep(0.01)


@pytest.fixture
def change(database):
    def change(number, **values):
        with database.session() as session:
            row = bakes.get_bake(session, number)
            for name, value in values.items():
                setattr(row, name, value)
        return time.monotonic()

    return change


def test_pages_of_a_shot_are_told_within_300_ms_and_others_are_not(address, database, shot, change):
    pages, other, every = [Page(address, shot) for _ in range(3)], Page(address, shot + 100_000), Page(address, 0)
    with database.session() as session:
        number = bakes.queue_bake(session, shot).id
    for page in pages:
        page.wait(lambda e: e[1] == "status" and e[2]["bake"] and e[2]["bake"]["id"] == number)
    every.wait(lambda e: e[1] == "work")
    late = []
    for n in range(6):
        time.sleep(0.35)
        when = change(number, error=f"fault {n}")
        told = [p.wait(lambda e, n=n: e[1] == "status" and e[2]["bake"]["error"] == f"fault {n}") for p in pages]
        late += [t[0] - when for t in told]
    assert sorted(late)[len(late) // 2] < 0.3, late
    assert other.events == []
    count = len(pages[0].events)
    for n in range(40):
        change(number, error=f"soon {n}")
    pages[0].wait(lambda e: e[2]["bake"] and e[2]["bake"]["error"] == "soon 39")
    assert len(pages[0].events) - count < 20  # many changes are told at once


def test_what_was_missed_while_the_database_was_away_is_told(address, database, settings, shot, change):
    page = Page(address, shot)
    with database.session() as session:
        number = bakes.queue_bake(session, shot).id
    page.wait(lambda e: e[2]["bake"] and e[2]["bake"]["id"] == number)
    listening = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE 'LISTEN zembrik%'"
    with psycopg.connect(settings.conninfo, autocommit=True) as connection:
        connection.execute(listening)
        change(number, error="while it was away")
    page.wait(lambda e: e[2]["bake"]["error"] == "while it was away")
