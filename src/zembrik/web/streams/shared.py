"""Meshes that several bodies of a picture share: each once in a pack, placed by a matrix a body."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.setup.document import Place
from zembrik.core.units import turn_matrix
from zembrik.web.streams.pack import Pack

MOST_DRAWN = 30_000  # faces of all bodies together, that are drawn while something moves and no card helps
FEWEST = 12  # faces that are left of a mesh then

Floats = NDArray[np.float64]


class Shared:
    """Collects meshes by keys that tell them apart.

    Attributes:
        entries: of the pack's head: each mesh's name, where its points and faces are, and those of a coarser one.
    """

    def __init__(self, pack: Pack) -> None:
        self.pack = pack
        self.entries: list[dict[str, Any]] = []
        self._numbers: dict[str, int] = {}
        self._meshes: list[TriMesh] = []
        self._uses: list[int] = []

    def __contains__(self, key: str) -> bool:
        return key in self._numbers

    def number(self, key: str, make: Callable[[], TriMesh]) -> int:
        """Return the number of the mesh of a key, which is made if it is not there yet."""
        if key not in self._numbers:
            mesh = make()
            self._numbers[key] = len(self.entries)
            self.entries.append({"name": key, **add_mesh(self.pack, mesh)})
            self._meshes.append(mesh)
            self._uses.append(0)
        self._uses[self._numbers[key]] += 1
        return self._numbers[key]

    def add_coarse(self) -> None:
        """Add coarser meshes where all bodies together have more faces than can be drawn while something moves."""
        total = sum(n * len(mesh.faces) for n, mesh in zip(self._uses, self._meshes, strict=True))
        if total <= 2 * MOST_DRAWN:
            return
        from zembrik.core.proxy.reduce import reduced  # see `app._warm_up`

        for entry, mesh, uses in zip(self.entries, self._meshes, self._uses, strict=True):
            share = max(MOST_DRAWN / total, FEWEST / max(len(mesh.faces), 1))
            if uses > 1 and share < 0.8:
                entry["coarse"] = add_mesh(self.pack, reduced(mesh, share, "copies"))


def add_mesh(pack: Pack, mesh: TriMesh) -> dict[str, Any]:
    """Add a mesh to a pack; return where its points and faces are."""
    return {"points": pack.add(mesh.points, "<f4"), "faces": pack.add(mesh.faces, "<u4")}


def place_matrix(place: Place) -> Floats:
    """Return a place as a matrix (4, 4) that takes a mesh's own points to where they stand, metres."""
    return affine(place.scale * turn_matrix(place.rotate), place.translate)


def affine(linear: Floats, shift: Any) -> Floats:
    """Return the matrix (4, 4) of a linear map (3, 3) and a shift (3,)."""
    whole = np.eye(4)
    whole[:3, :3], whole[:3, 3] = linear, shift
    return whole


def columns(matrix: Floats) -> Floats:
    """Return a matrix (4, 4) of a place as the page takes it: its four columns of three numbers (12,)."""
    return matrix[:3].T.ravel()
