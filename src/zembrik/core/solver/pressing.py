"""Pushing contacts of skins with solids apart: both sides move by their masses; friction, then bounce.

What constraints did to both sides since the places were predicted is followed to first order.
The push is the XPBD one without compliance. What the sides slid along each other is taken back
whole as long as static friction holds, else as much as sliding friction does. What a push parts both
sides by is a matrix of 3 × 3 times the push (a row's GIVE): so it is known how far one along the normal
slides them before it is made, and both go to the bodies as one. Afterwards a velocity pass gives back
bounce, and takes out the speed that only the way out of an overlap made.

Before each contact of a run is solved by itself, all of them are pushed at their common middle,
as far as the least deep of them needs: a box that lands flat stays flat, whatever order its
corners come in.

Contacts come one after the other, in two halves side by side where there are many (`halves`): the
kernels here work on plain tables by index. `body` (R + 1, 10) holds each body's inverse mass and world
inverse inertia, zeros for those that are held or asleep and in the last row, which stands for
"no body"; `moved` (R + 1, 6) is what each has been moved: shift and turn, or velocities.
"""

from __future__ import annotations

import numba
import numpy as np

from zembrik.core.compiled import bare_kernel, kernel, parallel_kernel
from zembrik.core.solver.arrays import (
    ARM_A,
    ARM_B,
    BOUNCE,
    CARRIERS,
    DRAG,
    GAP,
    GIVE,
    GRIP,
    HELD,
    LOAD,
    MEETS,
    NORMAL,
    ROOM,
    RUB,
    SLID,
    SLIP,
    WEIGHT,
)  # fmt: skip


@kernel
def body_table(rigid):  # type: ignore[no-untyped-def]
    """Return `body` (R + 1, 10), see the module."""
    count = len(rigid.w)
    body = np.zeros((count + 1, 10))
    for r in range(count):
        if rigid.w[r] > 0.0 and not rigid.asleep[r]:
            body[r, 0] = rigid.w[r]
            for k in range(9):
                body[r, 1 + k] = rigid.turning[r, k]
    return body


@kernel
def _taken(moved):  # type: ignore[no-untyped-def]
    """Return a copy of what bodies moved (R, 6) with the row for "no body" (R + 1, 6)."""
    count = len(moved)
    out = np.zeros((count + 1, 6))
    for r in range(count):
        for k in range(6):
            out[r, k] = moved[r, k]
    return out


@numba.njit(inline="always")
def moved_at(moved, r, x, y, z):  # type: ignore[no-untyped-def]
    """Return what a place at an arm x, y, z of body r moved."""
    return (
        moved[r, 0] + moved[r, 4] * z - moved[r, 5] * y,
        moved[r, 1] + moved[r, 5] * x - moved[r, 3] * z,
        moved[r, 2] + moved[r, 3] * y - moved[r, 4] * x,
    )


@numba.njit(inline="always")
def _weight(body, r, x, y, z, nx, ny, nz):  # type: ignore[no-untyped-def]
    """Return body r's inverse mass (1/kg) felt along n at an arm x, y, z."""
    cx, cy, cz = y * nz - z * ny, z * nx - x * nz, x * ny - y * nx
    return (
        body[r, 0]
        + cx * (body[r, 1] * cx + body[r, 2] * cy + body[r, 3] * cz)
        + cy * (body[r, 4] * cx + body[r, 5] * cy + body[r, 6] * cz)
        + cz * (body[r, 7] * cx + body[r, 8] * cy + body[r, 9] * cz)
    )


@numba.njit(inline="always")
def _push(body, moved, r, x, y, z, px, py, pz):  # type: ignore[no-untyped-def]
    """Push body r by p at an arm x, y, z."""
    w = body[r, 0]
    if w == 0.0:
        return
    cx, cy, cz = y * pz - z * py, z * px - x * pz, x * py - y * px
    moved[r, 0] += w * px
    moved[r, 1] += w * py
    moved[r, 2] += w * pz
    moved[r, 3] += body[r, 1] * cx + body[r, 2] * cy + body[r, 3] * cz
    moved[r, 4] += body[r, 4] * cx + body[r, 5] * cy + body[r, 6] * cz
    moved[r, 5] += body[r, 7] * cx + body[r, 8] * cy + body[r, 9] * cz


@numba.njit(inline="always")
def _given(body, r, x, y, z, nx, ny, nz):  # type: ignore[no-untyped-def]
    """Return what a push of 1 kg·m along n, at an arm x, y, z of body r, moves the place there, metres."""
    cx, cy, cz = y * nz - z * ny, z * nx - x * nz, x * ny - y * nx
    tx = body[r, 1] * cx + body[r, 2] * cy + body[r, 3] * cz
    ty = body[r, 4] * cx + body[r, 5] * cy + body[r, 6] * cz
    tz = body[r, 7] * cx + body[r, 8] * cy + body[r, 9] * cz
    w = body[r, 0]
    return w * nx + ty * z - tz * y, w * ny + tz * x - tx * z, w * nz + tx * y - ty * x


@numba.njit(inline="always")
def _give_of(row, c, nx, ny, nz):  # type: ignore[no-untyped-def]
    """Return by how far (m) a push of 1 kg·m along n parts both sides of contact c."""
    xx, xy, xz = row[c, GIVE], row[c, GIVE + 1], row[c, GIVE + 2]
    yy, yz, zz = row[c, GIVE + 3], row[c, GIVE + 4], row[c, GIVE + 5]
    return xx * nx + xy * ny + xz * nz, xy * nx + yy * ny + yz * nz, xz * nx + yz * ny + zz * nz


@numba.njit(inline="always")
def _parted(row, c, a, b, moved):  # type: ignore[no-untyped-def]
    """Return what constraints moved contact c's rigid side a relative to side b, metres."""
    ax, ay, az = row[c, ARM_A], row[c, ARM_A + 1], row[c, ARM_A + 2]
    bx, by, bz = row[c, ARM_B], row[c, ARM_B + 1], row[c, ARM_B + 2]
    return (
        moved[a, 0] + moved[a, 4] * az - moved[a, 5] * ay - moved[b, 0] - moved[b, 4] * bz + moved[b, 5] * by,
        moved[a, 1] + moved[a, 5] * ax - moved[a, 3] * az - moved[b, 1] - moved[b, 5] * bx + moved[b, 3] * bz,
        moved[a, 2] + moved[a, 3] * ay - moved[a, 4] * ax - moved[b, 2] - moved[b, 3] * by + moved[b, 4] * bx,
    )


@numba.njit(inline="always")
def _points_moved(i, masters, shares, now, x):  # type: ignore[no-untyped-def]
    """Return what the particles that carry skin point i moved it since they were predicted, metres."""
    mx, my, mz = -now[i, 0], -now[i, 1], -now[i, 2]
    for j in range(CARRIERS):
        m, share = masters[i, j], shares[i, j]
        mx += share * x[m, 0]
        my += share * x[m, 1]
        mz += share * x[m, 2]
    return mx, my, mz


@numba.njit(inline="always")
def _push_points(i, masters, shares, w, x, px, py, pz):  # type: ignore[no-untyped-def]
    """Push the particles that carry skin point i."""
    for j in range(CARRIERS):
        m = masters[i, j]
        size = w[m] * shares[i, j]
        x[m, 0] += size * px
        x[m, 1] += size * py
        x[m, 2] += size * pz


@numba.njit(inline="always")
def _hold(row, c, change, sx, sy, sz):  # type: ignore[no-untyped-def]
    """Add friction of `change` against the slide s to contact c, within what its load allows; return what was added."""
    load = row[c, LOAD]
    px, py, pz = row[c, RUB] - change * sx, row[c, RUB + 1] - change * sy, row[c, RUB + 2] - change * sz
    size = np.sqrt(px * px + py * py + pz * pz)
    if size > row[c, GRIP] * load:
        scale = min(row[c, SLIP] * load / size, 1.0)
        px, py, pz = px * scale, py * scale, pz * scale
    dx, dy, dz = px - row[c, RUB], py - row[c, RUB + 1], pz - row[c, RUB + 2]
    row[c, RUB], row[c, RUB + 1], row[c, RUB + 2] = px, py, pz
    return dx, dy, dz


@numba.njit(inline="always")
def _middle(row, first, last, out):  # type: ignore[no-untyped-def]
    """Fill out (9,) with both sides' arms and the common way out of the run's held contacts; return how many hold.

    0 when fewer than two do, or when their ways out differ much.
    """
    count = 0
    for k in range(9):
        out[k] = 0.0
    for c in range(first, last):
        if row[c, HELD] > 0.0:
            count += 1
            for k in range(3):
                out[k] += row[c, ARM_A + k]
                out[3 + k] += row[c, ARM_B + k]
                out[6 + k] += row[c, NORMAL + k]
    if count < 2:
        return 0
    size = np.sqrt(out[6] ** 2 + out[7] ** 2 + out[8] ** 2)
    for k in range(3):
        out[k] /= count
        out[3 + k] /= count
        out[6 + k] /= size + 1e-300
    return count if size > 0.99 * count else 0


@numba.njit(inline="always")
def _press_together(row, first, last, a, b, body, moved):  # type: ignore[no-untyped-def]
    """Push a run of contacts of rigid bodies at their middle, as far as the least deep one needs, with friction."""
    least, count = np.inf, 0
    ax, ay, az, bx, by, bz, nx, ny, nz = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    tx, ty, tz = 0.0, 0.0, 0.0
    for c in range(first, last):
        mx, my, mz = _parted(row, c, a, b, moved)
        out = row[c, NORMAL] * mx + row[c, NORMAL + 1] * my + row[c, NORMAL + 2] * mz
        depth = row[c, ROOM] - row[c, GAP] - out
        row[c, HELD] = 1.0 if depth > 0.0 else 0.0
        if depth > 0.0:
            least, count = min(least, depth), count + 1
            ax, ay, az = ax + row[c, ARM_A], ay + row[c, ARM_A + 1], az + row[c, ARM_A + 2]
            bx, by, bz = bx + row[c, ARM_B], by + row[c, ARM_B + 1], bz + row[c, ARM_B + 2]
            nx, ny, nz = nx + row[c, NORMAL], ny + row[c, NORMAL + 1], nz + row[c, NORMAL + 2]
            tx, ty, tz = tx + row[c, SLID], ty + row[c, SLID + 1], tz + row[c, SLID + 2]
    length = np.sqrt(nx * nx + ny * ny + nz * nz)
    if (count < 2) | (length <= 0.99 * count):
        return
    share, over = 1.0 / count, 1.0 / length
    ax, ay, az, bx, by, bz = ax * share, ay * share, az * share, bx * share, by * share, bz * share
    nx, ny, nz = nx * over, ny * over, nz * over
    gx, gy, gz = _given(body, a, ax, ay, az, nx, ny, nz)
    fx, fy, fz = _given(body, b, bx, by, bz, nx, ny, nz)
    gx, gy, gz = gx + fx, gy + fy, gz + fz
    weight = nx * gx + ny * gy + nz * gz
    if weight <= 0.0:
        return
    size = least / weight
    # What all of them slid in the mean is what their middle moved, as both are linear.
    mx, my, mz = moved_at(moved, a, ax, ay, az)
    ux, uy, uz = moved_at(moved, b, bx, by, bz)
    sx, sy, sz = mx - ux + size * gx + share * tx, my - uy + size * gy + share * ty, mz - uz + size * gz + share * tz
    sn = sx * nx + sy * ny + sz * nz
    sx, sy, sz = sx - sn * nx, sy - sn * ny, sz - sn * nz
    slid = np.sqrt(sx * sx + sy * sy + sz * sz)
    px, py, pz, more, change = size * nx, size * ny, size * nz, size * share, 0.0
    if slid >= 1e-12:
        sx, sy, sz = sx / slid, sy / slid, sz / slid
        weight = _weight(body, a, ax, ay, az, sx, sy, sz) + _weight(body, b, bx, by, bz, sx, sy, sz)
        change = slid * share / weight
    for c in range(first, last):
        if row[c, HELD] > 0.0:
            row[c, LOAD] += more
            dx, dy, dz = _hold(row, c, change, sx, sy, sz)
            px, py, pz = px + dx, py + dy, pz + dz
    _push(body, moved, a, ax, ay, az, px, py, pz)
    _push(body, moved, b, bx, by, bz, -px, -py, -pz)


@numba.njit(inline="always")
def _slide_of(row, c, mx, my, mz):  # type: ignore[no-untyped-def]
    """Return how far (m) and which way contact c slid along its plane, when constraints parted its sides by m."""
    nx, ny, nz = row[c, NORMAL], row[c, NORMAL + 1], row[c, NORMAL + 2]
    sx, sy, sz = row[c, SLID] + mx, row[c, SLID + 1] + my, row[c, SLID + 2] + mz
    sn = sx * nx + sy * ny + sz * nz
    sx, sy, sz = sx - sn * nx, sy - sn * ny, sz - sn * nz
    slid = np.sqrt(sx * sx + sy * sy + sz * sz) + 1e-300
    return slid, sx / slid, sy / slid, sz / slid


@numba.njit(inline="always")
def _load_on(row, c, mx, my, mz):  # type: ignore[no-untyped-def]
    """Set contact c's load so that its sides, parted by m, are apart; return (whether it holds, what was added)."""
    out = row[c, NORMAL] * mx + row[c, NORMAL + 1] * my + row[c, NORMAL + 2] * mz
    load = max(row[c, LOAD] + (row[c, ROOM] - row[c, GAP] - out) / row[c, WEIGHT], 0.0)
    size = load - row[c, LOAD]
    row[c, LOAD] = load
    return load > 0.0 or size != 0.0, size


@numba.njit(inline="always")
def _push_of(row, c, mx, my, mz):  # type: ignore[no-untyped-def]
    """Return the push (kg·m) that contact c's sides, parted by m, need: apart, or back if that was too much; friction.

    Its load and friction are put down in the row.
    """
    holds, size = _load_on(row, c, mx, my, mz)
    if not holds:
        return 0.0, 0.0, 0.0
    nx, ny, nz = row[c, NORMAL], row[c, NORMAL + 1], row[c, NORMAL + 2]
    gx, gy, gz = _give_of(row, c, nx, ny, nz)
    slid, sx, sy, sz = _slide_of(row, c, mx + size * gx, my + size * gy, mz + size * gz)
    gx, gy, gz = _give_of(row, c, sx, sy, sz)
    weight = sx * gx + sy * gy + sz * gz
    px, py, pz = 0.0, 0.0, 0.0
    if weight > 0.0:
        px, py, pz = _hold(row, c, slid / weight, sx, sy, sz)
    return px + size * nx, py + size * ny, pz + size * nz


@numba.njit(inline="always")
def _press_bodies(row, c, a, b, body, moved):  # type: ignore[no-untyped-def]
    """Push contact c of two rigid sides apart, or let go of what was pushed too much, with friction."""
    mx, my, mz = _parted(row, c, a, b, moved)
    px, py, pz = _push_of(row, c, mx, my, mz)
    if (px != 0.0) | (py != 0.0) | (pz != 0.0):
        _push(body, moved, a, row[c, ARM_A], row[c, ARM_A + 1], row[c, ARM_A + 2], px, py, pz)
        _push(body, moved, b, row[c, ARM_B], row[c, ARM_B + 1], row[c, ARM_B + 2], -px, -py, -pz)


@numba.njit(inline="always")
def _press_points(row, c, i, b, body, moved, masters, shares, now, w, x):  # type: ignore[no-untyped-def]
    """The same for skin point i, which goes with particles, against rigid side b."""
    bx, by, bz = row[c, ARM_B], row[c, ARM_B + 1], row[c, ARM_B + 2]
    mx, my, mz = _points_moved(i, masters, shares, now, x)
    ux, uy, uz = moved_at(moved, b, bx, by, bz)
    px, py, pz = _push_of(row, c, mx - ux, my - uy, mz - uz)
    if (px != 0.0) | (py != 0.0) | (pz != 0.0):
        _push_points(i, masters, shares, w, x, px, py, pz)
        _push(body, moved, b, bx, by, bz, -px, -py, -pz)


@parallel_kernel
def press(contacts, runs, order, ends, body, skin, rigid, w, x, sweeps):  # type: ignore[no-untyped-def]
    """Push every contact apart `sweeps` times, run by run, with friction; `x` (n, 3) are the particles' places.

    `order` and `ends` as from `halves.halve`.
    """
    shift = rigid.shift
    moved = _taken(shift)
    for _ in range(sweeps):
        if ends[1] > 0:
            for half in numba.prange(2):
                begin = np.int64(half) * ends[0]
                end = ends[0] if half == 0 else ends[1]
                _press_some(contacts, runs, order, begin, end, body, skin, w, x, moved)
        _press_some(contacts, runs, order, ends[1], ends[2], body, skin, w, x, moved)
    for r in range(len(shift)):
        for k in range(6):
            shift[r, k] = moved[r, k]


@bare_kernel
def _press_some(contacts, runs, order, begin, end, body, skin, w, x, moved):  # type: ignore[no-untyped-def]
    row, of_a, of_b, point, none = contacts.row, contacts.a, contacts.b, contacts.point, len(body) - 1
    masters, shares, now = skin.masters, skin.shares, skin.now
    for k in range(begin, end):
        first, last = runs[order[k]], runs[order[k] + 1]
        a = of_a[first] if of_a[first] >= 0 else none
        b = of_b[first] if of_b[first] >= 0 else none
        if a != none and last - first > 1:
            _press_together(row, first, last, a, b, body, moved)
        for c in range(first, last):
            if row[c, WEIGHT] <= 0.0:
                continue
            if a != none:
                _press_bodies(row, c, a, b, body, moved)
            else:
                _press_points(row, c, point[c], b, body, moved, masters, shares, now, w, x)


@numba.njit(inline="always")
def _set_parting(row, c, a, b, held, body, moved, middle, weight, meets, load, slow, dt):  # type: ignore[no-untyped-def]
    """Give back bounce and take out what only the way out of an overlap made, at given arms along a way (9,).

    `held` tells that b's velocity is the row's drag; `weight` is both sides' inverse mass along the way, 1/kg.
    """
    ax, ay, az, bx, by, bz, nx, ny, nz = (
        middle[0], middle[1], middle[2], middle[3], middle[4], middle[5], middle[6], middle[7], middle[8],
    )  # fmt: skip
    if weight <= 0.0:
        return
    want = -row[c, BOUNCE] * meets if meets < -slow else 0.0
    vx, vy, vz = moved_at(moved, a, ax, ay, az)
    ux, uy, uz = moved_at(moved, b, bx, by, bz)
    if held:
        ux, uy, uz = row[c, DRAG], row[c, DRAG + 1], row[c, DRAG + 2]
    parting = nx * (vx - ux) + ny * (vy - uy) + nz * (vz - uz)
    if parting < want and want > 0.0:
        change = want - parting
    elif parting > want:
        change = -min(parting - want, load * weight / dt)
    else:
        return
    size = change / weight
    px, py, pz = size * nx, size * ny, size * nz
    if size > 0.0:
        # A blow: what it throws back presses as well, so friction may hold as much more.
        row[c, LOAD] += size * dt
        gx, gy, gz = _given(body, a, ax, ay, az, nx, ny, nz)
        fx, fy, fz = _given(body, b, bx, by, bz, nx, ny, nz)
        sx, sy, sz = vx - ux + size * (gx + fx), vy - uy + size * (gy + fy), vz - uz + size * (gz + fz)
        sn = sx * nx + sy * ny + sz * nz
        sx, sy, sz = sx - sn * nx, sy - sn * ny, sz - sn * nz
        slide = np.sqrt(sx * sx + sy * sy + sz * sz)
        if slide > 1e-12:
            sx, sy, sz = sx / slide, sy / slide, sz / slide
            gives = _weight(body, a, ax, ay, az, sx, sy, sz) + _weight(body, b, bx, by, bz, sx, sy, sz)
            dx, dy, dz = _hold(row, c, slide / gives * dt, sx, sy, sz)
            px, py, pz = px + dx / dt, py + dy / dt, pz + dz / dt
    _push(body, moved, a, ax, ay, az, px, py, pz)
    _push(body, moved, b, bx, by, bz, -px, -py, -pz)


@parallel_kernel
def give_back(contacts, runs, order, ends, body, rigid, slow, dt):  # type: ignore[no-untyped-def]
    """Set the speeds of touching rigid bodies after the substep, in the same order as they were pushed; see the module.

    `slow` is the speed in m/s below which nothing bounces.
    """
    speed, weights = rigid.speed, rigid.w
    moved = _taken(speed)
    if ends[1] > 0:
        for half in numba.prange(2):
            begin = np.int64(half) * ends[0]
            end = ends[0] if half == 0 else ends[1]
            _give_some(contacts, runs, order, begin, end, body, weights, slow, dt, moved, np.empty(9))
    _give_some(contacts, runs, order, ends[1], ends[2], body, weights, slow, dt, moved, np.empty(9))
    for r in range(len(speed)):
        for k in range(6):
            speed[r, k] = moved[r, k]


@bare_kernel
def _give_some(contacts, runs, order, begin, end, body, weights, slow, dt, moved, middle):  # type: ignore[no-untyped-def]
    row, of_a, of_b, none = contacts.row, contacts.a, contacts.b, len(weights)
    for k in range(begin, end):
        first, last = runs[order[k]], runs[order[k] + 1]
        a, b = of_a[first], of_b[first] if of_b[first] >= 0 else none
        if a < 0:
            continue
        load, meets, many = 0.0, 0.0, 0
        for c in range(first, last):
            row[c, HELD] = 1.0 if row[c, LOAD] > 0.0 else 0.0
            if row[c, LOAD] > 0.0:
                load, meets, many = load + row[c, LOAD], meets + row[c, MEETS], many + 1
        if many == 0:
            continue
        held = b == none or weights[b] == 0.0
        if _middle(row, first, last, middle) > 0:
            nx, ny, nz = middle[6], middle[7], middle[8]
            weight = _weight(body, a, middle[0], middle[1], middle[2], nx, ny, nz)
            weight += _weight(body, b, middle[3], middle[4], middle[5], nx, ny, nz)
            _set_parting(row, first, a, b, held, body, moved, middle, weight, meets / many, load, slow, dt)
        for c in range(first, last):
            if row[c, HELD] > 0.0:
                for axis in range(3):
                    middle[axis], middle[3 + axis] = row[c, ARM_A + axis], row[c, ARM_B + axis]
                    middle[6 + axis] = row[c, NORMAL + axis]
                weight, meets, load = row[c, WEIGHT], row[c, MEETS], row[c, LOAD]
                _set_parting(row, c, a, b, held, body, moved, middle, weight, meets, load, slow, dt)
