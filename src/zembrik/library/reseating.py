"""A shot's result on another surface: a new cache beside its base."""

from __future__ import annotations

import hashlib
import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from zembrik.core.cache.body import BodyFrame, CacheBody
from zembrik.core.cache.reader import Cache
from zembrik.core.cache.writer import CacheWriter
from zembrik.core.layers.reseat import ReSeat, Surface, re_seat
from zembrik.core.motion.track import most_of
from zembrik.core.problem import Problem
from zembrik.core.proxy.outline import outline
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh
from zembrik.core.setup.document import Setup, parse_setup
from zembrik.core.setup.resolve import resolve
from zembrik.core.solver.colliders import proxy_shapes
from zembrik.core.telling import Tell, silent, step
from zembrik.library.bakes import cache_path, get_bake
from zembrik.library.database import Database
from zembrik.library.handing_in import arriving_cache, keep_cache
from zembrik.library.models import Bake, Revision
from zembrik.library.settings import refuse_missing
from zembrik.library.store import StoredAssets

KINDS = ("proxy", "mesh")
ROUND = 96  # sides of a ball or capsule that is touched
FAR_MM = 0.2  # of a clearance that is another than before: more is told


@dataclass(frozen=True)
class Seated:
    """What became of a result on another surface: the bake that stands for its cache, and what there is to tell."""

    bake: Bake
    words: str


def surface_of(setup: Setup, name: str, kind: str, assets: Assets) -> Surface:
    """Return a body of a setup as what others touch: its proxy, or its own mesh.

    Raises:
        Problem: for a body that is not there, and a kind that is none.
    """
    number = next((n for n, b in enumerate(setup.bodies) if b.name == name), None)
    if number is None or kind not in KINDS:
        raise Problem(f"there is no body '{name[:80]}' to lie on.", "re-seat", "Load the page again.")
    body = setup.bodies[number]
    mesh, mover = placed_mesh(body, assets), mover_of_body(setup, number, assets)
    proxy = resolve(setup).document["bodies"][number].get("proxy")
    if kind == "proxy" and proxy is not None and not (mover is not None and mover.changes_form):
        return Surface(outline(proxy_shapes(body, proxy, mesh), mesh, ROUND), mover)
    return Surface(mesh, mover)


def rooms_of(setup: Setup, surface: str, names: list[str]) -> dict[str, float]:
    """Return how far off a surface each body lies when it touches, metres: what both keep."""
    held = {b["name"]: most_of(b.get("thickness") or 0.0) for b in resolve(setup).document["bodies"]}
    return {name: held.get(name, 0.0) + held.get(surface, 0.0) for name in names}


def re_seat_bake(database: Database, shot_id: int, order: dict[str, Any], tell: Tell = silent) -> Seated:
    """Make a cache of a bake's bodies on another surface; the bake stays as it is.

    Args:
        order: "bake"; "old" and "old_as" (a body of the setup that was baked, and one of `KINDS`), "new" and "new_as"
            (of the revision "revision"); "reach_m".

    Raises:
        Problem: when it cannot be; nothing is left then. Stopped: when `tell` says so.
    """
    settings = database.settings
    assets = StoredAssets(settings)
    with database.session() as session:
        bake, revision = get_bake(session, order["bake"]), session.get(Revision, order["revision"])
        if revision is None:
            raise Problem("the setup it was asked of is gone.", "re-seat", "Load the page again.")
        baked, setup = parse_setup(bake.document), parse_setup(revision.document)
        cache, number = Cache(cache_path(settings, bake)), bake.id
    if cache.done is None:
        raise Problem("the cache holds no frame yet.", "re-seat", "Bake it first.")
    old = surface_of(baked, order["old"], order["old_as"], assets)
    new = surface_of(setup, order["new"], order["new_as"], assets)
    bodies = [n for n in range(len(cache.names)) if not cache.changes(n)]
    rooms = rooms_of(baked, order["old"], cache.names)
    made = re_seat(
        cache, old, new, np.array(baked.world.gravity), rooms, order["reach_m"], bodies,
        lambda done, total: tell(done, total + total // 4),
    )  # fmt: skip
    if not any(seat.shift.any() for seat in made.seats.values()):
        raise Problem(
            "nothing changes: no body lies on anything that is higher or lower there.", "re-seat",
            "Choose what it lay on, and what it is to lie on.",
        )  # fmt: skip
    label = f"{order['old']} ({order['old_as']}) to {order['new']} ({order['new_as']})"
    refuse_missing(settings)
    with arriving_cache(settings) as arriving:
        sha256 = write_seated(made, arriving, {**order, "base": number}, label, tell)
        kept = keep_cache(database, shot_id, arriving, sha256, f"re-seat of bake {number}", f"re-seated: {label}"[:200])
    return Seated(kept, told_of(made))


def write_seated(made: ReSeat, path: Path, layer: dict[str, Any], label: str, tell: Tell) -> str:
    """Write a re-seated cache whole; return the hash of its base and of what was done to it."""
    cache = made.cache
    assert cache.done is not None
    said = json.dumps([cache.attributes["setup_hash"], layer], sort_keys=True)
    sha256 = hashlib.sha256(said.encode()).hexdigest()
    names = range(len(cache.names))
    bodies = [
        CacheBody(
            cache.names[n], cache.faces(n), cache.point_counts[n], cache.rest(n) if cache.is_rigid(n) else None,
            cache.most_faces(n) if cache.changes(n) else 0,
        )
        for n in names
    ]  # fmt: skip
    setup = {"title": label, "fps": cache.fps, "frames": [cache.first, cache.done]}
    foreign = {"file": f"re-seat: {label}", "sha256": sha256, "layers": [{"kind": "re-seat", **layer}]}
    writer = CacheWriter.create(path, sha256, setup, {}, dict(cache.attributes["assets"]), bodies, foreign)
    frames, count = range(cache.first, cache.done + 1), cache.frame_count
    for k, frame in enumerate(frames):
        step(tell, 4 * count + k, 5 * count)
        shown: list[BodyFrame] = [
            (cache.points(n, frame), cache.faces(n, frame)) if cache.changes(n) else made.frame(n, frame) for n in names
        ]
        writer.commit(frame, shown, {}, 0.0, None)
    writer.finish()
    return sha256


def told_of(made: ReSeat) -> str:
    """Return in words what re-seating did, and where it is not to be believed."""
    cache = made.cache
    moved = {n: seat for n, seat in made.seats.items() if seat.shift.any()}
    low, high = (1e3 * f(float(f(s.shift)) for s in moved.values()) for f in (min, max))
    worst, number, frame = made.residual
    count = f"{len(moved)} bodies" if len(moved) > 1 else f"'{cache.names[next(iter(moved))]}'"
    words = f"{count} shifted by {low:.1f} to {high:.1f} mm. What touched keeps its clearance within "
    words += f"{1e3 * worst:.2f} mm" + (f" ('{cache.names[number]}', frame {frame})." if number >= 0 else ".")
    if 1e3 * worst > FAR_MM:
        words += " Look at that frame: there the new surface is too uneven to be followed."
    far = [n for n, seat in moved.items() if float(np.abs(seat.shift).max()) > _size(cache, n)]
    if far:
        names = ", ".join(f"'{cache.names[n]}'" for n in far[:3])
        words += f" The surfaces are farther apart than {names} {'is' if len(far) == 1 else 'are'} large: look twice."
    base, now = (_jolts(made, n) for n in (False, True))
    if base > 0.0:
        words += f" Accelerations' 99th percentile is {now / base:.2f} times what it was."
    return words


def _size(cache: Cache, number: int) -> float:
    points = cache.rest(number) if cache.is_rigid(number) else cache.points(number, cache.first)
    return float(np.linalg.norm(np.ptp(points, axis=0)))


def _jolts(made: ReSeat, seated: bool) -> float:
    """Return the 99th percentile of the accelerations of rigid bodies' places, m a frame squared; before, or after."""
    cache, found = made.cache, []
    assert cache.done is not None
    for number in made.seats:
        if cache.is_rigid(number):
            places = np.array([cache.pose(number, f)[:3] for f in range(cache.first, cache.done + 1)])
            if seated:
                places = places + made.seats[number].shift[:, None] * made.turn[1]
            found.append(np.linalg.norm(np.diff(places, 2, axis=0), axis=1))
    return float(np.percentile(np.concatenate(found), 99)) if found and len(found[0]) else 0.0
