"""Soft bodies of a setup, as the solver takes them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.mesh.lattice import Lattice, cells_of, embed, taken_on
from zembrik.core.mesh.refine import refine
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, placed_mesh, start_mesh
from zembrik.core.setup.document import Setup
from zembrik.core.setup.resolve import Resolved
from zembrik.core.solver.handles import FIRM
from zembrik.core.solver.hexahedra import cell_rows
from zembrik.core.solver.over_frames import at_most
from zembrik.core.solver.pins import meshes_of, pin_weights
from zembrik.core.solver.rigid_parts import check_closed
from zembrik.core.solver.solids import Surface
from zembrik.core.units import turn_matrix

Floats = NDArray[np.float64]
USUAL_CELLS = 8  # along the longest side, where no cell size is given
MOST_CELLS = 400_000


@dataclass(frozen=True)
class SoftPart:
    """A soft body before the world is built.

    Attributes:
        number: of the body in the setup.
        name: of it.
        mesh: its surface in its place, metres.
        contact: the same surface, cut so that no edge is longer than a cell: what others touch. Its first points
            are the mesh's.
        lattice: what carries the contact surface.
        begin: float64 (n, 3), where the lattice's points are at the start, metres.
        mass: float64 (n,), of the lattice's points, kg.
        held: bool (n,), lattice points that pins hold.
        rows: float64 (E, 13), see `hexahedra.Cells`.
        surface: how it meets others.
        yields: yield strain and creep in 1/s; None when it always comes back.
        weight: factor on gravity, a number or a track. density: kg/m³.
    """

    number: int
    name: str
    mesh: TriMesh
    contact: TriMesh
    lattice: Lattice
    begin: Floats
    mass: Floats
    held: NDArray[np.bool_]
    rows: Floats
    surface: Surface
    yields: tuple[float, float] | None
    weight: Any
    density: float

    @property
    def masters(self) -> NDArray[np.int32]:
        """What carries the mesh's own points, int32 (points, 8)."""
        return self.lattice.masters[: len(self.mesh.points)]

    @property
    def shares(self) -> Floats:
        """Their shares, float64 (points, 8)."""
        return self.lattice.shares[: len(self.mesh.points)]


def soft_parts(setup: Setup, resolved: Resolved, assets: Assets) -> list[SoftPart]:
    """Return the soft bodies of a setup in their places.

    Raises:
        Problem: naming a body whose mesh is open, has no volume, or would have too many cells.
    """
    return [
        _soft(k, setup, resolved.document["bodies"][k], assets)
        for k, body in enumerate(setup.bodies)
        if body.role == "soft"
    ]


def cell_size(mesh: TriMesh) -> float:
    """Return the lattice cell (m) of a body that gives none."""
    return float(mesh.size.max()) / USUAL_CELLS


def _soft(number: int, setup: Setup, values: dict[str, Any], assets: Assets) -> SoftPart:
    body, values = setup.bodies[number], at_most(values, ("gravity",))
    mesh, material, where = placed_mesh(body, assets), at_most(values["material"]), f"bodies[{number}] '{body.name}'"
    check_closed(mesh, where)
    turn = turn_matrix(body.place.rotate)
    cell = values["cell"] or cell_size(mesh)
    cells = int(np.prod(cells_of(mesh, turn, cell).astype(float)))
    if cells > MOST_CELLS:
        raise Problem(
            f"cells of {cell * 1000:.3g} mm would be {cells:,} in the body's box; there may be {MOST_CELLS:,}.",
            where,
            "Choose larger cells.",
        )
    try:
        contact = refine(mesh, cell)
        lattice = embed(contact, turn, cell)
    except ValueError:
        raise Problem(
            "the mesh encloses no volume, so there is nothing to be soft.", where, "Turn its faces outwards."
        ) from None
    form = start_mesh(body, assets).points
    begin = lattice.points if body.form is None else taken_on(lattice, form)
    stiff = np.array([material["young"], material["poisson"], material["damping"]])
    rows, volume = cell_rows(lattice.edges, lattice.filled, stiff)
    shares = np.repeat(volume * material["density"] / 8, 8)
    mass = np.asarray(np.bincount(lattice.cells.ravel(), shares, len(lattice.points)), float)
    held = np.zeros(len(lattice.points), dtype=bool)
    for n, pin in enumerate(body.pins):
        taken = pin_weights(pin, mesh, form, f"{where}, pins[{n}]", meshes_of(setup, assets)) >= FIRM
        taken &= pin.strength == 1.0
        held[lattice.masters[: len(taken)][taken][lattice.shares[: len(taken)][taken] > 1e-6]] = True
    yields = (material["yield_strain"], material["creep"]) if material["creep"] > 0.0 else None
    surface = Surface(values["thickness"], material["friction"], material["sliding_friction"])
    return SoftPart(
        number, body.name, mesh, contact, lattice, begin, mass, held, rows, surface, yields, values["gravity"],
        material["density"],
    )  # fmt: skip
