"""The detailed meshes that bodies carry, as a delivery takes them in place of the bodies' own."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.between import points_at, pose_at
from zembrik.core.cache.reader import Cache
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, placed_mesh, render_mesh
from zembrik.core.setup.document import Body, Setup
from zembrik.core.units import turn_matrix

if TYPE_CHECKING:
    from zembrik.core.mesh.carry import Binding

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class CarriedMesh:
    """A mesh that a body carries.

    Attributes:
        body: in the setup as it stands. mesh: where the body stands there, metres. carrier: the body's own mesh there.
    """

    body: Body
    mesh: TriMesh
    carrier: TriMesh

    @property
    def key(self) -> str:
        """What tells it from others: copies that carry the same mesh alike have the same."""
        assert self.body.render is not None
        return self.body.mesh.model_dump_json() + self.body.render.model_dump_json()

    @cached_property
    def own(self) -> Floats:
        """Its points (n, 3) before the body is placed, metres."""
        place = self.body.place
        shifted = self.mesh.points - np.asarray(place.translate)
        return np.asarray(shifted @ turn_matrix(place.rotate) / place.scale)

    @cached_property
    def binding(self) -> Binding:
        """How it is bound to the body's mesh."""
        from zembrik.core.mesh.carry import bind  # brings the compiler, which no page waits for

        return bind(self.mesh.points, self.carrier, self.body.name)

    def at(self, cache: Cache, number: int, moment: float, place: tuple[Floats, Floats, float]) -> NDArray[np.float32]:
        """Return its points float32 (n, 3), metres, at a frame of the cache or between two.

        Args:
            number: the body in the cache. place: where that stood when it was baked: turn, shift and scale.
        """
        if cache.is_rigid(number):
            (turn, shift), (stood, at, scale) = pose_at(cache, number, moment), place
            return np.asarray((scale * self.own @ stood.T + at) @ turn.T + shift, dtype=np.float32)
        from zembrik.core.mesh.carry import carry  # see `binding`

        return carry(self.binding, points_at(cache, number, moment)).astype(np.float32)


def carried_meshes(setup: Setup, cache: Cache, assets: Assets) -> dict[str, CarriedMesh]:
    """Return the meshes that a cache's bodies carry by the setup as it stands, by the bodies' names.

    Raises:
        Problem: when a body has another mesh than when it was baked.
    """
    found = {}
    for body in setup.bodies:
        if body.render is None or body.name not in cache.names:
            continue
        number = cache.names.index(body.name)
        mesh, carrier = render_mesh(body, assets), placed_mesh(body, assets)
        assert mesh is not None
        if cache.changes(number) or cache.point_counts[number] != len(carrier.points):
            raise Problem(
                f"'{body.name}' has another mesh than when it was baked, so nothing can be carried by it.", "export",
                "Bake it again, or deliver the simulated meshes.",
            )  # fmt: skip
        found[body.name] = CarriedMesh(body, mesh, carrier)
    return found
