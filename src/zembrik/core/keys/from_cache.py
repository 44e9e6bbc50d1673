"""The motion of a cache's bodies as tracks: what was simulated goes by keys from then on."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.reader import Cache
from zembrik.core.keys.angles import reduced_angles
from zembrik.core.keys.reduce import reduced_places, reduced_turns, worst_places, worst_turns
from zembrik.core.mesh.kabsch import kabsch
from zembrik.core.motion.angles import check_order
from zembrik.core.units import quaternion_turn

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Poses:
    """A body's way over frames, against where it stands.

    Attributes:
        first: the first frame. shift: float64 (k, 3), metres, and turn: float64 (k, 4), quaternions x y z w, which
            take the body in its place to where it is: p becomes turn p + shift.
        misfit_m: float64 (k,), how far the farthest point is from there; 0 for a rigid body.
    """

    first: int
    shift: Floats
    turn: Floats
    misfit_m: Floats


def poses_of(cache: Cache, number: int) -> Poses:
    """Return a body's poses: a rigid body's own, of another the rigid motion that is nearest to all its points."""
    assert cache.done is not None
    frames = range(cache.first, cache.done + 1)
    if cache.is_rigid(number):
        poses = np.array([cache.pose(number, f) for f in frames])
        return Poses(cache.first, poses[:, :3], poses[:, 3:], np.zeros(len(poses)))
    start = cache.points(number, cache.first).astype(np.float64)
    found = [rigid_fit(start, cache.points(number, f).astype(np.float64)) for f in frames]
    shift, turn = np.array([f[0] for f in found]), np.array([f[1] for f in found])
    return Poses(cache.first, shift, turn, np.array([f[2] for f in found]))


def rigid_fit(start: Floats, now: Floats) -> tuple[Floats, Floats, float]:
    """Return shift (3,) and quaternion (4,) that take points start nearest to now (n, 3), and the largest miss, m."""
    turn, shift = kabsch(start, now)
    miss = float(np.linalg.norm(start @ turn.T + shift - now, axis=1).max(initial=0.0))
    return shift, _quaternion(turn), miss


def _quaternion(m: Floats) -> Floats:
    from scipy.spatial.transform import Rotation

    return np.asarray(Rotation.from_matrix(m).as_quat(), dtype=np.float64)


@dataclass(frozen=True)
class Keyed:
    """A body's motion by few keys.

    Attributes:
        motion: as a setup has it. keys_of_place, keys_of_turn, frames: how many.
        off_m, off_deg: bounds on how far it is from the original at any moment.
        misfit_m: how far the body's points are from any rigid motion, at most.
    """

    motion: dict[str, Any]
    keys_of_place: int
    keys_of_turn: int
    frames: int
    off_m: float
    off_deg: float
    misfit_m: float


def keyed(poses: Poses, pivot: Any, bound_m: float, bound_deg: float, angles: str = "") -> Keyed:
    """Return the motion of a body about its origin, by few keys within bounds that hold at every moment.

    Args:
        poses: its way. pivot: its origin (3,) where it stands, metres.
        bound_m, bound_deg: what its origin may be off, and its turn; 0 keeps a key a frame.
        angles: an order, as in "xyz", for turns as angles instead of quaternions.
    """
    origin = np.asarray(pivot, dtype=np.float64)
    matrices = np.array([quaternion_turn(q) for q in poses.turn])
    places = poses.shift + matrices @ origin - origin
    turns = continuous(poses.turn)
    numbers, leave, arrive = reduced_places(places, bound_m)
    keys: list[Any] = []
    for n, k in enumerate(numbers):
        key: list[Any] = [poses.first + k, _short(places[k])]
        if n < len(leave):
            key.append({"leave": _short(leave[n]), "arrive": _short(arrive[n])})
        keys.append(key)
    motion: dict[str, Any] = {"translate": {"keys": keys, "ease": "straight"}}
    if angles:
        found, off = reduced_angles(turns, check_order(angles), np.radians(bound_deg))
        picked = list(range(len(found)))
        turned: list[Any] = []
        for held in found:
            turned.append([poses.first + held.frame, _short(held.angles)])
            if held.leave is not None and held.arrive is not None:
                turned[-1].append({"leave": _short(held.leave), "arrive": _short(held.arrive)})
        motion |= {"rotate": {"keys": turned, "ease": "straight"}, "rotate_order": angles}
    else:
        picked = reduced_turns(turns, np.radians(bound_deg))
        motion["turn"] = {
            "keys": [[poses.first + k, _short(turns[k])] for k in picked], "ease": "straight",
        }  # fmt: skip
        off = worst_turns(turns, picked)
    return Keyed(
        motion, len(numbers), len(picked), len(places), worst_places(places, numbers),
        float(np.degrees(off)), float(poses.misfit_m.max(initial=0.0)),
    )  # fmt: skip


def _short(values: Floats) -> list[float]:
    """Return numbers with as many digits as are worth keeping: a tenth of a micrometre, a millionth of a degree."""
    return [round(float(v), 8) for v in values]


def continuous(turns: Floats) -> Floats:
    """Return quaternions (k, 4) each with the sign that is nearest to the one before."""
    found = turns.copy()
    for one, two in pairwise(range(len(found))):
        if found[one] @ found[two] < 0.0:
            found[two] = -found[two]
    return found
