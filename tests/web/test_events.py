"""Pages are told of what changes: soon, once for all pages, and again after the database was away."""

import json
import threading
import time

import httpx
import psycopg
import pytest

from zembrik.library.shots import edit


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
def change(database, shot):
    def change(number):
        """Make revision `number` of the shot; return when."""
        with database.session() as session:
            patch = [{"op": "add", "path": "/title", "value": f"to {number}"}]
            assert edit(session, shot, number - 1, patch, "test").number == number
        return time.monotonic()

    return change


def test_pages_of_a_shot_are_told_soon_and_others_are_not(address, shot, change):
    """How soon is measured in bench/fifty_people.py; here it is that nobody has to ask."""
    pages, other, every = [Page(address, shot) for _ in range(3)], Page(address, shot + 100_000), Page(address, 0)
    for number in range(2, 6):
        time.sleep(0.3)
        when = change(number)
        for page in pages:
            told = page.wait(lambda e, n=number: e[1] == "status" and e[2]["revision"] == n)
            assert told[0] - when < 5.0
    every.wait(lambda e: e[1] == "work")
    assert other.events == []
    count = len(pages[0].events)
    for number in range(6, 46):
        change(number)
    pages[0].wait(lambda e: e[2]["revision"] == 45)
    assert len(pages[0].events) - count < 20  # many changes are told at once


def test_what_was_missed_while_the_database_was_away_is_told(address, settings, shot, change):
    page = Page(address, shot)
    change(2)
    page.wait(lambda e: e[2]["revision"] == 2)
    listening = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE 'LISTEN zembrik%'"
    with psycopg.connect(settings.conninfo, autocommit=True) as connection:
        connection.execute(listening)
        change(3)
    page.wait(lambda e: e[2]["revision"] == 3)
