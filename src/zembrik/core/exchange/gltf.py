"""Binary glTF 2.0: bodies that keep their form are nodes that move, and copies of one share its mesh.

The frames of other bodies are morph targets played one after the other. The first frame is the mesh itself; every later
frame is a target that holds the way from the first. The weights are animated so that at a frame's time exactly its
target counts, and between two frames a viewer blends the two in a straight line.
"""

from __future__ import annotations

import json
import struct
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik import __version__
from zembrik.core.exchange.copies import Standing, alike, shared_meshes, standing
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
    meshes: list[dict[str, Any]] = []
    nodes: list[dict[str, Any]] = [{"name": part.name} for part in content.parts]
    moved: dict[int, list[Standing]] = {}
    for shared in shared_meshes(content):
        for k in shared.parts:
            moved[k], nodes[k]["mesh"] = [], len(meshes)
        meshes.append({"name": shared.name, "primitives": [_primitive(shared.points, shared.faces, buffer)]})
    forms = {k: _Form(content, part, buffer) for k, part in enumerate(content.parts) if k not in moved}
    for frame in told_frames(content, tell):
        for k, part in enumerate(content.parts):
            if k in moved:
                moved[k].append(standing(content, part, frame))
            elif frame != content.first:
                forms[k].add(frame)
    for k, form in forms.items():
        nodes[k]["mesh"] = len(meshes)
        meshes.append(form.mesh())
    for k, places in moved.items():
        nodes[k] |= {"translation": places[0].shift.tolist(), "rotation": places[0].turn.tolist()}
        nodes[k] |= {"scale": [places[0].scale] * 3} if places[0].scale != 1.0 else {}
    document: dict[str, Any] = {
        "asset": {"version": "2.0", "generator": f"zembrik {__version__}"},
        "scene": 0,
        "scenes": [{"nodes": list(range(len(nodes)))}],
        "nodes": nodes,
        "meshes": meshes,
    }
    if len(content.frames) > 1:
        document["animations"] = [_animation(content, buffer, moved, list(forms))]
    return document | {
        "accessors": buffer.accessors,
        "bufferViews": buffer.views,
        "buffers": [{"byteLength": buffer.length}],
    }


def _animation(
    content: Content, buffer: _Buffer, moved: dict[int, list[Standing]], formed: list[int]
) -> dict[str, Any]:
    """Return what plays all frames: places and turns of what keeps its form, weights of what does not."""
    steps = len(content.frames)
    times = (np.arange(steps) / content.fps).astype(np.float32)
    time_at = buffer.add(times, "SCALAR", FLOAT, span=True)
    samplers: list[dict[str, Any]] = []
    channels: list[dict[str, Any]] = []

    def play(node: int, path: str, output: int, how: str = "LINEAR") -> None:
        channels.append({"sampler": len(samplers), "target": {"node": node, "path": path}})
        samplers.append({"input": time_at, "output": output, "interpolation": how})

    for k, places in moved.items():
        turns = [places[0].turn]
        for place in places[1:]:
            turns.append(alike(place.turn, turns[-1]))
        shifts = np.array([place.shift for place in places], np.float32)
        play(k, "translation", buffer.add(shifts, "VEC3", FLOAT))
        play(k, "rotation", buffer.add(np.array(turns, np.float32), "VEC4", FLOAT))
    for k, part in enumerate(content.parts):
        if content.shown(part) is not None:  # what is not seen is as small as nothing: all viewers know that
            scale = moved[k][0].scale if k in moved else 1.0
            seen = np.array([content.is_shown(part, frame) for frame in content.frames])
            sizes = np.repeat(np.where(seen, scale, 0.0)[:, None], 3, axis=1).astype(np.float32)
            play(k, "scale", buffer.add(sizes, "VEC3", FLOAT), "STEP")
    if formed:
        weights = np.eye(steps, steps - 1, k=-1, dtype=np.float32)  # the first frame has no target
        weight_at = buffer.add(weights.reshape(-1), "SCALAR", FLOAT)
        for k in formed:
            play(k, "weights", weight_at)
    return {"name": "cache", "samplers": samplers, "channels": channels}


class _Form:
    """A body that changes its form: its mesh at the first frame, and the way from there to every other."""

    def __init__(self, content: Content, part: Part, buffer: _Buffer) -> None:
        self.content, self.part, self.buffer = content, part, buffer
        self.points = content.points(part, content.first)
        self.normals = point_normals(self.points, part.faces).astype(np.float32)
        self.primitive = _primitive(self.points, part.faces, buffer)
        self.targets: list[dict[str, int]] = []

    def add(self, frame: int) -> None:
        now = self.content.points(self.part, frame)
        way, turn = now - self.points, point_normals(now, self.part.faces).astype(np.float32) - self.normals
        position = self.buffer.add(way, "VEC3", FLOAT, span=True)
        self.targets.append({"POSITION": position, "NORMAL": self.buffer.add(turn, "VEC3", FLOAT)})

    def mesh(self) -> dict[str, Any]:
        found: dict[str, Any] = {"name": self.part.name, "primitives": [self.primitive]}
        if self.targets:
            self.primitive["targets"] = self.targets
            found["weights"] = [0.0] * len(self.targets)
        return found


def _primitive(points: NDArray[np.float32], faces: NDArray[np.int32], buffer: _Buffer) -> dict[str, Any]:
    normals = point_normals(points, faces).astype(np.float32)
    return {
        "attributes": {
            "POSITION": buffer.add(points, "VEC3", FLOAT, 34962, span=True),
            "NORMAL": buffer.add(normals, "VEC3", FLOAT, 34962),
        },
        "indices": buffer.add(faces.astype(np.uint32).ravel(), "SCALAR", UINT, 34963),
        "mode": 4,
    }
