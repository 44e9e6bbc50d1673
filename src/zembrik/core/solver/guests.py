"""Guests: places on soft and rigid bodies that meet cloth, soft surfaces and edges as if they were cloth's own points.

A soft body's surface goes with its lattice, a rigid body's corners and edges with the body.
Where `touching` keeps points, faces and edges apart, each guest is a point of its own. What a
guest was moved there is then given to its carrier as the impulse that would have moved it.

One carrier has many guests, and each is pushed by itself. So that all together do not push
the carrier too far, its mass is shared out among those that touch: each guest is as light
as its share (mass splitting: Tonge, Benevolenski and Voroshilov 2012). Impulses are kept whole: what
one side gains, the other loses.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel
from zembrik.core.solver.arrays import CARRIERS
from zembrik.core.solver.rigid import fill_turn

Floats = NDArray[np.float64]
Whole = NDArray[np.int32]


@dataclass(frozen=True)
class GuestPart:
    """The guests of one body before the world is built.

    Attributes:
        points: float64 (k, 3), in their places, metres.
        edges, faces: int32 (e, 2) and (t, 3), of these points.
        room: thickness in metres. grip, slip: static and sliding friction.
        rigid: the rigid body's number; -1 for a soft body.
        masters, shares: int32 and float64 (k, CARRIERS), a soft body's carriers.
        local: float64 (k, 3), in a rigid body's own frame, metres.
    """

    points: Floats
    edges: Whole
    faces: Whole
    room: float
    grip: float
    slip: float
    rigid: int = -1
    masters: Whole | None = None
    shares: Floats | None = None
    local: Floats | None = None


class Guests(NamedTuple):
    """g guests.

    Attributes:
        rigid: int64 (g,), the rigid body each is on, or -1.
        masters, shares: int32 and float64 (g, CARRIERS), the particles that carry it otherwise.
        local: float64 (g, 3), in its rigid body's own frame, metres.
    """

    rigid: NDArray[np.int64]
    masters: Whole
    shares: Floats
    local: Floats


def gather_guests(parts: list[GuestPart]) -> Guests:
    """Return the guests of all parts, one after the other."""
    counts = [len(p.points) for p in parts]
    rigid = np.repeat(np.array([p.rigid for p in parts], np.int64), counts)
    masters, shares, local = [np.zeros((0, CARRIERS), np.int32)], [np.zeros((0, CARRIERS))], [np.zeros((0, 3))]
    for part, count in zip(parts, counts, strict=True):
        masters.append(np.zeros((count, CARRIERS), np.int32) if part.masters is None else part.masters)
        shares.append(np.zeros((count, CARRIERS)) if part.shares is None else part.shares)
        local.append(np.zeros((count, 3)) if part.local is None else part.local)
    return Guests(rigid, np.concatenate(masters).astype(np.int32), np.concatenate(shares), np.concatenate(local))


@kernel
def place_guests(guests, rigid, places, x, out):  # type: ignore[no-untyped-def]
    """Fill out (g, 3) with where all guests are, bodies being at places (R, 7) and particles at x (n, 3)."""
    turn, last = np.empty(9), -1
    for k in range(len(out)):
        r = guests.rigid[k]
        if r < 0:
            for axis in range(3):
                out[k, axis] = 0.0
                for j in range(CARRIERS):
                    out[k, axis] += guests.shares[k, j] * x[guests.masters[k, j], axis]
            continue
        if r != last:
            fill_turn(places[r, 3:], turn)
            last = r
        for axis in range(3):
            out[k, axis] = places[r, axis]
            for j in range(3):
                out[k, axis] += turn[3 * axis + j] * guests.local[k, j]


@kernel
def shift_guests(guests, rigid, out):  # type: ignore[no-untyped-def]
    """Move rigid bodies' guests at out (g, 3) by what constraints did to the bodies in this substep."""
    for k in range(len(out)):
        r = guests.rigid[k]
        if r >= 0:
            s, place = rigid.shift[r], rigid.place[r]
            ax, ay, az = out[k, 0] - place[0], out[k, 1] - place[1], out[k, 2] - place[2]
            out[k, 0] += s[0] + s[4] * az - s[5] * ay
            out[k, 1] += s[1] + s[5] * ax - s[3] * az
            out[k, 2] += s[2] + s[3] * ay - s[4] * ax


@kernel
def weigh_guests(guests, rigid, w, touched, crowd, crowd_rigid, out):  # type: ignore[no-untyped-def]
    """Fill out (g,) with what each guest that touches weighs: inverse masses, 1/kg.

    Args:
        w: float64 (n,), the particles' inverse masses.
        touched: bool (g,), which guests touch.
        crowd, crowd_rigid: float64 (n,) and (R,), room to work in.
    """
    crowd[:], crowd_rigid[:] = 0.0, 0.0
    for k in range(len(out)):
        if touched[k]:
            if guests.rigid[k] >= 0:
                crowd_rigid[guests.rigid[k]] += 1.0
            else:
                for j in range(CARRIERS):
                    crowd[guests.masters[k, j]] += guests.shares[k, j]
    for k in range(len(out)):
        out[k] = 0.0
        r = guests.rigid[k]
        if not touched[k]:
            continue
        if r < 0:
            for j in range(CARRIERS):
                m, share = guests.masters[k, j], guests.shares[k, j]
                out[k] += share * share * w[m] * max(crowd[m], 1.0)
        elif rigid.asleep[r]:
            rigid.asleep[r], rigid.still[r] = False, 0.0  # from the next substep on
        elif rigid.w[r] > 0.0:
            arm, most = 0.0, 0.0
            for j in range(3):
                arm += guests.local[k, j] ** 2
                most = max(most, rigid.inverse[r, j])
            # Whatever the push's direction, the body resists at least as this says.
            out[k] = (rigid.w[r] + arm * most) * max(crowd_rigid[r], 1.0)


@kernel
def give_to_carriers(guests, rigid, w, x, now, was, weight):  # type: ignore[no-untyped-def]
    """Give carriers the impulses that moved their guests from was (g, 3) to now (g, 3), weights (g,) being given.

    x (n, 3), the particles' places, and the bodies' shifts change.
    """
    for k in range(len(now)):
        if weight[k] <= 0.0:
            continue
        px, py, pz = (
            (now[k, 0] - was[k, 0]) / weight[k],
            (now[k, 1] - was[k, 1]) / weight[k],
            (now[k, 2] - was[k, 2]) / weight[k],
        )
        if px == 0.0 and py == 0.0 and pz == 0.0:
            continue
        r = guests.rigid[k]
        if r < 0:
            for j in range(CARRIERS):
                m = guests.masters[k, j]
                size = w[m] * guests.shares[k, j]
                x[m, 0] += size * px
                x[m, 1] += size * py
                x[m, 2] += size * pz
            continue
        place, t, s, rw = rigid.place[r], rigid.turning[r], rigid.shift[r], rigid.w[r]
        ax, ay, az = was[k, 0] - place[0] - s[0], was[k, 1] - place[1] - s[1], was[k, 2] - place[2] - s[2]
        cx, cy, cz = ay * pz - az * py, az * px - ax * pz, ax * py - ay * px
        s[0] += rw * px
        s[1] += rw * py
        s[2] += rw * pz
        s[3] += t[0] * cx + t[1] * cy + t[2] * cz
        s[4] += t[3] * cx + t[4] * cy + t[5] * cz
        s[5] += t[6] * cx + t[7] * cy + t[8] * cz
        rigid.still[r] = 0.0  # what cloth or a soft body moves does not fall asleep
