"""Bodies that fall until they lie, and where they lie then: a layout without physics."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.layout.gesture import rounded
from zembrik.core.layout.scatter import scatter
from zembrik.core.motion.angles import angles_of
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh
from zembrik.core.setup.document import Body, Place, Setup, parse_setup
from zembrik.core.setup.groups import Drop
from zembrik.core.setup.resolve import resolve
from zembrik.core.solver.build import build_world
from zembrik.core.solver.sound import check_sound
from zembrik.core.solver.step import Stepper
from zembrik.core.solver.world import World
from zembrik.core.telling import Tell, silent
from zembrik.core.units import quaternion_turn, turn_matrix

Floats = NDArray[np.float64]
CALM_M_PER_S = 0.002  # what no point exceeds lies still
FRAMES_CALM = 6  # in a row
# What gravity adds to a speed within a step is more than coarse steps can tell: what is slower than this share of it
# for a while creeps by the steps' doing, and would for ever.
CREEP, CREEPS_S = 0.5, 0.5
FASTER, LEAST_M = 1.1, 1e-4  # than in the half before it, and how far it goes in any case
LOST_M = 50.0  # below the lowest that is there: what is farther down fell past everything
ROLES = ("collider", "left out", "rigid")  # of what has come to lie
# What has no stuff of its own falls as something that is a little soft: it hardly bounces, and does not roll for long.
FRICTION, BOUNCE, ROLLS = 0.6, 0.1, 0.05  # the last as a share of how far it reaches from its middle
# What only a motion or a role of its own needs: what falls is rigid, all else stands still.
NOT_FALLING = ("motion", "release", "pins", "form", "cell", "gravity", "friction", "bounce", "render")


@dataclass(frozen=True)
class Dropped:
    """How a fall ended.

    Attributes:
        places: of each falling body, as plain values.
        fastest: float64 (n,), the speed of each one's fastest point at the end, m/s.
        frames: how many it took. rests: whether all lay still. lost: int64, which fell past everything.
        asked: whether it was ended by whoever watched.
    """

    places: list[dict[str, Any]]
    fastest: Floats
    frames: int
    rests: bool
    lost: NDArray[np.int64]
    asked: bool


def fall(setup: Setup, falling: list[dict[str, Any]], assets: Assets, frames: int, tell: Tell = silent) -> Dropped:
    """Let bodies fall onto all others, which stand still as the first frame has them, until all lie.

    Args:
        setup: the shot; bodies of the names of falling ones are left out of it.
        falling: bodies as plain values, whatever their role. assets: gives the meshes.
        frames: when it ends at the latest. tell: is told of every frame; ends it when it says so.

    Raises:
        Problem: when it cannot be simulated, or there is nothing that pulls.
    """
    if not any(setup.world.gravity):
        raise Problem("nothing pulls, so nothing falls.", "drop", "Give the shot a gravity.")
    names = {body["name"] for body in falling}
    still = [_standing(setup, n, assets) for n, b in enumerate(setup.bodies) if b.name not in names]
    document = setup.document()
    world_values = {**document.get("world", {}), "gravity_strength": 1.0, "gravity_turn": None}
    stage = parse_setup({
        "fps": setup.fps, "frames": [1, 2], "world": world_values,
        "quality": {"profile": "rough", "self_collision": False},
        "bodies": [*(b for b in still if b is not None), *(_falling(body, assets) for body in falling)],
    })  # fmt: skip
    world, quality = build_world(stage, assets), resolve(stage).document["quality"]
    stepper = Stepper(world, quality["substeps"], quality["iterations"], stage.fps, quality["enough"])
    begun = [turn_matrix(body["place"]["rotate"]) for body in falling]
    lowest, calm, done, asked = _lowest(world), 0, 0, False
    rigid = world.solids.rigid
    places_of = deque([rigid.place.copy()], maxlen=round(CREEPS_S * stage.fps) + 1)
    fastest = np.zeros(len(falling))
    while done < frames and calm < FRAMES_CALM:
        if not tell(done, frames):
            asked = True
            break
        stepper.advance(1.0)  # nothing else moves: time does not matter
        check_sound(world, float(done + 2))
        done += 1
        fastest = np.linalg.norm(rigid.speed[:, :3], axis=1) + 0.5 * world.solids.size * np.linalg.norm(
            rigid.speed[:, 3:], axis=1
        )
        gone = rigid.place[:, 1] < lowest - LOST_M
        fastest[rigid.asleep | gone] = 0.0
        _lay_to_sleep(world, places_of, float(np.linalg.norm(world.gravity)) * CREEP / (stage.fps * stepper.substeps))
        calm = calm + 1 if float(fastest.max(initial=0.0)) < CALM_M_PER_S else 0
    poses, places = world.solids.poses(), []
    order = {part.name: r for r, part in enumerate(world.solids.parts)}
    for body, turn in zip(falling, begun, strict=True):
        r = order[body["name"]]
        way, shift = quaternion_turn(poses[r, 3:]), poses[r, :3]
        angles = angles_of((way @ turn)[None])[0]
        at = way @ np.array(body["place"]["translate"]) + shift
        places.append({"translate": rounded(at, 6), "rotate": rounded(angles, 5), "scale": body["place"]["scale"]})
    numbers = np.array([order[body["name"]] for body in falling])
    lost = np.flatnonzero(rigid.place[numbers, 1] < lowest - LOST_M)
    return Dropped(places, fastest[numbers], done, calm >= FRAMES_CALM, lost, asked)


def _lay_to_sleep(world: World, before: deque[Floats], creep: float) -> None:
    """Let sleep what crept no faster than this, m/s, since the first of the places (R, 7) before; add the place now.

    What gets faster does not creep: it is about to fall over.
    """
    rigid, size = world.solids.rigid, world.solids.size
    before.append(rigid.place.copy())
    if len(before) < (before.maxlen or 0):
        return
    middle = before[len(before) // 2]
    early, late = _went(before[0], middle, size), _went(middle, rigid.place, size)
    slow = (np.maximum(early, late) < 0.5 * creep * CREEPS_S) & (late <= FASTER * early + LEAST_M)
    slow &= (rigid.w > 0.0) & ~rigid.asleep
    rigid.asleep[slow] = True
    rigid.speed[slow] = 0.0


def _went(one: Floats, other: Floats, size: Floats) -> Floats:
    """Return how far bodies went from one place (R, 7) to another, or their ends by turning, metres."""
    turned = 2.0 * np.sqrt(np.maximum(1.0 - (one[:, 3:] * other[:, 3:]).sum(axis=1) ** 2, 0.0))
    found: Floats = np.maximum(np.linalg.norm(other[:, :3] - one[:, :3], axis=1), 0.5 * turned * size)
    return found


def _lowest(world: World) -> float:
    """Return how low the lowest thing is that stands still, metres; or what falls, where nothing does."""
    heights = [float(fields) for fields in world.colliders.fields.low[:, 1] if np.isfinite(fields)]
    own = float(world.solids.rigid.place[:, 1].min(initial=0.0))
    return min([own, *heights]) if heights else own


def _falling(body: dict[str, Any], assets: Assets) -> dict[str, Any]:
    """Return a body, as plain values, as it falls: rigid, with its own proxy where that can be."""
    found = {k: v for k, v in body.items() if k not in NOT_FALLING} | {"role": "rigid"}
    if body.get("role") not in ("rigid", "collider", "left out", None):
        raise Problem(
            f"'{body['name']}' is {body['role']}, and only rigid bodies are dropped.", "drop", "Choose others."
        )
    if body.get("role") == "collider" or not body.get("material"):
        whole = Body.model_validate({k: body[k] for k in ("name", "mesh", "place")})
        lever = ROLLS * reach_of(whole, assets)[0]
        found["material"] = {"friction": FRICTION, "bounce": BOUNCE, "rolling_resistance": float(f"{lever:.3g}")}
    if (found.get("proxy") or {}).get("kind") in ("plane", "surface", "reduced", "shell"):
        found["proxy"] = {"kind": "hulls"}
    if "animated" in found["mesh"] or "cache" in found["mesh"]:
        raise Problem(f"'{body['name']}' moves by its file, so it cannot be dropped.", "drop", "Choose others.")
    return found


def _standing(setup: Setup, number: int, assets: Assets) -> dict[str, Any] | None:
    """Return a body as what others fall onto: it stands as the first frame has it; None for what is left out."""
    body = setup.bodies[number]
    if body.role == "left out":
        return None
    document = setup.document()["bodies"][number]
    found = {k: v for k, v in document.items() if k in ("name", "mesh", "place", "thickness", "friction", "proxy")}
    found["role"] = "collider"
    if body.role in ("cloth", "soft"):
        found.pop("proxy", None)
        if body.form is not None:
            found["mesh"], found["place"] = document["form"], {}
    mover = mover_of_body(setup, number, assets)
    if mover is not None and not mover.changes_form:
        turn, shift = mover.at(float(setup.frames[0]))
        at = turn @ np.array(body.place.translate) + shift
        angles = angles_of((turn @ turn_matrix(body.place.rotate))[None])[0]
        found["place"] = {"translate": at.tolist(), "rotate": angles.tolist(), "scale": body.place.scale}
    return found


def reach_of(body: Body, assets: Assets) -> tuple[float, Floats]:
    """Return how far a body reaches from the middle of its box, metres, and where that is against its origin (3,)."""
    mesh = placed_mesh(body.model_copy(update={"place": Place(scale=body.place.scale)}), assets)
    middle = 0.5 * (mesh.bounds[0] + mesh.bounds[1])
    return float(np.linalg.norm(mesh.points - middle, axis=1).max()), middle


def scattered(setup: Setup, drop: Drop, stem: str, assets: Assets) -> list[dict[str, Any]]:
    """Return the copies of a layer as bodies before they fall, as plain values with new names.

    Raises:
        Problem: when a source is not there, cannot fall, or they do not fit.
    """
    held = {body.name: n for n, body in enumerate(setup.bodies)}
    document, reach, middles = setup.document()["bodies"], [], []
    for source in drop.sources:
        if source.body not in held:
            raise Problem(f"there is no body '{source.body[:80]}' to drop copies of.", "drop", "Choose another one.")
        one, middle = reach_of(setup.bodies[held[source.body]], assets)
        reach.append(one)
        middles.append(middle)
    found = scatter(drop, np.array(reach), _top(setup, drop, assets))
    taken, number, bodies = set(held), 1, []
    for k in range(drop.count):
        which = int(found.source[k])
        source_body = document[held[drop.sources[which].body]]
        while (name := f"{stem[:110]} {number}") in taken:
            number += 1
        taken.add(name)
        place = setup.bodies[held[drop.sources[which].body]].place
        turn = turn_matrix(found.turn_deg[k]) @ turn_matrix(place.rotate)
        size = float(f"{place.scale * found.size[k]:.6g}")
        at = found.middle_m[k] - turn @ middles[which] * (size / place.scale)
        body = {k: v for k, v in source_body.items() if k not in NOT_FALLING}
        angles = rounded(angles_of(turn[None])[0], 5)
        bodies.append(body | {"name": name, "place": {"translate": rounded(at, 6), "rotate": angles, "scale": size}})
    return bodies


def _top(setup: Setup, drop: Drop, assets: Assets) -> float:
    """Return how high what is there reaches within the region, metres; the ground where nothing does."""
    ground = setup.world.ground
    top = ground.height if ground is not None else -np.inf
    for body in setup.bodies:
        if body.role == "left out":
            continue
        points = placed_mesh(body, assets).points
        low, high = points.min(axis=0), points.max(axis=0)
        if (low[[0, 2]] > [drop.across[1], drop.along[1]]).any() or (
            high[[0, 2]] < [drop.across[0], drop.along[0]]
        ).any():
            continue
        top = max(top, float(high[1]))
    return float(top) if np.isfinite(top) else 0.0


@dataclass(frozen=True)
class Layer:
    """What was dropped: bodies as plain values where they lie, how they fell, and that in words."""

    bodies: list[dict[str, Any]]
    fall: Dropped
    words: str


def drop_bodies(setup: Setup, order: dict[str, Any], assets: Assets, tell: Tell = silent) -> Layer:
    """Drop what is ordered: bodies of the shot by "names", or copies as "drop" says (see `setup.groups.Drop`).

    Args:
        order: "names" and "frames"; or "drop", the layer's "name", the "role" that its bodies have then, and whether it
            is dropped "anew", in the place of what the layer was.

    Raises:
        Problem: as of `scattered`, `fall` and `laid`.
    """
    if "names" in order:
        wanted = set(order["names"])
        bodies = [
            {**body, "place": setup.bodies[n].place.model_dump(mode="json")}
            for n, body in enumerate(setup.document()["bodies"]) if body["name"] in wanted
        ]  # fmt: skip
        found = fall(setup, bodies, assets, order["frames"], tell)
        lost = set(found.lost.tolist())
        lie = [{**b, "place": p} for n, (b, p) in enumerate(zip(bodies, found.places, strict=True)) if n not in lost]
        return Layer(lie, found, told(found, len(lie), "stay where they were"))
    if order.get("anew"):
        gone = {name for group in setup.groups if group.name == order["name"] for name in group.bodies}
        document = setup.document()
        document["groups"] = []
        document["bodies"] = [body for body in document["bodies"] if body["name"] not in gone]
        setup = parse_setup(document)
    drop = Drop.model_validate(order["drop"])
    bodies = scattered(setup, drop, order["name"], assets)
    found = fall(setup, bodies, assets, drop.frames, tell)
    kept = laid(bodies, found, order["role"], assets)
    return Layer(kept, found, told(found, len(kept)))


def told(found: Dropped, count: int, lost: str = "are gone") -> str:
    """Return in words how a fall ended, and what becomes of what is lost."""
    words = f"{count} bod{'ies' if count > 1 else 'y'} dropped in {found.frames} frames"
    words += "; all lie still" if found.rests else f"; the fastest still goes at {1e3 * found.fastest.max():.0f} mm/s"
    if found.asked:
        words += ", for it was stopped there"
    if len(found.lost):
        words += f"; {len(found.lost)} fell past everything and {lost}"
    return words + "."


def laid(bodies: list[dict[str, Any]], found: Dropped, role: str, assets: Assets) -> list[dict[str, Any]]:
    """Return the bodies of a layer where they have come to lie, with the role they have then; what is lost is gone.

    Rigid ones keep the stuff with which they fell: with less friction, or less to keep them from rolling, they would
    not stay.

    Raises:
        Problem: when nothing is left.
    """
    if role not in ROLES:
        raise Problem(f"what lies cannot be '{role[:20]}'.", "drop", f"It is {', '.join(ROLES[:-1])} or {ROLES[-1]}.")
    lost = set(found.lost.tolist())
    kept = []
    for n, (body, place) in enumerate(zip(bodies, found.places, strict=True)):
        if n in lost:
            continue
        one = {k: v for k, v in body.items() if k != "material"} | {"role": role, "place": place}
        kept.append(one | ({"material": _falling(body, assets)["material"]} if role == "rigid" else {}))
    if not kept:
        raise Problem("all of them fell past everything.", "drop", "Put something below, or give the shot a ground.")
    return kept
