"""Simulated bodies of a bake become keyed ones: the simulation goes, the motion stays."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import jsonpatch
import numpy as np

from zembrik.core.cache.reader import Cache
from zembrik.core.keys.from_cache import Keyed, Poses, keyed, poses_of
from zembrik.core.keys.smooth import values_at
from zembrik.core.motion.rigid import Mover
from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.core.telling import Tell, silent, step
from zembrik.core.units import quaternion_turn
from zembrik.library.many import role_patch
from zembrik.library.shots import Patch


@dataclass(frozen=True)
class Keying:
    """What keying bodies comes to.

    Attributes:
        patch: of the setup. words: what was done, for people.
        plot: of the body that goes farthest: its name, frames, places (k, 3) and reduced places, and its keys' frames.
    """

    patch: Patch
    words: str
    plot: dict[str, Any]


def key_bodies(
    document: dict[str, Any], cache: Cache, names: list[str], bound_m: float, bound_deg: float, angles: str = "",
    tell: Tell = silent,
) -> Keying:  # fmt: skip
    """Return the patch by which bodies of a setup go by keys as they went in a cache, as colliders.

    Args:
        document: the setup as it stands. cache: of a bake of it. names: of the bodies; none for all rigid ones.
        bound_m, bound_deg: what origins and turns may be off, at any moment. angles: see `keys.from_cache.keyed`.
        tell: is told how far it is.

    Raises:
        Problem: when there is nothing to key. Stopped: when `tell` says so.
    """
    if not 0.0 <= bound_m < 100.0 or not 0.0 <= bound_deg < 180.0:
        raise Problem("a bound is 0 or more.", "keys", "Type one, as in 1 mm and 0.5 degrees.")
    setup = parse_setup(document)
    wanted = names or [n for k, n in enumerate(cache.names) if cache.is_rigid(k)]
    numbers = {b.name: k for k, b in enumerate(setup.bodies)}
    done: list[tuple[str, Keyed, Poses]] = []
    left: list[str] = []
    changed = document
    for k, name in enumerate(wanted):
        step(tell, k, len(wanted))
        if name not in numbers or name not in cache.names or setup.bodies[numbers[name]].role == "collider":
            left.append(name)
            continue
        body = setup.bodies[numbers[name]]
        poses = poses_of(cache, cache.body_number(name))
        found = keyed(poses, body.place.translate, bound_m, bound_deg, angles)
        patch: Patch = role_patch(changed["bodies"][numbers[name]], numbers[name], "collider")
        patch.append({"op": "add", "path": f"/bodies/{numbers[name]}/motion", "value": found.motion})
        changed = jsonpatch.JsonPatch(patch).apply(changed)
        done.append((name, found, poses))
    if not done:
        raise Problem("there is no simulated body to key.", "keys", "Bake rigid bodies first, or choose others.")
    gone = {name for name, _, _ in done}
    joints = [j for j in changed.get("joints", []) if not gone & {n for n in j["bodies"] if n}]
    if len(joints) < len(changed.get("joints", [])):
        changed = {**changed, "joints": joints}
    told = _words(done, left, len(document.get("joints", [])) - len(joints), angles)
    return Keying(jsonpatch.make_patch(document, changed).patch, told, _plot(done, setup.bodies, numbers))


def _words(done: list[tuple[str, Keyed, Poses]], left: list[str], joints: int, angles: str) -> str:
    frames = sum(k.frames for _, k, _ in done)
    places, turns = sum(k.keys_of_place for _, k, _ in done), sum(k.keys_of_turn for _, k, _ in done)
    who = f"{len(done)} bodies" if len(done) > 1 else f"'{done[0][0]}'"
    words = (
        f"{who}: {frames:,} frames become {places:,} keys of place and {turns:,} of turn"
        f"{f' as angles {angles.upper()}' if angles else ''}; nowhere more than "
        f"{1e3 * max(k.off_m for _, k, _ in done):.3g} mm and "
        f"{max(k.off_deg for _, k, _ in done):.3g}° off, between frames too."
    )
    misfit = max(done, key=lambda d: d[1].misfit_m)
    if misfit[1].misfit_m > 1e-4:
        words += f" '{misfit[0]}' changes its form: its points are up to {1e3 * misfit[1].misfit_m:.3g} mm from that."
    if joints:
        words += f" {joints} joint{'s go' if joints > 1 else ' goes'}: what is keyed is held by its keys."
    if left:
        words += f" Left as they are, since they are not simulated here: {', '.join(left[:5])}."
    return words


def _plot(done: list[tuple[str, Keyed, Poses]], bodies: Any, numbers: dict[str, int]) -> dict[str, Any]:
    """Return original and reduced places of the body that goes farthest, at four moments a frame."""
    name, found, poses = max(done, key=lambda d: float(np.ptp(d[2].shift, axis=0).max()))
    pivot = np.asarray(bodies[numbers[name]].place.translate, dtype=np.float64)
    keys = found.motion["translate"]["keys"]
    mover = Mover({"translate": found.motion["translate"]}, [0.0, 0.0, 0.0])
    at = np.linspace(0.0, len(poses.shift) - 1, min(4 * len(poses.shift), 480))
    origins = np.array([s + quaternion_turn(q) @ pivot - pivot for s, q in zip(poses.shift, poses.turn, strict=True)])
    reduced = np.array([mover.at(poses.first + float(t))[1] for t in at])
    return {
        "name": name,
        "frames": (poses.first + at).round(3).tolist(),
        "places": values_at(origins, at).round(5).tolist(),
        "reduced": reduced.round(5).tolist(),
        "keys": [key[0] for key in keys],
    }
