"""Reading a file in a process of its own, for formats whose libraries a broken file can hang or bring down.

One reader process waits for files, one after the other. If it dies, or takes longer than a sound
file of that size could, it is ended, the file is refused, and the next file gets a new one. Results
come back as plain numbers (JSON and arrays), so that nothing a broken file did to the reader can
do more than give a wrong mesh, which is checked like any other.
"""

from __future__ import annotations

import contextlib
import json
import os
import select
import struct
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import IO, Any

import numpy as np

from zembrik.core.exchange.contents import Contents, FilePart, check_size
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem

PATIENCE_S, PATIENCE_S_PER_MB = 20.0, 0.5
MOST_MEMORY = 8 * 1024**3  # bytes that a reader may ask for
MOST_ANSWER = 4 * 1024**3
LENGTH = struct.Struct("<Q")
PART_ARRAYS = ("transform", "times_s", "poses", "shapes")


class Reader:
    """A reader process that is started when it is needed."""

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.process: subprocess.Popen[bytes] | None = None

    def read(self, data: bytes, name: str, kind: str, patience_s: float | None = None) -> Contents:
        """Return what a file holds.

        Args:
            data, name: the file. kind: "usda", "usdc", "usdz" or "abc".
            patience_s: how long it may take; by its size if left out.

        Raises:
            Problem: what the reader says, or that it did not survive the file.
        """
        if patience_s is None:
            patience_s = PATIENCE_S + PATIENCE_S_PER_MB * len(data) / 1e6
        with self.lock:
            process = self._running()
            try:
                answer = _asked(process, data, name, kind, time.monotonic() + patience_s)
            except TimeoutError:
                self.end()
                raise Problem(
                    f"reading it took longer than {patience_s:.0f} s, so it was given up.", name,
                    "It is likely broken; export it again.",
                ) from None  # fmt: skip
            except (EOFError, OSError):
                self.end()
                raise Problem("the file is so broken that its reader gave up.", name, "Export it again.") from None
        return _contents(answer, name)

    def _running(self) -> subprocess.Popen[bytes]:
        if self.process is None or self.process.poll() is not None:
            source = str(Path(__file__).resolve().parents[3])
            path = os.pathsep.join([source, *filter(None, [os.environ.get("PYTHONPATH")])])
            self.process = subprocess.Popen(
                [sys.executable, "-m", "zembrik.core.exchange.apart"],
                stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL,
                env={**os.environ, "PYTHONPATH": path},
            )  # fmt: skip
        return self.process

    def end(self) -> None:
        """End the process, if there is one."""
        if self.process is not None:
            self.process.kill()
            self.process.wait()
            for pipe in (self.process.stdin, self.process.stdout):
                with contextlib.suppress(OSError):
                    assert pipe is not None
                    pipe.close()
        self.process = None


READER = Reader()


def read_apart(data: bytes, name: str, kind: str) -> Contents:
    """Return what a file holds, read by the one reader of this program; see `Reader.read`."""
    return READER.read(data, name, kind)


def _asked(process: subprocess.Popen[bytes], data: bytes, name: str, kind: str, deadline: float) -> bytes:
    assert process.stdin is not None and process.stdout is not None
    head = json.dumps({"name": name, "kind": kind, "size": len(data)}).encode()
    process.stdin.write(LENGTH.pack(len(head)) + head)
    process.stdin.write(data)
    process.stdin.flush()
    length = LENGTH.unpack(_exactly(process.stdout, LENGTH.size, deadline))[0]
    if length > MOST_ANSWER:
        raise EOFError
    return _exactly(process.stdout, length, deadline)


def _exactly(pipe: IO[bytes], count: int, deadline: float) -> bytes:
    """Return so many bytes; raises TimeoutError after the deadline (monotonic, s), EOFError when they end."""
    parts, left, number = [], count, pipe.fileno()
    while left:
        ready, _, _ = select.select([number], [], [], max(deadline - time.monotonic(), 0.0))
        if not ready:
            raise TimeoutError
        part = os.read(number, min(left, 1 << 20))
        if not part:
            raise EOFError
        parts.append(part)
        left -= len(part)
    return b"".join(parts)


def _packed(contents: Contents) -> bytes:
    arrays: list[bytes] = []
    length = 0

    def add(values: Any) -> list[Any]:
        nonlocal length
        values = np.ascontiguousarray(values)
        arrays.append(values.tobytes())
        length += len(arrays[-1])
        return [values.dtype.str, list(values.shape), length - len(arrays[-1])]

    parts = [
        {
            "path": p.path, "groups": list(p.mesh.groups), "points": add(p.mesh.points), "faces": add(p.mesh.faces),
            **{key: add(getattr(p, key)) for key in PART_ARRAYS},
        }
        for p in contents.parts
    ]  # fmt: skip
    head = {
        "kind": contents.kind,
        "unit_m": contents.unit_m,
        "up": contents.up,
        "notes": contents.notes,
        "parts": parts,
    }
    text = json.dumps(head).encode()
    return LENGTH.pack(len(text)) + text + b"".join(arrays)


def _contents(answer: bytes, name: str) -> Contents:
    """Return the contents from what the reader sent; all of it is checked again."""
    try:
        length = LENGTH.unpack_from(answer)[0]
        head = json.loads(answer[LENGTH.size : LENGTH.size + length])
        if "problem" in head:
            raise Problem(*head["problem"])
        base = LENGTH.size + length

        def array(place: list[Any], kind: str) -> Any:
            dtype, shape, offset = np.dtype(place[0]), tuple(int(n) for n in place[1]), int(place[2])
            if dtype.kind != kind or min(shape, default=0) < 0 or offset < 0:
                raise ValueError
            count = int(np.prod(shape))
            return np.frombuffer(answer, dtype, count, base + offset).reshape(shape).copy()

        parts = []
        for one in head["parts"]:
            points, faces = array(one["points"], "f"), array(one["faces"], "i")
            if not np.isfinite(points).all() or not len(faces) or faces.min() < 0 or faces.max() >= len(points):
                raise ValueError
            mesh = TriMesh(points.astype(np.float64), faces.astype(np.int32), tuple(one["groups"]))
            parts.append(FilePart(one["path"], mesh, *[array(one[key], "f").astype(np.float64) for key in PART_ARRAYS]))
        found = Contents(head["kind"], parts, head["unit_m"], head["up"], list(head["notes"]))
    except Problem:
        raise
    except (ValueError, KeyError, TypeError, struct.error):
        raise Problem("the file is so broken that its reader gave up.", name, "Export it again.") from None
    check_size(parts, name)
    return found


def _read_here(data: bytes, name: str, kind: str) -> Contents:
    if kind == "abc":
        from zembrik.core.exchange.read_abc import read_abc

        return read_abc(data, name)
    from zembrik.core.exchange.read_usd import read_usd

    return read_usd(data, name, kind)


def serve() -> None:
    """Be the reader: read files from standard input until it ends."""
    import ctypes
    import resource

    ctypes.CDLL(None).prctl(1, 9)  # PR_SET_PDEATHSIG: end with the program that asked, even in the middle of a file
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # whatever the libraries print goes elsewhere
    asked = sys.stdin.buffer
    while len(start := asked.read(LENGTH.size)) == LENGTH.size:
        head = json.loads(asked.read(LENGTH.unpack(start)[0]))
        data = asked.read(head["size"])
        try:
            answer = _packed(_read_here(data, head["name"], head["kind"]))
        except Problem as problem:
            answer = _told(problem.what, problem.where, problem.remedy)
        except MemoryError:
            answer = _told("it needs more memory than a file may.", head["name"], "Reduce it, or split it.")
        except Exception:
            answer = _told("the file is not sound.", head["name"], "Export it again.")
        answers.write(LENGTH.pack(len(answer)) + answer)
        answers.flush()


def _told(what: str, where: str, remedy: str) -> bytes:
    text = json.dumps({"problem": [what, where, remedy]}).encode()
    return LENGTH.pack(len(text)) + text


if __name__ == "__main__":
    serve()
