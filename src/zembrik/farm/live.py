"""The process of a live run: steps a simulation at true speed where it can, led by what comes over a pipe.

A crash of it costs nothing but itself. It ends with its pipe.
"""

from __future__ import annotations

import contextlib
import logging
import math
import os
import time
import traceback
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from typing import Any

import numpy as np

from zembrik.core.problem import Problem
from zembrik.library.settings import Settings

Message = dict[str, Any]
IDLE_S = 0.02  # between two looks at the pipe while it waits
log = logging.getLogger("zembrik.live")


@dataclass(frozen=True)
class LiveOrder:
    """What is to run live.

    Attributes:
        document: the setup. body, pin: see `live.run.Held`. substeps, chosen, coarser: see `live.run.LiveRun`.
        count_in_s: seconds from "play" to the first frame; -1 waits for the first touch.
    """

    document: Message
    body: str
    pin: int | None = None
    substeps: int | None = None
    chosen: list[str] | None = None
    count_in_s: float = 0.0
    coarser: int = 1


@dataclass
class Playing:
    """How a live run stands: where the hand is asked to go, whether it plays, when the next frame is due, and so on.

    `counted` is how many seconds to go were told last, `poses` what rigid bodies did, frame by frame.
    """

    to: Any = field(default_factory=lambda: np.zeros(3))
    on: bool = False
    touched: bool = False
    due: float = 0.0
    counted: int = 0
    poses: list[dict[str, Any]] = field(default_factory=list)


def run_live(pipe: Connection, settings: Settings, order: LiveOrder) -> None:
    """Serve a live run over a pipe until it closes; everything that goes wrong is told over it."""
    os.environ.setdefault("OMP_NUM_THREADS", "2")
    try:
        _serve(pipe, settings, order)
    except (EOFError, BrokenPipeError, ConnectionResetError, KeyboardInterrupt):
        pass
    except Problem as problem:
        _tell(pipe, {"ended": _in_words(problem)})
    except Exception as fault:  # a fault of ours must show on the page, not only in the log
        log.error("live run: %s", traceback.format_exc())
        _tell(pipe, {"ended": f"A fault in the program: {type(fault).__name__}: {fault}"[:500]})
    finally:
        pipe.close()


def _in_words(problem: Problem) -> str:
    where = f" ({problem.where})" if problem.where.startswith("frame") else ""
    return f"{problem.what[:1].upper()}{problem.what[1:].rstrip('.')}{where}. {problem.remedy}".strip()


def _tell(pipe: Connection, message: Message) -> None:
    with contextlib.suppress(OSError):
        pipe.send(message)


def _serve(pipe: Connection, settings: Settings, order: LiveOrder) -> None:
    from zembrik.core.live.run import MOST_FRAMES, Held, LiveRun
    from zembrik.core.setup.document import parse_setup
    from zembrik.library.store import StoredAssets

    setup, assets = parse_setup(order.document), StoredAssets(settings)
    held = Held(order.body, order.pin)

    def begin() -> LiveRun:
        return LiveRun(setup, held, assets, order.substeps, order.chosen, order.coarser)

    begin().step(np.zeros(3))  # so that all is loaded and compiled before a hand is on it
    run, play = begin(), Playing()
    place = next(b for b in run.setup.bodies if b.name == held.grip).place
    faces = {b.name: b.faces.ravel().tolist() for b in run.world.bodies if b.name in run.coarse}
    pipe.send({"ready": {"first": run.first, "fps": setup.fps, "grip": held.grip, "role": run.role,
                         "at": list(place.translate), "substeps": run.stepper.substeps, "faces": faces}})  # fmt: skip
    pipe.send(_picture(run, 0.0, 1.0))
    while True:
        wait = IDLE_S if not play.on else min(max(play.due - time.monotonic(), 0.0), 0.25)
        while pipe.poll(wait):
            message = pipe.recv()
            wait = 0.0
            if "to" in message:
                play.to = np.array(message["to"])
                play.touched = True
            elif message["do"] == "play":
                play.on, play.touched = True, False
                play.due = time.monotonic() + max(order.count_in_s, 0.0)
            elif message["do"] == "pause":
                play.on = False
            elif message["do"] == "again":
                run, play = begin(), Playing()
                pipe.send(_picture(run, 0.0, 1.0))
            elif message["do"] in ("let go", "keep"):
                try:
                    if message["do"] == "let go":
                        run.release()
                    else:
                        play.on = False
                        pipe.send({"kept": _kept(run, play, message)})
                except Problem as problem:  # a bound mistyped must not cost what was recorded
                    pipe.send({"told": _in_words(problem)})
        left = math.ceil(play.due - time.monotonic()) if play.on and not play.poses and run.frame == run.first else 0
        if left > 0 and left != play.counted:
            play.counted = left
            pipe.send({"told": f"begins in {left} s"})
        if not play.on or time.monotonic() < play.due or (order.count_in_s < 0 and not play.touched):
            if play.on and order.count_in_s < 0 and not play.touched:
                time.sleep(IDLE_S)
            continue
        if run.frame - run.first >= MOST_FRAMES:
            play.on = False
            pipe.send({"told": f"{MOST_FRAMES:,} frames are as many as a take has: keep it, or begin again."})
            continue
        begun = time.monotonic()
        try:
            run.step(play.to)
        except Problem as problem:  # it blew up: what the hand did until then can still be kept
            play.on = False
            pipe.send({"told": _in_words(problem)})
            continue
        took = time.monotonic() - begun
        play.poses.append({name: np.asarray(pose).tolist() for name, rigid, pose in run.shown() if rigid})
        late = time.monotonic() - play.due
        play.due = max(play.due + 1.0 / setup.fps, time.monotonic() if late > 0.5 else 0.0)
        pipe.send(_picture(run, took, min(1.0, 1.0 / (setup.fps * max(took, 1e-6)))))


def _picture(run: Any, took_s: float, speed: float) -> Message:
    """Return a frame as arrays: points float32 of what changes form, poses of rigid bodies."""
    shown = [(name, rigid, np.asarray(values, np.float32).tobytes()) for name, rigid, values in run.shown()]
    way = run.way[-1].tolist()
    return {"frame": run.frame, "way": way, "ms": round(1e3 * took_s, 1), "speed": round(speed, 2), "bodies": shown}


def _kept(run: Any, play: Playing, message: Message) -> Message:
    """Return what was recorded, as tracks of few keys."""
    from zembrik.core.live.take import keyed_poses, keyed_way

    bound_m, what = float(message["bound_m"]), message.get("what", "hand")
    if what == "all":
        tracks = []
        for body in run.setup.bodies:
            if body.role == "rigid" and play.poses and body.name in play.poses[0]:
                poses = np.array([[0, 0, 0, 0, 0, 0, 1.0], *(frame[body.name] for frame in play.poses)])
                found = keyed_poses(run.first, poses, body.place.translate, bound_m)
                tracks.append({"body": body.name, "motion": found.motion})
        if not tracks:
            raise Problem("no rigid body has moved yet.", "hand", "Let it run, and drag.")
        return {"tracks": tracks, "frames": len(play.poses) + 1}
    found = keyed_way(run.first, run.way, bound_m)
    track: Message = {"body": run.held.grip, "motion": found.motion}
    if run.held.pin is not None:
        track["holds"] = {"body": run.held.body, "pin": run.held.pin}
    if run.let_go is not None:
        track["release"] = run.let_go
    return {"tracks": [track], "frames": len(run.way), "keys": found.keys_of_place, "off_m": found.off_m}
