"""Cloths of a setup, as the solver takes them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, placed_mesh, start_mesh
from zembrik.core.setup.document import Setup
from zembrik.core.setup.resolve import Resolved
from zembrik.core.solver.bend_form import BendForm, bend_form
from zembrik.core.solver.handles import FIRM
from zembrik.core.solver.over_frames import at_most
from zembrik.core.solver.pins import meshes_of, pin_weights
from zembrik.core.solver.solids import Surface
from zembrik.core.units import turn_matrix

Floats = NDArray[np.float64]
LEAST_BEND = 1e-12  # N·m: what none is taken for


@dataclass(frozen=True)
class ClothPart:
    """A cloth before the world is built; n points, T triangles, H hinges.

    Attributes:
        number: of the body in the setup. name: of it.
        mesh: in its place, metres. begin: float64 (n, 3), where its points begin, metres.
        material: its resolved dials, the most that each comes to but for rest length and pressure.
        mass: float64 (n,), kg. area: float64 (n,), each point's share, m². held: bool (n,).
        surface: how it meets others.
        air: float64 (T, 4): share of the air's pressure, mass in kg, lift, pressure inside in Pa.
        warp: float64 (3,), the warp's direction.
        stiff: float64 (4,): stretch, compression, shear in N/m, damping in s.
        bend: how its hinges resist.
        weight: factor on gravity, a number or a track.
    """

    number: int
    name: str
    mesh: TriMesh
    begin: Floats
    material: dict[str, Any]
    mass: Floats
    area: Floats
    held: NDArray[np.bool_]
    surface: Surface
    air: Floats
    warp: Floats
    stiff: Floats
    bend: BendForm
    weight: Any


def cloth_parts(setup: Setup, resolved: Resolved, assets: Assets) -> list[ClothPart]:
    """Return the cloths of a setup in their places.

    Raises:
        Problem: naming a cloth with flat faces, or one that is to hold pressure and is not closed.
    """
    return [
        _cloth(k, setup, resolved.document["bodies"][k], assets)
        for k, body in enumerate(setup.bodies)
        if body.role == "cloth"
    ]


def _cloth(number: int, setup: Setup, values: dict[str, Any], assets: Assets) -> ClothPart:
    body, values = setup.bodies[number], at_most(values, ("gravity",))
    material = at_most(values["material"], ("rest_length", "pressure"))
    mesh, begin, mesh_of = placed_mesh(body, assets), start_mesh(body, assets).points, meshes_of(setup, assets)
    where = f"bodies[{number}] '{body.name}'"
    longest = float(mesh.edge_lengths.max(initial=0.0))
    flat = mesh.face_areas <= 1e-9 * longest**2
    if not len(mesh.faces) or flat.any():
        place = f"face {int(np.argmax(flat))}" if len(mesh.faces) else "no faces"
        raise Problem(
            f"{int(flat.sum())} faces have no area ({place} is the first).",
            where,
            "Merge doubled points and delete flat faces where the mesh was made.",
        )
    if material["pressure"] != 0.0 and not mesh.is_closed:
        raise Problem(
            "the sheet is open, so it cannot hold pressure.", where, "Close its holes, or set the pressure to 0."
        )
    shares: Floats = np.repeat(mesh.face_areas / 3, 3)
    area = np.asarray(np.bincount(mesh.faces.ravel(), shares, len(mesh.points)), float)
    loose = area <= 0.0
    if loose.any():
        raise Problem(
            f"{int(loose.sum())} points belong to no face (point {int(np.argmax(loose))} is the first).",
            where,
            "Delete loose points where the mesh was made.",
        )
    held = np.zeros(len(mesh.points), dtype=bool)
    for n, pin in enumerate(body.pins):
        weights = pin_weights(pin, mesh, begin, f"{where}, pins[{n}]", mesh_of)
        held |= (weights >= FIRM) if pin.strength == 1.0 else False
    air = np.zeros((len(mesh.faces), 4))
    air[:, 0], air[:, 2] = material["drag"], material["lift"]
    air[:, 1] = mesh.face_areas * material["area_density"]
    return ClothPart(
        number=number,
        name=body.name,
        mesh=mesh,
        begin=begin,
        material=material,
        mass=area * material["area_density"],
        area=area,
        held=held,
        surface=Surface(values["thickness"], material["friction"], material["sliding_friction"]),
        air=air,
        # Warp runs along the body's own X; the placed mesh carries it as the first column of its turn.
        warp=turn_matrix(body.place.rotate)[:, 0],
        stiff=np.array([material[name] for name in ("stretch", "compression", "shear", "damping")]),
        bend=bend_form(mesh),
        weight=values["gravity"],
    )
