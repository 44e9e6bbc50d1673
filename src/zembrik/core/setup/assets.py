"""Where a setup's mesh files come from, and its bodies as meshes in place."""

from __future__ import annotations

import hashlib
import os
from functools import lru_cache
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.contents import FilePart
from zembrik.core.exchange.kept import kept_contents
from zembrik.core.exchange.read_any import MOST_BYTES
from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.motion.deform import Deform
from zembrik.core.motion.playback import Playback
from zembrik.core.motion.rigid import Mover
from zembrik.core.motion.ripple import mover_of
from zembrik.core.problem import Problem
from zembrik.core.setup.document import (
    BallMesh,
    Body,
    BoxMesh,
    CacheMesh,
    CapsuleMesh,
    CylinderMesh,
    FileMesh,
    GridMesh,
    RingMesh,
    Setup,
)
from zembrik.core.units import METRES_PER_UNIT, to_si, turn_matrix


class Assets(Protocol):
    """Gives the bytes of a mesh file by its name; raises Problem when it is not there."""

    def read(self, file: str) -> bytes:
        """Return the file's bytes."""
        ...

    def cache(self, name: str) -> Cache:
        """Return a cache by its name; raises Problem when it is not there, or is another than was named."""
        ...


class NoAssets:
    """For setups that use shapes only."""

    def read(self, file: str) -> bytes:
        """Tell that there is no such file."""
        raise Problem(f"there is no mesh file '{file}'.", file)

    def cache(self, name: str) -> Cache:
        """Tell that there is no such cache."""
        raise Problem(f"there is no cache '{name}'.", name)


class FolderAssets:
    """Mesh files beside a setup file; nothing outside of that folder is read."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder.resolve()

    def read(self, file: str) -> bytes:
        """Return the file's bytes."""
        path = (self.folder / file).resolve()
        if not path.is_relative_to(self.folder):
            raise Problem(f"'{file}' lies outside the setup's folder.", file, "Copy it beside the setup.")
        try:
            if path.stat().st_size > MOST_BYTES:
                raise Problem(f"the file is larger than {MOST_BYTES / 1e6:.0f} MB.", file, "Reduce the mesh.")
            return path.read_bytes()
        except FileNotFoundError:
            raise Problem("there is no such mesh file.", file, f"It is looked for in {self.folder}.") from None
        except OSError as error:
            raise Problem(f"the file cannot be read: {error.strerror}.", file) from None

    def cache(self, name: str) -> Cache:
        """Return a cache beside the setup."""
        path = Path(os.path.normpath(self.folder / name))  # links may lead anywhere: caches are large
        if not path.is_relative_to(self.folder):
            raise Problem(
                f"'{name}' lies outside the setup's folder.", name, "Put it, or a link to it, beside the setup."
            )
        return Cache(path)


def file_hash(data: bytes) -> str:
    """Return the hash by which a file's content is known."""
    return hashlib.sha256(data).hexdigest()


@lru_cache(maxsize=64)
def _kept_part(data_hash: str, part: str | None, reader: _Reader) -> FilePart:
    data, reader.data = reader.data, b""  # the cache keeps its keys: the bytes are not wanted any more
    return kept_contents(data, reader.name).part(part, reader.name)


class _Reader:
    """A file's bytes, all alike to the cache that keeps what was read: the hash beside it tells them apart."""

    def __init__(self, data: bytes, name: str) -> None:
        self.data, self.name = data, name

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Reader)

    def __hash__(self) -> int:
        return 0


def file_part(mesh: FileMesh, assets: Assets) -> FilePart:
    """Return what a body takes of its file, in the file's own unit and axes.

    Raises:
        Problem: when the file is missing or cannot be used.
    """
    data = assets.read(mesh.file)
    return _kept_part(file_hash(data), mesh.part, _Reader(data, mesh.file))


def in_metres(mesh: FileMesh, part: FilePart, points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return points (n, 3) of a file's part as metres with Y up and the front looking along +Z."""
    return to_si(points * metres_a_unit(mesh, part), "m", mesh.up_axis or part.up or "y", mesh.forward)


def metres_a_unit(mesh: FileMesh, part: FilePart) -> float:
    """Return how long a file's unit is, metres: as the setup says, else as the file does."""
    return METRES_PER_UNIT[mesh.unit] if mesh.unit is not None else part.unit_m or 1.0


def played(mesh: CacheMesh, assets: Assets) -> tuple[Cache, int]:
    """Return the cache that a body plays, and which of its bodies.

    Raises:
        Problem: when the cache is missing or was changed, has no frame or no such body, or that cannot be played.
    """
    cache = assets.cache(mesh.cache)
    number = cache.body_number(mesh.body)
    if cache.done is None:
        raise Problem("the cache holds no frame yet.", mesh.cache, "Bake it first.")
    if cache.changes(number):
        raise Problem(
            f"'{mesh.body}' has other points from frame to frame, so nothing can follow its surface.", mesh.cache,
            "It can be looked at on Review and delivered.",
        )  # fmt: skip
    if mesh.keeps_form and not cache.is_rigid(number):
        raise Problem(f"'{mesh.body}' changes its form in the cache.", mesh.cache, "Place it again on Intake.")
    return cache, number


def load_mesh(body: Body, assets: Assets) -> TriMesh:
    """Return a body's mesh in metres with Y up, before it is placed.

    Raises:
        Problem: when its file is missing or cannot be used.
    """
    mesh = body.mesh
    if isinstance(mesh, FileMesh):
        part = file_part(mesh, assets)
        return part.mesh.moved(in_metres(mesh, part, part.mesh.points))
    if isinstance(mesh, CacheMesh):
        cache, number = played(mesh, assets)
        return TriMesh(cache.points(number, cache.first).astype(np.float64), cache.faces(number))
    if isinstance(mesh, GridMesh):
        return shapes.grid(mesh.size, mesh.segments)
    if isinstance(mesh, BoxMesh):
        return shapes.box(mesh.size, mesh.segments)
    if isinstance(mesh, BallMesh):
        return shapes.ball(mesh.radius, mesh.rings)
    if isinstance(mesh, CylinderMesh):
        return shapes.cylinder(mesh.radius, mesh.height, mesh.sides)
    if isinstance(mesh, CapsuleMesh):
        return shapes.capsule(mesh.radius, mesh.height, mesh.sides)
    assert isinstance(mesh, RingMesh)
    return shapes.ring(mesh.radius, mesh.tube, mesh.sides)


def place_points(body: Body, points: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return points (n, 3) scaled, turned and moved to where the body stands, metres."""
    place = body.place
    return (points * place.scale) @ turn_matrix(place.rotate).T + np.asarray(place.translate)


def mover_of_body(setup: Setup, number: int, assets: Assets) -> Mover | None:
    """Return what moves a body: its motion, its parent's, its file's own forms, or a ripple; None when nothing does."""
    body = setup.bodies[number]
    motion, parent = None, None
    if body.motion is not None:
        motion = body.motion.model_dump(mode="json")
        if spin := motion.get("spin"):  # its axis is one of the body's own, which stands in its place turned
            spin["axis"] = (turn_matrix(body.place.rotate) @ spin["axis"]).tolist()
        if body.motion.parent is not None:
            above = next(k for k, b in enumerate(setup.bodies) if b.name == body.motion.parent)
            parent = mover_of_body(setup, above, assets)
    if isinstance(body.mesh, FileMesh) and body.mesh.animated:
        part, mesh = file_part(body.mesh, assets), body.mesh
        if len(part.shapes):
            forms = np.stack([place_points(body, in_metres(mesh, part, s)) for s in part.shapes])
            return Deform(mesh.starts + part.times_s * setup.fps, forms, motion, body.place.translate, parent)
    if isinstance(body.mesh, CacheMesh):
        cache, which = played(body.mesh, assets)
        place = turn_matrix(body.place.rotate), body.place.scale, np.asarray(body.place.translate, dtype=np.float64)
        rate = body.mesh.speed * cache.fps / setup.fps
        return Playback(
            cache, which, body.mesh.starts, rate, body.mesh.keeps_form, place, motion, body.place.translate, parent
        )
    return mover_of(motion, body.place.translate, setup.fps, parent) if motion is not None else None


def placed_mesh(body: Body, assets: Assets) -> TriMesh:
    """Return a body's mesh where it stands at the first frame, metres."""
    mesh = load_mesh(body, assets)
    return mesh.moved(place_points(body, mesh.points))


def start_mesh(body: Body, assets: Assets) -> TriMesh:
    """Return a body's mesh in the form it begins in, metres: where it stands, unless it has a form of its own.

    Raises:
        Problem: when the form has other points than the mesh.
    """
    mesh = placed_mesh(body, assets)
    if body.form is None or body.role not in ("cloth", "soft"):
        return mesh
    part = file_part(body.form, assets)
    form = part.mesh
    if len(form.points) != len(mesh.points):
        raise Problem(
            f"the form it begins in has {len(form.points):,} points, its mesh {len(mesh.points):,}.", body.name,
            "Its mesh was changed since: let it begin as its mesh is, on Start.",
        )  # fmt: skip
    return mesh.moved(in_metres(body.form, part, form.points))


def render_mesh(body: Body, assets: Assets) -> TriMesh | None:
    """Return the mesh that a body carries, where it stands at the start, metres; None for a body that carries none."""
    if body.render is None:
        return None
    held, place = body.render.mesh, body.render.place
    part = file_part(held, assets)
    points = in_metres(held, part, part.mesh.points) * place.scale
    return part.mesh.moved(place_points(body, points @ turn_matrix(place.rotate).T + np.asarray(place.translate)))
