"""Every check of a setup, in the order of the job."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from zembrik.core.findings.enough import (
    fast_for_thickness,
    quick_to_bounce,
    squeezed,
)
from zembrik.core.findings.finding import Finding, set_value
from zembrik.core.findings.handing import handover_findings
from zembrik.core.findings.idle import idle_dials
from zembrik.core.findings.prepare import prepare_findings
from zembrik.core.findings.tune import tune_findings
from zembrik.core.layout.fall import fall_onto
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.proxy.outline import outline
from zembrik.core.setup.assets import Assets, placed_mesh
from zembrik.core.setup.document import CacheMesh, GridMesh, Setup
from zembrik.core.setup.materials import SIMULATED
from zembrik.core.setup.resolve import resolve
from zembrik.core.solver.build import build_world
from zembrik.core.solver.world import World
from zembrik.core.start.overlap import A_TOUCH_M, UP, Overlap, find_meetings, find_overlaps, places_of
from zembrik.core.start.pairs import rigid_pairs

NO_MESH = TriMesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32))
FEW_ROWS = 10  # fewer rows of points than this across a sheet fold like a board


def check_setup(setup: Setup, assets: Assets) -> list[Finding]:
    """Return all findings of a setup, severe ones first.

    A setup that cannot be simulated at all (a missing mesh, say) has that as its one finding.
    """
    try:
        world = build_world(setup, assets)
        found = [
            *nothing_simulated(setup, assets),
            *few_points(setup, assets),
            *prepare_findings(setup, resolve(setup), assets),
            *tune_findings(setup, resolve(setup), assets),
            *idle_dials(setup, resolve(setup)),
            *fast_for_thickness(setup, resolve(setup), assets),
            *squeezed(setup, resolve(setup), world),
            *quick_to_bounce(setup, resolve(setup), world),
            *endless_fall(setup, world),
            *start_overlaps(setup, world),
            *overlapping_bodies(setup, world),
            *bodies_in_one_another(setup, world),
            *handover_findings(setup, world),
        ]
    except Problem as problem:
        remedy = f" {problem.remedy}" if problem.remedy else ""
        return [
            Finding(
                "unusable", "Intake", True, "This setup cannot be simulated", f"{problem.where}: {problem.what}{remedy}"
            )
        ]
    return sorted(_one_count(found), key=lambda f: not f.severe)


def _one_count(found: list[Finding]) -> list[Finding]:
    """Return findings of which those that ask for substeps ask for the same count: the one that ends all of them."""
    counts = [f.patch[0]["value"] for f in found if _asks_substeps(f)]
    if not counts:
        return found
    most = max(counts)
    patch = [set_value("/quality/substeps", most)]
    return [replace(f, remedy=f"Use {most} substeps", patch=patch) if _asks_substeps(f) else f for f in found]


def _asks_substeps(finding: Finding) -> bool:
    """Tell whether a finding's remedy is a count of substeps and nothing else."""
    return [p["path"] for p in finding.patch] == ["/quality/substeps"] and isinstance(finding.patch[0]["value"], int)


def nothing_simulated(setup: Setup, assets: Assets) -> list[Finding]:
    """Bodies, but none that is cloth, soft or rigid: there is nothing to bake."""
    if not setup.bodies or any(body.role in SIMULATED for body in setup.bodies):
        return []
    k = max(range(len(setup.bodies)), key=lambda n: (setup.bodies[n].role == "left out", -n))
    body = setup.bodies[k]
    role = "rigid" if placed_mesh(body, assets).is_closed else "cloth"
    text = f"Of the {len(setup.bodies)} bodies here none is cloth, soft or rigid, so there is nothing to bake."
    patch: list[dict[str, Any]] = [set_value(f"/bodies/{k}/role", role)]
    plain = body.role == "left out" and body.motion is None and not isinstance(body.mesh, CacheMesh)
    label = f"Make '{body.name}' {role}" if plain else ""
    return [
        Finding("nothing_simulated", "Intake", True, "Nothing is simulated", text, body.name, None, label,
                patch if plain else [])
    ]  # fmt: skip


def few_points(setup: Setup, assets: Assets) -> list[Finding]:
    """A cloth whose points are so far apart that it can only fold like a board."""
    found = []
    for k, body in enumerate(setup.bodies):
        if body.role != "cloth":
            continue
        mesh = placed_mesh(body, assets)
        spacing = float(np.median(mesh.edge_lengths))
        side = _width_m(mesh)
        rows = side / spacing
        if rows >= FEW_ROWS:
            continue
        text = (
            f"'{body.name}' has {len(mesh.points)} points, {spacing * 100:.1f} cm apart: about {rows:.0f} rows across "
            f"its {side:.2f} m. Below {FEW_ROWS} rows it folds like a board, whatever its fabric."
        )
        grid = body.mesh
        if isinstance(grid, GridMesh):
            target = min(grid.size) * body.place.scale / (2.5 * FEW_ROWS)
            segments = [max(2, round(s * body.place.scale / target)) for s in grid.size]
            label = f"Use {segments[0]} × {segments[1]} cells"
            patch = [set_value(f"/bodies/{k}/mesh/segments", segments)]
            found.append(
                Finding("few_points", "Intake", False, "Too few points to bend", text, body.name, None, label, patch)
            )
        else:
            text += " Subdivide it where it was made and take it in again."
            found.append(Finding("few_points", "Intake", False, "Too few points to bend", text, body.name))
    return found


def _width_m(mesh: TriMesh) -> float:
    """Return the shorter side (m) of a sheet, as of a rectangle, or a band, of its area and border; of a closed one √A.

    A rectangle's sides are the roots of x² - P/2 x + A = 0 for its border P and area A; a closed band's is 2 A / P.
    """
    area = float(mesh.face_areas.sum())
    rim = mesh.edges[mesh.edge_use == 1]
    border = float(np.linalg.norm(mesh.points[rim[:, 0]] - mesh.points[rim[:, 1]], axis=1).sum())
    if border <= 0.0:
        return max(area, 1e-18) ** 0.5
    if _loops(rim) == 2:
        return max(2.0 * area / border, 1e-9)
    return max(border / 4.0 - max(border**2 / 16.0 - area, 0.0) ** 0.5, 1e-9)


def _loops(edges: np.ndarray) -> int:
    """Return how many pieces edges (k, 2) hang together in."""
    names, ends = np.unique(edges, return_inverse=True)
    ends = ends.reshape(-1, 2)
    links = coo_matrix((np.ones(len(ends)), (ends[:, 0], ends[:, 1])), (len(names), len(names)))
    return int(connected_components(links, directed=False)[0])


def endless_fall(setup: Setup, world: World) -> list[Finding]:
    """A cloth that nothing can stop: no ground below, no pin, no collider in its way."""
    gravity = world.gravity
    strength = float(np.linalg.norm(gravity))
    if strength == 0.0 or setup.world.ground is not None:
        return []
    down = gravity / strength
    found = []
    seconds = (setup.frames[1] - setup.frames[0] + setup.preroll) / setup.fps
    for body in world.bodies:
        if (world.w[body.first : body.last] == 0.0).any() or _jointed_or_driven(setup, body.name):
            continue
        x = places_of(world, body)[0]
        if any(_in_the_way(world, c, x, down) for c in range(len(world.colliders.names))):
            continue
        deep = 0.5 * strength * seconds**2
        lowest = float((x @ -down).min())
        text = (
            f"Nothing holds '{body.name}' and nothing lies below it: without air it would fall {deep:.0f} m "
            f"in the shot's {seconds:.1f} s."
        )
        height = round(min(0.0, lowest - 0.001), 4)
        patch = [set_value("/world", {**setup.document().get("world", {}), "ground": {"height": height}})]
        label = f"Put a ground at {height:g} m"
        found.append(
            Finding(
                "endless_fall", "Start", True, "Falls for ever", text, body.name, _place(x.mean(axis=0)), label, patch
            )
        )
    return found


def _jointed_or_driven(setup: Setup, name: str) -> bool:
    driven = any(b.name == name and b.motion is not None for b in setup.bodies)
    return driven or any(name in joint.bodies for joint in setup.joints)


def _in_the_way(world: World, c: int, x: np.ndarray, down: np.ndarray) -> bool:
    """Tell whether a collider meets the shadow that a body throws along gravity."""
    moving = {number for number, _ in world.colliders.movers} | set(world.colliders.forms)
    low, high = world.colliders.fields.low[c], world.colliders.fields.high[c]
    if not np.isfinite(low).all() or c in moving:
        return True  # an endless plane, or one that may come to be there
    corners = np.array(
        [[(low, high)[i][0], (low, high)[j][1], (low, high)[k][2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)]
    )
    side = np.cross(down, np.eye(3)[int(np.argmin(np.abs(down)))])
    side /= np.linalg.norm(side)
    plane = np.stack([side, np.cross(down, side)], axis=1)
    mine, theirs = x @ plane, corners @ plane
    beside = (mine.max(axis=0) < theirs.min(axis=0)).any() or (mine.min(axis=0) > theirs.max(axis=0)).any()
    return bool(not beside and (corners @ down).max() > (x @ down).min())


def start_overlaps(setup: Setup, world: World) -> list[Finding]:
    """A cloth that begins inside a collider, and would leave it at speed."""
    found = []
    resolved = resolve(setup)
    dt = 1.0 / (setup.fps * resolved.count_at_start("substeps"))
    names = {body.name: k for k, body in enumerate(setup.bodies)}
    for overlap in (own := find_overlaps(world)) + _asked_by_colliders(world, {(o.body, o.collider) for o in own}):
        if overlap.depth_m < A_TOUCH_M:
            continue
        speed = overlap.depth_m / dt
        text = (
            f"{_so_many(overlap.points)} of '{overlap.body}' begin inside '{overlap.collider}', the deepest by "
            f"{overlap.depth_m * 1000:.1f} mm. Pushed out within one substep, it would leave at {speed:.1f} m/s."
        )
        k = names[overlap.body]
        body = setup.bodies[k]
        label, patch = "", []
        if body.pins:
            text += " It is pinned, so it is yours to move, or give the collider less thickness."
        elif not np.isfinite(overlap.lift_m):
            text += " No straight way out was found, so it is yours to move."
        else:
            label = f"Move it {overlap.lift_m * 1000:.1f} mm out"
            moved = np.array(body.place.translate) + overlap.direction * (overlap.lift_m + 1e-4)
            place = {**body.place.model_dump(mode="json"), "translate": [round(float(v), 5) for v in moved]}
            patch = [set_value(f"/bodies/{k}/place", place)]
        severe = overlap.depth_m > 0.0005
        found.append(
            Finding(
                "start_overlap",
                "Start",
                severe,
                "Overlap at the start",
                text,
                overlap.body,
                _place(overlap.at),
                label,
                patch,
            )
        )
    return found


def _so_many(points: int) -> str:
    return f"{points} points" if points > 1 else "Parts"


def _asked_by_colliders(world: World, known: set[tuple[str, str]]) -> list[Overlap]:
    """Return what rigid bodies begin inside of, deepest first, though no place of their own tells: a plank in a post.

    The way out is up, until the body lies on what it is in.
    """
    pairs, parts, colliders = rigid_pairs(world), world.solids.parts, world.colliders
    found = []
    for a, b, depth, at in zip(pairs.a, pairs.b, pairs.depth, pairs.at, strict=True):
        part, c = parts[a], -1 - b
        if b >= 0 or part.mover is not None or (part.name, colliders.names[c]) in known:
            continue
        upper, lower = outline(part.shapes, NO_MESH), outline([colliders.shapes[c]], NO_MESH)
        room = part.surface.room + float(colliders.touch.room[c])
        raised = float(lower.bounds[1, 1] - upper.bounds[0, 1]) + room
        fall, _ = fall_onto(upper.moved(upper.points + np.array([0.0, raised, 0.0])), lower, room)
        found.append(Overlap(part.name, colliders.names[c], float(depth), at, 1, raised - fall, UP))
    return sorted(found, key=lambda o: (-o.depth_m, o.body, o.collider))


def overlapping_bodies(setup: Setup, world: World) -> list[Finding]:
    """Rigid bodies that begin inside each other: the pile would burst."""
    pairs = rigid_pairs(world)
    mine = np.flatnonzero((pairs.b >= 0) & (pairs.depth >= A_TOUCH_M))
    if not len(mine):
        return []
    worst = mine[int(np.argmax(pairs.depth[mine]))]
    names = [part.name for part in world.solids.parts]
    speed = float(pairs.depth[worst]) * setup.fps * resolve(setup).count_at_start("substeps")
    text = (
        f"{len(mine)} pair{'s' if len(mine) > 1 else ''} of rigid bodies begin inside each other, the deepest "
        f"'{names[pairs.a[worst]]}' and '{names[pairs.b[worst]]}' by {pairs.depth[worst] * 1000:.1f} mm: pushed apart "
        f"within one substep, they would fly at {speed:.1f} m/s. The ways out stand below."
    )
    severe = bool(pairs.depth[worst] > 0.0005)
    at = _place(pairs.at[worst])
    return [Finding("bodies_overlap", "Start", severe, "Bodies overlap at the start", text, names[pairs.a[worst]], at)]


def _place(point: np.ndarray) -> tuple[float, float, float]:
    return (round(float(point[0]), 5), round(float(point[1]), 5), round(float(point[2]), 5))


def bodies_in_one_another(setup: Setup, world: World) -> list[Finding]:
    """Cloth and soft bodies that begin within other simulated bodies: told once, by the deepest pair."""
    found = [m for m in find_meetings(world) if m.depth_m >= A_TOUCH_M]
    if not found:
        return []
    worst = found[0]
    pairs = "pair begins" if len(found) == 1 else "pairs begin"
    text = (
        f"{len(found)} {pairs} within each other's room, the deepest '{worst.one}' and '{worst.other}' by "
        f"{worst.depth_m * 1000:.1f} mm. They are let apart slowly, and press on each other until then: move one of "
        "them, or give them less thickness."
    )
    severe = worst.depth_m > 0.0005
    title = "Bodies begin in one another"
    return [Finding("begin_in_one_another", "Start", severe, title, text, worst.one, _place(worst.at))]
