"""Ways out of overlaps as changes of a setup, each with what it costs."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets
from zembrik.core.setup.document import Setup
from zembrik.core.setup.resolve import resolve
from zembrik.core.solver.build import build_world
from zembrik.core.start.overlap import A_TOUCH_M, Overlap, find_meetings, find_overlaps
from zembrik.core.start.pairs import rigid_pairs
from zembrik.core.start.ways import ease_apart, probe, shrink_to_fit, thin_out
from zembrik.core.telling import Tell, silent

WAYS = {
    "ease apart": "Moves rigid bodies apart by many small passes; sizes and turns stay.",
    "shrink to fit": "Makes the rigid bodies that overlap smaller; places stay.",
    "thin out": "Takes out the fewest rigid bodies that end all overlaps.",
    "ease in": "Starts colliders clear of what they press into, and moves them there over some frames.",
}
EASE_IN_FRAMES = 12
PROBE_FRAMES = 4


@dataclass(frozen=True)
class Row:
    """One overlapping pair: names, depth in metres, the place (x, y, z), and the speed that pushing out gives, m/s."""

    one: str
    other: str
    depth_m: float
    at: tuple[float, float, float]
    speed: float


@dataclass(frozen=True)
class Proposal:
    """A way out: the JSON patch, and what it changes in words."""

    way: str
    patch: list[dict[str, Any]]
    words: str


def overlaps_of(setup: Setup, assets: Assets) -> list[Row]:
    """Return every overlapping pair at the start, deepest first.

    Raises:
        Problem: when the setup cannot be simulated.
    """
    world = build_world(setup, assets)
    dt = 1.0 / (setup.fps * resolve(setup).count_at_start("substeps"))
    pairs, names = rigid_pairs(world), [part.name for part in world.solids.parts]
    rows = [
        Row(names[a], names[b] if b >= 0 else world.colliders.names[-1 - b], float(d), _three(at), float(d) / dt)
        for a, b, d, at in zip(pairs.a, pairs.b, pairs.depth, pairs.at, strict=True)
    ]
    rows += [
        Row(o.body, o.collider, o.depth_m, _three(o.at), o.depth_m / dt)
        for o in _of_others(find_overlaps(world), names)
    ]
    rows += [Row(m.one, m.other, m.depth_m, _three(m.at), m.depth_m / dt) for m in find_meetings(world)]
    return sorted([r for r in rows if r.depth_m >= A_TOUCH_M], key=lambda r: (-r.depth_m, r.one, r.other))


def _of_others(overlaps: list[Overlap], rigid: list[str]) -> list[Overlap]:
    held = set(rigid)
    return [o for o in overlaps if o.body not in held]


def propose(setup: Setup, assets: Assets, way: str, frames: int = EASE_IN_FRAMES, tell: Tell = silent) -> Proposal:
    """Return what a way out changes; the same setup gives the same proposal.

    Args:
        setup, assets: the document and its meshes.
        way: one of `WAYS`. frames: over which colliders move in. tell: is told how far it is.

    Raises:
        Problem: when there is nothing that this way could do.
        Stopped: when `tell` says so.
    """
    if way not in WAYS:
        raise Problem(f"there is no way '{way[:40]}'.", "start", "Load the page again.")
    world = build_world(setup, assets)
    numbers = {body.name: k for k, body in enumerate(setup.bodies)}
    parts = world.solids.parts
    if way == "ease in":
        return _ease_in(setup, find_overlaps(world), numbers, frames)
    pairs = rigid_pairs(world)
    if not len(pairs):
        raise Problem("no rigid bodies overlap.", way, "There is nothing to do.")
    if way == "ease apart":
        done = ease_apart(world, tell=tell)
        far = np.linalg.norm(done.shift, axis=1)
        patch = []
        for part, shift, moved in zip(parts, done.shift, far, strict=True):
            if moved > 0.0:
                place = setup.bodies[numbers[part.name]].place
                at = [round(float(v), 7) for v in np.array(place.translate) + shift]
                patch.append(_set_place(setup, numbers[part.name], translate=at))
        left = "none overlaps any more" if done.left_m == 0.0 else f"the deepest left is {done.left_m * 1e3:.2f} mm"
        words = (
            f"{len(patch)} bodies move, by {far[far > 0].mean() * 1e3:.1f} mm in the mean and {far.max() * 1e3:.1f} mm "
            f"at most, in {done.passes} passes; {left}."
        )
        return Proposal(way, patch, words)
    if way == "shrink to fit":
        scales = shrink_to_fit(world)
        patch = []
        for part, scale in zip(parts, scales, strict=True):
            if scale < 1.0:
                k = numbers[part.name]
                place, centre = setup.bodies[k].place, part.mass.centre
                at = centre + (np.array(place.translate) - centre) * scale
                patch.append(
                    _set_place(setup, k, scale=float(f"{place.scale * scale:.7g}"),
                               translate=[round(float(v), 7) for v in at])
                )  # fmt: skip
        small = scales[scales < 1.0]
        words = (
            f"{len(patch)} bodies become smaller, {small.mean():.2f} × in the mean, the smallest {small.min():.2f} ×."
        )
        return Proposal(way, patch, words)
    jointed = {name for joint in setup.joints for name in joint.bodies}
    free = np.array([part.mover is None and part.name not in jointed for part in parts])
    gone = [parts[r].name for r in thin_out(pairs, free)]
    if not gone:
        raise Problem("what overlaps is driven or jointed, so none may go.", way, "Ease it apart, or move it.")
    shown = ", ".join(gone[:4]) + (" …" if len(gone) > 4 else "")
    patch = [{"op": "remove", "path": f"/bodies/{k}"} for k in sorted((numbers[n] for n in gone), reverse=True)]
    return Proposal(way, patch, f"{len(gone)} of {len(parts)} rigid bodies go: {shown}; the others stay as they are.")


def _ease_in(setup: Setup, overlaps: list[Overlap], numbers: dict[str, int], frames: int) -> Proposal:
    if not 1 <= frames <= 1000:
        raise Problem("easing in takes 1 to 1,000 frames.", "ease in", "Type another number.")
    worst: dict[str, Overlap] = {}
    for o in overlaps:
        body = setup.bodies[numbers[o.collider]] if o.collider in numbers else None
        if body is None or body.motion is not None or not np.isfinite(o.lift_m):
            continue
        if o.collider not in worst or o.lift_m > worst[o.collider].lift_m:
            worst[o.collider] = o
    if not worst:
        raise Problem("no collider that stands still presses into anything.", "ease in", "There is nothing to do.")
    first = setup.frames[0] - setup.preroll
    patch, words = [], []
    for name, o in worst.items():
        off = [round(float(v), 6) for v in -o.direction * (o.lift_m + 1e-4)]
        track = {"keys": [[first, off], [first + frames, [0, 0, 0]]], "ease": "smooth"}
        patch.append({"op": "add", "path": f"/bodies/{numbers[name]}/motion", "value": {"translate": track}})
        words.append(f"'{name}' starts {o.lift_m * 1e3:.1f} mm back and is in place after {frames} frames")
    return Proposal("ease in", patch, "; ".join(words) + ".")


def probe_start(setup: Setup, assets: Assets, tell: Tell = silent) -> str:
    """Return in words what the overlaps alone do in four frames without gravity and wind."""
    world = build_world(setup, assets)
    if not world.solids.parts:
        raise Problem("there is no rigid body to probe.", "start", "Give a body the role rigid.")
    done = probe(world, resolve(setup).count_at_start("substeps"), PROBE_FRAMES, tell)
    if done.farthest < 1e-5:
        return f"Nothing moves in {PROBE_FRAMES} frames without forces: the start is at rest."
    name = world.solids.parts[done.body].name
    return (
        f"In {PROBE_FRAMES} frames without any force the fastest body reaches {done.fastest:.2f} m/s; "
        f"'{name}' goes farthest, {done.farthest * 1e3:.1f} mm."
    )


def _set_place(setup: Setup, number: int, **changes: Any) -> dict[str, Any]:
    place = {**setup.bodies[number].place.model_dump(mode="json"), **changes}
    return {"op": "add", "path": f"/bodies/{number}/place", "value": place}


def _three(at: Any) -> tuple[float, float, float]:
    return (round(float(at[0]), 5), round(float(at[1]), 5), round(float(at[2]), 5))
