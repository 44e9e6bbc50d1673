"""Where a setup's mesh files come from, and its bodies as meshes in place."""

from __future__ import annotations

import hashlib
from functools import lru_cache
from pathlib import Path
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from zembrik.core.exchange.obj import MOST_BYTES, read_obj
from zembrik.core.mesh import shapes
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.setup.document import (
    BallMesh,
    Body,
    BoxMesh,
    CapsuleMesh,
    CylinderMesh,
    FileMesh,
    GridMesh,
    RingMesh,
)
from zembrik.core.units import to_si, turn_matrix


class Assets(Protocol):
    """Gives the bytes of a mesh file by its name; raises Problem when it is not there."""

    def read(self, file: str) -> bytes:
        """Return the file's bytes."""
        ...


class NoAssets:
    """For setups that use shapes only."""

    def read(self, file: str) -> bytes:
        """Tell that there is no such file."""
        raise Problem(f"there is no mesh file '{file}'.", file)


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


def file_hash(data: bytes) -> str:
    """Return the hash by which a file's content is known."""
    return hashlib.sha256(data).hexdigest()


@lru_cache(maxsize=32)
def _parsed(data_hash: str, data: bytes, name: str) -> TriMesh:
    return read_obj(data, name)


def load_mesh(body: Body, assets: Assets) -> TriMesh:
    """Return a body's mesh in metres with Y up, before it is placed.

    Raises:
        Problem: when its file is missing or cannot be used.
    """
    mesh = body.mesh
    if isinstance(mesh, FileMesh):
        data = assets.read(mesh.file)
        parsed = _parsed(file_hash(data), data, mesh.file)
        return parsed.moved(to_si(parsed.points, mesh.unit, mesh.up_axis))
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


def placed_mesh(body: Body, assets: Assets) -> TriMesh:
    """Return a body's mesh where it stands at the first frame, metres."""
    mesh = load_mesh(body, assets)
    return mesh.moved(place_points(body, mesh.points))
