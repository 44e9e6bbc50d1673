"""Reading a file in a process of its own: a broken or hostile one can hang it, bring it down or fill its memory.

A nursery process loads what reading takes once and forks readers. A reader takes files, one after the other. If it
dies, or takes longer or more memory than a sound file of that size could, it is ended, the file is refused, and the
next file gets a new one within milliseconds. There are a few, so that nobody waits for another's broken file. Results
come back as plain numbers (JSON and arrays), so that nothing a broken file did to the reader can do more than give a
wrong mesh, which is checked like any other.
"""

from __future__ import annotations

import contextlib
import importlib
import json
import os
import queue
import select
import signal
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

import numpy as np

from zembrik.core.exchange.contents import Contents, FilePart, Sequence, check_motion, check_size
from zembrik.core.exchange.read_any import MOTION, read_here
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem

PATIENCE_S, PATIENCE_S_PER_MB = 20.0, 0.5
LOADING_S = 60.0
LOADED = (
    "zembrik.core.exchange.obj_scan", "zembrik.core.mesh.polygons", "zembrik.core.exchange.read_gltf",
    "zembrik.core.exchange.read_ply", "zembrik.core.exchange.read_stl", "zembrik.core.exchange.read_sequence",
    "zembrik.core.exchange.read_abc", "zembrik.core.exchange.read_usd", "trimesh", "alembic3d.Abc", "alembic3d.AbcGeom",
    "pxr.Gf", "pxr.Tf", "pxr.Usd", "pxr.UsdGeom",
)  # fmt: skip
SMALL = {
    "obj": b"v 0 0 0\nv 1 0 0\nv 0 1 0\nv 1 1 1\nf 1 2 4 3\n",
    "ply": b"ply\nformat binary_little_endian 1.0\nelement vertex 3\nproperty float x\nproperty float y\n"
           b"property float z\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n"
           + struct.pack("<9fB3i", 0, 0, 0, 1, 0, 0, 0, 1, 0, 3, 0, 1, 2),
    "stl": b"solid\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendloop\nendfacet\n"
           b"endsolid",
}  # fmt: skip
READERS = 3
# Bytes that reading a file may take beside what the libraries take: in any case, and times its size.
MEMORY, MEMORY_TIMES = 768 * 1024**2, 60
ANSWER, ANSWER_TIMES = 64 * 1024**2, 60
MOST_OPEN = 256  # files that a reader may have open
LENGTH = struct.Struct("<Q")
PART_ARRAYS = ("transform", "times_s", "poses", "shapes")


class Nursery:
    """The process that forks readers, started when the first one is wanted."""

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.process: subprocess.Popen[bytes] | None = None
        self.control: socket.socket | None = None

    def fork(self, room: str, stream: socket.socket) -> int:
        """Return the process number of a new reader, that reads from a stream and keeps its files in a folder.

        Raises:
            OSError, EOFError, TimeoutError: when there is none; the next one gets a new nursery.
        """
        with self.lock:
            if self.process is None or self.process.poll() is not None:
                self._start()
            assert self.control is not None
            try:
                socket.send_fds(self.control, [room.encode()], [stream.fileno()])
                return int(LENGTH.unpack(_exactly(self.control, LENGTH.size, time.monotonic() + LOADING_S))[0])
            except (OSError, EOFError):
                self._end()
                raise

    def _start(self) -> None:
        source = str(Path(__file__).resolve().parents[3])
        path = os.pathsep.join([source, *filter(None, [os.environ.get("PYTHONPATH")])])
        self.control, theirs = socket.socketpair()
        with theirs:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "zembrik.core.exchange.apart", str(theirs.fileno())],
                stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                env={**os.environ, "PYTHONPATH": path}, pass_fds=[theirs.fileno()],
            )  # fmt: skip

    def _end(self) -> None:
        if self.process is not None:
            self.process.kill()
            self.process.wait()
        if self.control is not None:
            self.control.close()
        self.process = self.control = None


NURSERY = Nursery()


class Reader:
    """A reader process that is forked when it is needed."""

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.stream: socket.socket | None = None  # to the reader
        self.pid = 0  # of the reader
        self.room: tempfile.TemporaryDirectory[str] | None = None  # for the reader's files, also if it is killed

    def read(self, data: bytes, name: str, kind: str, patience_s: float | None = None) -> Contents:
        """Return what a file holds.

        Args:
            data, name: the file. kind: as `read_any.kind_of` tells it.
            patience_s: how long it may take; by its size if left out.

        Raises:
            Problem: what the reader says, or that it did not survive the file.
        """
        if patience_s is None:
            patience_s = PATIENCE_S + PATIENCE_S_PER_MB * len(data) / 1e6
        with self.lock:
            try:
                stream = self._running()
                # The clock of a file starts when the libraries are loaded, whatever else the machine is busy with.
                answer = _asked(stream, data, name, kind, time.monotonic() + patience_s)
            except TimeoutError:
                self.end()
                raise Problem(
                    f"reading it took longer than {patience_s:.0f} s, so it was given up.", name,
                    "It is likely broken; export it again.",
                ) from None  # fmt: skip
            except (EOFError, OSError):
                self.end()
                raise Problem("the file is so broken that its reader gave up.", name, "Export it again.") from None
        return _contents(answer, name, kind.endswith(f" {MOTION}"))

    def _running(self) -> socket.socket:
        if self.stream is not None:
            gone, _, _ = select.select([self.stream], [], [], 0.0)  # nothing is to come, but the end of it
            if not gone:
                return self.stream
            self.end()
        ours, theirs = socket.socketpair()
        with theirs:
            self.room = tempfile.TemporaryDirectory(prefix="zembrik-reader-")
            self.pid = NURSERY.fork(self.room.name, theirs)
        self.stream = ours
        return ours

    def end(self) -> None:
        """End the reader, if there is one; the nursery stays."""
        if self.stream is not None:
            self.stream.close()
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, signal.SIGKILL)
        if self.room is not None:
            self.room.cleanup()
        self.stream = self.room = None


_idle: queue.LifoQueue[Reader] = queue.LifoQueue()
for _ in range(READERS):
    _idle.put(Reader())


def read_apart(data: bytes, name: str, kind: str) -> Contents:
    """Return what a file holds, read by one of this program's readers; see `Reader.read`."""
    reader = _idle.get()
    try:
        return reader.read(data, name, kind)
    finally:
        _idle.put(reader)


def _asked(stream: socket.socket, data: bytes, name: str, kind: str, deadline: float) -> bytes:
    head = json.dumps({"name": name, "kind": kind, "size": len(data)}).encode()
    stream.sendall(LENGTH.pack(len(head)) + head)
    stream.sendall(data)
    length = LENGTH.unpack(_exactly(stream, LENGTH.size, deadline))[0]
    if length > ANSWER + ANSWER_TIMES * len(data):
        raise EOFError
    return _exactly(stream, length, deadline)


def _exactly(stream: socket.socket, count: int, deadline: float) -> bytes:
    """Return so many bytes; raises TimeoutError after the deadline (monotonic, s), EOFError when they end."""
    parts, left = [], count
    while left:
        ready, _, _ = select.select([stream], [], [], max(deadline - time.monotonic(), 0.0))
        if not ready:
            raise TimeoutError
        part = stream.recv(min(left, 1 << 20))
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
            "sequence": [add(a) for a in (p.sequence.points, p.sequence.faces, p.sequence.counts)],
        }
        for p in contents.parts
    ]  # fmt: skip
    head = {
        "kind": contents.kind,
        "unit_m": contents.unit_m,
        "up": contents.up,
        "notes": contents.notes,
        "first": contents.first,
        "begins": contents.begins,
        "parts": parts,
    }
    text = json.dumps(head).encode()
    return LENGTH.pack(len(text)) + text + b"".join(arrays)


def _contents(answer: bytes, name: str, only_motion: bool) -> Contents:
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
            bare = only_motion and not len(points) and not len(faces)
            if not bare and (not len(faces) or faces.min() < 0 or faces.max() >= len(points)):
                raise ValueError
            if not np.isfinite(points).all():
                raise ValueError
            mesh = TriMesh(points.astype(np.float64), faces.astype(np.int32), tuple(one["groups"]))
            sequence = Sequence(*(array(place, kind) for place, kind in zip(one["sequence"], "fii", strict=True)))
            if not sequence.is_sound:
                raise ValueError
            transform, times, poses, forms = (array(one[key], "f").astype(np.float64) for key in PART_ARRAYS)
            parts.append(FilePart(one["path"], mesh, transform, times, poses, forms, sequence))
        found = Contents(
            head["kind"], parts, head["unit_m"], head["up"], list(head["notes"]), head["first"], head["begins"]
        )
    except Problem:
        raise
    except (ValueError, KeyError, TypeError, struct.error):
        raise Problem("the file is so broken that its reader gave up.", name, "Export it again.") from None
    if only_motion:
        check_motion(len(parts), max((len(p.times_s) for p in parts), default=0), name)
    else:
        check_size(parts, name)
    return found


def serve(control: socket.socket) -> None:
    """Be the nursery: load the libraries, then fork a reader for every stream that comes."""
    _end_with_parent()
    for module in LOADED:
        with contextlib.suppress(ImportError):
            importlib.import_module(module)
    for kind, data in SMALL.items():  # once here, so that compiled kernels are loaded before readers are forked
        with contextlib.suppress(Problem):
            read_here(data, kind, kind)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # the system forgets readers that ended
    while True:
        asked, numbers, _, _ = socket.recv_fds(control, 4096, 1)
        if not asked:
            return
        pid = os.fork()
        if pid == 0:
            control.close()
            _end_with_parent()
            tempfile.tempdir = asked.decode()
            _read_from(socket.socket(fileno=numbers[0]))
            os._exit(0)
        os.close(numbers[0])
        control.sendall(LENGTH.pack(pid))


def _end_with_parent() -> None:
    import ctypes

    ctypes.CDLL(None).prctl(1, 9)  # PR_SET_PDEATHSIG, even in the middle of a file


def _read_from(stream: socket.socket) -> None:
    """Be a reader: read files from a stream until it ends."""
    import resource

    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    _limit(resource.RLIMIT_NOFILE, MOST_OPEN)
    asked = stream.makefile("rb")
    while len(start := asked.read(LENGTH.size)) == LENGTH.size:
        head = json.loads(asked.read(LENGTH.unpack(start)[0]))
        data = asked.read(head["size"])
        _limit(resource.RLIMIT_AS, _taken_now() + MEMORY + MEMORY_TIMES * len(data))
        try:
            answer = _packed(read_here(data, head["name"], head["kind"]))
        except Problem as problem:
            answer = _told(problem.what, problem.where, problem.remedy)
        except MemoryError:
            answer = _told("it needs more memory than a file may.", head["name"], "Reduce it, or split it.")
        except Exception:
            answer = _told("the file is not sound.", head["name"], "Export it again.")
        stream.sendall(LENGTH.pack(len(answer)))
        stream.sendall(answer)
        del data, answer


def _limit(what: int, most: int) -> None:
    """Hold this process to a limit, as far as it is not held to a lower one already."""
    import resource

    _, hard = resource.getrlimit(what)
    resource.setrlimit(what, (most if hard == resource.RLIM_INFINITY else min(most, hard), hard))


def _taken_now() -> int:
    """Return how many bytes of address space this process has."""
    return int(Path("/proc/self/statm").read_text().split()[0]) * os.sysconf("SC_PAGE_SIZE")


def _told(what: str, where: str, remedy: str) -> bytes:
    text = json.dumps({"problem": [what, where, remedy]}).encode()
    return LENGTH.pack(len(text)) + text


if __name__ == "__main__":
    serve(socket.socket(fileno=int(sys.argv[1])))
