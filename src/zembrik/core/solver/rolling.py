"""Rolling resistance: what rolls on something dents it and itself a little, and so is held back.

The ground's push N acts a lever b ahead of the middle of the contact, which is a torque of b N against the turning
(Coulomb 1785). A ball of radius r on level ground slows down by 5/7 g b / r.
"""

from __future__ import annotations

import numpy as np

from zembrik.core.compiled import kernel
from zembrik.core.solver.arrays import LOAD


@kernel
def resist_rolling(contacts, rigid, lever, dt):  # type: ignore[no-untyped-def]
    """Slow the turning of bodies against what they touch.

    Args:
        contacts: of this substep, with their loads. rigid: the bodies; their speeds change.
        lever: float64 (R,), how far ahead of the middle what each rolls on pushes, metres.
        dt: the substep, s.
    """
    for c in range(len(contacts.a)):
        a, b, load = contacts.a[c], contacts.b[c], contacts.row[c, LOAD]
        if a < 0 or load <= 0.0:
            continue
        both = lever[a] + (lever[b] if b >= 0 else 0.0)
        if both <= 0.0:
            continue
        x, y, z = rigid.speed[a, 3], rigid.speed[a, 4], rigid.speed[a, 5]
        if b >= 0:
            x, y, z = x - rigid.speed[b, 3], y - rigid.speed[b, 4], z - rigid.speed[b, 5]
        spin = np.sqrt(x * x + y * y + z * z)
        if spin < 1e-12:
            continue
        x, y, z = x / spin, y / spin, z / spin
        gives = _gives(rigid, a, x, y, z) + _gives(rigid, b, x, y, z)
        if gives <= 0.0:
            continue
        push = min(spin / gives, both * load / dt)
        _twist(rigid, a, -push * x, -push * y, -push * z)
        _twist(rigid, b, push * x, push * y, push * z)


@kernel
def _gives(rigid, r, x, y, z):  # type: ignore[no-untyped-def]
    """Return what a twist of 1 kg·m²/s about an axis turns a body, rad/s."""
    if r < 0 or rigid.w[r] == 0.0 or rigid.asleep[r]:
        return 0.0
    t = rigid.turning[r]
    return (
        x * (t[0] * x + t[1] * y + t[2] * z) + y * (t[3] * x + t[4] * y + t[5] * z)
        + z * (t[6] * x + t[7] * y + t[8] * z)
    )  # fmt: skip


@kernel
def _twist(rigid, r, x, y, z):  # type: ignore[no-untyped-def]
    if r < 0 or rigid.w[r] == 0.0 or rigid.asleep[r]:
        return
    t = rigid.turning[r]
    for k in range(3):
        rigid.speed[r, 3 + k] += t[3 * k] * x + t[3 * k + 1] * y + t[3 * k + 2] * z
