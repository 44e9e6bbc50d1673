"""Points against faces, edges against edges and points against rigid bodies, as ties within the implicit step.

Each touching pair is pushed apart by hold × depth along the way out, where hold is FIRMNESS times what both sides'
masses resist in a step, set in softly (EASE); and it rubs across it by at most friction times its load (see `planes`).
Which way is out is told by the side both were on when the step began (`mesh_contact`), or by the body's distance field.
Rigid bodies give way as much as they are pushed: what a body weighs is carried by the cloth under it within the same
step. What crosses all the same is mended after the step.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel
from zembrik.core.solver.arrays import ARM_B, CARRIERS, GAP, GRIP, NORMAL, ROOM, SLID, SLIP
from zembrik.core.solver.mesh_contact import edge_gap, point_gap
from zembrik.core.solver.planes import SURE

FIRMNESS = 30.0
MOST = 4 * CARRIERS  # particles that a tie joins: four places, each carried by so many
EASE = 0.02  # of what both are kept apart: over twice this much a push sets in, so that none is there and gone again
HARDER = 30.0  # times as hard as in proportion, where both touch bare: what is pressed hard may not go through
APART = 0.2  # m/s, by which what was too near when the step began is let go apart: it is not to be thrown

Floats = NDArray[np.float64]


class Ties(NamedTuple):
    """t ties; each block is hold n nᵀ + rub (1 - n nᵀ) on the combination Σ share x + part × shift + turn × arm.

    Attributes:
        first: int64 (t + 1,), where each one's points begin in points, int64 (k,): free particles, some of them
            twice; share: float64 (k,). normal: float64 (t, 3).
        hold, rub: float64 (t,), N/m.
        body: int64 (t,), the rigid body that takes part, or -1. part: float64 (t,). arm: float64 (t, 3), metres.
    """

    first: NDArray[np.int64]
    points: NDArray[np.int64]
    share: Floats
    normal: Floats
    hold: Floats
    rub: Floats
    body: NDArray[np.int64]
    part: Floats
    arm: Floats


class BodyBlocks(NamedTuple):
    """What R rigid bodies resist: float64 (R, 6, 6) of shift (m) and turn (rad), as it is and its inverse."""

    block: Floats
    inverse: Floats


def room_for_ties(many: int) -> Ties:
    """Return room for so many ties."""
    return Ties(
        np.zeros(many + 1, np.int64), np.zeros(MOST * many, np.int64), np.zeros(MOST * many), np.zeros((many, 3)),
        np.zeros(many), np.zeros(many), np.zeros(many, np.int64), np.zeros(many), np.zeros((many, 3)),
    )  # fmt: skip


def some_ties(room: Ties, many: int) -> Ties:
    """Return the first so many."""
    last = room.first[many] if many else 0
    first, points, share, *others = room
    return Ties._make([first[: many + 1], points[:last], share[:last], *(array[:many] for array in others)])


@kernel
def begin_bodies(rigid, dt, stiff, block, force, first):  # type: ignore[no-untyped-def]
    """Fill each body's part of the force from row `first` on, and if `stiff` what it alone resists in dt seconds.

    rigid.shift is how far each was pushed from where it was predicted. What is held or asleep resists by 1 each.
    """
    inertia = np.empty((3, 3))
    for r in range(len(rigid.w)):
        for k in range(3):
            force[first + 2 * r, k] = force[first + 2 * r + 1, k] = 0.0
        if stiff:
            block[r] = 0.0
            for k in range(6):
                block[r, k, k] = 1.0
        if rigid.w[r] == 0.0 or rigid.asleep[r] or rigid.turning[r, 0] <= 0.0:
            continue
        inertia[:] = np.linalg.inv(rigid.turning[r].reshape(3, 3))
        for k in range(3):
            resists = 1.0 / (rigid.w[r] * dt * dt)
            force[first + 2 * r, k] = -resists * rigid.shift[r, k]
            for m in range(3):
                force[first + 2 * r + 1, k] -= inertia[k, m] / (dt * dt) * rigid.shift[r, 3 + m]
            if stiff:
                block[r, k, k] = resists
                for m in range(3):
                    block[r, 3 + k, 3 + m] = inertia[k, m] / (dt * dt)


@kernel
def _tie(ties, t, hold, depth, ease, close, give, normal, slid, grip, slip, stiff, force, values, block, row):  # type: ignore[no-untyped-def]
    """Give tie t its strength, and add its push (N) and, if `stiff`, what of it is on the diagonal.

    Its points, shares and body are given. It pushes from a depth of 0 on, more and more firmly up to twice `ease`, both
    in metres, and harder the nearer they are: `close` is 0 at their thicknesses, 1 where they touch bare. What its
    sides move apart by if pushed by 1 N is `give` (m/N), slid (3,) how far they slid since the step began, metres.
    Return whether it pushes at all.
    """
    if depth <= 0.0:
        return False
    firm, load = hold, hold * (depth - ease)
    if depth < 2.0 * ease:
        firm = hold * depth / (2.0 * ease)
        load = 0.5 * firm * depth
    if close > 0.0:
        more = 1.0 + HARDER * close * close
        firm, load = firm * more + 2.0 * HARDER * close * load * EASE / ease, load * more
    along, way = 0.0, 0.0
    for a in range(3):
        ties.normal[t, a] = normal[a]
        along += slid[a] * normal[a]
    for a in range(3):
        slid[a] -= along * normal[a]
        way += slid[a] * slid[a]
    way, rub, drag = np.sqrt(way), hold, hold
    if hold * way > grip * load:  # as far as friction can, see `planes`
        drag = slip * load / way
        rub = drag if drag * give > SURE else 0.0
    ties.hold[t], ties.rub[t] = firm, rub
    fx = load * normal[0] - drag * slid[0]
    fy = load * normal[1] - drag * slid[1]
    fz = load * normal[2] - drag * slid[2]
    for n in range(ties.first[t], ties.first[t + 1]):
        i, share = ties.points[n], ties.share[n]
        force[i, 0] += share * fx
        force[i, 1] += share * fy
        force[i, 2] += share * fz
        if stiff:
            for a in range(3):
                values[i, 5 * a] += share * share * rub
                for b in range(3):
                    values[i, 4 * a + b] += share * share * (firm - rub) * normal[a] * normal[b]
    r = ties.body[t]
    if r < 0:
        return True
    c, x, y, z = ties.part[t], ties.arm[t, 0], ties.arm[t, 1], ties.arm[t, 2]
    b = row + 2 * r
    force[b, 0] += c * fx
    force[b, 1] += c * fy
    force[b, 2] += c * fz
    force[b + 1, 0] += y * fz - z * fy
    force[b + 1, 1] += z * fx - x * fz
    force[b + 1, 2] += x * fy - y * fx
    if stiff:
        moves = np.array([[c, 0, 0], [0, c, 0], [0, 0, c], [0, -z, y], [z, 0, -x], [-y, x, 0]])
        for k in range(6):
            across = moves[k, 0] * normal[0] + moves[k, 1] * normal[1] + moves[k, 2] * normal[2]
            for m in range(6):
                both, there = 0.0, 0.0
                for a in range(3):
                    both += moves[k, a] * moves[m, a]
                    there += moves[m, a] * normal[a]
                block[r, k, m] += rub * both + (firm - rub) * there * across
    return True


@kernel
def _join(ties, last, i, share):  # type: ignore[no-untyped-def]
    """Let particle i take part in the tie that is being made, and return where its next one goes."""
    ties.points[last], ties.share[last] = i, share
    return last + 1


@kernel
def tie_touching(  # type: ignore[no-untyped-def]
    hits, faces, edges, points, lines, x, before, room, grip, slip, cloth, guests, guest, rigid, heavy, free, stiff,
    ties, force, values, block, dt,
):  # fmt: skip
    """Make a tie of every touching pair of cloth, soft bodies' surfaces, rigid bodies' corners, and what is moved.

    Return how many, and how many of them are through one another.

    Args:
        hits: int32 (h,), the numbers of the pairs that touch. points, lines: the pairs, see `nearby.Near`.
        faces, edges: int32 (T, 3) and (E, 2). x, before: float64 (N, 3), places now and when the step began, metres.
        room, grip, slip: float64 (N,), thickness in metres, static and sliding friction.
        cloth, guests: the first are points of cloth, those up to `guests` are guests, see `guests`.
        guest, rigid: the guests and the rigid bodies. heavy: float64 (n,), N/m, and free: bool (n,), of all particles.
        ties: room, filled. force, values, block: the step's; pushes are added and, if `stiff`, blocks on the diagonal.
    """
    many, through, count = 0, 0, len(points.pairs)
    at, share, slid, arm = np.empty(4, np.int64), np.empty(4), np.empty(3), np.empty(3)
    for q in hits:
        if q < count:
            p, t = points.pairs[q, 0], points.pairs[q, 1]
            at[0], at[1], at[2], at[3] = p, faces[t, 0], faces[t, 1], faces[t, 2]
            gap, nx, ny, nz, u, v, s = point_gap(x, before, at[0], at[1], at[2], at[3])
            share[0], share[1], share[2], share[3] = 1.0, -u, -v, -s
            a, b = at[0], at[1]
            least = min(room[a] + room[b], points.apart[q])
            was = point_gap(before, before, at[0], at[1], at[2], at[3])[0]
        else:
            e, f = lines.pairs[q - count, 0], lines.pairs[q - count, 1]
            at[0], at[1], at[2], at[3] = edges[e, 0], edges[e, 1], edges[f, 0], edges[f, 1]
            gap, nx, ny, nz, s, t2 = edge_gap(x, before, at[0], at[1], at[2], at[3])
            share[0], share[1], share[2], share[3] = 1.0 - s, s, t2 - 1.0, -t2
            a, b = at[0], at[2]
            least = min(room[a] + room[b], lines.apart[q - count])
            was = edge_gap(before, before, at[0], at[1], at[2], at[3])[0]
        ease = EASE * least
        depth = min(least + ease, was + APART * dt) - gap
        two, give, body, part, last = False, 0.0, -1, 0.0, ties.first[many]
        arm[:] = 0.0
        for n in range(4):
            i = at[n]
            if i < cloth:
                if free[i]:
                    last = _join(ties, last, i, share[n])
            elif i < guests:
                r = guest.rigid[i - cloth]
                two |= r >= 0 and 0 <= body != r
                if r >= 0 and rigid.w[r] > 0.0 and not rigid.asleep[r]:
                    body = r
                    part += share[n]
                    for c in range(3):
                        arm[c] += share[n] * (x[i, c] - rigid.place[r, c] - rigid.shift[r, c])
                elif r < 0:
                    for k in range(CARRIERS):
                        m = guest.masters[i - cloth, k]
                        if free[m] and guest.shares[i - cloth, k] != 0.0:
                            last = _join(ties, last, m, share[n] * guest.shares[i - cloth, k])
        for n in range(ties.first[many], last):
            i, part_of = ties.points[n], ties.share[n]
            give += part_of * part_of / heavy[i]
        if two or give <= 0.0:
            continue
        ties.first[many + 1] = last
        if body >= 0:
            give += part * part * rigid.w[body] * dt * dt
        ties.body[many], ties.part[many] = body, part
        for c in range(3):
            ties.arm[many, c] = arm[c]
            slid[c] = 0.0
            for n in range(4):
                slid[c] += share[n] * (x[at[n], c] - before[at[n], c])
        through += gap < 0.0
        many += _tie(
            ties, many, FIRMNESS / give, depth, ease, 1.0 - gap / least, give, (nx, ny, nz), slid,
            np.sqrt(grip[a] * grip[b]), np.sqrt(slip[a] * slip[b]), stiff, force, values, block, len(heavy),
        )  # fmt: skip
    return many, through


@kernel
def tie_skin(contacts, skin, rigid, x, heavy, free, stiff, many, ties, force, values, block, dt):  # type: ignore[no-untyped-def]
    """Make a tie of every contact of a skin point that goes with particles, from tie `many` on; return how many then.

    Args:
        contacts, skin, rigid: see `arrays`; the contacts are of places as predicted.
        x: float64 (n, 3), where the particles are. heavy: float64 (n,), N/m. All else as in `tie_touching`.
    """
    slid, rows = np.empty(3), len(heavy)
    bears = np.zeros(len(rigid.w))
    for turn in range(2):  # first how many bear each body: its weight is shared out among them
        for q in range(len(contacts.a)):
            r, s = contacts.b[q], contacts.point[q]
            if contacts.a[q] >= 0:
                continue
            row, last, give = contacts.row[q], ties.first[many], 0.0
            for c in range(3):
                slid[c] = -skin.now[s, c]
            for n in range(CARRIERS):
                i, share = skin.masters[s, n], skin.shares[s, n]
                if share == 0.0:
                    continue
                for c in range(3):
                    slid[c] += share * x[i, c]
                if free[i]:
                    last = _join(ties, last, i, share)
                    give += share * share / heavy[i]
            if give <= 0.0:
                continue
            rx, ry, rz = row[ARM_B], row[ARM_B + 1], row[ARM_B + 2]
            if r >= 0:
                shift = rigid.shift[r]
                slid[0] -= shift[0] + shift[4] * rz - shift[5] * ry
                slid[1] -= shift[1] + shift[5] * rx - shift[3] * rz
                slid[2] -= shift[2] + shift[3] * ry - shift[4] * rx
            gap, was = row[GAP], row[GAP]
            for c in range(3):
                gap += slid[c] * row[NORMAL + c]
                was -= row[SLID + c] * row[NORMAL + c]
                slid[c] += row[SLID + c]
            ease = EASE * row[ROOM]
            depth = min(row[ROOM] + ease, was + APART * dt) - gap
            moves = r >= 0 and rigid.w[r] > 0.0 and not rigid.asleep[r]
            if depth <= 0.0:
                continue
            if turn == 0:
                if r >= 0:
                    bears[r] += 1.0
                continue
            hold = FIRMNESS / give + (1.0 / (rigid.w[r] * dt * dt * bears[r]) if moves else FIRMNESS / give)
            ties.first[many + 1] = last
            ties.body[many], ties.part[many] = (r if moves else -1), -1.0
            ties.arm[many, 0], ties.arm[many, 1], ties.arm[many, 2] = -rx, -ry, -rz
            normal = (row[NORMAL], row[NORMAL + 1], row[NORMAL + 2])
            many += _tie(
                ties, many, hold, depth, ease, 1.0 - gap / row[ROOM], give, normal, slid, row[GRIP], row[SLIP], stiff,
                force, values, block, rows,
            )  # fmt: skip
    return many


@kernel
def invert_bodies(block, inverse):  # type: ignore[no-untyped-def]
    """Fill inverse (R, 6, 6)."""
    for r in range(len(block)):
        inverse[r] = np.linalg.inv(block[r])


@kernel
def shift_bodies(way, first, rigid):  # type: ignore[no-untyped-def]
    """Add what each body is moved, in two rows of way from row `first` on, to the bodies' shifts."""
    for r in range(len(rigid.w)):
        if rigid.w[r] > 0.0 and not rigid.asleep[r]:
            for k in range(3):
                rigid.shift[r, k] += way[first + 2 * r, k]
                rigid.shift[r, 3 + k] += way[first + 2 * r + 1, k]
