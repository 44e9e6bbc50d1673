"""Skin points against solids: both sides move by their masses; friction, bounce, waking.

Within a substep bodies move little, so a contact keeps its direction, and what constraints
did to both sides since the places were predicted is followed to first order. The push is
the XPBD one without compliance; both bodies' resistance at the place is 1/m + (r×n)·I⁻¹(r×n)
(Müller et al. 2020, section 3.3). What the sides slid along each other is taken back whole as
long as static friction holds, else as much as sliding friction does. Afterwards a velocity
pass gives back bounce, and takes out the speed that only the way out of an overlap made.

Contacts of one chunk with one solid come one after the other. Before each is solved by
itself, all of them are pushed at their common middle, as far as the least deep of them needs:
a box that lands flat stays flat, whatever order its corners come in.
"""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.solver.arrays import Contacts
from zembrik.core.solver.skin import CHUNK

Floats = NDArray[np.float64]
Numbers = NDArray[np.int64]


def no_contacts() -> Contacts:
    """Return none."""
    n, f, t = np.zeros(0, np.int64), np.zeros(0), np.zeros((0, 3))
    return Contacts(n, n, n, n, f, f, t, t, t, t, t, f, f, f, t)


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
def weight_at(rigid, r, arm, nx, ny, nz):  # type: ignore[no-untyped-def]
    """Return a body's inverse mass (1/kg) felt along n at an arm (3,) from its centre; 0 when it is held or asleep."""
    if r < 0 or rigid.w[r] == 0.0 or rigid.asleep[r]:
        return 0.0
    return rigid.w[r] + _turned_weight(rigid.turning[r], arm[0], arm[1], arm[2], nx, ny, nz)


@kernel
def push_body(rigid, into, r, arm, px, py, pz):  # type: ignore[no-untyped-def]
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
def moved_at(into, r, arm):  # type: ignore[no-untyped-def]
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
def _skin_weight(skin, w, i):  # type: ignore[no-untyped-def]
    """Return the inverse mass (1/kg) of a skin point that goes with particles."""
    total = 0.0
    for j in range(4):
        total += skin.shares[i, j] * skin.shares[i, j] * w[skin.masters[i, j]]
    return total


@parallel_kernel
def gather(pairs, slots, skin, solids, rigid, w, dt):  # type: ignore[no-untyped-def]
    """Return the contacts of all pairs, in the order of the pairs."""
    start = np.zeros(len(pairs) + 1, np.int64)
    for p in range(len(pairs)):
        start[p + 1] = start[p] + slots.filled[p]
    n = start[len(pairs)]
    point, solid, of_a, of_b = (
        np.empty(n, np.int64),
        np.empty(n, np.int64),
        np.empty(n, np.int64),
        np.empty(n, np.int64),
    )
    gap, room, meets, weight, load = np.empty(n), np.empty(n), np.empty(n), np.empty(n), np.zeros(n)
    normal, arm_a, arm_b, slid = np.empty((n, 3)), np.zeros((n, 3)), np.zeros((n, 3)), np.empty((n, 3))
    drag = np.zeros((n, 3))
    for p in numba.prange(len(pairs)):
        s = pairs[p, 1]
        b, back = solids.owner[s], solids.drift[s]
        own = skin.solid[pairs[p, 0]]
        for q in range(slots.filled[p]):
            c, i = start[p] + q, slots.point[p * CHUNK + q]
            a = skin.owner[i]
            nx, ny, nz = slots.normal[p * CHUNK + q]
            off = slots.gap[p * CHUNK + q]
            radius = skin.radius[i]
            point[c], solid[c], of_a[c], of_b[c] = i, s, a, b
            normal[c, 0], normal[c, 1], normal[c, 2] = nx, ny, nz
            gap[c], room[c] = off - radius, skin.room[i] + solids.room[s]
            # The places of contact on both.
            ax, ay, az = skin.now[i, 0] - radius * nx, skin.now[i, 1] - radius * ny, skin.now[i, 2] - radius * nz
            bx, by, bz = skin.now[i, 0] - off * nx, skin.now[i, 1] - off * ny, skin.now[i, 2] - off * nz
            sx, sy, sz = ax - skin.begin[i, 0], ay - skin.begin[i, 1], az - skin.begin[i, 2]
            if a >= 0:
                d = solids.drift[own]
                sx = ax - (d[0] * ax + d[1] * ay + d[2] * az + d[9])
                sy = ay - (d[3] * ax + d[4] * ay + d[5] * az + d[10])
                sz = az - (d[6] * ax + d[7] * ay + d[8] * az + d[11])
                arm_a[c, 0] = ax - rigid.place[a, 0]
                arm_a[c, 1] = ay - rigid.place[a, 1]
                arm_a[c, 2] = az - rigid.place[a, 2]
            tx = bx - (back[0] * bx + back[1] * by + back[2] * bz + back[9])
            ty = by - (back[3] * bx + back[4] * by + back[5] * bz + back[10])
            tz = bz - (back[6] * bx + back[7] * by + back[8] * bz + back[11])
            slid[c, 0], slid[c, 1], slid[c, 2] = sx - tx, sy - ty, sz - tz
            vx, vy, vz = 0.0, 0.0, 0.0
            if a >= 0:
                vx, vy, vz = moved_at(rigid.speed_before, a, arm_a[c])
            if b >= 0:
                arm_b[c, 0] = bx - rigid.place[b, 0]
                arm_b[c, 1] = by - rigid.place[b, 1]
                arm_b[c, 2] = bz - rigid.place[b, 2]
            if b >= 0 and rigid.w[b] > 0.0:
                ux, uy, uz = moved_at(rigid.speed_before, b, arm_b[c])
            else:
                ux, uy, uz = tx / dt, ty / dt, tz / dt
                drag[c, 0], drag[c, 1], drag[c, 2] = ux, uy, uz
            meets[c] = nx * (vx - ux) + ny * (vy - uy) + nz * (vz - uz)
            side = weight_at(rigid, a, arm_a[c], nx, ny, nz) if a >= 0 else _skin_weight(skin, w, i)
            weight[c] = side + weight_at(rigid, b, arm_b[c], nx, ny, nz)
    return Contacts(
        point, solid, of_a, of_b, gap, room, normal, arm_a, arm_b, slid, drag, meets, weight, load, np.zeros((n, 3))
    )


@kernel
def _push_both(c, contacts, skin, rigid, w, x, px, py, pz):  # type: ignore[no-untyped-def]
    """Push side a by p and side b by -p (kg·m)."""
    a, i = contacts.a[c], contacts.point[c]
    if a >= 0:
        push_body(rigid, rigid.shift, a, contacts.arm_a[c], px, py, pz)
    else:
        for j in range(4):
            m = skin.masters[i, j]
            size = w[m] * skin.shares[i, j]
            x[m, 0] += size * px
            x[m, 1] += size * py
            x[m, 2] += size * pz
    push_body(rigid, rigid.shift, contacts.b[c], contacts.arm_b[c], -px, -py, -pz)


@kernel
def _parted(c, contacts, skin, rigid, x):  # type: ignore[no-untyped-def]
    """Return what constraints moved side a relative to side b since the places were predicted, metres."""
    a, i = contacts.a[c], contacts.point[c]
    if a >= 0:
        mx, my, mz = moved_at(rigid.shift, a, contacts.arm_a[c])
    else:
        mx, my, mz = -skin.now[i, 0], -skin.now[i, 1], -skin.now[i, 2]
        for j in range(4):
            m, share = skin.masters[i, j], skin.shares[i, j]
            mx += share * x[m, 0]
            my += share * x[m, 1]
            mz += share * x[m, 2]
    bx, by, bz = moved_at(rigid.shift, contacts.b[c], contacts.arm_b[c])
    return mx - bx, my - by, mz - bz


@kernel
def _depth(c, contacts, skin, rigid, x):  # type: ignore[no-untyped-def]
    """Return how deep contact c is in the room kept free, metres."""
    n = contacts.normal[c]
    mx, my, mz = _parted(c, contacts, skin, rigid, x)
    return contacts.room[c] - contacts.gap[c] - (n[0] * mx + n[1] * my + n[2] * mz)


@kernel
def _hold(c, contacts, skin, solids, change, sx, sy, sz):  # type: ignore[no-untyped-def]
    """Add friction of `change` against the slide s to contact c, within what its load allows; return what was added."""
    i, s, load, rub = contacts.point[c], contacts.solid[c], contacts.load[c], contacts.rub[c]
    px, py, pz = rub[0] - change * sx, rub[1] - change * sy, rub[2] - change * sz
    size = np.sqrt(px * px + py * py + pz * pz)
    if size > np.sqrt(skin.grip[i] * solids.grip[s]) * load:
        scale = min(np.sqrt(skin.slip[i] * solids.slip[s]) * load / size, 1.0)
        px, py, pz = px * scale, py * scale, pz * scale
    dx, dy, dz = px - rub[0], py - rub[1], pz - rub[2]
    rub[0], rub[1], rub[2] = px, py, pz
    return dx, dy, dz


@kernel
def runs_of(contacts):  # type: ignore[no-untyped-def]
    """Return int64 (runs + 1,), where each run of contacts of the same two sides begins."""
    starts, count, n = np.zeros(len(contacts.gap) + 1, np.int64), 0, len(contacts.gap)
    for c in range(1, n + 1):
        if c == n or contacts.a[c] != contacts.a[c - 1] or contacts.solid[c] != contacts.solid[c - 1]:
            count += 1
            starts[count] = c
    return starts[: count + 1]


@kernel
def _middle_of(first, last, contacts, held):  # type: ignore[no-untyped-def]
    """Return (how many, arms of both sides to the middle, common way out) of the contacts in first..last that hold.

    `held` (last - first,) says which; none are found when their ways out differ much.
    """
    count, arm_a, arm_b, normal = 0, np.zeros(3), np.zeros(3), np.zeros(3)
    for c in range(first, last):
        if held[c - first]:
            count += 1
            for k in range(3):
                arm_a[k] += contacts.arm_a[c, k]
                arm_b[k] += contacts.arm_b[c, k]
                normal[k] += contacts.normal[c, k]
    if count < 2:
        return 0, arm_a, arm_b, normal
    size = np.sqrt(normal[0] ** 2 + normal[1] ** 2 + normal[2] ** 2)
    for k in range(3):
        arm_a[k] /= count
        arm_b[k] /= count
        normal[k] /= size + 1e-300
    return (count if size > 0.99 * count else 0), arm_a, arm_b, normal


@kernel
def _press_together(first, last, contacts, skin, solids, rigid, x):  # type: ignore[no-untyped-def]
    """Push a run of contacts of rigid bodies at their middle, as far as the least deep one needs, with friction."""
    held, least = np.zeros(last - first, np.bool_), np.inf
    for c in range(first, last):
        depth = _depth(c, contacts, skin, rigid, x)
        if depth > 0.0:
            held[c - first] = True
            least = min(least, depth)
    count, arm_a, arm_b, n = _middle_of(first, last, contacts, held)
    if count == 0:
        return
    a, b = contacts.a[first], contacts.b[first]
    weight = weight_at(rigid, a, arm_a, n[0], n[1], n[2]) + weight_at(rigid, b, arm_b, n[0], n[1], n[2])
    if weight <= 0.0:
        return
    size = least / weight
    push_body(rigid, rigid.shift, a, arm_a, size * n[0], size * n[1], size * n[2])
    push_body(rigid, rigid.shift, b, arm_b, -size * n[0], -size * n[1], -size * n[2])
    sx, sy, sz = 0.0, 0.0, 0.0
    for c in range(first, last):
        if held[c - first]:
            contacts.load[c] += size / count
            mx, my, mz = _parted(c, contacts, skin, rigid, x)
            sx += (contacts.slid[c, 0] + mx) / count
            sy += (contacts.slid[c, 1] + my) / count
            sz += (contacts.slid[c, 2] + mz) / count
    sn = sx * n[0] + sy * n[1] + sz * n[2]
    sx, sy, sz = sx - sn * n[0], sy - sn * n[1], sz - sn * n[2]
    slid = np.sqrt(sx * sx + sy * sy + sz * sz)
    if slid < 1e-12:
        return
    sx, sy, sz = sx / slid, sy / slid, sz / slid
    weight = weight_at(rigid, a, arm_a, sx, sy, sz) + weight_at(rigid, b, arm_b, sx, sy, sz)
    for c in range(first, last):
        if held[c - first]:
            px, py, pz = _hold(c, contacts, skin, solids, slid / (weight * count), sx, sy, sz)
            push_body(rigid, rigid.shift, a, arm_a, px, py, pz)
            push_body(rigid, rigid.shift, b, arm_b, -px, -py, -pz)


@kernel
def _press_one(c, contacts, skin, solids, rigid, w, x):  # type: ignore[no-untyped-def]
    """Push contact c apart, or let go of what was pushed too much, with friction."""
    if contacts.weight[c] <= 0.0:
        return
    nx, ny, nz = contacts.normal[c]
    load = max(contacts.load[c] + _depth(c, contacts, skin, rigid, x) / contacts.weight[c], 0.0)
    size = load - contacts.load[c]
    if load == 0.0 and size == 0.0:
        return
    contacts.load[c] = load
    _push_both(c, contacts, skin, rigid, w, x, size * nx, size * ny, size * nz)
    mx, my, mz = _parted(c, contacts, skin, rigid, x)
    sx, sy, sz = contacts.slid[c, 0] + mx, contacts.slid[c, 1] + my, contacts.slid[c, 2] + mz
    sn = sx * nx + sy * ny + sz * nz
    sx, sy, sz = sx - sn * nx, sy - sn * ny, sz - sn * nz
    slid = np.sqrt(sx * sx + sy * sy + sz * sz) + 1e-300
    sx, sy, sz = sx / slid, sy / slid, sz / slid
    i, a = contacts.point[c], contacts.a[c]
    side = weight_at(rigid, a, contacts.arm_a[c], sx, sy, sz) if a >= 0 else _skin_weight(skin, w, i)
    weight = side + weight_at(rigid, contacts.b[c], contacts.arm_b[c], sx, sy, sz)
    if weight > 0.0:
        px, py, pz = _hold(c, contacts, skin, solids, slid / weight, sx, sy, sz)
        _push_both(c, contacts, skin, rigid, w, x, px, py, pz)


@kernel
def press(contacts, runs, skin, solids, rigid, w, x):  # type: ignore[no-untyped-def]
    """Push every contact apart once, run by run, with friction; `x` (n, 3) are the particles' places."""
    for run in range(len(runs) - 1):
        first, last = runs[run], runs[run + 1]
        if contacts.a[first] >= 0 and last - first > 1:
            _press_together(first, last, contacts, skin, solids, rigid, x)
        for c in range(first, last):
            _press_one(c, contacts, skin, solids, rigid, w, x)


@kernel
def _parting(c, contacts, rigid, arm_a, arm_b, n):  # type: ignore[no-untyped-def]
    """Return the speed (m/s) at which the two rigid sides of contact c part along n, at given arms."""
    vx, vy, vz = moved_at(rigid.speed, contacts.a[c], arm_a)
    b = contacts.b[c]
    if b >= 0 and rigid.w[b] > 0.0:
        ux, uy, uz = moved_at(rigid.speed, b, arm_b)
    else:
        ux, uy, uz = contacts.drag[c]
    return n[0] * (vx - ux) + n[1] * (vy - uy) + n[2] * (vz - uz)


@kernel
def _set_parting(c, contacts, rigid, arm_a, arm_b, n, meets, bounce, load, slow, dt):  # type: ignore[no-untyped-def]
    """Give back bounce and take out what only the way out of an overlap made, at given arms along n."""
    a, b = contacts.a[c], contacts.b[c]
    weight = weight_at(rigid, a, arm_a, n[0], n[1], n[2]) + weight_at(rigid, b, arm_b, n[0], n[1], n[2])
    if weight <= 0.0:
        return
    want = -bounce * meets if meets < -slow else 0.0
    parting = _parting(c, contacts, rigid, arm_a, arm_b, n)
    if parting < want and want > 0.0:
        change = want - parting
    elif parting > want:
        change = -min(parting - want, load * weight / dt)
    else:
        return
    size = change / weight
    push_body(rigid, rigid.speed, a, arm_a, size * n[0], size * n[1], size * n[2])
    push_body(rigid, rigid.speed, b, arm_b, -size * n[0], -size * n[1], -size * n[2])


@kernel
def give_back(contacts, runs, skin, solids, rigid, slow, dt):  # type: ignore[no-untyped-def]
    """Set the speeds of touching rigid bodies after the substep, in order; see the module.

    `slow` is the speed in m/s below which nothing bounces.
    """
    for run in range(len(runs) - 1):
        first, last = runs[run], runs[run + 1]
        if contacts.a[first] >= 0:
            held = np.zeros(last - first, np.bool_)
            load, meets, many = 0.0, 0.0, 0
            bounce = max(skin.bounce[contacts.point[first]], solids.bounce[contacts.solid[first]])
            for c in range(first, last):
                if contacts.load[c] > 0.0:
                    held[c - first] = True
                    load, meets, many = load + contacts.load[c], meets + contacts.meets[c], many + 1
            count, arm_a, arm_b, n = _middle_of(first, last, contacts, held)
            if count > 0:
                _set_parting(first, contacts, rigid, arm_a, arm_b, n, meets / many, bounce, load, slow, dt)
            for c in range(first, last):
                if held[c - first]:
                    _set_parting(
                        c, contacts, rigid, contacts.arm_a[c], contacts.arm_b[c], contacts.normal[c],
                        contacts.meets[c], bounce, contacts.load[c], slow, dt,
                    )  # fmt: skip


@kernel
def wake(contacts, solids, rigid):  # type: ignore[no-untyped-def]
    """Wake every sleeping body that something awake presses on."""
    for c in range(len(contacts.gap)):
        a, b = contacts.a[c], contacts.b[c]
        if contacts.load[c] <= 0.0:
            continue
        if a >= 0 and rigid.asleep[a]:
            rigid.asleep[a], rigid.still[a] = False, 0.0
        if b >= 0 and rigid.asleep[b]:
            rigid.asleep[b], rigid.still[b] = False, 0.0
        if a < 0 and b >= 0:
            rigid.still[b] = 0.0  # what cloth or a soft body moves does not fall asleep
