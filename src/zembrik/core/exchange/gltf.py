"""Binary glTF 2.0: one mesh a body, whose frames are morph targets played one after the other.

The first frame is the mesh itself; every later frame is a target that holds the way from
the first. The weights are animated so that at a frame's time exactly its target counts, and
between two frames a viewer blends the two in a straight line.
"""

from __future__ import annotations

import json
import struct
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik import __version__
from zembrik.core.exchange.delivery import Content, Part, Tell, told_frames
from zembrik.core.mesh.trimesh import point_normals
from zembrik.core.problem import Problem

FLOAT, UINT = 5126, 5125
MOST_BYTES = 2**32 - 1  # a binary glTF counts its bytes in 32 bits


class _Buffer:
    """The binary chunk, streamed to a file, and the accessors into it."""

    def __init__(self, file: Any) -> None:
        self.file, self.length = file, 0
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []

    def add(
        self, values: NDArray[Any], kind: str, component: int, target: int | None = None, span: bool = False
    ) -> int:
        data = values.tobytes()
        if self.length + len(data) > MOST_BYTES:
            raise Problem(
                "the file would be larger than a binary glTF can be (4 GB).", "export", "Choose usdc or fewer frames."
            )
        view: dict[str, Any] = {"buffer": 0, "byteOffset": self.length, "byteLength": len(data)}
        if target:
            view["target"] = target
        accessor: dict[str, Any] = {
            "bufferView": len(self.views),
            "componentType": component,
            "count": len(values),
            "type": kind,
        }
        if span:
            low, high = values.min(axis=0), values.max(axis=0)
            accessor["min"], accessor["max"] = np.atleast_1d(low).tolist(), np.atleast_1d(high).tolist()
        self.file.write(data)
        self.length += len(data)
        self.views.append(view)
        self.accessors.append(accessor)
        return len(self.accessors) - 1


def write(content: Content, path: Path, tell: Tell) -> None:
    """Write all frames; see `delivery.deliver`."""
    binary = path.with_suffix(".bin")
    try:
        with binary.open("wb") as file:
            buffer = _Buffer(file)
            document = _document(content, buffer, tell)
        head = json.dumps(document, separators=(",", ":"), ensure_ascii=False).encode()
        head += b" " * (-len(head) % 4)
        total = 12 + 8 + len(head) + 8 + buffer.length
        if total > MOST_BYTES:
            raise Problem(
                "the file would be larger than a binary glTF can be (4 GB).", "export", "Choose usdc or fewer frames."
            )
        with path.open("wb") as out, binary.open("rb") as file:
            out.write(struct.pack("<4sIIII", b"glTF", 2, total, len(head), 0x4E4F534A) + head)
            out.write(struct.pack("<II", buffer.length, 0x004E4942))
            while block := file.read(1 << 20):
                out.write(block)
    finally:
        binary.unlink(missing_ok=True)


def _document(content: Content, buffer: _Buffer, tell: Tell) -> dict[str, Any]:
    base = [_first_frame(content, part, buffer) for part in content.parts]
    targets: list[list[dict[str, int]]] = [[] for _ in content.parts]
    for frame in told_frames(content, tell):
        if frame == content.first:
            continue
        for k, part in enumerate(content.parts):
            points, normals, _ = base[k]
            now = content.points(part, frame)
            way, turn = now - points, point_normals(now, part.faces).astype(np.float32) - normals
            targets[k].append(
                {"POSITION": buffer.add(way, "VEC3", FLOAT, span=True), "NORMAL": buffer.add(turn, "VEC3", FLOAT)}
            )
    steps = len(content.frames)
    document: dict[str, Any] = {
        "asset": {"version": "2.0", "generator": f"zembrik {__version__}"},
        "scene": 0,
        "scenes": [{"nodes": list(range(len(content.parts)))}],
        "nodes": [{"mesh": k, "name": part.name} for k, part in enumerate(content.parts)],
        "meshes": [],
    }
    for k, part in enumerate(content.parts):
        primitive = dict(base[k][2])
        mesh: dict[str, Any] = {"name": part.name, "primitives": [primitive]}
        if targets[k]:
            primitive["targets"] = targets[k]
            mesh["weights"] = [0.0] * len(targets[k])
        document["meshes"].append(mesh)
    if steps > 1:
        times = (np.arange(steps) / content.fps).astype(np.float32)
        time_at = buffer.add(times, "SCALAR", FLOAT, span=True)
        weights = np.eye(steps, steps - 1, k=-1, dtype=np.float32)  # the first frame has no target
        weight_at = buffer.add(weights.reshape(-1), "SCALAR", FLOAT)
        sampler = {"input": time_at, "output": weight_at, "interpolation": "LINEAR"}
        channels = [{"sampler": 0, "target": {"node": k, "path": "weights"}} for k in range(len(content.parts))]
        document["animations"] = [{"name": "cache", "samplers": [sampler], "channels": channels}]
    document |= {
        "accessors": buffer.accessors,
        "bufferViews": buffer.views,
        "buffers": [{"byteLength": buffer.length}],
    }
    return document


def _first_frame(
    content: Content, part: Part, buffer: _Buffer
) -> tuple[NDArray[np.float32], NDArray[np.float32], dict[str, Any]]:
    points = content.points(part, content.first)
    normals = point_normals(points, part.faces).astype(np.float32)
    primitive = {
        "attributes": {
            "POSITION": buffer.add(points, "VEC3", FLOAT, 34962, span=True),
            "NORMAL": buffer.add(normals, "VEC3", FLOAT, 34962),
        },
        "indices": buffer.add(part.faces.astype(np.uint32).ravel(), "SCALAR", UINT, 34963),
        "mode": 4,
    }
    return points, normals, primitive
