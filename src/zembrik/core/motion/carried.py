"""The motion of a mesh that another carries: a proxy that is bound to what changes its form."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.carry import bind, carry
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.motion.rigid import Mover

Floats = NDArray[np.float64]


class Carried(Mover):
    """Takes a proxy's points along with a mesh.

    Args:
        mover: of the mesh. mesh: as it stands without that motion. proxy: bound to it there.
        name: of the body, for errors.
    """

    def __init__(self, mover: Mover, mesh: TriMesh, proxy: TriMesh, name: str) -> None:
        super().__init__(mover.motion, mover.pivot, mover.parent)
        self.changes_form = True
        self.mover, self.mesh = mover, mesh
        self.binding = bind(proxy.points, mesh, name)

    def grain(self, frame: float) -> float | None:
        """Return how many frames lie between samples of the mesh's motion."""
        return self.mover.grain(frame)

    def knows(self, frame: float) -> bool:
        """Tell whether the mesh's motion is known at a frame."""
        return self.mover.knows(frame)

    def points_at(self, points: Floats, frame: float) -> Floats:
        """Return where the proxy's points are at a frame, metres; `points` only say how many there are."""
        return carry(self.binding, self.mover.points_at(self.mesh.points, frame))[: len(points)]
