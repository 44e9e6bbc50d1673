"""Checks of what comes before the first bake: sizes, meshes, and what colliders are to touch."""

from __future__ import annotations

import json
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.tree import build_tree, distances_to_mesh
from zembrik.core.exchange.sizes import declared_unit
from zembrik.core.findings.finding import Finding, set_value
from zembrik.core.mesh.audit import NEEDLE
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.proxy.deviation import deviations
from zembrik.core.remember import Aside
from zembrik.core.setup.assets import Assets, file_part, placed_mesh
from zembrik.core.setup.document import (
    BallMesh,
    Body,
    CapsuleMesh,
    CylinderMesh,
    FileMesh,
    GridMesh,
    Place,
    RingMesh,
    Setup,
)
from zembrik.core.setup.materials import SIMULATED
from zembrik.core.setup.resolve import Resolved
from zembrik.core.solver.colliders import is_found, proxy_shapes
from zembrik.core.units import METRES_PER_UNIT, UNIT_NAMES, turn_matrix

LEAST_M, MOST_M = 0.005, 60.0  # a simulated body's longest side: beyond, its unit is wrong more often than not
UNITS = {0.001: "millimetres", 0.01: "centimetres", 0.0254: "inches", 0.3048: "feet"}
FEW_NEEDLES = 0.002  # share of a cloth's faces
ROUND = 0.6  # points farther apart than this times a radius cut through what is round (by r/22 in the middle)
WIDE_GAP, LEAST_GAP_M = 0.06, 0.004  # of the body's size: things would visibly rest on air


def wrong_sizes(setup: Setup, assets: Assets) -> list[Finding]:
    """A simulated body so large or so small that its unit is likely wrong."""
    found = []
    for k, body in enumerate(setup.bodies):
        if body.role not in SIMULATED:
            continue
        mesh = placed_mesh(body, assets)
        longest = float(mesh.size.max())
        if LEAST_M <= longest <= MOST_M or longest == 0.0:
            continue
        gravity = float(np.linalg.norm(setup.world.gravity)) or 9.81
        frames = float(np.sqrt(2 * max(float(mesh.size[1]), 1e-9) / gravity) * setup.fps)
        factors = UNITS if longest > MOST_M else {1 / f: n for f, n in UNITS.items()}
        factor = min(factors, key=lambda f: abs(np.log(longest * f)))
        way = "read as metres" if longest > MOST_M else "scaled down"
        text = (
            f"'{body.name}' is {_length(longest)} long and falls its own height in {frames:.1f} frames. "
            f"If its numbers are {factors[factor]} {way}, it is {_length(longest * factor)}."
        )
        patch = [set_value(f"/bodies/{k}/place/scale", float(f"{body.place.scale * factor:.6g}"))]
        label = f"Make it {_length(longest * factor)} long"
        found.append(Finding("wrong_size", "Intake", False, "An unlikely size", text, body.name, None, label, patch))
    return found


def scale_for_a_unit(setup: Setup, assets: Assets) -> list[Finding]:
    """A scale set by hand that is the step from one unit to another: it hides what unit the file is in."""
    found = []
    for k, body in enumerate(setup.bodies):
        if not isinstance(body.mesh, FileMesh) or abs(body.place.scale - 1.0) < 0.01:
            continue
        unit = body.mesh.unit or declared_unit(file_part(body.mesh, assets).unit_m) or "m"
        unit_m = body.place.scale * METRES_PER_UNIT[unit]
        fits = [u for u, m in METRES_PER_UNIT.items() if abs(unit_m / m - 1.0) < 0.005]
        if not fits:
            continue
        said, better = UNIT_NAMES[unit], UNIT_NAMES[fits[0]]
        text = (
            f"'{body.name}' is said to be in {said} and is scaled by {body.place.scale:.4g}: its numbers are {better}. "
            "Another mesh of the same hand would come in at the wrong size again. Nothing moves by saying so."
        )
        patch = [set_value(f"/bodies/{k}/mesh/unit", fits[0]), set_value(f"/bodies/{k}/place/scale", 1.0)]
        label = f"Say {better}, scale 1"
        found.append(
            Finding(
                "scale_for_a_unit", "Intake", False, "A scale that stands for a unit", text, body.name, None, label,
                patch,
            )
        )  # fmt: skip
    return found


def against_its_file(setup: Setup, assets: Assets) -> list[Finding]:
    """A unit or an axis of a setup that its file says otherwise: one of both is wrong."""
    found = []
    for k, body in enumerate(setup.bodies):
        if body.role == "left out" or not isinstance(body.mesh, FileMesh):
            continue
        part, told, patch = file_part(body.mesh, assets), [], []
        unit = body.mesh.unit
        if unit is not None and part.unit_m is not None and abs(METRES_PER_UNIT[unit] / part.unit_m - 1.0) > 1e-4:
            named = declared_unit(part.unit_m)
            words = UNIT_NAMES[named] if named else f"units of {part.unit_m:g} m"
            told.append(f"in {words}, and is read as {UNIT_NAMES[unit]}")
            patch.append(set_value(f"/bodies/{k}/mesh/unit", None))
        if body.mesh.up_axis is not None and part.up is not None and body.mesh.up_axis != part.up:
            told.append(f"with {part.up.upper()} up, and is read with {body.mesh.up_axis.upper()} up")
            patch.append(set_value(f"/bodies/{k}/mesh/up_axis", None))
        if told:
            text = f"The file of '{body.name}' says it is {'; '.join(told)}."
            label, title = "Take what the file says", "Its file says otherwise"
            found.append(Finding("against_its_file", "Intake", False, title, text, body.name, None, label, patch))
    return found


def needle_faces(setup: Setup, assets: Assets) -> list[Finding]:
    """A cloth with many long thin faces."""
    found = []
    for body in setup.bodies:
        if body.role != "cloth":
            continue
        mesh = placed_mesh(body, assets)
        sides = mesh.points[np.roll(mesh.faces, -1, axis=1)] - mesh.points[mesh.faces]
        longest = np.linalg.norm(sides, axis=2).max(axis=1)
        needle = longest**2 > 2.0 * NEEDLE * mesh.face_areas
        if not needle.any() or needle.mean() < FEW_NEEDLES:
            continue
        worst = int(np.argmax(longest**2 / np.maximum(mesh.face_areas, 1e-300)))
        text = (
            f"{int(needle.sum())} of the {len(needle):,} faces of '{body.name}' are over {NEEDLE:.0f} times longer "
            "than high. They fold badly and hold up the solver. Give it an even spacing under Density below."
        )
        at = _place(mesh.points[mesh.faces[worst]].mean(axis=0))
        found.append(Finding("needle_faces", "Intake", False, "Needles in a cloth", text, body.name, at))
    return found


def coarse_for_curves(setup: Setup, assets: Assets) -> list[Finding]:
    """A cloth whose points are too far apart for the roundest thing below it."""
    found = []
    down = np.asarray(setup.world.gravity, dtype=np.float64)
    round_ones = []
    for body in setup.bodies:
        radius = _radius_m(body, down)
        if body.role in ("collider", "rigid") and radius is not None:
            round_ones.append((body, radius, placed_mesh(body, assets)))
    for k, body in enumerate(setup.bodies):
        if body.role != "cloth":
            continue
        mesh = placed_mesh(body, assets)
        spacing = float(np.median(mesh.edge_lengths))
        near = [
            (r, b.name) for b, r, m in round_ones if r is not None and spacing > ROUND * r and _meet(setup, mesh, m)
        ]
        if not near:
            continue
        radius, name = min(near)
        wanted = 0.5 * ROUND * radius
        text = (
            f"The points of '{body.name}' are {_length(spacing)} apart, and '{name}' has a radius of "
            f"{_length(radius)}: the cloth would lie on it like a board on a pole. Up to {_length(ROUND * radius)} "
            "follows the curve."
        )
        label, patch = "", []
        if isinstance(body.mesh, GridMesh):
            segments = [max(2, round(s * body.place.scale / wanted)) for s in body.mesh.size]
            if segments[0] * segments[1] <= 250_000:
                label = f"Use {segments[0]} × {segments[1]} cells"
                patch = [set_value(f"/bodies/{k}/mesh/segments", segments)]
        else:
            text += " Set a finer spacing under Density below."
        found.append(
            Finding("coarse_for_curves", "Intake", False, "Too coarse for a curve", text, body.name, None, label, patch)
        )
    return found


def wide_gaps(setup: Setup, resolved: Resolved, assets: Assets) -> list[Finding]:
    """A proxy that stands far off its mesh, with something that can come to touch it there; copies are told as one."""
    simulated = [b.name for b in setup.bodies if b.role in SIMULATED]
    alike: dict[str, list[int]] = {}
    for k, body in enumerate(setup.bodies):
        if body.role in ("collider", "rigid") and any(name != body.name for name in simulated):
            proxy = resolved.document["bodies"][k]["proxy"]
            if proxy["kind"] not in ("surface", "reduced", "plane"):
                same = [body.role, body.mesh.model_dump(mode="json"), body.place.scale, proxy]
                alike.setdefault(json.dumps(same, sort_keys=True), []).append(k)
    found = []
    for key, numbers in alike.items():
        body, proxy = setup.bodies[numbers[0]], resolved.document["bodies"][numbers[0]]["proxy"]
        mesh = placed_mesh(body, assets)
        if not is_found(body, proxy, mesh):
            continue  # the Proxies station has it measured, and then this is looked at again
        gap, size, at = _widest_gap(key, Aside((body, proxy, assets)))
        if gap < max(WIDE_GAP * size, LEAST_GAP_M):
            continue
        better = "surface" if body.role == "collider" or proxy["kind"] == "hulls" else "hulls"
        others = f", and of {len(numbers) - 1} more like it," if len(numbers) > 1 else ""
        text = (
            f"The {proxy['kind']} of '{body.name}'{others} stands {_length(gap)} off its mesh, {100 * gap / size:.0f}% "
            "of its size: what comes to lie there lies on air."
        )
        where = _place(turn_matrix(body.place.rotate) @ at + np.asarray(body.place.translate))
        patch = [set_value(f"/bodies/{k}/proxy", {"kind": better}) for k in numbers]
        found.append(
            Finding("wide_gap", "Proxies", False, "A proxy stands off", text, body.name, where, f"Use {better}", patch)
        )
    return found


@lru_cache(maxsize=256)
def _widest_gap(
    key: str, aside: Aside[tuple[Body, dict[str, Any], Assets]]
) -> tuple[float, float, NDArray[np.float64]]:
    """Return the widest gap (m), the body's size (m), and where, from the body's origin and in its own axes."""
    one, proxy, assets = aside.value
    body = Body(name=one.name, mesh=one.mesh, place=Place(scale=one.place.scale))
    mesh = placed_mesh(body, assets)
    finer, off = deviations(proxy_shapes(body, proxy, mesh), mesh)
    worst = int(np.argmin(off))
    return max(-float(off[worst]), 0.0), float(np.linalg.norm(mesh.size)), finer.points[worst]


SAMPLES = 100  # points of a body that are looked at, …
MOST_LOOKS, FEWEST_PLACES = 4_000_000, 200  # … and of all bodies together: times the faces of a collider; at least


def facing_away(setup: Setup, resolved: Resolved, assets: Assets) -> list[Finding]:
    """An open sheet that is a collider from its outside only, with a body on its back."""
    found = []
    for k, body in enumerate(setup.bodies):
        proxy = resolved.document["bodies"][k].get("proxy")
        if body.role != "collider" or not proxy or proxy["kind"] not in ("surface", "reduced"):
            continue
        if proxy["sides"] == "both":
            continue
        mesh = placed_mesh(body, assets)
        if mesh.is_closed:
            continue
        falling = [other for other in setup.bodies if other.role in SIMULATED]
        places = max(MOST_LOOKS // len(mesh.faces), FEWEST_PLACES)
        each = max(min(SAMPLES, places // max(len(falling), 1)), 1)
        for other in falling[:: max(1, len(falling) // places)]:
            at = placed_mesh(other, assets).points
            at = at[:: max(1, len(at) // each)]
            off, away = _falls_onto(mesh, at, np.asarray(setup.world.gravity, dtype=np.float64))
            if not len(off) or away.mean() < 0.5:
                continue
            text = (
                f"'{other.name}' comes onto the back of '{body.name}', {_length(float(np.abs(off).min()))} away. An "
                "open sheet that is touched from its outside lets through what comes from behind."
            )
            patch = [set_value(f"/bodies/{k}/proxy", {**_given(body), "kind": proxy["kind"], "sides": "both"})]
            found.append(
                Finding("facing_away", "Proxies", False, "A collider faces away", text, body.name,
                        _place(mesh.points.mean(axis=0)), "Touch it from both sides", patch)
            )  # fmt: skip
            break
    return found


def _falls_onto(
    mesh: TriMesh, at: NDArray[np.float64], gravity: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """Return how far (k,) the places (n, 3) that fall onto a mesh fall until they meet it, and whether on its back.

    Without gravity it is the nearest face that counts.
    """
    strength = float(np.linalg.norm(gravity))
    if strength == 0.0:
        off = distances_to_mesh(build_tree(mesh), at)
        return off, off < 0.0
    down = gravity / strength
    across = np.linalg.svd(down[None, :])[2][1:]
    corners = mesh.points[mesh.faces]
    flat, deep, upright = corners @ across.T, corners @ down, mesh.face_normals @ down
    edge_1, edge_2 = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    area = edge_1[:, 0] * edge_2[:, 1] - edge_1[:, 1] * edge_2[:, 0]
    whole = np.abs(area) > 1e-12 * float(np.abs(area).max(initial=1e-300))
    found: list[tuple[float, bool]] = []
    for place in at:
        way = place @ across.T - flat[:, 0]
        safe = np.where(whole, area, 1.0)
        u = (way[:, 0] * edge_2[:, 1] - way[:, 1] * edge_2[:, 0]) / safe
        v = (edge_1[:, 0] * way[:, 1] - edge_1[:, 1] * way[:, 0]) / safe
        depth = deep[:, 0] + u * (deep[:, 1] - deep[:, 0]) + v * (deep[:, 2] - deep[:, 0]) - place @ down
        hit = whole & (u >= 0.0) & (v >= 0.0) & (u + v <= 1.0) & (depth > -1e-9)
        if hit.any():
            face = int(np.argmin(np.where(hit, depth, np.inf)))
            found.append((float(depth[face]), bool(upright[face] > 0.0)))
    return np.array([d for d, _ in found]), np.array([b for _, b in found], dtype=np.bool_)


def _given(body: Body) -> dict[str, Any]:
    return body.proxy.model_dump(mode="json", exclude_unset=True) if body.proxy else {}


def _radius_m(body: Body, down: NDArray[np.float64]) -> float | None:
    """Return the radius (m) of a round body that cloth may lie around; None where there is none, or it is upright."""
    mesh, scale = body.mesh, body.place.scale
    if isinstance(mesh, CylinderMesh | CapsuleMesh):
        axis = turn_matrix(body.place.rotate)[:, 1]
        upright = abs(float(axis @ down)) > 0.7 * float(np.linalg.norm(down)) > 0.0
        return None if upright else mesh.radius * scale
    if isinstance(mesh, BallMesh):
        return mesh.radius * scale
    return mesh.tube * scale if isinstance(mesh, RingMesh) else None


def _meet(setup: Setup, falling: TriMesh, other: TriMesh) -> bool:
    """Tell whether the shadow that a mesh throws along gravity reaches into another's box."""
    gravity = np.asarray(setup.world.gravity, dtype=np.float64)
    low, high = falling.points.min(axis=0), falling.points.max(axis=0)
    box_low, box_high = other.points.min(axis=0), other.points.max(axis=0)
    down = int(np.argmax(np.abs(gravity)))
    for axis in range(3):
        if axis == down and np.any(gravity):
            if gravity[axis] < 0 and box_low[axis] > high[axis]:
                return False
            if gravity[axis] > 0 and box_high[axis] < low[axis]:
                return False
        elif low[axis] > box_high[axis] or high[axis] < box_low[axis]:
            return False
    return True


def _length(metres: float) -> str:
    """Return a length in words."""
    if metres < 0.0095:
        return f"{metres * 1000:.2g} mm"
    if metres < 0.995:
        return f"{metres * 100:.3g} cm"
    return f"{metres:.3g} m" if metres < 1000 else f"{metres:,.0f} m"


def _place(point: NDArray[np.float64]) -> tuple[float, float, float]:
    return (round(float(point[0]), 5), round(float(point[1]), 5), round(float(point[2]), 5))


def prepare_findings(setup: Setup, resolved: Resolved, assets: Assets) -> list[Finding]:
    """Return all findings of this module."""
    try:
        return [
            *wrong_sizes(setup, assets), *scale_for_a_unit(setup, assets), *against_its_file(setup, assets),
            *needle_faces(setup, assets), *coarse_for_curves(setup, assets),
            *wide_gaps(setup, resolved, assets), *facing_away(setup, resolved, assets),
        ]  # fmt: skip
    except Problem:
        return []  # told as what makes the setup unusable
