"""Giving a body the detailed mesh that it carries, and what that looks like in a cache."""

from __future__ import annotations

import json
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import numpy as np

from zembrik.core.cache.reader import Cache
from zembrik.core.motion.angles import angles_of
from zembrik.core.problem import Problem
from zembrik.core.remember import Aside
from zembrik.core.setup.assets import Assets, placed_mesh, render_mesh
from zembrik.core.setup.document import Body, FileMesh, Setup
from zembrik.core.setup.materials import SIMULATED
from zembrik.core.units import turn_matrix

if TYPE_CHECKING:
    from zembrik.core.mesh.carry import Binding

Patch = list[dict[str, Any]]


def carry_patch(setup: Setup, number: int, other: int) -> Patch:
    """Return the patch that makes a body carry the mesh of another, which then is no body of its own any more.

    Raises:
        Problem: when the one is not simulated, or the other is more than a mesh that is looked at.
    """
    body, held = setup.bodies[number], setup.bodies[other]
    if body.role not in SIMULATED or held is body:
        raise Problem(f"'{body.name}' is not simulated.", "intake", "Only what is simulated carries a mesh.")
    if held.role != "left out" or not isinstance(held.mesh, FileMesh) or held.mesh.animated:
        raise Problem(
            f"'{held.name}' is more than a mesh to look at.", "intake", "Take a body of a file that is left out."
        )
    # Where the other stands, as seen from the body.
    turn, seen = turn_matrix(body.place.rotate), turn_matrix(held.place.rotate)
    shift = turn.T @ (np.asarray(held.place.translate) - np.asarray(body.place.translate)) / body.place.scale
    place = {
        "translate": [round(float(v), 9) for v in shift],
        "rotate": [round(float(v), 7) for v in angles_of((turn.T @ seen)[None])[0]],
        "scale": float(f"{held.place.scale / body.place.scale:.9g}"),
    }
    mesh = held.mesh.model_dump(mode="json", exclude_unset=True)
    return [
        {"op": "add", "path": f"/bodies/{number}/render", "value": {"mesh": mesh, "place": place}},
        {"op": "remove", "path": f"/bodies/{other}"},
    ]


def let_go_patch(setup: Setup, number: int) -> Patch:
    """Return the patch that makes a carried mesh a body of its own again, left out, where it stood."""
    body = setup.bodies[number]
    if body.render is None:
        raise Problem(f"'{body.name}' carries no mesh.", "intake", "Load the page again.")
    place, turn = body.render.place, turn_matrix(body.place.rotate)
    shift = turn @ (np.asarray(place.translate) * body.place.scale) + np.asarray(body.place.translate)
    taken, name, k = {b.name for b in setup.bodies}, f"{body.name} render", 1
    while name in taken:
        k += 1
        name = f"{body.name} render {k}"
    own = {
        "translate": [round(float(v), 9) for v in shift],
        "rotate": [round(float(v), 7) for v in angles_of((turn @ turn_matrix(place.rotate))[None])[0]],
        "scale": float(f"{place.scale * body.place.scale:.9g}"),
    }
    mesh = body.render.mesh.model_dump(mode="json", exclude_unset=True)
    return [
        {"op": "remove", "path": f"/bodies/{number}/render"},
        {"op": "add", "path": "/bodies/-", "value": {"name": name, "mesh": mesh, "place": own}},
    ]


@lru_cache(maxsize=32)
def _binding(document: str, aside: Aside[tuple[Body, Assets]]) -> Binding:
    from zembrik.core.mesh.carry import bind  # brings the compiler, which no page waits for

    body, assets = aside.value
    detailed = render_mesh(body, assets)
    assert detailed is not None
    return bind(detailed.points, placed_mesh(body, assets), body.name)


def binding_of(body: Body, assets: Assets) -> Binding:
    """Return how a body's render mesh is bound to its own mesh, remembered by what it depends on."""
    parts = [body.mesh, body.place, body.render]
    document = json.dumps([p.model_dump(mode="json") for p in parts if p is not None])
    return _binding(document, Aside((body, assets)))


def carried_bodies(cache: Cache, setup: Setup) -> list[tuple[int, Body]]:
    """Return the bodies of a cache that change their form and carry a mesh, with their numbers in the cache.

    What moves as a whole takes its render mesh along by its pose.
    """
    by_name = {b.name: b for b in setup.bodies}
    found = []
    for number, name in enumerate(cache.names):
        body = by_name.get(name)
        if body is not None and body.render is not None and not cache.is_rigid(number):
            found.append((number, body))
    return found
