"""A live run: frame by frame, led by a hand whose place is taken in at every frame and at no other moment.

So nothing depends on how fast it ran: the same way of the hand gives the same bytes, live or played back.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.bake import frame_of
from zembrik.core.cache.body import BodyFrame
from zembrik.core.motion.handover import Spell
from zembrik.core.motion.rigid import Mover
from zembrik.core.motion.track import Track
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, placed_mesh, start_mesh
from zembrik.core.setup.document import Setup, parse_setup
from zembrik.core.setup.resolve import resolve
from zembrik.core.solver.build import build_world
from zembrik.core.solver.pins import meshes_of, pin_weights
from zembrik.core.solver.sound import check_sound
from zembrik.core.solver.step import Stepper
from zembrik.core.solver.world import World
from zembrik.core.start.overlap import places_of

Floats = NDArray[np.float64]
MOST_POINTS = 60_000  # of all that is simulated in a live run
MOST_FRAMES = 5000
FASTEST_M_PER_S = 50.0  # of a hand: what is farther is taken on over the next frames
FARTHEST_M = 1000.0
MARK = -98_765.25  # the frame of the only key of the track that the hand writes, by which it is found
GRIP_RADIUS_M = 0.01


@dataclass(frozen=True)
class Held:
    """What is taken in hand.

    Attributes:
        body: the name of a collider, rigid or left out body that is led; or of cloth or a soft body, by a pin.
        pin: number of that pin; None for a body.
    """

    body: str
    pin: int | None = None

    @property
    def grip(self) -> str:
        """The name of the body that the hand leads: the body itself, or one of its own that the pin follows."""
        return self.body if self.pin is None else f"hand of {self.body[:100]}{f' {self.pin + 1}' if self.pin else ''}"


def with_grip(setup: Setup, held: Held, assets: Assets) -> dict[str, Any]:
    """Return a setup's document in which what is held goes by a body: for held points, one that their pin follows.

    Raises:
        Problem: when there is no such body or pin, or it goes its own way already.
    """
    document = setup.document()
    number = next((n for n, b in enumerate(setup.bodies) if b.name == held.body), None)
    if number is None:
        raise Problem(f"there is no body '{held.body[:80]}'.", "hand", "Load the page again.")
    body = setup.bodies[number]
    if held.pin is None:
        if body.role in ("cloth", "soft"):
            raise Problem(f"'{body.name}' is {body.role}: points of it are taken in hand.", "hand", "Hold some points.")
        return document
    if not 0 <= held.pin < len(body.pins):
        raise Problem(f"'{body.name}' has no such held points.", "hand", "Load the page again.")
    pin = document["bodies"][number]["pins"][held.pin]
    if pin.get("motion"):
        raise Problem("the held points go their own way.", "hand", "Take their motion away first.")
    if any(b.name == held.grip for b in setup.bodies):
        if pin.get("follow") != held.grip:
            raise Problem(f"another body is called '{held.grip}'.", "hand", "Give it another name.")
        return document
    if pin.get("follow"):
        raise Problem(f"the held points follow '{pin['follow']}'.", "hand", "Take that in hand instead.")
    where = f"bodies[{number}].pins[{held.pin}]"
    points = start_mesh(body, assets).points
    weights = pin_weights(body.pins[held.pin], placed_mesh(body, assets), points, where, meshes_of(setup, assets))
    middle = points[weights > 0.0].mean(axis=0)
    pin["follow"] = held.grip
    document["bodies"].append({
        "name": held.grip, "role": "left out", "mesh": {"shape": "ball", "radius": GRIP_RADIUS_M, "rings": 4},
        "place": {"translate": [round(float(v), 6) for v in middle]},
    })  # fmt: skip
    return document


class HandTrack(Track):
    """Where the hand is over frames, relative to where it began: a straight way from frame to frame."""

    def __init__(self, first: int) -> None:
        super().__init__([[first, [0.0, 0.0, 0.0]]], "straight")
        self.first, self.way = first, [np.zeros(3)]

    def add(self, way_m: Floats) -> None:
        """Take in where the hand is at the next frame (3,), metres."""
        self.way.append(way_m)

    def values(self, frames: Floats | float) -> Floats:
        """Return where the hand is at m frames (m, 3), metres; beyond the ends it holds."""
        at = np.clip(np.atleast_1d(np.asarray(frames, np.float64)) - self.first, 0.0, len(self.way) - 1.0)
        low = np.minimum(at.astype(np.int64), max(len(self.way) - 2, 0))
        share = (at - low)[:, None]
        one = np.array([self.way[k] for k in low])
        two = np.array([self.way[min(k + 1, len(self.way) - 1)] for k in low])
        found: Floats = one + share * (two - one)
        return found


class LiveRun:
    """A simulation led by a hand.

    Args:
        setup: the shot. held: what is in hand. assets: gives the meshes.
        substeps: a frame; None for those of the profile rough.
        chosen: names of the bodies that are simulated; the others rest as they are. None for all.
        coarser: by how much fewer rows cloth of the shape grid has, see `coarsened`.

    Raises:
        Problem: when it cannot be simulated, or has too many points to run live.

    Attributes:
        frame: the one that the world is at. way: where the hand was at each frame so far, relative to where it began.
        let_go: the frame at which the hand let go, or None.
    """

    def __init__(
        self, setup: Setup, held: Held, assets: Assets, substeps: int | None = None, chosen: list[str] | None = None,
        coarser: int = 1,
    ) -> None:  # fmt: skip
        document = with_grip(setup, held, assets)
        document["quality"] = {"profile": "rough"} | ({"substeps": substeps} if substeps else {})
        if setup.quality.self_collision:
            document["quality"]["self_collision"] = True
        document["preroll"] = 0
        if chosen is not None:
            _rest_others(document, {*chosen, held.body, held.grip})
        self.coarse = coarsened(document, coarser)
        grip = next(b for b in document["bodies"] if b["name"] == held.grip)
        if grip.get("motion"):
            raise Problem(f"'{held.grip}' moves by keys.", "hand", "Keep its motion as a take, then take it away.")
        grip["motion"] = {"translate": {"keys": [[MARK, [0.0, 0.0, 0.0]]], "ease": "straight"}}
        self.setup, self.held = parse_setup(document), held
        self.role = grip.get("role", "left out")
        if not any(b.role in ("cloth", "soft", "rigid") for b in self.setup.bodies):
            raise Problem("nothing is simulated here.", "hand", "Give a body the role cloth, soft or rigid.")
        self.world = build_world(self.setup, assets)
        points = sum(places_of(self.world, body)[0].shape[0] for body in self.world.bodies)
        if points > MOST_POINTS:
            raise Problem(
                f"{points:,} points are too many to run live; {MOST_POINTS:,} can.", "hand",
                "Choose fewer bodies, or simulate coarser ones.",
            )  # fmt: skip
        quality = resolve(self.setup).document["quality"]
        self.stepper = Stepper(
            self.world, quality["substeps"], quality["iterations"], self.setup.fps, quality["enough"]
        )
        self.frame = self.first = setup.frames[0]
        self.track = HandTrack(self.first)
        self.let_go: int | None = None
        if not _lead(self.world, self.track):
            raise Problem(f"nothing here follows '{held.grip}'.", "hand", "Give it a role, or let pins follow it.")

    @property
    def way(self) -> Floats:
        """Where the hand was at every frame so far (k, 3), metres, relative to where it began."""
        return np.array(self.track.way)

    def step(self, way_m: Any) -> Floats:
        """Go on by a frame while the hand goes to a place (3,), metres from where it began; return where it got.

        A hand that is too fast is taken on over several frames: what goes far in one passes through things.

        Raises:
            Problem: when it blew up; it tells the frame.
        """
        wanted = np.asarray(way_m, np.float64)
        if not np.isfinite(wanted).all():
            wanted = self.track.way[-1]
        wanted = np.clip(wanted, -FARTHEST_M, FARTHEST_M)
        by, most = wanted - self.track.way[-1], FASTEST_M_PER_S / self.setup.fps
        far = float(np.linalg.norm(by))
        to = self.track.way[-1] + by * (min(1.0, most / far) if far > 0.0 else 1.0)
        self.track.add(to)
        self.stepper.advance(self.frame)
        self.frame += 1
        check_sound(self.world, self.frame)
        return np.asarray(to)

    def release(self) -> None:
        """Let go of a rigid body with the speed that the hand gave it, from this frame on.

        Raises:
            Problem: for what is no rigid body.
        """
        solids = self.world.solids
        for r, part in enumerate(solids.parts):
            if part.name == self.held.grip and part.mover is not None:
                self.let_go = self.frame
                solids.parts[r] = replace(part, spells=(Spell(float(self.frame)),))
                return
        raise Problem("only a rigid body is let go of.", "hand", "Take a rigid body in hand.")

    def shown(self) -> list[tuple[str, bool, BodyFrame]]:
        """Return of each simulated body its name, whether it is rigid, and its points (n, 3), metres, or pose (7,)."""
        frames = frame_of(self.world)
        return [(b.name, b.rigid is not None, f) for b, f in zip(self.world.bodies, frames, strict=True)]


def replay(
    setup: Setup, held: Held, assets: Assets, way: Floats, let_go: int | None = None, substeps: int | None = None,
    chosen: list[str] | None = None, coarser: int = 1,
) -> LiveRun:  # fmt: skip
    """Run a recorded way (k, 3) of a hand again, as far as it goes; the world ends in the same bytes."""
    run = LiveRun(setup, held, assets, substeps, chosen, coarser)
    for to in way[1:]:
        if let_go is not None and run.frame == let_go:
            run.release()
        run.step(to)
    return run


def coarsened(document: dict[str, Any], coarser: int) -> list[str]:
    """Give cloth of the shape grid so many times fewer rows, in place; return the names of what became coarser.

    What begins in a form of its own, or is held by the numbers of its points, stays as fine as it is.
    """
    changed = []
    for body in document["bodies"] if coarser > 1 else []:
        mesh, pins = body["mesh"], body.get("pins") or []
        by_number = any("numbers" in pin["points"] for pin in pins)
        if body.get("role") != "cloth" or mesh.get("shape") != "grid" or body.get("form") or by_number:
            continue
        body["mesh"] = {**mesh, "segments": [max(n // coarser, 2) for n in mesh["segments"]]}
        changed.append(body["name"])
    return changed


def _rest_others(document: dict[str, Any], chosen: set[str]) -> None:
    """Make colliders of rigid bodies that are not chosen, and leave other simulated ones out."""
    for body in document["bodies"]:
        if body["name"] in chosen or body.get("role") not in ("cloth", "soft", "rigid"):
            continue
        for name in ("material", "pins", "cell", "gravity", "release", "handovers", "form"):
            body.pop(name, None)
        body["role"] = "collider" if body["role"] == "rigid" else "left out"
    kept = {b["name"] for b in document["bodies"] if b.get("role") == "rigid"}
    document["joints"] = [j for j in document.get("joints", []) if all(n is None or n in kept for n in j["bodies"])]


def _lead(world: World, track: HandTrack) -> bool:
    """Put the hand's track into everything of a world that goes by it; return whether anything does."""
    movers: list[Any] = [mover for _, mover in world.colliders.movers]
    movers += [mover for mover, _ in world.colliders.forms.values()]
    movers += [part.mover for part in world.solids.parts] + [handle.mover for handle in world.handles.every]
    seen: set[int] = set()
    found = False
    while movers:
        mover = movers.pop()
        if mover is None or id(mover) in seen:
            continue
        seen.add(id(mover))
        movers += [getattr(mover, name, None) for name in ("parent", "leader")]
        held = mover.tracks.get("translate") if isinstance(mover, Mover) else None
        if held is not None and len(held.places) == 1 and held.places[0] == MARK:
            mover.tracks["translate"] = track
            found = True
    return found
