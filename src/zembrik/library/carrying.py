"""Many detailed meshes given to the bodies that carry them, in one edit."""

from __future__ import annotations

import re

import numpy as np

from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, placed_mesh
from zembrik.core.setup.document import Body, FileMesh, Setup
from zembrik.core.setup.materials import SIMULATED
from zembrik.library.render_meshes import Patch, carry_patch

Pairs = list[tuple[int, int]]  # numbers of a body and of the one whose mesh it is to carry
MOST_FACES = 2_000_000  # of all meshes together that a page looks at
NEAREST, SAMPLES = 6, 200  # bodies that are looked at for each mesh, and places of it


def is_carriable(body: Body) -> bool:
    """Tell whether a body is a mesh to look at and nothing else."""
    return body.role == "left out" and isinstance(body.mesh, FileMesh) and not body.mesh.animated


def pairs_by_name(setup: Setup, carriers: str, meshes: str) -> Pairs:
    """Return pairs whose names fit two patterns with one star each, which stands for the same text in both.

    Raises:
        Problem: for a pattern without its star.
    """
    patterns = []
    for what, pattern in (("carriers", carriers.strip()), ("meshes", meshes.strip())):
        if pattern.count("*") != 1:
            raise Problem(f"'{pattern[:60]}' has not one *.", what, "Write ring * and ring * detail.")
        before, after = map(re.escape, pattern.split("*"))
        patterns.append(re.compile(f"{before}(.+){after}"))
    held = {m[1]: n for n, b in enumerate(setup.bodies) if is_carriable(b) and (m := patterns[1].fullmatch(b.name))}
    found = []
    for number, body in enumerate(setup.bodies):
        match = patterns[0].fullmatch(body.name) if body.role in SIMULATED and body.render is None else None
        if match is not None and match[1] in held:
            found.append((number, held[match[1]]))
    return found


def pairs_by_nearness(setup: Setup, assets: Assets) -> Pairs:
    """Return for every mesh to look at the body that it lies nearest to, no farther off than that is large.

    What counts is how far the mesh's points are from the body's surface, in the mean. A body takes its nearest mesh.

    Raises:
        Problem: for more than a page can look at.
    """
    from zembrik.core.distance.tree import build_tree, closest_places  # brings the compiler, which no page waits for

    carriers = [n for n, b in enumerate(setup.bodies) if b.role in SIMULATED and b.render is None]
    meshes = [n for n, b in enumerate(setup.bodies) if is_carriable(b)]
    if not carriers or not meshes:
        return []
    placed = {n: placed_mesh(setup.bodies[n], assets) for n in [*carriers, *meshes]}
    if sum(len(mesh.faces) for mesh in placed.values()) > MOST_FACES:
        raise Problem(
            f"the meshes have more than {MOST_FACES:,} faces together.",
            "carry",
            "Pair them by name, or some at a time.",
        )
    middles = np.array([placed[n].bounds.mean(axis=0) for n in carriers])
    trees = {n: build_tree(placed[n]) for n in carriers}
    offers = []
    for mesh in meshes:
        points = placed[mesh].points
        points = points[:: max(1, -(-len(points) // SAMPLES))]
        away = np.linalg.norm(middles - placed[mesh].bounds.mean(axis=0), axis=1)
        for k in np.argsort(away, kind="stable")[:NEAREST]:
            carrier = carriers[int(k)]
            off = float(np.linalg.norm(closest_places(trees[carrier], points) - points, axis=1).mean())
            if off <= float(np.linalg.norm(placed[carrier].size)):
                offers.append((off, mesh, carrier))
    found, taken = [], set()
    for _, mesh, carrier in sorted(offers):
        if ("mesh", mesh) not in taken and ("carrier", carrier) not in taken:
            taken |= {("mesh", mesh), ("carrier", carrier)}
            found.append((carrier, mesh))
    return sorted(found)


def copies_without(setup: Setup, number: int) -> list[int]:
    """Return the bodies that have the same mesh and role as one that carries, and carry nothing yet."""
    model = setup.bodies[number]
    return [
        n for n, b in enumerate(setup.bodies)
        if n != number and b.mesh == model.mesh and b.role == model.role and b.render is None
    ]  # fmt: skip


def carry_many_patch(setup: Setup, pairs: Pairs) -> Patch:
    """Return the patch by which bodies carry the meshes of others, which then are no bodies of their own.

    Raises:
        Problem: when there is none.
    """
    if not pairs:
        raise Problem("nothing fits.", "carry", "Look at the names, or at where the meshes stand.")
    patch: Patch = []
    for carrier, mesh in pairs:
        patch.append(carry_patch(setup, carrier, mesh)[0])
    return patch + [{"op": "remove", "path": f"/bodies/{n}"} for n in sorted((m for _, m in pairs), reverse=True)]


def carry_alike_patch(setup: Setup, number: int) -> Patch:
    """Return the patch by which all copies of a body carry what it carries, placed alike.

    Raises:
        Problem: when it carries nothing, or has no copy without.
    """
    body = setup.bodies[number]
    if body.render is None:
        raise Problem(f"'{body.name}' carries no mesh.", "carry", "Give it one first.")
    copies = copies_without(setup, number)
    if not copies:
        raise Problem(f"'{body.name}' has no copy that carries nothing.", "carry", "They all have one already.")
    value = body.render.model_dump(mode="json", exclude_unset=True)
    return [{"op": "add", "path": f"/bodies/{n}/render", "value": value} for n in copies]
