"""Takes: motion kept under a name, of a setup or of a cache, to be used in any shot of the show."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from zembrik.core.cache.reader import Cache
from zembrik.core.keys.from_cache import keyed, poses_of
from zembrik.core.keys.paste import pasted, tracks_in
from zembrik.core.keys.retime import at_rate, span_of
from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup, parse_setup
from zembrik.core.telling import Tell, silent, step
from zembrik.library.bakes import cache_path, get_bake
from zembrik.library.models import Shot, Take
from zembrik.library.settings import Settings
from zembrik.library.shots import Patch, get_shot, head_setup

MOST_NAME = 120


def takes_of_show(session: Session, show_id: int) -> list[Take]:
    """Return a show's takes: favourites first, then the newest."""
    query = select(Take).where(Take.show_id == show_id)
    return list(session.scalars(query.order_by(Take.favourite.desc(), Take.created.desc(), Take.id.desc())))


def get_take(session: Session, show_id: int, take_id: int, lock: bool = False) -> Take:
    """Return a take of a show; raises Problem when there is none."""
    query = select(Take).where(Take.id == take_id, Take.show_id == show_id)
    take = session.scalar(query.with_for_update() if lock else query)
    if take is None:
        raise Problem(f"there is no take number {take_id} in this show.", "takes", "Load the page again.")
    return take


def keep_take(session: Session, shot_id: int, name: str, bodies: list[str]) -> Take:
    """Keep the motion of bodies of a shot's setup, or of all that move by keys, as a take.

    Raises:
        Problem: when none of them moves, or the name is taken.
    """
    shot = get_shot(session, shot_id)
    setup = head_setup(shot)
    tracks = [
        {"body": b.name, "motion": b.motion.model_dump(mode="json", exclude_none=True)}
        for b in setup.bodies
        if b.motion is not None and (not bodies or b.name in bodies)
    ]
    if not tracks:
        raise Problem("nothing moves by keys here.", "takes", "Key a body first, or take the motion of a bake.")
    return add_take(session, shot, name, f"{shot.code}, revision {shot.head.number if shot.head else 0}", setup, tracks)


def keep_take_of_bake(
    session: Session, settings: Settings, bake_id: int, name: str, bodies: list[str], bound_m: float,
    bound_deg: float, angles: str = "", tell: Tell = silent,
) -> Take:  # fmt: skip
    """Keep what bodies did in a bake as a take of few keys, within bounds that hold at every moment.

    Args:
        bake_id: whose cache. bodies: names; none for all that keep their form. bound_m, bound_deg, angles: see
            `keys.from_cache.keyed`. tell: is told how far it is.

    Raises:
        Problem: for a name that is taken, or no such body. Stopped: by `tell`.
    """
    bake = get_bake(session, bake_id)
    shot, cache = get_shot(session, bake.shot_id), Cache(cache_path(settings, bake))
    if cache.done is None:
        raise Problem("the cache holds no frame yet.", "takes", "Wait until it is baked.")
    setup = parse_setup(bake.document)
    places = {b.name: b.place.translate for b in setup.bodies}
    wanted = bodies or [n for k, n in enumerate(cache.names) if cache.is_rigid(k)]
    tracks: list[dict[str, Any]] = []
    for k, body in enumerate(wanted):
        step(tell, k, len(wanted))
        number = cache.body_number(body)
        if cache.changes(number):
            raise Problem(f"'{body}' has other points from frame to frame.", "takes", "Leave it out.")
        found = keyed(poses_of(cache, number), places.get(body, (0.0, 0.0, 0.0)), bound_m, bound_deg, angles)
        tracks.append({"body": body, "motion": found.motion})
    if not tracks:
        raise Problem("no body of the cache keeps its form.", "takes", "Choose one: its nearest rigid motion is taken.")
    source = f"{shot.code}, {bake.label or f'bake of revision {bake.revision.number}'}"
    return add_take(session, shot, name, source, parse_setup({"fps": cache.fps}), tracks)


def add_take(session: Session, shot: Shot, name: str, source: str, setup: Setup, tracks: list[dict[str, Any]]) -> Take:
    """Keep tracks under a name; raises Problem when it is taken, or none."""
    take = Take(show_id=shot.show_id, shot_id=shot.id, source=source, fps=setup.fps, tracks=tracks, favourite=False)
    take.name = _free(session, shot.show_id, name)
    session.add(take)
    session.flush()
    return take


def _free(session: Session, show_id: int, name: str) -> str:
    name = name.strip()
    if not 0 < len(name) <= MOST_NAME or not name.isprintable():
        raise Problem(f"a take's name has 1 to {MOST_NAME} letters.", "takes", "Type one.")
    if session.scalar(select(Take.id).where(Take.show_id == show_id, Take.name == name)):
        raise Problem(f"the show has a take '{name}' already.", "takes", "Choose another name.")
    return name


def rename_take(session: Session, show_id: int, take_id: int, name: str) -> None:
    """Give a take another name."""
    take = get_take(session, show_id, take_id, lock=True)
    if name.strip() != take.name:
        take.name = _free(session, show_id, name)


def favour_take(session: Session, show_id: int, take_id: int) -> bool:
    """Make a take a favourite, or none any more; return what it is now."""
    take = get_take(session, show_id, take_id, lock=True)
    take.favourite = not take.favourite
    return take.favourite


def remove_take(session: Session, show_id: int, take_id: int) -> None:
    """Take a take away; what was made with it stays."""
    session.delete(get_take(session, show_id, take_id, lock=True))


def use_take(
    setup: Setup, take: Take, body: str | None, track: str | None = None, begins: float | None = None,
    offset_m: tuple[float, float, float] = (0.0, 0.0, 0.0), parent: str | None = None,
) -> tuple[Patch, str]:  # fmt: skip
    """Return the patch that gives bodies of a setup the motion of a take, and what was done and left, in words.

    Args:
        setup: as it stands. body: who gets it; None for every body that is called as one of the take's.
        track: which of the take's, for one body; by the body's name, or the first, if left out.
        begins: the frame of its first key; None keeps its frames. A take of another frame rate goes as fast as it was.
        offset_m, parent: see `keys.paste.pasted`.

    Raises:
        Problem: when there is nobody to take it.
    """
    numbers = {b.name: k for k, b in enumerate(setup.bodies)}
    held = {t["body"]: t["motion"] for t in take.tracks}
    if body is not None:
        if body not in numbers:
            raise Problem(f"there is no body '{body[:80]}'.", "takes", "Load the page again.")
        chosen = track or (body if body in held else next(iter(held)))
        if chosen not in held:
            raise Problem(f"the take has no track '{chosen[:80]}'.", "takes", f"It has {', '.join(list(held)[:6])}.")
        pairs = [(chosen, body)]
    else:
        pairs = [(name, name) for name in held if name in numbers]
    left = [f"'{name}' has no body here" for name in held if body is None and name not in numbers]
    begin_all = min((span_of(m)[0] for m in held.values() if tracks_in(m)), default=0.0)
    patch: Patch = []
    for source, target in pairs:
        motion = held[source]
        try:
            if abs(take.fps / setup.fps - 1.0) > 1e-9:
                motion = at_rate(motion, setup.fps / take.fps, begin_all)
            starts = None if begins is None else begins + span_of(motion)[0] - begin_all
            made, dropped = pasted(motion, setup.bodies[numbers[target]].role, starts, offset_m, parent)
        except Problem as problem:
            if body is not None:
                raise
            left.append(f"'{target}': {problem.what.rstrip('.')}")
            continue
        left += [f"of '{target}' {words}" for words in dropped]
        patch.append({"op": "add", "path": f"/bodies/{numbers[target]}/motion", "value": made})
    if not patch:
        raise Problem("nobody here can take it.", "takes", f"Left: {'; '.join(left[:6]) or 'nothing'}.")
    who = f"{len(patch)} bodies go" if len(patch) > 1 else f"'{pairs[0][1] if body else _name_of(setup, patch)}' goes"
    told = f"{who} by the take '{take.name}'."
    if left:
        told += f" Left behind: {'; '.join(left[:8])}{f' and {len(left) - 8} more' if len(left) > 8 else ''}."
    return patch, told


def _name_of(setup: Setup, patch: Patch) -> str:
    return setup.bodies[int(patch[0]["path"].split("/")[2])].name
