"""Plastic creep: the rest shape follows what is beyond the yield, once a frame.

What a fold, a stretch or a change of form exceeds its yield by goes over into the rest
shape as 1 - exp(-rate t): linear creep of what is beyond the yield (Bingham 1922).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.solver.bend import Bend, rest_angles
from zembrik.core.solver.hexahedra import Cells, yield_cells
from zembrik.core.solver.membrane import Membrane

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Yielding:
    """Bounds beyond which things stay changed, infinite for those that spring back, and rates of creep in 1/s.

    Attributes:
        strain, strain_rate: float64 (T,), of triangles.
        angle, angle_rate: float64 (H,), of hinges, radians.
        form, form_rate: float64 (E,), of cells.
    """

    strain: Floats
    strain_rate: Floats
    angle: Floats
    angle_rate: Floats
    form: Floats
    form_rate: Floats

    @property
    def any(self) -> bool:
        """Whether anything yields."""
        return any(bool(np.isfinite(bound).any()) for bound in (self.strain, self.angle, self.form))

    def creep(
        self, membrane: Membrane, bend: Bend, cells: Cells, shrinking: list[Any], x: Floats, seconds: float
    ) -> None:
        """Change the rest shapes of what is beyond its yield in the places x (n, 3), for so many seconds."""
        self._stretch(membrane, shrinking, x, seconds)
        self._fold(bend, x, seconds)
        yield_cells(cells, x, self.form, -np.expm1(-self.form_rate * seconds))

    def _stretch(self, membrane: Membrane, shrinking: list[Any], x: Floats, seconds: float) -> None:
        some = np.flatnonzero(np.isfinite(self.strain))
        if not len(some):
            return
        corners = x[membrane.points[some]]
        edges = np.stack([corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]], axis=2)
        inverse = membrane.rest[some, :4].reshape(-1, 2, 2)
        length = np.linalg.norm(edges @ inverse, axis=1)  # of warp and weft
        bound = self.strain[some][:, None]
        beyond = length - np.clip(length, 1.0 - bound, 1.0 + bound)
        factor = 1.0 + beyond * -np.expm1(-self.strain_rate[some] * seconds)[:, None]
        change = np.ones((len(membrane.rest), 4))
        change[some] = 1.0 / np.tile(np.maximum(factor, 0.1), 2)
        membrane.rest[:, :4] *= change
        for cloth in shrinking:
            cloth.rest *= change[cloth.numbers]

    def _fold(self, bend: Bend, x: Floats, seconds: float) -> None:
        some = np.flatnonzero(np.isfinite(self.angle))
        if not len(some):
            return
        angle = rest_angles(x, bend.points[some])
        rest = 2.0 * np.arctan(bend.rest[some, 0] / 2.0)
        off = angle - rest
        beyond = off - np.clip(off, -self.angle[some], self.angle[some])
        now = rest + beyond * -np.expm1(-self.angle_rate[some] * seconds)
        bend.rest[some, 0] = 2.0 * np.tan(np.clip(now / 2.0, -1.5, 1.5))
