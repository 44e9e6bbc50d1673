"""glTF 2.0 and its binary form GLB: meshes where the scene puts them, with their animation."""

from __future__ import annotations

import base64
import binascii
import contextlib
import json
import struct
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.exchange.contents import (
    MOST_MOVED,
    Contents,
    FilePart,
    check_motion,
    check_size,
    make_part,
    moving_part,
)
from zembrik.core.problem import Problem
from zembrik.core.units import quaternion_turn

Floats = NDArray[np.float64]
TYPES = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
DEEPEST = 200
MOVES = ("translation", "rotation", "scale")  # what an animation may change of a node's place
READ_TIMES, READ_FREE = (
    4,
    1 << 20,
)  # bytes that accessors may take of the file together: times its size, and in any case
KNOWN = ("KHR_mesh_quantization", "KHR_materials_unlit", "KHR_texture_transform")
PACKED = {"KHR_draco_mesh_compression": "Draco", "EXT_meshopt_compression": "meshopt"}
SAMPLES_A_SECOND = 48.0  # of what is keyed here and there
LONGEST_STEP_S = 1.0 / 11.0  # even moments no farther apart than this are frames


def read_gltf(data: bytes, name: str, motion: bool = False) -> Contents:
    """Return the contents of a glTF or GLB file; metres and Y up, as the standard says.

    With `motion`, only what moves as a whole: a part without a mesh for each animated node, and each mesh below one.

    Raises:
        Problem: for what is broken, packed in an extension that is not read, or lies in another file.
    """
    try:
        reader = _Reader(data, name)
        return reader.motion() if motion else reader.contents()
    except (KeyError, IndexError, TypeError, ValueError, AttributeError, OverflowError) as error:
        if isinstance(error, Problem):
            raise
        raise Problem(
            f"the file is not sound glTF: {type(error).__name__} {str(error)[:80]}.", name, "Export it again."
        ) from None


class _Reader:
    def __init__(self, data: bytes, name: str) -> None:
        self.name, self.notes, self.blob = name, [], b""  # type: str, list[str], bytes
        if data[:4] == b"glTF":
            data = self._unpacked(data)
        try:
            self.json: dict[str, Any] = json.loads(data)
        except (ValueError, RecursionError):
            raise Problem("the file's description is no JSON.", name, "The file may be cut off.") from None
        if not isinstance(self.json, dict) or not str(self.json.get("asset", {}).get("version", "")).startswith("2"):
            raise Problem("this is not glTF 2.", name, "Export it as glTF 2.0.")
        self.buffers: dict[int, bytes] = {}
        self.accessors: dict[int, NDArray[Any]] = {}
        self.left = READ_FREE + READ_TIMES * len(data)
        for extension in self.json.get("extensionsRequired", []):
            if extension in PACKED:
                raise Problem(
                    f"its meshes are packed by {PACKED[extension]} compression.", name, "Export it without compression."
                )
            if extension not in KNOWN:
                raise Problem(f"it needs the extension {str(extension)[:60]}.", name, "Export it without.")

    def _unpacked(self, data: bytes) -> bytes:
        text, at = b"", 12
        if len(data) < 20 or struct.unpack_from("<I", data, 8)[0] > len(data):
            raise Problem("the file is shorter than it says it is.", self.name, "It may be cut off; export it again.")
        while at + 8 <= len(data):
            length, kind = struct.unpack_from("<I4s", data, at)
            chunk = data[at + 8 : at + 8 + length]
            if kind == b"JSON" and not text:
                text = chunk
            elif kind == b"BIN\0" and not self.blob:
                self.blob = chunk
            at += 8 + length + (-length % 4)
        return text

    def _buffer(self, number: int) -> bytes:
        if number not in self.buffers:
            self.buffers[number] = self._decoded(number)
        return self.buffers[number]

    def _decoded(self, number: int) -> bytes:
        uri = self.json["buffers"][number].get("uri")
        if uri is None:
            return self.blob
        if not uri.startswith("data:"):
            raise Problem(
                f"its points lie in another file, '{uri[:60]}'.", self.name, "Export it as one file: GLB, or embedded."
            )
        try:
            return base64.b64decode(uri.partition(",")[2], validate=True)
        except binascii.Error:
            raise Problem("a buffer inside of it is no base64.", self.name, "Export it again.") from None

    def _accessor(self, number: int) -> NDArray[Any]:
        """Return an accessor's values (count, width), as floats where they stand for floats."""
        if number not in self.accessors:
            self.accessors[number] = self._values(number)
        return self.accessors[number]

    def _take(self, count: int, item: int, what: str) -> None:
        """Hold a count against the bytes there are: accessors may share some, but all together not without end."""
        self.left -= max(count, 0) * item
        if count < 0 or self.left < 0:
            raise Problem(f"{what} says it has {count:,} values, which the file is too short for.", self.name,
                          "It may be broken; export it again.")  # fmt: skip

    def _values(self, number: int) -> NDArray[Any]:
        accessor = self.json["accessors"][number]
        count, width, kind = int(accessor["count"]), WIDTHS[accessor["type"]], TYPES[accessor["componentType"]]
        self._take(count, np.dtype(kind).itemsize * width, f"accessor {number}")
        if "bufferView" in accessor:
            values = self._view(accessor["bufferView"], int(accessor.get("byteOffset", 0)), count, width, kind)
        else:
            values = np.zeros((count, width), kind)
        if "sparse" in accessor:
            sparse = accessor["sparse"]
            many, at = int(sparse["count"]), sparse["indices"]
            self._take(many, np.dtype(kind).itemsize * width, f"accessor {number}")
            where = self._view(at["bufferView"], int(at.get("byteOffset", 0)), many, 1, TYPES[at["componentType"]])
            to = sparse["values"]
            values = values.copy()
            values[where[:, 0]] = self._view(to["bufferView"], int(to.get("byteOffset", 0)), many, width, kind)
        if accessor.get("normalized"):
            return np.asarray(np.maximum(values / float(np.iinfo(kind).max), -1.0), dtype=np.float64)
        return values

    def _view(self, number: int, offset: int, count: int, width: int, kind: str) -> NDArray[Any]:
        view = self.json["bufferViews"][number]
        data, item = self._buffer(view["buffer"]), np.dtype(kind).itemsize * width
        begin, stride = int(view.get("byteOffset", 0)) + offset, int(view.get("byteStride", item))
        if count == 0:
            return np.zeros((0, width), kind)
        if begin < 0 or stride < item or begin + (count - 1) * stride + item > len(data):
            raise Problem("its data is shorter than its description says.", self.name, "It may be cut off.")
        return np.ndarray((count, width), kind, data, begin, (stride, np.dtype(kind).itemsize)).copy()

    def contents(self) -> Contents:
        walked = self._walked()
        nodes = self.json.get("nodes", [])
        copied = [str(n.get("name") or k) for k, n in enumerate(nodes) if "EXT_mesh_gpu_instancing" in _extensions(n)]
        if copied:
            self.notes.append(
                f"Copies made by the graphics card are left out, one of each comes in: {', '.join(copied)[:150]}."
            )
        if self.json.get("skins"):
            self.notes.append("Skins are left out: meshes come in as they were modelled.")
        tracks, times = self._tracks()
        parts: list[FilePart] = []
        taken: set[str] = set()
        for path, chain in walked:
            node = nodes[chain[-1]]
            if "mesh" not in node:
                continue
            title, k = path, 1
            while title in taken:
                k += 1
                title = f"{path} {k}"
            taken.add(title)
            if part := self._part(node, title, chain, tracks, times):
                parts.append(part)
        every = [p for m in self.json.get("meshes", []) for p in m["primitives"]]
        packing = sorted({PACKED[e] for p in every for e in _extensions(p) if e in PACKED})
        if packing and not parts:
            raise Problem(
                f"its meshes are packed by {packing[0]} compression.", self.name, "Export it without compression."
            )
        if packing:
            self.notes.append(f"What {packing[0]} compression packs comes in only where the file has it plain too.")
        check_size(parts, self.name)
        return Contents("glTF", parts, 1.0, "y", self.notes)

    def motion(self) -> Contents:
        walked, (tracks, times) = self._walked(), self._tracks()
        moving = [
            (path, chain) for path, chain in walked
            if any((n, p) in tracks for n in chain for p in MOVES)
            and ("mesh" in self.json["nodes"][chain[-1]] or any((chain[-1], p) in tracks for p in MOVES))
        ] if len(times) > 1 else []  # fmt: skip
        check_motion(len(moving), len(times), self.name)
        parts = [
            moving_part(path, times - times[0], np.array([self._world(chain, tracks, float(t)) for t in times]))
            for path, chain in moving
        ]
        return Contents("motion of glTF", parts, 1.0, "y", self.notes)

    def _walked(self) -> list[tuple[str, list[int]]]:
        """Return every node of the scene with its path, and the numbers of the nodes from the root down to it."""
        nodes = self.json.get("nodes", [])
        parents: dict[int, int] = {}
        for number, node in enumerate(nodes):
            for child in node.get("children", []):
                if child in parents or child == number or not 0 <= child < len(nodes):
                    raise Problem(f"node {child} has two parents, or none at all.", self.name, "Export it again.")
                parents[child] = number
        scenes = self.json.get("scenes", [])
        roots = list(set(range(len(nodes))) - set(parents))
        if len(scenes) > 1:
            others = [str(s.get("name") or k) for k, s in enumerate(scenes) if k != self.json.get("scene", 0)]
            self.notes.append(f"Only its own scene is read; left out: {', '.join(others)[:150]}.")
        if scenes:
            roots = scenes[self.json.get("scene", 0)].get("nodes", [])
        walked: list[tuple[str, list[int]]] = []

        def walk(number: int, path: str, chain: list[int]) -> None:
            if number in chain or len(chain) > DEEPEST:
                raise Problem("its hierarchy goes round in a circle or is too deep.", self.name, "Export it again.")
            node = nodes[number]
            own = " ".join(str(node.get("name") or f"node {number}").replace("/", " ").split())[:100]
            path, chain = f"{path}/{own}" if path else own, [*chain, number]
            walked.append((path, chain))
            for child in node.get("children", []):
                walk(child, path, chain)

        for root in sorted(roots):
            walk(root, "", [])
        return walked

    def _tracks(self) -> tuple[dict[tuple[int, str], Any], Floats]:
        """Return every animated property's sampler, and the moments at which to read all of them, seconds."""
        found: dict[tuple[int, str], Any] = {}
        low, high = np.inf, -np.inf
        for animation in self.json.get("animations", [])[:1]:
            for channel in animation["channels"]:
                target, sampler = channel["target"], animation["samplers"][channel["sampler"]]
                if "node" not in target:
                    continue
                times = self._accessor(sampler["input"])[:, 0].astype(np.float64)
                values = self._accessor(sampler["output"]).astype(np.float64)
                if not len(times) or not np.isfinite(times).all() or (np.diff(times) < 0).any():
                    raise Problem("an animation's times do not rise.", self.name, "Export it again.")
                found[target["node"], target["path"]] = times, values, sampler.get("interpolation", "LINEAR")
                low, high = min(low, times[0]), max(high, times[-1])
        if len(self.json.get("animations", [])) > 1:
            self.notes.append("Only the first of its animations is read.")
        if not found or high - low > 3600:
            return ({}, np.zeros(0)) if not found else (found, np.array([low]))
        own = np.unique(np.concatenate([times for times, _, _ in found.values()]).round(6))
        steps = np.diff(own)
        if len(own) > 1 and steps.max() <= LONGEST_STEP_S and np.ptp(steps) < 1e-4:
            return found, np.linspace(low, high, len(own))  # it has a frame rate of its own
        return found, low + np.arange(int(np.ceil((high - low) * SAMPLES_A_SECOND - 1e-6)) + 1) / SAMPLES_A_SECOND

    def _read(self, track: Any, at: float, width: int) -> Floats:
        times, values, kind = track
        cubic = kind == "CUBICSPLINE"
        rows = values.reshape(len(times), -1, width)
        k = int(np.clip(np.searchsorted(times, at, side="right") - 1, 0, len(times) - 1))
        if k == len(times) - 1 or at <= times[0]:
            return rows[k if at > times[0] else 0, 1 if cubic else 0]
        span = float(times[k + 1] - times[k]) or 1.0
        t = (at - times[k]) / span
        if kind == "STEP":
            return rows[k, 0]
        if cubic:
            a, m, b, n = rows[k, 1], span * rows[k, 2], rows[k + 1, 1], span * rows[k + 1, 0]
            return (
                (2 * t**3 - 3 * t**2 + 1) * a
                + (t**3 - 2 * t**2 + t) * m
                + (3 * t**2 - 2 * t**3) * b
                + (t**3 - t**2) * n
            )
        a, b = rows[k, 0], rows[k + 1, 0]
        if width == 4:  # the shorter way round, at even speed
            cosine = float(a @ b)
            b = -b if cosine < 0 else b
            angle = np.arccos(min(abs(cosine), 1.0))
            if angle > 1e-6:
                return (np.sin((1 - t) * angle) * a + np.sin(t * angle) * b) / np.sin(angle)
        return (1 - t) * a + t * b

    def _local(self, number: int, tracks: dict[tuple[int, str], Any], at: float | None) -> Floats:
        node = self.json["nodes"][number]
        if "matrix" in node:
            return np.array(node["matrix"], dtype=np.float64).reshape(4, 4).T

        def value(path: str, usual: list[float]) -> Floats:
            if at is not None and (number, path) in tracks:
                return self._read(tracks[number, path], at, len(usual))
            return np.array(node.get(path, usual), dtype=np.float64)

        turn, out = value("rotation", [0, 0, 0, 1]), np.eye(4)
        out[:3, :3] = quaternion_turn(turn / (np.linalg.norm(turn) or 1.0)) * value("scale", [1, 1, 1])
        out[:3, 3] = value("translation", [0, 0, 0])
        return out

    def _world(self, chain: list[int], tracks: dict[tuple[int, str], Any], at: float | None) -> Floats:
        out = np.eye(4)
        for number in chain:
            out = out @ self._local(number, tracks, at)
        return out

    def _part(
        self, node: dict[str, Any], path: str, chain: list[int], tracks: dict[tuple[int, str], Any], times: Floats
    ) -> FilePart | None:
        mesh = self.json["meshes"][node["mesh"]]
        points, faces, shifts, count = [], [], [], 0
        for primitive in mesh["primitives"]:
            triangles = None if self._is_packed(primitive) else self._triangles(primitive)
            if triangles is None:
                continue
            places = self._accessor(primitive["attributes"]["POSITION"]).astype(np.float64)
            points.append(places)
            faces.append(triangles + count)
            shifts.append(
                [
                    self._accessor(t["POSITION"]).astype(np.float64) if "POSITION" in t else np.zeros_like(places)
                    for t in primitive.get("targets", [])
                ]
            )
            count += len(places)
        if not points:
            return None
        base, many = np.concatenate(points), min((len(s) for s in shifts), default=0)
        targets = np.array([np.concatenate([s[k] for s in shifts]) for k in range(many)]).reshape(many, len(base), 3)
        weights = np.array(node.get("weights", mesh.get("weights", np.zeros(many))), dtype=np.float64)[:many]
        formed = (chain[-1], "weights") in tracks and many > 0

        def form(at: float | None) -> Floats:
            mix = self._read(tracks[chain[-1], "weights"], at, many) if formed and at is not None else weights
            return base + np.tensordot(mix, targets, 1) if many and len(mix) == many else base

        if many and len(times) * base.size > MOST_MOVED:
            raise Problem("its moving points are more than fit.", self.name, "Hand in fewer frames or a coarser mesh.")
        swayed = any((n, p) in tracks for n in chain for p in MOVES)
        moving = len(times) > 1 and (formed or swayed)
        first = float(times[0]) if moving else None
        transform = self._world(chain, tracks, first)
        if not moving:
            return make_part(path, form(None), np.concatenate(faces), transform, self.name)
        poses = np.array([self._world(chain, tracks, float(t)) for t in times])
        shapes = None
        if formed or not keeps_size(poses):
            shapes = np.array([form(float(t)) @ m[:3, :3].T + m[:3, 3] for t, m in zip(times, poses, strict=True)])
        return make_part(path, form(first), np.concatenate(faces), transform, self.name, times - times[0],
                         None if shapes is not None else poses, shapes)  # fmt: skip

    def _is_packed(self, primitive: dict[str, Any]) -> bool:
        """Tell whether a primitive's points are there in an extension's packing only."""
        position = primitive["attributes"].get("POSITION")
        plain = position is None or "bufferView" in self.json["accessors"][position]
        return not plain and any(e in PACKED for e in _extensions(primitive))

    def _triangles(self, primitive: dict[str, Any]) -> NDArray[np.int64] | None:
        mode = primitive.get("mode", 4)
        if mode not in (4, 5, 6) or "POSITION" not in primitive["attributes"]:
            return None  # points and lines have no surface
        if "indices" in primitive:
            order = self._accessor(primitive["indices"])[:, 0].astype(np.int64)
        else:
            order = np.arange(len(self._accessor(primitive["attributes"]["POSITION"])), dtype=np.int64)
        if mode == 4:
            return order[: len(order) // 3 * 3].reshape(-1, 3)
        n = np.arange(max(len(order) - 2, 0))
        if mode == 6:
            return np.stack([order[np.zeros_like(n)], order[n + 1], order[n + 2]], 1)
        return np.stack([order[n], order[n + 1 + n % 2], order[n + 2 - n % 2]], 1)


def _extensions(holder: dict[str, Any]) -> dict[str, Any]:
    found = holder.get("extensions", {})
    return found if isinstance(found, dict) else {}


def keeps_size(poses: Floats) -> bool:
    """Tell whether transforms over time (k, 4, 4) only turn and move against the first."""
    with contextlib.suppress(np.linalg.LinAlgError):
        turn = poses[:, :3, :3] @ np.linalg.inv(poses[0, :3, :3])
        return bool(np.abs(turn @ np.swapaxes(turn, 1, 2) - np.eye(3)).max() < 1e-4 and (np.linalg.det(turn) > 0).all())
    return False
