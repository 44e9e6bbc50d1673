"""Delivering a cache: an exported file, whole or not at all, with its manifest."""

from __future__ import annotations

import hashlib
import json
import os
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.between import NEAR, points_at
from zembrik.core.cache.layout import write_whole
from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.carried import CarriedMesh
from zembrik.core.motion.angles import check_order
from zembrik.core.problem import Problem
from zembrik.core.setup.shown import Shown, is_shown
from zembrik.core.units import METRES_PER_UNIT, from_si, turn_matrix

if TYPE_CHECKING:
    from zembrik.core.mesh.trimesh import TriMesh

FORMATS: dict[str, str] = {
    "glb": "binary glTF 2.0, one file",
    "usdc": "OpenUSD, binary",
    "usda": "OpenUSD, text",
    "abc": "point cache",
    "obj.zip": "one OBJ a body and frame, in a zip",
    "ply.zip": "one binary PLY a body and frame, in a zip",
    "csv": "tracks: place and turn of every body, a row a frame",
    "json": "tracks, with a schema",
}
OF_CHANGING = ("usdc", "usda", "abc", "obj.zip", "ply.zip")  # what can hold a body whose points change in number
WITH_VISIBILITY = ("glb", "usdc", "usda", "abc")
SCHEMA = "zembrik.delivery/1"
Tell = Callable[[int, int], bool]
NOWHERE_ELSE = np.eye(3), np.zeros(3), 1.0


@dataclass(frozen=True)
class Order:
    """What is to be delivered.

    Attributes:
        format: one of `FORMATS`.
        frames: first and last; None for all committed frames.
        bodies: names; empty for all.
        unit: of lengths in the file.
        up_axis: "y" or "z".
        fps: frames a second of the file; None for the cache's own. Between frames points go as their velocities have
            it, and rigid bodies keep their form.
        subdivided: so many rounds of Loop's subdivision on every mesh: four faces for each, and rounder.
        angles: of tracks, in which order angles turn; see `motion.angles.ORDERS`.
        carried: whether bodies that carry a detailed mesh are delivered as that, in place of their own.
        shown: when bodies are seen, by name, as their setup has it; None for as it was when they were baked.
    """

    format: str
    frames: tuple[int, int] | None = None
    bodies: tuple[str, ...] = ()
    unit: str = "m"
    up_axis: str = "y"
    fps: float | None = None
    angles: str = "xyz"
    subdivided: int = 0
    shown: dict[str, Shown] | None = None
    carried: bool = True


@dataclass(frozen=True)
class Part:
    """One body of a delivery.

    Attributes:
        name: the body's name.
        file_name: the same, fit for files and paths, unique in the delivery.
        number: in the cache.
        faces: int32 (faces, 3). changes: whether they, and the number of points, are others from frame to frame.
        carried: the detailed mesh that it is delivered as; None for its own.
        place: where it stood when it was baked: turn (3, 3), shift (3,) in metres, and scale.
    """

    name: str
    file_name: str
    number: int
    faces: NDArray[np.int32]
    changes: bool = False
    carried: CarriedMesh | None = None
    place: tuple[NDArray[np.float64], NDArray[np.float64], float] = NOWHERE_ELSE


@dataclass(frozen=True)
class Content:
    """A checked order on a cache, from which the formats write."""

    cache: Cache
    order: Order
    first: int
    last: int
    parts: list[Part]

    @property
    def fps(self) -> float:
        """Frames a second of the file."""
        return float(self.order.fps or self.cache.fps)

    @property
    def frames(self) -> range:
        """The file's frame numbers, from the first one on."""
        count = int(np.floor((self.last - self.first) * self.fps / self.cache.fps + 1e-9)) + 1
        return range(self.first, self.first + count)

    def moment(self, frame: int) -> float:
        """Return which of the cache's frames, or where between two, a frame of the file is."""
        return self.first + (frame - self.first) * self.cache.fps / self.fps

    def shown(self, part: Part) -> Shown | None:
        """Return when a body is seen; None for always."""
        if self.order.shown is not None:
            return self.order.shown.get(part.name)
        bodies = [] if self.cache.foreign is not None else self.cache.attributes["setup"]["bodies"]
        return next((body.get("shown") for body in bodies if body["name"] == part.name), None)

    def is_shown(self, part: Part, frame: int) -> bool:
        """Tell whether a body is seen at a frame of the file."""
        return is_shown(self.shown(part), self.moment(frame))

    def points(self, part: Part, frame: int) -> NDArray[np.float32]:
        """Return a body's points (n, 3) at a frame of the file, in the order's unit and axes."""
        if part.carried is not None:
            si = part.carried.at(self.cache, part.number, self.moment(frame), part.place)
        else:
            si = points_at(self.cache, part.number, self.moment(frame))
        if self.order.subdivided:
            at = int(np.floor(self.moment(frame) + NEAR)) if part.changes else None
            faces = self.cache.faces(part.number, at) if part.carried is None else part.carried.mesh.faces
            mesh = subdivided(si, faces, self.order.subdivided)
            si = mesh.points.astype(np.float32)
        if self.order.unit == "m" and self.order.up_axis == "y":
            return si
        return from_si(si, self.order.unit, self.order.up_axis).astype(np.float32)

    def faces(self, part: Part, frame: int) -> NDArray[np.int32]:
        """Return a body's faces (m, 3) at a frame of the file; they are the same at all but for what changes."""
        if not part.changes:
            return part.faces
        at = int(np.floor(self.moment(frame) + NEAR))
        held = self.cache.faces(part.number, at)
        if self.order.subdivided:
            return subdivided(self.cache.points(part.number, at), held, self.order.subdivided).faces
        return held


def subdivided(points: NDArray[np.float32], faces: NDArray[np.int32], rounds: int) -> TriMesh:
    """Return a mesh after so many rounds of Loop's subdivision."""
    from zembrik.core.mesh.still import smoothed  # brings the compiler, which no page waits for
    from zembrik.core.mesh.trimesh import TriMesh

    return smoothed(TriMesh(points.astype(np.float64), faces), rounds)


def prepare(cache: Cache, order: Order, carried: dict[str, CarriedMesh] | None = None) -> Content:
    """Check an order against a cache; `carried` are the meshes that bodies carry, by the bodies' names.

    Raises:
        Problem: for a format, body, frame, unit or axis that cannot be delivered.
    """
    if order.format not in FORMATS:
        raise Problem(f"there is no format '{order.format}'.", "export", f"The formats are {', '.join(FORMATS)}.")
    if order.unit not in METRES_PER_UNIT or order.up_axis not in ("y", "z"):
        raise Problem(
            f"unit '{order.unit}' with '{order.up_axis}' up is not known.", "export", "Units are m, cm, mm, in, ft."
        )
    if order.format == "glb" and (order.unit, order.up_axis) != ("m", "y"):
        raise Problem("glTF files are always in metres with Y up.", "export", "Leave unit and axis, or choose usdc.")
    check_order(order.angles)
    if order.subdivided and order.format in A_ROW:
        raise Problem("tracks have no mesh to subdivide.", "export", "Choose another format.")
    if order.fps is not None and not 1.0 <= order.fps <= 1000.0:
        raise Problem("a frame rate lies between 1 and 1,000 frames a second.", "export", "24, 25, 29.97 and 30 are.")
    if cache.done is None:
        raise Problem("the cache holds no frame yet.", str(cache.path), "Bake it first.")
    first, last = order.frames or (cache.first, cache.done)
    if not cache.first <= first <= last <= cache.done:
        raise Problem(
            f"frames {first} to {last} are not all in the cache.", "export", f"It holds {cache.first} to {cache.done}."
        )
    names = order.bodies or tuple(cache.names)
    places = _places(cache)
    held = carried if carried and order.carried and order.format not in A_ROW else {}
    parts: list[Part] = []
    for name in names:
        number = cache.body_number(name)
        stem = re.sub(r"[^A-Za-z0-9_]+", "_", name).strip("_")[:60] or "body"
        stem = f"b_{stem}" if stem[0].isdigit() else stem
        taken = {p.file_name.lower() for p in parts}
        changes = cache.changes(number)
        if changes and order.format not in OF_CHANGING:
            raise Problem(
                f"'{name}' has other points from frame to frame, which {order.format} cannot hold.", "export",
                f"Choose one of {', '.join(OF_CHANGING)}, or leave it out.",
            )  # fmt: skip
        file_name, more = stem, 1
        while file_name.lower() in taken:  # also unlike where folders do not tell small letters from capitals
            more += 1
            file_name = f"{stem}_{more}"
        detailed = held.get(name)
        faces = cache.faces(number) if detailed is None else detailed.mesh.faces
        if order.subdivided:
            points = cache.points(number, cache.first) if detailed is None else detailed.mesh.points
            faces = subdivided(points.astype(np.float32), faces, order.subdivided).faces
        parts.append(Part(name, file_name, number, faces, changes, detailed, places.get(name, NOWHERE_ELSE)))
    return Content(cache, order, first, last, parts)


def _places(cache: Cache) -> dict[str, tuple[NDArray[np.float64], NDArray[np.float64], float]]:
    """Return where the bodies of a cache stood when it was baked, by their names."""
    if cache.foreign is not None:
        return {}
    stood = {body["name"]: body["place"] for body in cache.attributes["setup"]["bodies"]}
    return {
        name: (turn_matrix(place["rotate"]), np.array(place["translate"], np.float64), float(place["scale"]))
        for name, place in stood.items()
    }


def deliver(
    cache: Cache, out: Path, order: Order, tell: Tell = lambda done, total: True,
    carried: dict[str, CarriedMesh] | None = None,
) -> dict[str, Any]:  # fmt: skip
    """Write the file and its manifest beside it; return the manifest.

    Args:
        cache: what to take from.
        out: the file to write; replaced if it is there.
        order: what to write.
        tell: called with frames done and in all; returning False stops and leaves no file.
        carried: the meshes that bodies carry, see `carried.carried_meshes`.

    Raises:
        Problem: for a wrong order, a damaged frame, a place that cannot be written, or a stop.
    """
    from zembrik.core.exchange import gltf, obj_sequence, ply_sequence, tracks, usd, write_abc

    content = prepare(cache, order, carried)
    writers = {
        "glb": gltf.write, "usdc": usd.write, "usda": usd.write, "abc": write_abc.write,
        "obj.zip": obj_sequence.write, "ply.zip": ply_sequence.write,
        "csv": tracks.write_csv, "json": tracks.write_json,
    }  # fmt: skip
    part = out.with_name(f".{out.stem}.{os.getpid()}.part.{order.format}")
    try:
        part.touch()
        writers[order.format](content, part, tell)
        manifest = _manifest(content, part, out)
        os.replace(part, out)
        write_whole(manifest_path(out), json.dumps(manifest, indent=1, ensure_ascii=False).encode())
    except OSError as error:
        raise Problem(
            f"the file cannot be written: {error.strerror}.", str(out), "Choose a folder you may write to."
        ) from None
    finally:
        part.unlink(missing_ok=True)
    return manifest


def manifest_path(out: Path) -> Path:
    """Return where a delivery's manifest lies: beside the file."""
    return out.with_name(f"{out.name}.manifest.json")


def _manifest(content: Content, part: Path, out: Path) -> dict[str, Any]:
    with part.open("rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    attributes = content.cache.attributes
    return {
        "schema": SCHEMA,
        "file": out.name,
        "format": content.order.format,
        "sha256": digest,
        "bytes": part.stat().st_size,
        "setup_hash": attributes["setup_hash"],
        "title": attributes["setup"]["title"],
        "assets": attributes["assets"],
        "solver": attributes["solver"],
        "continued": attributes.get("continued", []),
        "fps": content.fps,
        "frames": [content.first, content.frames[-1]],
        "cache_fps": content.cache.fps,
        "cache_frames": [content.first, content.last],
        "length_unit": content.order.unit,
        "up_axis": content.order.up_axis,
        "bodies": [p.name for p in content.parts],
        "subdivided": content.order.subdivided,
        **_visibility(content),
        **({"carried": names} if (names := [p.name for p in content.parts if p.carried is not None]) else {}),
        "setup": attributes["setup"],  # with the assets, by their hashes, all that it takes to make the file again
        **({"angle_order": content.order.angles} if content.order.format in A_ROW else {}),
    }


def _visibility(content: Content) -> dict[str, Any]:
    shown = {part.name: times for part in content.parts if (times := content.shown(part)) is not None}
    if not shown:
        return {}
    kept = content.order.format in WITH_VISIBILITY
    return {"seen": shown, "visibility": "in the file" if kept else "not in the file: the format has none"}


def moving_points(content: Content, part: Part) -> Iterator[tuple[NDArray[np.float32], NDArray[np.float32]]]:
    """Yield a body's points (n, 3) at each frame of the file, and how fast they go there, a second: for motion blur.

    Central differences of the file's frames, one-sided at both ends. What changes its number of points goes nowhere.
    """
    last = content.frames[-1]
    before = now = content.points(part, content.first)
    for frame in content.frames:
        after = now if frame == last else content.points(part, frame + 1)
        steps = (frame > content.first) + (frame < last)
        if part.changes or not steps:
            yield now, np.zeros_like(now)
        else:
            yield now, ((after.astype(np.float64) - before) * (content.fps / steps)).astype(np.float32)
        before, now = now, after


def told_frames(content: Content, tell: Tell) -> Iterator[int]:
    """Yield the frames, telling after each; raises Problem when told to stop."""
    for done, frame in enumerate(content.frames, 1):
        yield frame
        if not tell(done, len(content.frames)):
            raise Problem("the delivery was stopped; nothing was written.", "export")


# Bytes a point and frame (or a body and frame, of tracks), and a face, as measured on the demo's shots.
A_POINT: dict[str, float] = {"glb": 25.0, "usdc": 20.0, "usda": 72.0, "abc": 24.0, "obj.zip": 12.5, "ply.zip": 10.0}
A_ROW: dict[str, float] = {"csv": 165.0, "json": 300.0}
A_PLACE: dict[str, float] = {"glb": 28.0, "usdc": 45.0, "usda": 190.0}  # of a body that keeps its form, at a frame


def expected_bytes(content: Content) -> float:
    """Return about how many bytes a delivery will have."""
    kind, frames = content.order.format, len(content.frames)
    if kind in A_ROW:
        return A_ROW[kind] * frames * len(content.parts)
    total, seen, cache = 0.0, set(), content.cache
    for part in content.parts:
        own = cache.point_counts[part.number] if part.carried is None else len(part.carried.mesh.points)
        points = own * 4**content.order.subdivided
        a_mesh = A_POINT[kind] * points + 12.0 * len(part.faces)
        if kind in A_PLACE and cache.is_rigid(part.number):
            mesh = (points, len(part.faces))  # copies share theirs
            total += A_PLACE[kind] * frames + (0.0 if mesh in seen else a_mesh)
            seen.add(mesh)
        elif kind.endswith(".zip"):  # a sequence has the faces in every file
            total += (A_POINT[kind] * points + 5.0 * len(part.faces)) * frames
        else:
            total += A_POINT[kind] * points * frames + 12.0 * len(part.faces)
    return total
