"""What is drawn of bodies that keep their form: meshes that copies share, each body with a matrix."""

from __future__ import annotations

import hashlib
import json
from typing import Any

import numpy as np

from zembrik.core.cache.reader import Cache
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.setup.assets import Assets, file_part, in_metres, load_mesh, placed_mesh
from zembrik.core.setup.document import Body, Place
from zembrik.web.streams.shared import Floats, Shared, columns, place_matrix

Words = dict[str, Any]
ROUND = 32  # sides of a ball that is drawn


class Drawn:
    """Adds what is drawn of a setup's bodies to a pack."""

    def __init__(self, shared: Shared, assets: Assets) -> None:
        self.shared, self.assets = shared, assets

    def mesh(self, body: Body) -> Words:
        """Return a body's own mesh, shared with its copies, and where it stands."""
        key = mesh_name(body.mesh.model_dump(mode="json"))
        return self._at(self.shared.number(key, lambda: load_mesh(body, self.assets)), place_matrix(body.place))

    def render(self, body: Body) -> Words:
        """Return the mesh that a body carries, shared with what carries the same."""
        assert body.render is not None
        held = body.render.mesh

        def load() -> TriMesh:
            part = file_part(held, self.assets)
            return part.mesh.moved(in_metres(held, part, part.mesh.points))

        number = self.shared.number(mesh_name(held.model_dump(mode="json")), load)
        return self._at(number, place_matrix(body.place) @ place_matrix(body.render.place))

    def proxy(self, body: Body, proxy: Words) -> Words:
        """Return a body's resolved proxy as it is drawn; that it is pending, while a worker has yet to find it."""
        from zembrik.core.proxy.outline import outline  # see `app._warm_up`
        from zembrik.core.solver.colliders import is_found, proxy_shapes

        kind, place = proxy["kind"], place_matrix(body.place)
        name_of_mesh = mesh_name(body.mesh.model_dump(mode="json"))
        key = name_of_mesh if kind == "surface" else f"proxy {name_of_mesh} {json.dumps(proxy, sort_keys=True)}"
        if kind == "plane":  # it lies level, however its body is turned
            key += body.place.model_dump_json()

        def find() -> TriMesh:
            drawn = outline(proxy_shapes(body, proxy, mesh), mesh, ROUND)
            back = np.linalg.inv(place)
            return drawn.moved(drawn.points @ back[:3, :3].T + back[:3, 3])

        if key not in self.shared:
            mesh = placed_mesh(body, self.assets)
            if not is_found(body, proxy, mesh):
                return {"pending": True}  # it is drawn when a worker has found it
        return {"proxy": {"kind": kind, **self._at(self.shared.number(key, find), place)}}

    def _at(self, number: int, matrix: Floats) -> Words:
        return {"shape": number, "place": self.shared.pack.add(columns(matrix), "<f4")}


def mesh_name(mesh: Words) -> str:
    """Return what tells a mesh from others, by what its document says of it."""
    return hashlib.sha256(json.dumps(mesh, sort_keys=True).encode()).hexdigest()[:20]


def baked_bodies(cache: Cache) -> dict[str, Words]:
    """Return the bodies of the setup that a cache was baked from, by their names; none of a cache from elsewhere."""
    return {} if cache.foreign is not None else {b["name"]: b for b in cache.attributes["setup"]["bodies"]}


def baked_shape(shared: Shared, cache: Cache, number: int, body: Words | None) -> Words:
    """Return the mesh that the poses of a cache's body place, shared with its copies, and where it stood at rest."""
    key = mesh_name(body["mesh"]) if body else f"{number}"
    matrix = np.eye(4) if body is None else place_matrix(Place.model_validate(body["place"]))

    def load() -> TriMesh:
        back, rest = np.linalg.inv(matrix), cache.rest(number).astype(np.float64)
        return TriMesh(rest @ back[:3, :3].T + back[:3, 3], cache.faces(number))

    return {"shape": shared.number(key, load), "place": shared.pack.add(columns(matrix), "<f4")}
