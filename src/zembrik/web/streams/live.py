"""Live runs: a WebSocket between a page and a process of its own that simulates while a hand drags."""

from __future__ import annotations

import asyncio
import contextlib
import multiprocessing
import os
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from typing import Any
from urllib.parse import urlsplit

import numpy as np
from fastapi import APIRouter, WebSocket
from starlette.concurrency import run_in_threadpool
from starlette.websockets import WebSocketDisconnect

from zembrik.core.problem import Problem
from zembrik.farm.live import LiveOrder, run_live
from zembrik.library.author import acting_as
from zembrik.library.database import Database
from zembrik.library.hand_takes import keep_hand_take
from zembrik.library.shots import get_shot
from zembrik.web.fields import MOST, read_json
from zembrik.web.sessions import Doors, is_loopback
from zembrik.web.streams.pack import Pack

router = APIRouter()
SILENT_S = 20.0  # after which a page that says nothing is taken for gone
LOADING_S = 180.0  # for the first picture: kernels may have to be compiled
MOST_TEXT = 100_000  # characters of a message: a small picture goes with a take
MOST_LIVE = int(os.environ.get("ZEMBRIK_LIVE_RUNS", "2"))  # on this machine
COUNT_IN_S = (-1.0, 0.0, 1.0, 2.0, 3.0, 5.0)
DOES = ("play", "pause", "again", "let go", "keep", "alive")


@dataclass
class LiveRuns:
    """The live runs of this server, by who has them."""

    held: dict[int, multiprocessing.process.BaseProcess] = field(default_factory=dict)

    def refuse_more(self, who: int) -> None:
        """Raise a Problem when this person, or this machine, has as many as may be."""
        self.held = {key: process for key, process in self.held.items() if process.is_alive()}
        if who in self.held:
            raise Problem("you have a live run already.", "live", "End that one first.")
        if len(self.held) >= MOST_LIVE:
            raise Problem(f"{len(self.held)} live runs are as many as this machine takes.", "live", "Try again later.")


@router.websocket("/shots/{shot_id}/live")
async def live(socket: WebSocket, shot_id: int) -> None:
    """Run a shot live for a page, for as long as it is there."""
    who = await _who(socket)
    if who is None:
        await socket.close(4401)
        return
    await socket.accept()
    runs: LiveRuns = socket.app.state.live
    process = None
    try:
        asked = await asyncio.wait_for(socket.receive_text(), SILENT_S)
        order = await run_in_threadpool(_order, socket.app.state.database, shot_id, asked)
        runs.refuse_more(who.id)
        ours, theirs = multiprocessing.get_context("spawn").Pipe()
        process = multiprocessing.get_context("spawn").Process(
            target=run_live, args=(theirs, socket.app.state.settings, order), daemon=True
        )
        runs.held[who.id] = process
        await run_in_threadpool(process.start)
        theirs.close()
        with acting_as(who.name):
            await _relay(socket, ours, shot_id, order)
    except Problem as problem:
        with contextlib.suppress(RuntimeError, WebSocketDisconnect):
            await socket.send_json({"ended": f"{problem.what[:1].upper()}{problem.what[1:]} {problem.remedy}".strip()})
            await socket.close()
    except (WebSocketDisconnect, TimeoutError):
        pass
    finally:
        if process is not None:
            runs.held.pop(who.id, None)
            process.terminate()
            await run_in_threadpool(process.join, 5)
            if process.is_alive():
                process.kill()


async def _who(socket: WebSocket) -> Any:
    """Return who asks; None for a stranger: another site's page, another server's name, nobody who is signed in."""
    doors: Doors = socket.app.state.doors
    host, origin = socket.headers.get("host", ""), socket.headers.get("origin")
    name = urlsplit(f"//{host}").hostname or ""
    if not (is_loopback(name) or name in doors.names) or origin is None or urlsplit(origin).netloc != host:
        return None
    return await run_in_threadpool(doors.who, socket)


def _order(database: Database, shot_id: int, asked: str) -> LiveOrder:
    """Return what is to run, from what a page asks as JSON."""
    values = _message(asked)
    if not 0 <= shot_id <= MOST:
        raise Problem("there is no such shot.", "live", "Load the page again.")
    with database.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        document = dict(head.document)
    body, pin, substeps, chosen = (values.get(name) for name in ("body", "pin", "substeps", "chosen"))
    coarser = values.get("coarser", 1)
    count_in = values.get("count_in", 0)
    sound = isinstance(body, str) and len(body) <= 120 and (pin is None or _whole(pin, 0, 10_000))
    sound &= _whole(coarser, 1, 8) and (substeps is None or _whole(substeps, 1, 400)) and count_in in COUNT_IN_S
    sound &= chosen is None or (isinstance(chosen, list) and all(isinstance(n, str) for n in chosen[:2001]))
    if not sound:
        raise Problem("what is asked is no live run.", "live", "Load the page again.")
    return LiveOrder(document, str(body), pin, substeps, chosen, float(count_in), coarser)


def _whole(value: Any, least: int, most: int) -> bool:
    return isinstance(value, int) and not isinstance(value, bool) and least <= value <= most


def _message(text: str) -> dict[str, Any]:
    if len(text) > MOST_TEXT:
        raise Problem("what was sent is too long.", "live", "Load the page again.")
    values = read_json(text, "live")
    if not isinstance(values, dict):
        raise Problem("what was sent is no message.", "live", "Load the page again.")
    return values


async def _relay(socket: WebSocket, pipe: Connection, shot_id: int, order: LiveOrder) -> None:
    """Carry what the page and the process have to say to one another until one of them is gone."""
    keeping: dict[str, Any] = {}
    up = asyncio.create_task(_to_process(socket, pipe, keeping))
    down = asyncio.create_task(_to_page(socket, pipe, shot_id, keeping))
    try:
        done, _ = await asyncio.wait({up, down}, return_when=asyncio.FIRST_COMPLETED)
        for task in done:
            task.result()
    finally:
        pipe.close()
        for task in (up, down):
            task.cancel()
        await asyncio.gather(up, down, return_exceptions=True)


async def _to_process(socket: WebSocket, pipe: Connection, keeping: dict[str, Any]) -> None:
    while True:
        values = _message(await asyncio.wait_for(socket.receive_text(), SILENT_S))
        message: dict[str, Any]
        if "to" in values:
            to = values["to"]
            if not (isinstance(to, list) and len(to) == 3 and all(_number(v) for v in to)):
                continue  # a place that is none moves nothing
            message = {"to": [float(v) for v in to]}
        else:
            if values.get("do") not in DOES or values["do"] == "alive":
                continue
            bound = values.get("bound_mm", 0.5)
            message = {"do": values["do"], "bound_m": float(bound) / 1e3 if _number(bound) else 0.0005}
            message["what"] = "all" if values.get("what") == "all" else "hand"
            if values["do"] == "keep":
                keeping.update(name=str(values.get("name", ""))[:200], picture=str(values.get("picture", "")))
        try:
            await run_in_threadpool(pipe.send, message)
        except OSError:
            return


def _number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool) and abs(value) < 1e9 and value == value


async def _to_page(socket: WebSocket, pipe: Connection, shot_id: int, keeping: dict[str, Any]) -> None:
    while True:
        try:
            there = await run_in_threadpool(pipe.poll, 1.0)
            if not there:
                continue
            message = await run_in_threadpool(pipe.recv)
        except (EOFError, OSError):
            await socket.send_json({"ended": "The live run has ended."})
            return
        if "bodies" in message:
            await socket.send_bytes(_packed(message))
        elif "kept" in message:
            await socket.send_json(await run_in_threadpool(_keep, socket, shot_id, message["kept"], keeping))
        else:
            await socket.send_json(message)
            if "ended" in message:
                return


def _packed(message: dict[str, Any]) -> bytes:
    """Return a frame as a pack: of each body points or a pose."""
    pack, bodies = Pack(), []
    for name, rigid, values in message["bodies"]:
        key = "pose" if rigid else "points"
        bodies.append({"name": name, key: pack.add(np.frombuffer(values, np.float32), "<f4")})
    return pack.bytes({**message, "bodies": bodies})


def _keep(socket: WebSocket, shot_id: int, kept: dict[str, Any], keeping: dict[str, Any]) -> dict[str, Any]:
    try:
        with socket.app.state.database.session() as session:
            take = keep_hand_take(session, shot_id, keeping.get("name", ""), kept, keeping.get("picture", ""))
            return {"take": take.id, "name": take.name, "frames": kept["frames"], "keys": kept.get("keys")}
    except Problem as problem:
        return {"told": f"{problem.what[:1].upper()}{problem.what[1:]} {problem.remedy}".strip()}
