"""Taking a frame of a cache as the start: rigid bodies are placed where they lie, others begin in their form."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.reader import Cache
from zembrik.core.motion.angles import angles_of
from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup
from zembrik.core.units import quaternion_turn, turn_matrix

CALM_M_PER_S = 0.02  # a body none of whose points goes faster is at rest
CALM_FRAMES = 6  # and so for as long as this, at least


@dataclass(frozen=True)
class Kept:
    """A start taken from a frame.

    Attributes:
        patch: JSON Patch (RFC 6902) of places and joints.
        forms: float32 (points, 3) in metres for every cloth and soft body, by the body's number in the setup.
        words: what was kept, and what could not be.
    """

    patch: list[dict[str, Any]]
    forms: dict[int, NDArray[np.float32]]
    words: str


def rest_frame(cache: Cache) -> int | None:
    """Return the first frame from which on everything in a cache is at rest; None when it still moves at its end."""
    if cache.done is None or cache.done - cache.first < CALM_FRAMES:
        return None
    limit = CALM_M_PER_S / cache.fps
    numbers = range(len(cache.names))
    later = [cache.points(n, cache.done) for n in numbers]
    frame = cache.done
    while frame > cache.first:
        now = [cache.points(n, frame - 1) for n in numbers]
        moved = max(float(np.linalg.norm(b - a, axis=1).max(initial=0.0)) for a, b in zip(now, later, strict=True))
        if moved > limit:
            break
        later, frame = now, frame - 1
    return frame if cache.done - frame >= CALM_FRAMES else None


def kept_start(setup: Setup, cache: Cache, frame: int) -> Kept:
    """Return the setup's start as it is at a frame of a cache of the same bodies.

    Bodies that a track drives keep their track. The inside of a soft body is found anew from its surface, and what it
    was dented for good is given back.

    Raises:
        Problem: when the frame is not there, or the cache has none of the setup's bodies.
    """
    numbers = {body.name: k for k, body in enumerate(setup.bodies)}
    patch: list[dict[str, Any]] = []
    forms: dict[int, NDArray[np.float32]] = {}
    moved: dict[str, tuple[NDArray[np.float64], NDArray[np.float64]]] = {}
    left: list[str] = []
    for n, name in enumerate(cache.names):
        k = numbers.get(name)
        if k is None or setup.bodies[k].role not in ("cloth", "soft", "rigid"):
            continue
        body = setup.bodies[k]
        if body.role in ("cloth", "soft"):
            forms[k] = cache.points(n, frame)
            continue
        if body.motion is not None or not cache.is_rigid(n):
            left.append(name)
            continue
        pose = cache.pose(n, frame)
        turn, shift = quaternion_turn(pose[3:]), pose[:3]
        moved[name] = turn, shift
        angles = angles_of((turn @ turn_matrix(body.place.rotate))[None])[0]
        at = turn @ np.asarray(body.place.translate) + shift
        place = {
            **body.place.model_dump(mode="json", exclude_unset=True),
            "translate": _round(at, 6),
            "rotate": _round(angles, 5),
        }
        patch.append({"op": "add", "path": f"/bodies/{k}/place", "value": place})
    for j, joint in enumerate(setup.joints):
        if joint.bodies[0] in moved:
            turn, shift = moved[joint.bodies[0]]
            patch.append(
                {"op": "add", "path": f"/joints/{j}/at", "value": _round(turn @ np.asarray(joint.at) + shift, 6)}
            )
            patch.append({"op": "add", "path": f"/joints/{j}/axis", "value": _round(turn @ np.asarray(joint.axis), 6)})
        if joint.limits is not None:  # they count from the first frame
            one, other = (moved[name][0] if name in moved else np.eye(3) for name in joint.bodies)
            limits = _limits_from(joint.limits, _turned_deg(np.asarray(joint.axis), one, other))
            patch.append({"op": "add", "path": f"/joints/{j}/limits", "value": limits})
    if not patch and not forms:
        raise Problem("the bake has nothing that is free to keep.", "start", "Bake the shot as it is first.")
    parts = [f"{len(moved)} rigid bod{'y' if len(moved) == 1 else 'ies'}"] if moved else []
    parts += [f"the form of {len(forms)} bod{'y' if len(forms) == 1 else 'ies'}"] if forms else []
    words = f"start as at frame {frame}: {' and '.join(parts)}"
    return Kept(patch, forms, words + (f"; not {', '.join(left)}" if left else ""))


def _turned_deg(axis: NDArray[np.float64], first: NDArray[np.float64], second: NDArray[np.float64]) -> float:
    """Return how far turns (3, 3) of a hinge's first body are ahead of its second's, about its axis at their start."""
    axis = axis / np.linalg.norm(axis)
    across = np.cross(axis, np.eye(3)[int(np.argmin(np.abs(axis)))])
    way = second.T @ first @ across
    return float(np.degrees(np.arctan2(np.cross(across, way) @ axis, across @ way)))


def _limits_from(limits: tuple[float, float], angle_deg: float) -> list[float]:
    """Return limits as counted from an angle between them."""
    middle = 0.5 * (limits[0] + limits[1])
    angle_deg = middle + (angle_deg - middle + 180.0) % 360.0 - 180.0
    return [min(round(limits[0] - angle_deg, 5), 0.0), max(round(limits[1] - angle_deg, 5), 0.0)]


def _round(values: NDArray[np.float64], digits: int) -> list[float]:
    return [round(float(v), digits) for v in values]
