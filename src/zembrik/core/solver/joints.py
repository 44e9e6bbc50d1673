"""Joints between rigid bodies: socket, hinge and fixed.

The two places of the anchor are brought together, and so are the hinge's axes, or both
turns when fixed (Müller et al. 2020, section 3.4, without compliance). Angles first, then places.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel
from zembrik.core.solver.rigid import fill_turn

SOCKET, HINGE, FIXED = range(3)
KINDS = {"socket": SOCKET, "hinge": HINGE, "fixed": FIXED}

Floats = NDArray[np.float64]


@kernel
def _turned_weight(turning, rx, ry, rz, nx, ny, nz):  # type: ignore[no-untyped-def]
    """Return (r×n) · I⁻¹ (r×n)."""
    cx, cy, cz = ry * nz - rz * ny, rz * nx - rx * nz, rx * ny - ry * nx
    return (
        cx * (turning[0] * cx + turning[1] * cy + turning[2] * cz)
        + cy * (turning[3] * cx + turning[4] * cy + turning[5] * cz)
        + cz * (turning[6] * cx + turning[7] * cy + turning[8] * cz)
    )


@kernel
def _weight_at(rigid, r, arm, nx, ny, nz):  # type: ignore[no-untyped-def]
    """Return a body's inverse mass (1/kg) felt along n at an arm (3,) from its centre; 0 when it is held or asleep."""
    if r < 0 or rigid.w[r] == 0.0 or rigid.asleep[r]:
        return 0.0
    return rigid.w[r] + _turned_weight(rigid.turning[r], arm[0], arm[1], arm[2], nx, ny, nz)


@kernel
def _push_body(rigid, into, r, arm, px, py, pz):  # type: ignore[no-untyped-def]
    """Add an impulse-like push p at an arm (3,) to into (R, 6): inverse mass and inertia times it."""
    if r < 0 or rigid.w[r] == 0.0 or rigid.asleep[r]:
        return
    w, t, out = rigid.w[r], rigid.turning[r], into[r]
    cx, cy, cz = arm[1] * pz - arm[2] * py, arm[2] * px - arm[0] * pz, arm[0] * py - arm[1] * px
    out[0] += w * px
    out[1] += w * py
    out[2] += w * pz
    out[3] += t[0] * cx + t[1] * cy + t[2] * cz
    out[4] += t[3] * cx + t[4] * cy + t[5] * cz
    out[5] += t[6] * cx + t[7] * cy + t[8] * cz


@kernel
def _moved_at(into, r, arm):  # type: ignore[no-untyped-def]
    """Return what a place at an arm (3,) moved: of into (R, 6), first the shift, then the turn."""
    if r < 0:
        return 0.0, 0.0, 0.0
    s = into[r]
    return (
        s[0] + s[4] * arm[2] - s[5] * arm[1],
        s[1] + s[5] * arm[0] - s[3] * arm[2],
        s[2] + s[3] * arm[1] - s[4] * arm[0],
    )


@kernel
def place_joints(joints, rigid):  # type: ignore[no-untyped-def]
    """Put anchors and axes where the bodies are predicted to be."""
    turn = np.empty(9)
    for j in range(len(joints.kind)):
        for k in range(3):
            joints.off[j, k] = 0.0
        for side in range(2):
            r = joints.bodies[j, side]
            sign = 1.0 if side == 0 else -1.0
            if r < 0:
                for k in range(9):
                    joints.axes[j, side, k] = joints.frame[j, side, k]
                for k in range(3):
                    joints.off[j, k] += sign * joints.anchor[j, side, k]
                continue
            fill_turn(rigid.place[r, 3:], turn)
            for i in range(3):
                total = 0.0
                for k in range(3):
                    total += turn[3 * i + k] * joints.anchor[j, side, k]
                    joints.axes[j, side, 3 * i + k] = (
                        turn[3 * i] * joints.frame[j, side, k]
                        + turn[3 * i + 1] * joints.frame[j, side, 3 + k]
                        + turn[3 * i + 2] * joints.frame[j, side, 6 + k]
                    )
                joints.arm[j, side, i] = total
                joints.off[j, i] += sign * (rigid.place[r, i] + total)


@kernel
def _turn_pair(rigid, a, b, tx, ty, tz):  # type: ignore[no-untyped-def]
    """Turn body a by t (radians) relative to body b, each by its share."""
    angle = np.sqrt(tx * tx + ty * ty + tz * tz)
    if angle < 1e-12:
        return
    nx, ny, nz = tx / angle, ty / angle, tz / angle
    both = 0.0
    for r in (a, b):
        if r >= 0 and rigid.w[r] > 0.0 and not rigid.asleep[r]:
            t = rigid.turning[r]
            both += nx * (t[0] * nx + t[1] * ny + t[2] * nz)
            both += ny * (t[3] * nx + t[4] * ny + t[5] * nz)
            both += nz * (t[6] * nx + t[7] * ny + t[8] * nz)
    if both <= 0.0:
        return
    for side in range(2):
        r = a if side == 0 else b
        if r >= 0 and rigid.w[r] > 0.0 and not rigid.asleep[r]:
            t, size = rigid.turning[r], angle / both if side == 0 else -angle / both
            rigid.shift[r, 3] += size * (t[0] * nx + t[1] * ny + t[2] * nz)
            rigid.shift[r, 4] += size * (t[3] * nx + t[4] * ny + t[5] * nz)
            rigid.shift[r, 5] += size * (t[6] * nx + t[7] * ny + t[8] * nz)


@kernel
def _axis_now(rigid, r, axes, column):  # type: ignore[no-untyped-def]
    """Return a frame's column as constraints have turned it since, to first order."""
    x, y, z = axes[column], axes[3 + column], axes[6 + column]
    if r < 0:
        return x, y, z
    s = rigid.shift[r]
    return x + s[4] * z - s[5] * y, y + s[5] * x - s[3] * z, z + s[3] * y - s[4] * x


@kernel
def solve_joints(joints, rigid):  # type: ignore[no-untyped-def]
    """Bring every joint together once, in order."""
    for j in range(len(joints.kind)):
        a, b = joints.bodies[j, 0], joints.bodies[j, 1]
        if joints.kind[j] != SOCKET:
            # What turns a's axes onto b's: half the sum of cross products for all three, or the hinge's alone.
            tx, ty, tz = 0.0, 0.0, 0.0
            columns = 3 if joints.kind[j] == FIXED else 1
            for k in range(columns):
                ux, uy, uz = _axis_now(rigid, a, joints.axes[j, 0], k)
                vx, vy, vz = _axis_now(rigid, b, joints.axes[j, 1], k)
                tx += uy * vz - uz * vy
                ty += uz * vx - ux * vz
                tz += ux * vy - uy * vx
            share = 0.5 if joints.kind[j] == FIXED else 1.0
            _turn_pair(rigid, a, b, share * tx, share * ty, share * tz)
        ax, ay, az = _moved_at(rigid.shift, a, joints.arm[j, 0])
        bx, by, bz = _moved_at(rigid.shift, b, joints.arm[j, 1])
        x, y, z = joints.off[j, 0] + ax - bx, joints.off[j, 1] + ay - by, joints.off[j, 2] + az - bz
        off = np.sqrt(x * x + y * y + z * z)
        if off < 1e-12:
            continue
        x, y, z = x / off, y / off, z / off
        weight = _weight_at(rigid, a, joints.arm[j, 0], x, y, z) + _weight_at(rigid, b, joints.arm[j, 1], x, y, z)
        if weight > 0.0:
            size = off / weight
            _push_body(rigid, rigid.shift, a, joints.arm[j, 0], -size * x, -size * y, -size * z)
            _push_body(rigid, rigid.shift, b, joints.arm[j, 1], size * x, size * y, size * z)
