"""Rigid bodies in free motion, and where they are.

A body's frame has its centre of mass as origin and its principal axes as axes. Its free
turning keeps the angular momentum exactly and takes the turn from the middle of the step
(explicit midpoint on the quaternion), so a body that nothing touches neither gains nor
loses spin. Constraints then move bodies by small shifts and turns; these, over the step,
are added to the velocities (Müller et al. 2020, "Detailed rigid body simulation with
extended position based dynamics").
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import bare_kernel, kernel, parallel_kernel
from zembrik.core.solver.arrays import Rigid

SOME = 64  # bodies that one thread takes at a time

Floats = NDArray[np.float64]


def make_rigid(place: Floats, mass: Floats, moments: Floats, weight: Floats) -> Rigid:
    """Return bodies at rest: places (R, 7), masses (R,) in kg (0: driven), principal moments (R, 3) in kg·m²."""
    count = len(mass)
    free = mass > 0
    w = np.where(free, 1.0 / np.where(free, mass, 1.0), 0.0)
    inverse = np.where(free[:, None], 1.0 / np.where(free[:, None], moments, 1.0), 0.0)
    return Rigid(
        place=np.ascontiguousarray(place, dtype=np.float64),
        speed=np.zeros((count, 6)),
        before=place.copy(),
        speed_before=np.zeros((count, 6)),
        shift=np.zeros((count, 6)),
        w=w,
        inverse=inverse.reshape(count, 3),
        turning=np.zeros((count, 9)),
        weight=weight.astype(np.float64),
        still=np.zeros(count),
        asleep=np.zeros(count, np.bool_),
    )


def quaternion_of(turn: Floats) -> Floats:
    """Return the unit quaternion x y z w (4,) with w ≥ 0 of a turn matrix (3, 3) (Shepperd 1978)."""
    m = np.asarray(turn, dtype=np.float64)
    squares = np.array([1 + m[0, 0] - m[1, 1] - m[2, 2], 1 - m[0, 0] + m[1, 1] - m[2, 2],
                        1 - m[0, 0] - m[1, 1] + m[2, 2], 1 + m[0, 0] + m[1, 1] + m[2, 2]])  # fmt: skip
    k = int(np.argmax(squares))
    s = 0.5 * np.sqrt(squares[k])
    over = 0.25 / s
    if k == 3:
        q = [(m[2, 1] - m[1, 2]) * over, (m[0, 2] - m[2, 0]) * over, (m[1, 0] - m[0, 1]) * over, s]
    elif k == 0:
        q = [s, (m[0, 1] + m[1, 0]) * over, (m[0, 2] + m[2, 0]) * over, (m[2, 1] - m[1, 2]) * over]
    elif k == 1:
        q = [(m[0, 1] + m[1, 0]) * over, s, (m[1, 2] + m[2, 1]) * over, (m[0, 2] - m[2, 0]) * over]
    else:
        q = [(m[0, 2] + m[2, 0]) * over, (m[1, 2] + m[2, 1]) * over, s, (m[1, 0] - m[0, 1]) * over]
    found = np.array(q) / np.linalg.norm(q)
    return found if found[3] >= 0 else -found


@bare_kernel
def fill_turn(q, turn):  # type: ignore[no-untyped-def]
    """Fill turn (9,), a matrix by rows, from a unit quaternion x y z w (at least 4,)."""
    x, y, z, w = q[0], q[1], q[2], q[3]
    turn[0], turn[1], turn[2] = 1 - 2 * (y * y + z * z), 2 * (x * y - w * z), 2 * (x * z + w * y)
    turn[3], turn[4], turn[5] = 2 * (x * y + w * z), 1 - 2 * (x * x + z * z), 2 * (y * z - w * x)
    turn[6], turn[7], turn[8] = 2 * (x * z - w * y), 2 * (y * z + w * x), 1 - 2 * (x * x + y * y)


@bare_kernel
def turned(q, ax, ay, az):  # type: ignore[no-untyped-def]
    """Return quaternion q turned on by a rotation vector in radians about world axes (exact for any angle)."""
    angle = np.sqrt(ax * ax + ay * ay + az * az)
    half = 0.5 * angle
    scale = np.sin(half) / angle if angle > 1e-8 else 0.5
    dx, dy, dz, dw = ax * scale, ay * scale, az * scale, np.cos(half)
    x = dw * q[0] + dx * q[3] + dy * q[2] - dz * q[1]
    y = dw * q[1] - dx * q[2] + dy * q[3] + dz * q[0]
    z = dw * q[2] + dx * q[1] - dy * q[0] + dz * q[3]
    w = dw * q[3] - dx * q[0] - dy * q[1] - dz * q[2]
    size = np.sqrt(x * x + y * y + z * z + w * w)
    return x / size, y / size, z / size, w / size


@bare_kernel
def _world_inverse(turn, inverse, out):  # type: ignore[no-untyped-def]
    """Fill out (9,) with R diag(inverse) Rᵀ."""
    for i in range(3):
        for j in range(3):
            out[3 * i + j] = (
                turn[3 * i] * inverse[0] * turn[3 * j]
                + turn[3 * i + 1] * inverse[1] * turn[3 * j + 1]
                + turn[3 * i + 2] * inverse[2] * turn[3 * j + 2]
            )


@bare_kernel
def _predict_some(begin, end, rigid, gravity, slowing, dt, turn, world, middle):  # type: ignore[no-untyped-def]
    for r in range(begin, end):
        for k in range(7):
            rigid.before[r, k] = rigid.place[r, k]
        for k in range(6):
            rigid.speed_before[r, k] = rigid.speed[r, k]
            rigid.shift[r, k] = 0.0
        if rigid.w[r] == 0.0:
            for k in range(9):
                rigid.turning[r, k] = 0.0
            continue
        if rigid.asleep[r]:
            fill_turn(rigid.place[r, 3:], turn)
            _world_inverse(turn, rigid.inverse[r], rigid.turning[r])
            continue
        keep = 1.0 - slowing
        for k in range(3):
            rigid.speed[r, k] = keep * (rigid.speed[r, k] + dt * rigid.weight[r] * gravity[k])
            rigid.place[r, k] += dt * rigid.speed[r, k]
        inverse = rigid.inverse[r]
        fill_turn(rigid.place[r, 3:], turn)
        # Angular momentum, in world axes: it stays.
        lx, ly, lz = 0.0, 0.0, 0.0
        ox, oy, oz = keep * rigid.speed[r, 3], keep * rigid.speed[r, 4], keep * rigid.speed[r, 5]
        for a in range(3):
            along = (turn[a] * ox + turn[3 + a] * oy + turn[6 + a] * oz) / inverse[a]
            lx += turn[a] * along
            ly += turn[3 + a] * along
            lz += turn[6 + a] * along
        # Half a step with the velocity now, then the whole step with the velocity there.
        q0, q1, q2, q3 = turned(rigid.place[r, 3:], 0.5 * dt * ox, 0.5 * dt * oy, 0.5 * dt * oz)
        middle[0], middle[1], middle[2], middle[3] = q0, q1, q2, q3
        fill_turn(middle, turn)
        _world_inverse(turn, inverse, world)
        mx = world[0] * lx + world[1] * ly + world[2] * lz
        my = world[3] * lx + world[4] * ly + world[5] * lz
        mz = world[6] * lx + world[7] * ly + world[8] * lz
        q0, q1, q2, q3 = turned(rigid.place[r, 3:], dt * mx, dt * my, dt * mz)
        rigid.place[r, 3], rigid.place[r, 4], rigid.place[r, 5], rigid.place[r, 6] = q0, q1, q2, q3
        fill_turn(rigid.place[r, 3:], turn)
        out = rigid.turning[r]
        _world_inverse(turn, inverse, out)
        rigid.speed[r, 3] = out[0] * lx + out[1] * ly + out[2] * lz
        rigid.speed[r, 4] = out[3] * lx + out[4] * ly + out[5] * lz
        rigid.speed[r, 5] = out[6] * lx + out[7] * ly + out[8] * lz


@parallel_kernel
def predict(rigid, gravity, slowing, dt):  # type: ignore[no-untyped-def]
    """Move every free, awake body by its velocities and gravity for dt seconds.

    Args:
        rigid: the bodies.
        gravity: float64 (3,), m/s².
        slowing: share of all velocities lost in this step to the air, 0..1.
        dt: s.
    """
    for lot in numba.prange((len(rigid.w) + SOME - 1) // SOME):
        begin = np.int64(lot) * SOME
        turn, world, middle = np.empty(9), np.empty(9), np.empty(4)
        _predict_some(begin, min(begin + SOME, len(rigid.w)), rigid, gravity, slowing, dt, turn, world, middle)


@kernel
def settle_places(rigid, dt):  # type: ignore[no-untyped-def]
    """Take the constraints' shifts and turns into places and velocities.

    What the constraints give is angular momentum; it stays what it is while the body is turned on by them.
    """
    turn, spin, total = np.empty(9), np.empty(3), np.empty(3)
    for r in range(len(rigid.w)):
        if rigid.w[r] == 0.0 or rigid.asleep[r]:
            continue
        for k in range(3):
            rigid.place[r, k] += rigid.shift[r, k]
        for k in range(6):
            rigid.speed[r, k] += rigid.shift[r, k] / dt
        fill_turn(rigid.place[r, 3:], turn)
        for a in range(3):
            spin[a] = turn[a] * rigid.speed[r, 3] + turn[3 + a] * rigid.speed[r, 4] + turn[6 + a] * rigid.speed[r, 5]
            spin[a] /= rigid.inverse[r, a]
        for k in range(3):
            total[k] = turn[3 * k] * spin[0] + turn[3 * k + 1] * spin[1] + turn[3 * k + 2] * spin[2]
        q0, q1, q2, q3 = turned(rigid.place[r, 3:], rigid.shift[r, 3], rigid.shift[r, 4], rigid.shift[r, 5])
        rigid.place[r, 3], rigid.place[r, 4], rigid.place[r, 5], rigid.place[r, 6] = q0, q1, q2, q3
        fill_turn(rigid.place[r, 3:], turn)
        for a in range(3):
            spin[a] = rigid.inverse[r, a] * (turn[a] * total[0] + turn[3 + a] * total[1] + turn[6 + a] * total[2])
        for k in range(3):
            rigid.speed[r, 3 + k] = turn[3 * k] * spin[0] + turn[3 * k + 1] * spin[1] + turn[3 * k + 2] * spin[2]


@kernel
def kinetic_energy(rigid):  # type: ignore[no-untyped-def]
    """Return the energy of all bodies' motion, J."""
    turn, total = np.empty(9), 0.0
    for r in range(len(rigid.w)):
        if rigid.w[r] == 0.0:
            continue
        fill_turn(rigid.place[r, 3:], turn)
        v = rigid.speed[r]
        total += 0.5 * (v[0] * v[0] + v[1] * v[1] + v[2] * v[2]) / rigid.w[r]
        for a in range(3):
            along = turn[a] * v[3] + turn[3 + a] * v[4] + turn[6 + a] * v[5]
            total += 0.5 * along * along / rigid.inverse[r, a]
    return total
