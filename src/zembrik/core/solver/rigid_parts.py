"""Rigid bodies and joints of a setup, as the solver takes them."""

from __future__ import annotations

import numpy as np

from zembrik.core.mesh.inertia import mass_of
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh
from zembrik.core.setup.document import Setup
from zembrik.core.setup.resolve import Resolved
from zembrik.core.solver.arrays import Joints
from zembrik.core.solver.colliders import proxy_shapes
from zembrik.core.solver.joints import HINGE, KINDS
from zembrik.core.solver.over_frames import at_most
from zembrik.core.solver.solids import RigidPart, Surface


def rigid_parts(setup: Setup, resolved: Resolved, assets: Assets) -> list[RigidPart]:
    """Return the rigid bodies of a setup in their places.

    Raises:
        Problem: naming a body whose mesh is open or has no volume.
    """
    found = []
    for k, body in enumerate(setup.bodies):
        if body.role != "rigid":
            continue
        values = at_most(resolved.document["bodies"][k], ("gravity",))
        mesh, material, where = placed_mesh(body, assets), at_most(values["material"]), f"bodies[{k}] '{body.name}'"
        check_closed(mesh, where)
        try:
            mass = mass_of(mesh, material["density"])
        except ValueError:
            raise Problem(
                "the mesh encloses no volume, so it has no mass.", where, "Turn its faces outwards, or give it depth."
            ) from None
        found.append(
            RigidPart(
                name=body.name,
                points=mesh.points,
                faces=mesh.faces,
                mass=mass,
                shapes=proxy_shapes(body, values["proxy"], mesh),
                surface=Surface(
                    values["thickness"], material["friction"], material["sliding_friction"], material["bounce"]
                ),
                density=material["density"],
                rolling_m=material["rolling_resistance"],
                weight=values["gravity"],
                mover=mover_of_body(setup, k, assets),
                spells=body.spells,
            )
        )
    return found


def check_closed(mesh: TriMesh, where: str) -> None:
    """Raise a Problem when a mesh has open edges."""
    if not mesh.is_closed:
        ends = int((mesh.edge_use != 2).sum())
        raise Problem(
            f"the mesh is not closed ({ends} edges have not exactly two faces), so it has no inside.",
            where,
            "Close its holes, or give it the role cloth or collider.",
        )


def joints_of(setup: Setup, parts: list[RigidPart]) -> Joints:
    """Return the joints of a setup, its rigid bodies being in their places."""
    numbers = {part.name: r for r, part in enumerate(parts)}
    count = len(setup.joints)
    joints = Joints(
        kind=np.array([KINDS[j.kind] for j in setup.joints], dtype=np.int64).reshape(count),
        bodies=np.array([[-1 if n is None else numbers[n] for n in j.bodies] for j in setup.joints],
                        dtype=np.int64).reshape(count, 2),
        anchor=np.zeros((count, 2, 3)),
        frame=np.zeros((count, 2, 9)),
        arm=np.zeros((count, 2, 3)),
        axes=np.zeros((count, 2, 9)),
        least=np.radians([-np.inf if j.limits is None else j.limits[0] for j in setup.joints]),
        most=np.radians([np.inf if j.limits is None else j.limits[1] for j in setup.joints]),
        speed=np.radians([j.motor.speed if j.motor else 0.0 for j in setup.joints]),
        strength=np.array([j.motor.torque if j.motor else j.friction for j in setup.joints], np.float64),
    )  # fmt: skip
    for n, joint in enumerate(setup.joints):
        at, axes = np.array(joint.at), np.eye(3)
        if joint.kind == "hinge":
            axes[:, 0] = np.array(joint.axis) / np.linalg.norm(joint.axis)
            axes[:, 1] = np.cross(axes[:, 0], np.eye(3)[int(np.argmin(np.abs(axes[:, 0])))])
            axes[:, 1] /= np.linalg.norm(axes[:, 1])
            axes[:, 2] = np.cross(axes[:, 0], axes[:, 1])
        assert joints.kind[n] != HINGE or abs(np.linalg.det(axes) - 1.0) < 1e-9
        for side in range(2):
            r = int(joints.bodies[n, side])
            turn, centre = (np.eye(3), np.zeros(3)) if r < 0 else (parts[r].mass.axes, parts[r].mass.centre)
            joints.anchor[n, side] = turn.T @ (at - centre)
            joints.frame[n, side] = (turn.T @ axes).ravel()
    return joints
