"""How many points a shot may have: what is beyond is refused before anything is computed of it."""

from __future__ import annotations

from collections.abc import Callable

from zembrik.core.problem import Problem
from zembrik.core.setup.document import Body, GridMesh, Setup
from zembrik.core.setup.meshes import BallMesh, BoxMesh, CacheMesh, CapsuleMesh, CylinderMesh, FileMesh, RingMesh

MOST_SIMULATED, MOST_POINTS = 250_000, 4_000_000  # of cloth, and of all bodies


def points_of_shape(body: Body) -> int:
    """Return about how many points a body's shape has; 0 for what comes from a file or a cache."""
    mesh = body.mesh
    match mesh:
        case GridMesh():
            return (mesh.segments[0] + 1) * (mesh.segments[1] + 1)
        case BoxMesh():
            return 6 * mesh.segments**2 + 2
        case BallMesh():
            return 2 * mesh.rings * mesh.rings
        case CylinderMesh() | CapsuleMesh():
            return mesh.sides * (mesh.sides // 2 + 2)
        case RingMesh():
            return mesh.sides * mesh.sides
        case FileMesh() | CacheMesh():
            return 0


def refuse_too_many_points(setup: Setup, points_of: Callable[[Body], int] = points_of_shape) -> None:
    """Raise a Problem for a setup of more points than can be worked with; it names the body that has most of them."""
    counts = [points_of(body) for body in setup.bodies]
    cloth = [n if body.role == "cloth" else 0 for n, body in zip(counts, setup.bodies, strict=True)]
    for what, each, most in (("points of cloth", cloth, MOST_SIMULATED), ("points", counts, MOST_POINTS)):
        if sum(each) > most:
            worst = max(range(len(each)), key=each.__getitem__)
            raise Problem(
                f"the shot would have {sum(each):,} {what}; at most {most:,} can be worked with.",
                f"bodies[{worst}].mesh",
                f"Give '{setup.bodies[worst].name}' fewer segments, or a wider spacing: it has {each[worst]:,}.",
            )
