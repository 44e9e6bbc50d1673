"""Checks of whether thickness and substeps are enough for what the setup is to do."""

from __future__ import annotations

from itertools import combinations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from zembrik.core.findings.finding import Finding, set_value
from zembrik.core.findings.idle import feels_air
from zembrik.core.mesh.trimesh import TriMesh, volume_m3
from zembrik.core.motion.track import extremes_of, most_of, scaled, value_at
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh
from zembrik.core.setup.document import GridMesh, Setup
from zembrik.core.setup.keyed import is_keyed
from zembrik.core.setup.resolve import Resolved
from zembrik.core.solver.pins import meshes_of, pin_weights
from zembrik.core.solver.soft_parts import cell_size
from zembrik.core.solver.world import World
from zembrik.core.start.overlap import A_TOUCH_M, collider_depths, places_of

MOST_SUBSTEPS = 400
CROWDED, ROOMY = 0.9, 0.7  # of the spacing of points: two thicknesses above one crunch; what the remedy makes of them
MOST_ROOMS = 2.0  # thicknesses of both sides that something may go in a substep
MOST_CELLS, SOUND_CELLS = 1.0, 0.6  # of a soft body that a push may cross in a substep; what the remedy aims at
# Of a triangle's side that cloth may go in a substep, and what the remedy aims at. Linen, canvas and muslin that swing
# or fall on a ball or a loaf (121 to 6,561 points, 20 to 400 substeps) gain no energy from nowhere at up to 0.04 sides,
# a tenth of all there is at 0.07 to 0.09, and more than all of it from 0.15 on.
MOST_SIDES, SOUND_SIDES = 0.045, 0.035
BLOWN = 0.25  # of the wind's speed that cloth takes on besides (the demo's awning: 129 substeps are too few, 170 do)
LEAST_CELLS = 12  # across a sheet: fewer fold like a board (`check.few_points`)
MOST_SWOLLEN, SOUND_SWOLLEN = (
    0.02,
    0.01,
)  # strain of a sheet under pressure that its substeps add; what the remedy aims at
SOFTER = 0.36  # a soft body gives way by 1 + 0.36 r² times too much, r the cells a push crosses (hanging columns)
FACING = -0.3  # cosine of two ways out that point against each other
PER_FRAME = 4  # times a frame that a track's speed is read

Floats = NDArray[np.float64]


def _least(resolved: Resolved, number: int) -> float:
    """Return how thin (m) a body gets."""
    return extremes_of(resolved.document["bodies"][number]["thickness"])[0]


def thick_for_spacing(setup: Setup, resolved: Resolved, assets: Assets) -> list[Finding]:
    """Self-collision that keeps cloth farther apart than its points are: folds have no room and it crunches."""
    if not resolved.quality("self_collision"):
        return []
    found = []
    for k, body in enumerate(setup.bodies):
        if body.role != "cloth":
            continue
        thickness = most_of(resolved.document["bodies"][k]["thickness"])
        spacing = float(np.median(placed_mesh(body, assets).edge_lengths))
        if 2.0 * thickness <= CROWDED * spacing:
            continue
        better = float(f"{0.5 * ROOMY * spacing:.2g}")
        text = (
            f"'{body.name}' is kept {2e3 * thickness:.3g} mm off itself, but its points are {1e3 * spacing:.3g} mm "
            f"apart: a fold has no room, and the cloth stretches and crunches. {1e3 * better:.3g} mm of thickness fit."
        )
        patch = [set_value(f"/bodies/{k}/thickness", better)]
        label = f"Make it {1e3 * better:.3g} mm thick"
        title = "Too thick for its points"
        found.append(Finding("thick_for_spacing", "Quality", False, title, text, body.name, None, label, patch))
    return found


def fast_for_thickness(setup: Setup, resolved: Resolved, assets: Assets) -> list[Finding]:
    """A collider that goes farther in a substep than the room kept free: cloth sinks into it and is stretched."""
    begin = setup.frames[0] - setup.preroll
    sheets = []
    for k, body in enumerate(setup.bodies):
        if body.role == "cloth":
            mesh = placed_mesh(body, assets)
            reach = 0.5 * float(mesh.size.max())  # it hangs and swings
            sheets.append((body.name, _least(resolved, k), mesh.bounds, reach))
    found = []
    for k, body in enumerate(setup.bodies):
        mover = mover_of_body(setup, k, assets) if body.role == "collider" and sheets else None
        if mover is None or mover.changes_form:
            continue
        low, high = placed_mesh(body, assets).bounds
        corners = np.array([[(low, high)[i >> n & 1][n] for n in range(3)] for i in range(8)])
        frames = np.arange(begin, setup.frames[1] + 0.5 / PER_FRAME, 1.0 / PER_FRAME)
        way = np.array([mover.points_at(corners, float(f)) for f in frames])
        steps = np.linalg.norm(np.diff(way, axis=0), axis=2).max(axis=1) * PER_FRAME  # metres a frame
        if not len(steps) or steps.max() == 0.0:
            continue
        counts = np.array([resolved.count_at("substeps", float(np.floor(f))) for f in frames[:-1]])
        worst = int(np.argmax(steps / counts))
        room = _least(resolved, k)
        least, most = way.reshape(-1, 3).min(axis=0), way.reshape(-1, 3).max(axis=0)
        met = [
            (room + thickness, name) for name, thickness, (floor, top), reach in sheets
            if (least <= top + reach).all() and (most >= floor - reach).all()
        ]  # fmt: skip
        if not met:
            continue
        rooms, name = min(met)
        step = float(steps[worst]) / int(counts[worst])
        if step <= MOST_ROOMS * rooms:
            continue
        needed = int(np.ceil(float(steps[worst]) / (MOST_ROOMS * rooms))) if rooms > 0.0 else MOST_SUBSTEPS + 1
        text = (
            f"'{body.name}' goes up to {steps[worst] * setup.fps:.3g} m/s, at frame {frames[worst]:.0f}: "
            f"{1e3 * step:.3g} mm in a substep. It and '{name}' are kept {1e3 * rooms:.3g} mm apart; beyond "
            f"{MOST_ROOMS * 1e3 * rooms:.3g} mm a substep the cloth sinks in and is stretched."
        )
        label, patch = f"Use {needed} substeps", [set_value("/quality/substeps", needed)]
        if needed > MOST_SUBSTEPS:
            text += f" Even {MOST_SUBSTEPS} substeps are too few: give both more thickness, or slow it down."
            label, patch = "", []
        at = (float(v) for v in way[worst].mean(axis=0))
        found.append(
            Finding("fast_for_thickness", "Quality", False, "Too fast for its thickness", text, body.name,
                    (next(at), next(at), next(at)), label, patch)
        )  # fmt: skip
    return found


def fine_for_substeps(setup: Setup, resolved: Resolved, assets: Assets) -> list[Finding]:
    """A cloth so fine that it goes by more than a small part of a triangle's side in a substep.

    What one pass leaves of the strain is then more than any load makes: it is stretched, trembles, and gains energy.
    From rest it falls at √(2 g h) at most, h (m) from its highest point to the ground, or to the lowest collider; what
    is pinned, as far as it hangs from its pins. Wind adds a share of its speed.
    """
    found = []
    gravity = np.asarray(setup.world.gravity, dtype=np.float64)
    strength = float(np.linalg.norm(gravity)) * extremes_of(setup.world.gravity_strength)[1]
    if strength <= 0.0:
        return []
    up = -gravity / np.linalg.norm(gravity)
    ground = setup.world.ground if up[1] > 0.0 else None  # what is pulled along it or away never lands there
    meshes = [placed_mesh(b, assets) for b in setup.bodies if b.role == "collider"]
    floor = min((float((mesh.points @ up).min()) for mesh in meshes if len(mesh.points)), default=np.inf)
    forces = [f for f in resolved.document["forces"] if f["kind"] == "wind"]
    winds = [float(np.linalg.norm(f["velocity"])) * most_of(f["strength"]) for f in forces]
    mesh_of = meshes_of(setup, assets)
    for k, body in enumerate(setup.bodies):
        if body.role != "cloth":
            continue
        mesh, pull = placed_mesh(body, assets), strength * extremes_of(body.gravity)[1]
        side = float(np.median(mesh.edge_lengths))
        drop = float((mesh.points @ up).max()) - floor
        if ground is not None:
            drop = (float(mesh.points[:, 1].max()) - ground.height) / float(up[1])
        if body.pins:
            held = np.zeros(len(mesh.points), np.bool_)
            for n, pin in enumerate(body.pins):
                held |= pin_weights(pin, mesh, mesh.points, f"bodies[{k}] '{body.name}', pins[{n}]", mesh_of) > 0.0
            drop = float(cKDTree(mesh.points[held]).query(mesh.points)[0].max()) if held.any() else drop
        if pull <= 0.0 or drop <= 0.0:
            continue
        speed, substeps = float(np.sqrt(2.0 * pull * drop)), resolved.least_count("substeps")
        if feels_air(resolved.document["bodies"][k]):
            speed += BLOWN * max(winds, default=0.0)
        way = speed / (setup.fps * substeps)
        if way <= MOST_SIDES * side:
            continue
        needed = int(np.ceil(speed / (setup.fps * SOUND_SIDES * side)))
        text = (
            f"'{body.name}' may go at up to {speed:.2g} m/s: {1e3 * way:.2g} mm in a substep of {substeps}, and its "
            f"points are {1e3 * side:.3g} mm apart. Beyond {1e3 * MOST_SIDES * side:.2g} mm a pass leaves strain "
            f"that no load makes: it stretches, trembles and gains energy. {needed} substeps hold it."
        )
        label, patch = f"Use {needed} substeps", [set_value("/quality/substeps", needed)]
        if needed > MOST_SUBSTEPS:
            spacing = speed / (setup.fps * SOUND_SIDES * MOST_SUBSTEPS)
            text += f" That many are not offered; with {MOST_SUBSTEPS} its points may be {1e3 * spacing:.3g} mm apart."
            label, patch = "", []
            grid = body.mesh
            if isinstance(grid, GridMesh):
                share = side / spacing
                cells = [int(n * share) for n in grid.segments]
                if min(cells) >= LEAST_CELLS:
                    label = f"Use {cells[0]} × {cells[1]} cells and {MOST_SUBSTEPS} substeps"
                    patch = [
                        set_value(f"/bodies/{k}/mesh/segments", cells), set_value("/quality/substeps", MOST_SUBSTEPS),
                    ]  # fmt: skip
        title = "Too fine for its substeps"
        found.append(Finding("fine_for_substeps", "Quality", False, title, text, body.name, None, label, patch))
    return found


def swollen_by_substeps(setup: Setup, resolved: Resolved, world: World) -> list[Finding]:
    """A closed sheet under pressure that gives way more than its stiffness says.

    A sphere of radius r under pressure p is pulled by p r / 2 a width. One pass leaves about W / α̃ times the strain
    that this makes (measured; `solver.passes` has half of it for flat cloth). W is what a triangle's points weigh along
    its strain, α̃ its compliance over dt².
    """
    found = []
    membrane, w = world.membrane, world.w
    pressure = {int(t): most_of(p) for numbers, p in world.air.inflated for t in numbers}
    for body in world.closed:
        mine = np.flatnonzero((membrane.points[:, 0] >= body.first) & (membrane.points[:, 0] < body.last))
        mine = np.array([t for t in mine if pressure.get(int(t), 0.0) > 0.0], np.int64)
        if not len(mine):
            continue
        rest, at = membrane.rest[mine], membrane.points[mine]
        mesh = TriMesh(body.points(world.x), body.faces)
        area, inside = float(mesh.face_areas.sum()), abs(volume_m3(mesh))
        pull = 0.5 * pressure[int(mine[0])] * 3.0 * inside / area  # N/m
        size = 0.5 / np.abs(rest[:, 0] * rest[:, 3] - rest[:, 1] * rest[:, 2])
        stiff = float(np.median(1.0 / (rest[:, 4] * size)))
        u_j, u_k = rest[:, 0], rest[:, 2]
        weigh = w[at[:, 0]] * (u_j + u_k) ** 2 + w[at[:, 1]] * u_j**2 + w[at[:, 2]] * u_k**2
        substeps = resolved.least_count("substeps")
        dt = 1.0 / (setup.fps * substeps)
        right = 0.5 * pull / stiff
        more = right * float(np.median(weigh * dt * dt / rest[:, 4]))
        if more <= MOST_SWOLLEN:
            continue
        needed = int(np.ceil(substeps * np.sqrt(more / SOUND_SWOLLEN)))
        text = (
            f"Its pressure stretches '{body.name}' by {100 * right:.2g}%; with {substeps} substeps about "
            f"{100 * more:.2g}% come on top that its stiffness does not allow. {needed} substeps leave 1%."
        )
        label, patch = f"Use {needed} substeps", [set_value("/quality/substeps", needed)]
        if needed > MOST_SUBSTEPS:
            text += " That many are not offered: give it fewer points, more weight or less pressure."
            label, patch = "", []
        severe, title = more > 10 * MOST_SWOLLEN, "Swells more than it should"
        found.append(Finding("swollen_by_substeps", "Quality", severe, title, text, body.name, None, label, patch))
    return found


def stiff_for_substeps(setup: Setup, resolved: Resolved, assets: Assets) -> list[Finding]:
    """A soft body so stiff and light that a push crosses more than a cell in a substep: it gives way too much.

    A push goes at √(E/ρ), the speed of sound in a rod of Young's modulus E (Pa) and density ρ (kg/m³).
    """
    found, frames = [], range(setup.frames[0] - setup.preroll, setup.frames[1] + 1)
    for k, body in enumerate(setup.bodies):
        if body.role != "soft":
            continue
        values = resolved.document["bodies"][k]
        stuff, cell = values["material"], values["cell"] or cell_size(placed_mesh(body, assets))
        changes = is_keyed(stuff["young"]) or is_keyed(resolved.quality("substeps"))
        steps = [(value_at(stuff["young"], f) ** 0.5 / resolved.count_at("substeps", f), f) for f in frames]
        _, worst = max(steps if changes else steps[:1])
        young, substeps = value_at(stuff["young"], worst), resolved.count_at("substeps", worst)
        speed = float(np.sqrt(young / extremes_of(stuff["density"])[0]))
        cells = speed / (setup.fps * substeps * cell)
        if cells <= MOST_CELLS:
            continue
        needed = int(np.ceil(speed / (setup.fps * SOUND_CELLS * cell)))
        text = (
            f"A push goes through '{body.name}' at {speed:.3g} m/s: {cells:.2g} of its cells of {1e3 * cell:.3g} mm "
            f"in a substep. With {substeps} substeps it gives way about {1.0 + SOFTER * cells**2:.2g} times as far as "
            f"{young:.3g} Pa would."
        )
        label, patch = f"Use {needed} substeps", [set_value("/quality/substeps", needed)]
        if needed > MOST_SUBSTEPS:
            wide = float(f"{speed / (setup.fps * SOUND_CELLS * max(substeps, 60)):.2g}")
            label, patch = "", []
            text += f" {needed} substeps would be needed; cells of {1e3 * wide:.3g} mm do with {max(substeps, 60)}."
        title = "Too stiff for its substeps"
        found.append(Finding("stiff_for_substeps", "Quality", False, title, text, body.name, None, label, patch))
    return found


def squeezed(setup: Setup, resolved: Resolved, world: World) -> list[Finding]:
    """Points between two colliders whose gap is less than what all three thicknesses take: they cannot come to rest."""
    found, numbers = [], {body.name: k for k, body in enumerate(setup.bodies)}
    for body in world.bodies:
        if body.rigid is not None:
            continue
        x, room = places_of(world, body)
        touched = []
        for c, name in enumerate(world.colliders.names):
            depth, normal = collider_depths(world, c, x, room)
            if (depth > A_TOUCH_M).any():
                touched.append((name, float(world.colliders.touch.room[c]), depth, normal))
        worst: tuple[float, float, str, str, int] | None = None
        for (one, a, deep, way), (two, b, deeper, back) in combinations(touched, 2):
            between = (deep > A_TOUCH_M) & (deeper > A_TOUCH_M) & (np.einsum("ij,ij->i", way, back) < FACING)
            if not between.any() or one == two:
                continue
            wanted = a + b + 2.0 * room
            gap = np.where(between, wanted - deep - deeper, np.inf)
            k = int(np.argmin(gap))
            if worst is None or gap[k] < worst[0]:
                worst = float(gap[k]), float(wanted[k]), one, two, k
        if worst is None:
            continue
        gap_m, wanted_m, one, two, k = worst
        text = (
            f"'{body.name}' lies between '{one}' and '{two}', which are {1e3 * gap_m:.3g} mm apart; with the "
            f"thicknesses of all three it takes {1e3 * wanted_m:.3g} mm."
        )
        label, patch = "", []
        if gap_m > 0.0:
            share = 0.9 * gap_m / wanted_m
            label = f"Make all three {share:.2g} times as thick"
            for name in (body.name, one, two):
                if name in numbers:
                    held = resolved.document["bodies"][numbers[name]]["thickness"]
                    patch.append(set_value(f"/bodies/{numbers[name]}/thickness", scaled(held, float(f"{share:.3g}"))))
        at = (float(x[k, 0]), float(x[k, 1]), float(x[k, 2]))
        found.append(
            Finding("squeezed", "Quality", False, "No room between two colliders", text, body.name, at, label, patch)
        )
    return found
