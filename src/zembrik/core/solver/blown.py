"""What the air does to soft and rigid bodies: wind, turbulence and the drag of still air on their surfaces.

It is the push of `air`, triangle by triangle, but only on triangles that meet the air: a closed body shields its lee.
So a ball of radius r has the drag ½ ρ v² π r² times a half (∫ cos³θ dA over the half that meets the air is π r² / 2),
and a box that meets it flat ½ ρ v² A.

A triangle of a soft body hands its push to the particles that carry its corners, one of a rigid body to the body, as a
push and a turn. As its mass counts the body's, by its share of the surface.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.motion.track import most_of
from zembrik.core.solver.air import pushes
from zembrik.core.solver.arrays import CARRIERS, Rigid
from zembrik.core.solver.rigid import fill_turn
from zembrik.core.solver.soft_parts import SoftPart
from zembrik.core.solver.solids import RigidPart

if TYPE_CHECKING:
    from zembrik.core.solver.world import Air

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]
WAKES_M_PER_S2 = 1.0  # what a sleeping body is sped up by at least, for the air to wake it


@dataclass
class SoftSkin:
    """The surfaces of soft bodies that feel the air; B triangles.

    Attributes:
        masters, shares: int32 and float64 (B, 3, CARRIERS), what carries each corner.
        rows: float64 (B, 4), see `air.push_by_air`; mass in kg.
        of: the bodies' numbers among the soft ones, int64 (B,).
    """

    masters: Whole
    shares: Floats
    rows: Floats
    of: NDArray[np.int64]


@dataclass
class RigidSkin:
    """The surfaces of rigid bodies that feel the air; B triangles, body by body.

    Attributes:
        bodies: int64 (b,), which. span: int64 (b + 1,), where each one's triangles begin.
        corners: float64 (B, 3, 3), in the body's own frame, metres.
        rows: float64 (B, 4), as above.
        swirl: float64 (R, 3), filled: turbulent air at every body's centre, m/s.
    """

    bodies: NDArray[np.int64]
    span: NDArray[np.int64]
    corners: Floats
    rows: Floats
    swirl: Floats


def _feels(stuff: dict[str, Any]) -> bool:
    return bool(most_of(stuff["drag"]) > 0.0 or most_of(stuff["lift"]) > 0.0)


def _rows(points: Floats, faces: Whole, mass_kg: float, stuff: dict[str, Any]) -> Floats:
    a, b, c = (points[faces[:, k]] for k in range(3))
    area = np.linalg.norm(np.cross(b - a, c - a), axis=1)
    rows = np.zeros((len(faces), 4))
    rows[:, 0], rows[:, 2] = most_of(stuff["drag"]), most_of(stuff["lift"])
    rows[:, 1] = np.maximum(mass_kg * area / max(float(area.sum()), 1e-300), 1e-300)
    return rows


def soft_skin(softs: list[SoftPart], starts: NDArray[np.int64], stuffs: list[dict[str, Any]]) -> SoftSkin:
    """Return the skin of those soft bodies that feel the air; `stuffs` are their resolved materials."""
    masters, shares, rows, of = (
        [np.zeros((0, 3, CARRIERS), np.int32)],
        [np.zeros((0, 3, CARRIERS))],
        [np.zeros((0, 4))],
        [],
    )
    for n, (part, start, stuff) in enumerate(zip(softs, starts, stuffs, strict=False)):
        if _feels(stuff):
            faces = part.contact.faces
            masters.append((part.lattice.masters[faces] + start).astype(np.int32))
            shares.append(part.lattice.shares[faces])
            rows.append(_rows(part.contact.points, faces, float(part.mass.sum()), stuff))
            of += [n] * len(faces)
    return SoftSkin(np.concatenate(masters), np.concatenate(shares), np.concatenate(rows), np.array(of, np.int64))


def rigid_skin(parts: list[RigidPart], stuffs: list[dict[str, Any]]) -> RigidSkin:
    """Return the skin of those rigid bodies that feel the air; `stuffs` are their resolved materials."""
    bodies, counts, corners, rows = [], [], [np.zeros((0, 3, 3))], [np.zeros((0, 4))]
    for r, (part, stuff) in enumerate(zip(parts, stuffs, strict=True)):
        if _feels(stuff):
            bodies.append(r)
            counts.append(len(part.faces))
            corners.append(((part.points - part.mass.centre) @ part.mass.axes)[part.faces])
            rows.append(_rows(part.points, part.faces, part.mass.mass, stuff))
    span = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
    return RigidSkin(
        np.array(bodies, np.int64), span, np.concatenate(corners), np.concatenate(rows), np.zeros((len(parts), 3))
    )


@kernel
def _blow_soft(masters, shares, rows, w, x, v, wind, swirl, density, dt):  # type: ignore[no-untyped-def]
    """Change the velocities v (n, 3) of what carries the triangles' corners by what the air does in one substep."""
    at, speed, blows = np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3))
    for t in range(len(rows)):
        for c in range(3):
            for k in range(3):
                at[c, k] = speed[c, k] = blows[c, k] = 0.0
                for j in range(CARRIERS):
                    m, share = masters[t, c, j], shares[t, c, j]
                    at[c, k] += share * x[m, k]
                    speed[c, k] += share * v[m, k]
                    blows[c, k] += share * swirl[m, k]
        px, py, pz, meets = _push_on(rows[t], at, speed, blows, wind, density, dt)
        if not meets:
            continue
        for c in range(3):
            for j in range(CARRIERS):
                m = masters[t, c, j]
                size = w[m] * shares[t, c, j]
                v[m, 0] += size * px
                v[m, 1] += size * py
                v[m, 2] += size * pz


@numba.njit(inline="always")
def _push_on(row, at, speed, blows, wind, density, dt):  # type: ignore[no-untyped-def]
    """Return a triangle's push on each of its corners (kg·m/s), and whether it meets the air at all."""
    ax, ay, az = at[1, 0] - at[0, 0], at[1, 1] - at[0, 1], at[1, 2] - at[0, 2]
    bx, by, bz = at[2, 0] - at[0, 0], at[2, 1] - at[0, 1], at[2, 2] - at[0, 2]
    nx, ny, nz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    toward = 0.0
    for c in range(3):
        toward += nx * (speed[c, 0] - blows[c, 0] - wind[0])
        toward += ny * (speed[c, 1] - blows[c, 1] - wind[1])
        toward += nz * (speed[c, 2] - blows[c, 2] - wind[2])
    px, py, pz = pushes(
        (row[0], row[1], row[2], row[3]), (at[0, 0], at[0, 1], at[0, 2]), (at[1, 0], at[1, 1], at[1, 2]),
        (at[2, 0], at[2, 1], at[2, 2]), (speed[0, 0], speed[0, 1], speed[0, 2]),
        (speed[1, 0], speed[1, 1], speed[1, 2]), (speed[2, 0], speed[2, 1], speed[2, 2]),
        (blows[0, 0], blows[0, 1], blows[0, 2]), (blows[1, 0], blows[1, 1], blows[1, 2]),
        (blows[2, 0], blows[2, 1], blows[2, 2]), wind, density, dt,
    )  # fmt: skip
    return px, py, pz, toward > 0.0


@parallel_kernel
def _blow_rigid(bodies, span, corners, rows, rigid, wind, swirl, density, dt):  # type: ignore[no-untyped-def]
    """Change the rigid bodies' velocities by what the air does to their triangles in one substep."""
    for n in numba.prange(len(bodies)):
        _blow_one(bodies[n], span[n], span[n + 1], corners, rows, rigid, wind, swirl, density, dt)


@kernel
def _blow_one(r, first, last, corners, rows, rigid, wind, swirl, density, dt):  # type: ignore[no-untyped-def]
    if rigid.w[r] == 0.0:
        return
    turn, at, speed, blows = np.empty(9), np.empty((3, 3)), np.empty((3, 3)), np.empty((3, 3))
    fill_turn(rigid.place[r, 3:], turn)
    v, total, twist = rigid.speed[r], np.zeros(3), np.zeros(3)
    for t in range(first, last):
        for c in range(3):
            for k in range(3):
                at[c, k] = 0.0
                for j in range(3):
                    at[c, k] += turn[3 * k + j] * corners[t, c, j]
                blows[c, k] = swirl[r, k]
            speed[c, 0] = v[0] + v[4] * at[c, 2] - v[5] * at[c, 1]
            speed[c, 1] = v[1] + v[5] * at[c, 0] - v[3] * at[c, 2]
            speed[c, 2] = v[2] + v[3] * at[c, 1] - v[4] * at[c, 0]
        px, py, pz, meets = _push_on(rows[t], at, speed, blows, wind, density, dt)
        if not meets:
            continue
        # The same push on all three corners: three times at their middle, whose arm is a third of their sum.
        total[0], total[1], total[2] = total[0] + 3.0 * px, total[1] + 3.0 * py, total[2] + 3.0 * pz
        for c in range(3):
            twist[0] += at[c, 1] * pz - at[c, 2] * py
            twist[1] += at[c, 2] * px - at[c, 0] * pz
            twist[2] += at[c, 0] * py - at[c, 1] * px
    w = rigid.w[r]
    if rigid.asleep[r]:
        if w * np.sqrt(total[0] ** 2 + total[1] ** 2 + total[2] ** 2) < WAKES_M_PER_S2 * dt:
            return
        rigid.asleep[r], rigid.still[r] = False, 0.0
    for k in range(3):
        v[k] += w * total[k]
    for a in range(3):  # about the body's own axes
        spin = rigid.inverse[r, a] * (turn[a] * twist[0] + turn[3 + a] * twist[1] + turn[6 + a] * twist[2])
        for k in range(3):
            v[3 + k] += spin * turn[3 * k + a]


def _no_soft() -> SoftSkin:
    return soft_skin([], np.zeros(0, np.int64), [])


def _no_rigid() -> RigidSkin:
    return rigid_skin([], [])


@dataclass
class Blown:
    """All surfaces but cloth that feel the air."""

    soft: SoftSkin = field(default_factory=_no_soft)
    rigid: RigidSkin = field(default_factory=_no_rigid)

    @property
    def any(self) -> bool:
        """Whether there are any."""
        return bool(len(self.soft.rows) or len(self.rigid.rows))

    def begin_frame(self, frame: float, fps: float, air: Air, rigid: Rigid) -> None:
        """Read the turbulence at the rigid bodies' centres."""
        if len(self.rigid.rows):
            air.swirl_at(frame, fps, rigid.place[:, :3].copy(), self.rigid.swirl)

    def blow(self, x: Floats, v: Floats, w: Floats, rigid: Rigid, wind: Floats, swirl: Floats, density: float,
             dt: float) -> None:  # fmt: skip
        """Let the air push everything once; all particles and the bodies get other velocities.

        Args:
            x, v, w: the particles', float64 (n, 3), (n, 3) and (n,), metres, m/s, 1/kg. rigid: the bodies.
            wind: float64 (3,), m/s. swirl: float64 (n, 3), turbulent air at the particles, m/s.
            density: of the air, kg/m³. dt: the substep, s.
        """
        soft, stiff = self.soft, self.rigid
        if len(soft.rows):
            _blow_soft(soft.masters, soft.shares, soft.rows, w, x, v, wind, swirl, density, dt)
        if len(stiff.rows):
            _blow_rigid(stiff.bodies, stiff.span, stiff.corners, stiff.rows, rigid, wind, stiff.swirl, density, dt)
