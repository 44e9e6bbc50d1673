"""Joints between rigid bodies: socket, hinge and fixed, all solved together.

A joint's rows say that its two anchors are one place (3), and that the hinge's axes lie along one another (2) or that
both bodies are turned alike (3). The constraint impulses act along the rows as they were when the substep began, and
are as large as it takes for the rows to hold when it ends (SHAKE; Ryckaert, Ciccotti and Berendsen 1977). That is a
symplectic step of second order: a pendulum neither loses nor gains energy, whatever the substep. Where no such impulses
exist, as bodies turn too far in a substep, they act along the rows as they end: that closes them, and loses energy.

The impulses are found by Newton's method with the matrix of the substep's start, A = J M⁻¹ Jᵀ, in blocks of 6 × 6. It
is factored without iteration, A = L D Lᵀ, in an order that leaves few blocks to fill (least degree first): chains and
trees cost as much as they have joints. A row that others already say (a closed loop of hinges) has no pivot and is left
out.

A hinge may have one row more, which says its angle: where it was, as friction holds it; where its motor takes it; or
the limit that it would go beyond. That is tried first. What takes more than friction or the motor can give gets just
that (Coulomb's law), and a limit never pulls.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel
from zembrik.core.solver.arrays import Joints, Rigid
from zembrik.core.solver.rigid import fill_turn, turned

SOCKET, HINGE, FIXED = range(3)
KINDS = {"socket": SOCKET, "hinge": HINGE, "fixed": FIXED}
ROWS = 6
MOST_STEPS = 12  # of Newton's method in a substep
ENOUGH_M, ENOUGH_RAD = 1e-9, 1e-9  # what is left open between anchors and axes
ALMOST_M, ALMOST_RAD = 1e-5, 1e-4  # with more than this left, the impulses are sought the other way
FREE, HELD, GIVEN, STOPPED = range(4)  # of a hinge's angle: no row; held; all that it has is given; at a limit
MOST_TRIES = 4  # of which hinges are held and which stopped, in a substep
LEAST_PIVOT = 1e-9  # of its diagonal: a row with less is already said by others

Floats = NDArray[np.float64]
Numbers = NDArray[np.int64]


class JointSystem(NamedTuple):
    """The matrix of J joints in the order of their elimination, with N blocks below the diagonal.

    Attributes:
        order: int64 (J,), the joint in each place.
        span: int64 (J + 1,), where each column's blocks begin. row: int64 (N,), the place of each block's row.
        pairs: int64 (P, 5), block, row's and column's joint and their sides, of every body that two joints share.
        target: int64, the blocks that eliminating each column changes, in the order in which that is done.
        block: float64 (J + N, 6, 6), the diagonal blocks, then those below.
        inverse: float64 (J, 6, 6), of the diagonal blocks. lower: float64 (N, 6, 6), L.
        size: float64 (J, 6), the diagonal as it was.
        error: float64 (J, 6), how far each row is from holding: metres, radians. push: float64 (J, 6), the solution.
        angle: int64 (J,), what is said of a hinge's angle, one of the kinds above. goal: float64 (J,), where it is
            held or stopped, rad. turned, given: float64 (J,), the push along it so far in this substep, and what of
            that its motor or friction gave when it gave all that it has, N·m·s².
    """

    order: Numbers
    span: Numbers
    row: Numbers
    pairs: Numbers
    target: Numbers
    block: Floats
    inverse: Floats
    lower: Floats
    size: Floats
    error: Floats
    push: Floats
    angle: Numbers
    goal: Floats
    turned: Floats
    given: Floats


def joint_system(bodies: Numbers, ever_free: NDArray[np.bool_]) -> JointSystem:
    """Return room for the joints' matrix, and the order in which it is factored.

    Args:
        bodies: int64 (J, 2), the bodies that joints join, -1 for the world.
        ever_free: bool (R,), bodies that are not driven in every frame; the others pass nothing on.
    """
    count = len(bodies)
    joints_of: dict[int, list[tuple[int, int]]] = {}
    for j in range(count):
        for side in range(2):
            r = int(bodies[j, side])
            if r >= 0 and ever_free[r]:
                joints_of.setdefault(r, []).append((j, side))
    near: list[set[int]] = [set() for _ in range(count)]
    for mine in joints_of.values():
        for j, _ in mine:
            near[j] |= {k for k, _ in mine if k != j}
    order, columns, left = [], [], set(range(count))
    while left:
        j = min(left, key=lambda n: (len(near[n]), n))
        left.remove(j)
        order.append(j)
        columns.append(near[j])
        for k in near[j]:
            near[k] = (near[k] | near[j]) - {j, k}
    place = {j: n for n, j in enumerate(order)}
    rows = [sorted(place[k] for k in column) for column in columns]
    span = np.cumsum([0, *[len(r) for r in rows]])
    number = {(r, n): count + int(span[n]) + k for n, column in enumerate(rows) for k, r in enumerate(column)}
    number |= {(n, n): n for n in range(count)}
    pairs = [
        (number[place[j], place[k]], j, k, side, other)
        for mine in joints_of.values()
        for j, side in mine
        for k, other in mine
        if place[j] >= place[k]
    ]
    target = [number[a, b] for column in rows for n, a in enumerate(column) for b in column[: n + 1]]
    below = int(span[-1])
    return JointSystem(
        np.array(order, np.int64), span.astype(np.int64), np.array([r for c in rows for r in c], np.int64),
        np.array(pairs, np.int64).reshape(-1, 5), np.array(target, np.int64), np.zeros((count + below, ROWS, ROWS)),
        np.zeros((count, ROWS, ROWS)), np.zeros((below, ROWS, ROWS)), np.zeros((count, ROWS)), np.zeros((count, ROWS)),
        np.zeros((count, ROWS)), np.zeros(count, np.int64), np.zeros(count), np.zeros(count), np.zeros(count),
    )  # fmt: skip


@kernel
def _place(joints, rigid, places):  # type: ignore[no-untyped-def]
    """Fill the joints' arms and axes, bodies being at places (R, 7)."""
    turn = np.empty(9)
    for j in range(len(joints.kind)):
        for side in range(2):
            r = joints.bodies[j, side]
            if r < 0:
                for k in range(9):
                    joints.axes[j, side, k] = joints.frame[j, side, k]
                for k in range(3):
                    joints.arm[j, side, k] = joints.anchor[j, side, k]
                continue
            fill_turn(places[r, 3:], turn)
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


@kernel
def _rows_of(joints, system, j):  # type: ignore[no-untyped-def]
    """Return how many rows a joint has."""
    if joints.kind[j] == HINGE:
        return 6 if system.angle[j] == HELD or system.angle[j] == STOPPED else 5
    return 3 if joints.kind[j] == SOCKET else 6


@kernel
def _direction(joints, j, row):  # type: ignore[no-untyped-def]
    """Return the axis that row 3, 4 or 5 of a joint turns about: of a hinge one of the two across it, then its own."""
    if joints.kind[j] == HINGE:
        column = (row - 2) % 3
        return joints.axes[j, 0, column], joints.axes[j, 0, 3 + column], joints.axes[j, 0, 6 + column]
    return 1.0 if row == 3 else 0.0, 1.0 if row == 4 else 0.0, 1.0 if row == 5 else 0.0


@kernel
def _torque(joints, j, side, row):  # type: ignore[no-untyped-def]
    """Return the torque on a body of a push of 1 along a joint's row."""
    if row >= 3:
        return _direction(joints, j, row)
    x, y, z = joints.arm[j, side, 0], joints.arm[j, side, 1], joints.arm[j, side, 2]
    if row == 0:
        return 0.0, z, -y
    if row == 1:
        return -z, 0.0, x
    return y, -x, 0.0


@kernel
def _is_free(rigid, r):  # type: ignore[no-untyped-def]
    return r >= 0 and rigid.w[r] > 0.0 and not rigid.asleep[r]


@kernel
def _fill(joints, system, rigid):  # type: ignore[no-untyped-def]
    """Fill the matrix's blocks, A = J M⁻¹ Jᵀ."""
    system.block[:] = 0.0
    for p in range(len(system.pairs)):
        at, j, k, side, other = (
            system.pairs[p, 0], system.pairs[p, 1], system.pairs[p, 2], system.pairs[p, 3], system.pairs[p, 4],
        )  # fmt: skip
        r = joints.bodies[j, side]
        if not _is_free(rigid, r):
            continue
        sign = 1.0 if side == other else -1.0
        w, t, block = rigid.w[r], rigid.turning[r], system.block[at]
        for column in range(_rows_of(joints, system, k)):
            px, py, pz = _torque(joints, k, other, column)
            tx = t[0] * px + t[1] * py + t[2] * pz
            ty = t[3] * px + t[4] * py + t[5] * pz
            tz = t[6] * px + t[7] * py + t[8] * pz
            for row in range(_rows_of(joints, system, j)):
                qx, qy, qz = _torque(joints, j, side, row)
                block[row, column] += sign * (qx * tx + qy * ty + qz * tz)
            if column < 3:
                block[column, column] += sign * w
    for n in range(len(system.order)):
        for row in range(ROWS):
            system.size[n, row] = system.block[n, row, row]


@kernel
def _invert(matrix, size, out, lower):  # type: ignore[no-untyped-def]
    """Fill out (6, 6) with the inverse of a symmetric matrix (6, 6); rows without a pivot stay out of it."""
    pivot = np.zeros(ROWS)
    for i in range(ROWS):
        for j in range(i + 1):
            total = matrix[i, j]
            for k in range(j):
                total -= lower[i, k] * lower[j, k] * pivot[k]
            if i == j:
                pivot[i] = total if total > LEAST_PIVOT * size[i] else 0.0
                lower[i, i] = 1.0
            else:
                lower[i, j] = total / pivot[j] if pivot[j] > 0.0 else 0.0
    for c in range(ROWS):
        for i in range(ROWS):
            total = 1.0 if i == c else 0.0
            for k in range(i):
                total -= lower[i, k] * out[k, c]
            out[i, c] = total
        for i in range(ROWS - 1, -1, -1):
            total = out[i, c] / pivot[i] if pivot[i] > 0.0 else 0.0
            for k in range(i + 1, ROWS):
                total -= lower[k, i] * out[k, c]
            out[i, c] = total if pivot[i] > 0.0 else 0.0


@kernel
def _factor(system):  # type: ignore[no-untyped-def]
    """Factor the matrix, A = L D Lᵀ."""
    count, next_target, work = len(system.order), 0, np.zeros((ROWS, ROWS))
    for n in range(count):
        _invert(system.block[n], system.size[n], system.inverse[n], work)
        first, last = system.span[n], system.span[n + 1]
        for a in range(first, last):
            system.lower[a] = np.dot(system.block[count + a], system.inverse[n])
            for b in range(first, a + 1):
                system.block[system.target[next_target]] -= np.dot(system.lower[a], system.block[count + b].T)
                next_target += 1


@kernel
def _solve(system):  # type: ignore[no-untyped-def]
    """Fill system.push with the solution of A push = -error."""
    count = len(system.order)
    x = np.empty((count, ROWS))
    for n in range(count):
        x[n] = -system.error[system.order[n]]
    for n in range(count):
        for a in range(system.span[n], system.span[n + 1]):
            x[system.row[a]] -= np.dot(system.lower[a], x[n])
    for n in range(count - 1, -1, -1):
        x[n] = np.dot(system.inverse[n], x[n])
        for a in range(system.span[n], system.span[n + 1]):
            x[n] -= np.dot(system.lower[a].T, x[system.row[a]])
    for n in range(count):
        system.push[system.order[n]] = x[n]


@kernel
def _anchor_now(joints, j, side, rigid, turn, at, axes):  # type: ignore[no-untyped-def]
    """Fill at (3,) and axes (9,) with a joint's place and axes on one side, the constraints' shifts taken in."""
    r = joints.bodies[j, side]
    anchor, frame = joints.anchor[j, side], joints.frame[j, side]
    if r < 0:
        for k in range(3):
            at[k] = anchor[k]
        for k in range(9):
            axes[k] = frame[k]
        return
    place, shift = rigid.place[r], rigid.shift[r]
    q = turned(place[3:], shift[3], shift[4], shift[5])
    fill_turn(q, turn)
    for i in range(3):
        at[i] = place[i] + shift[i]
        for k in range(3):
            at[i] += turn[3 * i + k] * anchor[k]
            axes[3 * i + k] = turn[3 * i] * frame[k] + turn[3 * i + 1] * frame[3 + k] + turn[3 * i + 2] * frame[6 + k]


@kernel
def _angle(axes, other):  # type: ignore[no-untyped-def]
    """Return how far axes (9,) are turned about the first of other axes (9,), rad."""
    ux, uy, uz, vx, vy, vz = axes[1], axes[4], axes[7], other[1], other[4], other[7]
    cx, cy, cz = vy * uz - vz * uy, vz * ux - vx * uz, vx * uy - vy * ux
    return np.arctan2(cx * other[0] + cy * other[3] + cz * other[6], ux * vx + uy * vy + uz * vz)


@kernel
def _within_turn(angle):  # type: ignore[no-untyped-def]
    """Return the same angle within half a turn either way, rad."""
    return angle - 2.0 * np.pi * np.floor(angle / (2.0 * np.pi) + 0.5)


@kernel
def _measure(joints, system, rigid):  # type: ignore[no-untyped-def]
    """Fill system.error with how far every row is from holding; return the most in metres and in radians."""
    turn, at, on, axes, other = np.empty(9), np.empty(3), np.empty(3), np.empty(9), np.empty(9)
    most_m, most_rad = 0.0, 0.0
    for j in range(len(joints.kind)):
        error, kind = system.error[j], joints.kind[j]
        error[:] = 0.0
        if not (_is_free(rigid, joints.bodies[j, 0]) or _is_free(rigid, joints.bodies[j, 1])):
            continue
        _anchor_now(joints, j, 0, rigid, turn, at, axes)
        _anchor_now(joints, j, 1, rigid, turn, on, other)
        for k in range(3):
            error[k] = at[k] - on[k]
            most_m = max(most_m, abs(error[k]))
        if kind == SOCKET:
            continue
        # What turns a's axes onto b's: half the sum of cross products for all three, or the hinge's alone.
        tx, ty, tz = 0.0, 0.0, 0.0
        for k in range(3 if kind == FIXED else 1):
            ux, uy, uz, vx, vy, vz = axes[k], axes[3 + k], axes[6 + k], other[k], other[3 + k], other[6 + k]
            tx, ty, tz = tx + uy * vz - uz * vy, ty + uz * vx - ux * vz, tz + ux * vy - uy * vx
        share = 0.5 if kind == FIXED else 1.0
        for row in range(3, _rows_of(joints, system, j)):
            dx, dy, dz = _direction(joints, j, row)
            error[row] = -share * (dx * tx + dy * ty + dz * tz)
            if kind == HINGE and row == 5:
                error[row] = _within_turn(_angle(axes, other) - system.goal[j])
            most_rad = max(most_rad, abs(error[row]))
    return most_m, most_rad


@kernel
def _apply(joints, system, rigid):  # type: ignore[no-untyped-def]
    """Push all bodies by system.push."""
    for j in range(len(joints.kind)):
        push = system.push[j]
        system.turned[j] += push[5]
        for side in range(2):
            r = joints.bodies[j, side]
            if not _is_free(rigid, r):
                continue
            sign = 1.0 if side == 0 else -1.0
            qx, qy, qz = 0.0, 0.0, 0.0
            for row in range(ROWS if joints.kind[j] == HINGE else _rows_of(joints, system, j)):
                x, y, z = _torque(joints, j, side, row)
                qx, qy, qz = qx + push[row] * x, qy + push[row] * y, qz + push[row] * z
            t, shift = rigid.turning[r], rigid.shift[r]
            for k in range(3):
                shift[k] += sign * rigid.w[r] * push[k]
                shift[3 + k] += sign * (t[3 * k] * qx + t[3 * k + 1] * qy + t[3 * k + 2] * qz)


@kernel
def _begin(joints, system, rigid):  # type: ignore[no-untyped-def]
    _place(joints, rigid, rigid.before)
    _fill(joints, system, rigid)
    _factor(system)


@kernel
def _place_now(joints, rigid):  # type: ignore[no-untyped-def]
    """Fill the joints' arms and axes, the constraints' shifts taken in."""
    turn, at = np.empty(9), np.empty(3)
    for j in range(len(joints.kind)):
        for side in range(2):
            _anchor_now(joints, j, side, rigid, turn, at, joints.axes[j, side])
            r = joints.bodies[j, side]
            for k in range(3):
                joints.arm[j, side, k] = at[k] - (rigid.place[r, k] + rigid.shift[r, k] if r >= 0 else 0.0)


@kernel
def _bring_together(joints, system, rigid):  # type: ignore[no-untyped-def]
    shift, turned_ = rigid.shift.copy(), system.turned.copy()
    for _ in range(MOST_STEPS):
        most_m, most_rad = _measure(joints, system, rigid)
        if most_m <= ENOUGH_M and most_rad <= ENOUGH_RAD:
            return
        _solve(system)
        _apply(joints, system, rigid)
    most_m, most_rad = _measure(joints, system, rigid)
    if most_m <= ALMOST_M and most_rad <= ALMOST_RAD:
        return
    rigid.shift[:], system.turned[:] = shift, turned_
    for _ in range(MOST_STEPS):
        _place_now(joints, rigid)
        _fill(joints, system, rigid)
        _factor(system)
        most_m, most_rad = _measure(joints, system, rigid)
        if most_m <= ALMOST_M and most_rad <= ALMOST_RAD:
            break
        _solve(system)
        _apply(joints, system, rigid)
    _begin(joints, system, rigid)


@kernel
def _hold_angles(joints, system, dt):  # type: ignore[no-untyped-def]
    """Begin a substep of dt seconds: what has a motor or friction is held to where that takes it."""
    for j in range(len(joints.kind)):
        system.turned[j], system.given[j], system.angle[j] = 0.0, 0.0, FREE
        if joints.kind[j] == HINGE and joints.strength[j] > 0.0:
            system.angle[j] = HELD
            system.goal[j] = _angle(joints.axes[j, 0], joints.axes[j, 1]) + joints.speed[j] * dt


@kernel
def _angles_change(joints, system, rigid, most_push, before, gives, left):  # type: ignore[no-untyped-def]
    """Tell of every hinge's angle whether it is as was tried, and note what it is; return whether any changes.

    most_push: float64 (J,), what each motor or friction can give in a substep, N·m·s². before: what each had given when
    this began. gives: filled with what those give from now on that are held no more. left: bool (J,), filled with
    hinges that leave a limit: it is not tried again.
    """
    turn, at, axes, other, changes = np.empty(9), np.empty(3), np.empty(9), np.empty(9), False
    for j in range(len(joints.kind)):
        push, least, most = system.turned[j], joints.least[j], joints.most[j]
        if joints.kind[j] != HINGE:
            continue
        if system.angle[j] == HELD and abs(push) > most_push[j]:
            system.given[j] = most_push[j] if push > 0.0 else -most_push[j]
            system.angle[j], gives[j], changes = GIVEN, system.given[j] - before[j], True
        if system.angle[j] == STOPPED:
            stops = push - system.given[j]
            if most > least and (stops > 0.0 if system.goal[j] == most else stops < 0.0):
                system.angle[j], left[j], changes = GIVEN, True, True
            continue
        if left[j] or not least > -np.inf:
            continue
        _anchor_now(joints, j, 0, rigid, turn, at, axes)
        _anchor_now(joints, j, 1, rigid, turn, at, other)
        off = _within_turn(_angle(axes, other) - 0.5 * (least + most))  # from the middle
        if abs(off) > 0.5 * (most - least) + ENOUGH_RAD:
            system.goal[j], system.angle[j], changes = (most if off > 0.0 else least), STOPPED, True
    return changes


@kernel
def _close(joints, system, rigid, dt):  # type: ignore[no-untyped-def]
    shift, before = rigid.shift.copy(), system.turned.copy()
    gives, left = np.zeros(len(before)), np.zeros(len(before), np.bool_)
    most_push = joints.strength * dt * dt
    for n in range(MOST_TRIES):
        _bring_together(joints, system, rigid)
        if n == MOST_TRIES - 1 or not _angles_change(joints, system, rigid, most_push, before, gives, left):
            return
        rigid.shift[:], system.turned[:] = shift, before
        _fill(joints, system, rigid)
        _factor(system)
        system.push[:] = 0.0
        system.push[:, 5] = gives
        _apply(joints, system, rigid)


@kernel
def _begin_substep(joints, system, rigid, dt):  # type: ignore[no-untyped-def]
    _place(joints, rigid, rigid.before)
    _hold_angles(joints, system, dt)
    _begin(joints, system, rigid)


def begin_joints(joints: Joints, system: JointSystem, rigid: Rigid, dt: float) -> None:
    """Factor the matrix of the joints of a substep of dt seconds, the bodies being predicted."""
    _begin_substep(joints, system, rigid, dt)


def solve_joints(joints: Joints, system: JointSystem, rigid: Rigid, dt: float) -> None:
    """Bring all joints together; the bodies' shifts change."""
    _close(joints, system, rigid, dt)
