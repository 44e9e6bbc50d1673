"""Motion from another application as a take: whatever moved there, keyed few, for the bodies of a show."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, BinaryIO, NamedTuple

from sqlalchemy.orm import Session

from zembrik.core.exchange.sizes import declared_unit
from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.core.telling import Tell, silent, step
from zembrik.core.units import METRES_PER_UNIT, UNIT_NAMES
from zembrik.library.errands import ask
from zembrik.library.models import Errand, Take
from zembrik.library.settings import Settings
from zembrik.library.shots import get_shot, head_setup
from zembrik.library.store import clean_name, hold
from zembrik.library.takes import add_take

if TYPE_CHECKING:
    from zembrik.core.exchange.motion_file import MotionFile

MOST_TRACKS = 2000
MOST_FRAME = 1_000_000
MOST_FRAMES = 1_000_000  # of all things together: a file of two rows each could ask for any number


def ask_for_take(
    session: Session, settings: Settings, shot_id: int, file: BinaryIO, name: str, label: str = "", body: str = "",
    stands: bool = True, unit: str = "", up_axis: str = "", first: float | None = None, bound_m: float = 5e-4,
    bound_deg: float = 0.2,
) -> Errand:  # fmt: skip
    """Hold a file and have a worker keep its motion as a take; see `take_from_file` for the words.

    Raises:
        Problem: for an order that cannot be carried out.
    """
    get_shot(session, shot_id)
    if unit and unit not in METRES_PER_UNIT:
        raise Problem(f"there is no unit '{unit[:20]}'.", "unit", f"Use one of {', '.join(METRES_PER_UNIT)}.")
    if up_axis not in ("", "y", "z"):
        raise Problem(f"'{up_axis[:20]}' cannot point up.", "up axis", "Use y or z.")
    if first is not None and not abs(first) <= MOST_FRAME:
        raise Problem(f"frame {first:g} is too far away.", "begins", f"Frames go up to {MOST_FRAME:,}.")
    if not (0.0 <= bound_m < 100.0 and 0.0 <= bound_deg < 180.0):
        raise Problem("the bounds are 0 to 100 m and 0 to 180 degrees.", "bounds", "Half a millimetre will do.")
    order = {
        "sha256": hold(settings, file), "name": clean_name(name), "label": label.strip()[:120], "body": body,
        "stands": stands, "unit": unit, "up_axis": up_axis, "first": first, "bound_m": bound_m, "bound_deg": bound_deg,
    }  # fmt: skip
    return ask(session, shot_id, "motion in", order, again=True)


def take_from_file(
    session: Session, settings: Settings, shot_id: int, order: dict[str, Any], tell: Tell = silent
) -> tuple[Take, str]:
    """Keep what moves in a file as a take; return it, and what was done, in words.

    Args:
        order: "sha256" and "name" of a file that is held (`store.hold`); "label" of the take; "unit" and "up_axis",
            empty for what the file says; "first", the shot's frame at which the file begins, or None for what it says;
            "body", whose motion it shall be, or empty for bodies of the same names; "stands", whether they stand where
            the file has them; "bound_m" and "bound_deg", see `keys.from_cache.keyed`.
        tell: is told how far it is.

    Raises:
        Problem: for a file that holds no motion, a name that is taken, a body that is not there. Stopped: by `tell`.
    """
    # These bring the compiler, which no page waits for.
    from zembrik.core.exchange.motion_at_frames import at_frames
    from zembrik.core.exchange.motion_file import read_motion
    from zembrik.core.keys.from_cache import keyed

    shot = get_shot(session, shot_id)
    setup = head_setup(shot)
    try:
        data = (settings.assets / "arriving" / order["sha256"]).read_bytes()
    except OSError:
        raise Problem("the file is not there any more.", order["name"], "Hand it in again.") from None
    file = read_motion(data, order["name"], setup.fps)
    if len(file.tracks) > MOST_TRACKS:
        raise Problem(f"{len(file.tracks):,} things move in it.", order["name"], f"At most {MOST_TRACKS:,} are taken.")
    unit_m = METRES_PER_UNIT[order["unit"]] if order["unit"] else file.unit_m or 1.0
    up = order["up_axis"] or file.up or "y"
    first = order["first"] if order["first"] is not None else file.first
    first = float(setup.frames[0] if first is None else first)
    places = {b.name: b.place.translate for b in setup.bodies}
    if order["body"] and order["body"] not in places:
        raise Problem(f"there is no body '{order['body'][:80]}'.", "takes", "Load the page again.")
    tracks: list[dict[str, Any]] = []
    strangers, found, keys, total = [], [], 0, 0
    for k, track in enumerate(file.tracks):
        step(tell, k, len(file.tracks))
        name = next((n for n in (track.name, track.name.rsplit("/", 1)[-1]) if n in places), track.name)
        body = order["body"] or name
        about = places.get(body) if order["stands"] or not track.is_node else None
        at = at_frames(track, first, setup.fps, unit_m, up, about)
        if body not in places:
            strangers.append(name)
        few = keyed(at.poses, at.about, order["bound_m"], order["bound_deg"])
        keys += few.keys_of_place
        tracks.append({"body": name, "motion": few.motion})
        total += len(at.poses.shift)
        if total > MOST_FRAMES:
            raise Problem(f"it moves for more than {MOST_FRAMES:,} frames, all together.", track.name[:80], "Split it.")
        found.append(Told(at.resampled, at.moments, len(at.poses.shift), at.off_m, at.off_deg))
    take = add_take(
        session, shot, order["label"] or order["name"], order["name"], parse_setup({"fps": setup.fps}), tracks
    )
    words = [f"'{take.name}' holds {len(tracks)} bod{'ies' if len(tracks) > 1 else 'y'} with {keys:,} keys of place."]
    words += _told_of_file(file, order, unit_m, up), *_told_of_frames(found, setup.fps)
    if strangers:
        words.append(f"No body here is called {_some(strangers)}: use the take for one of yours.")
    if not order["stands"] and not all(t.is_node for t in file.tracks):
        words.append("A table does not say where its bodies stood: they turn as if they stood as they do here.")
    return take, " ".join([*words, *file.notes])


def _told_of_file(file: MotionFile, order: dict[str, Any], unit_m: float, up: str) -> str:
    """Return how the file's numbers were read, and whose word that is."""

    def by(chosen: str, said: Any) -> str:
        return "as chosen" if chosen else "as it says" if said else "which it does not say"

    unit = UNIT_NAMES.get(declared_unit(unit_m) or "", f"units of {unit_m:g} m")
    whose = by(order["unit"], file.unit_m), by(order["up_axis"], file.up)
    if whose[0] == whose[1]:
        return f"{file.kind} in {unit} with {up.upper()} up, {whose[0]}."
    return f"{file.kind} in {unit}, {whose[0]}, with {up.upper()} up, {whose[1]}."


class Told(NamedTuple):
    """What is told of how a track's moments became frames; off in metres and degrees."""

    resampled: bool
    moments: int
    frames: int
    off_m: float
    off_deg: float


def _told_of_frames(found: list[Told], fps: float) -> list[str]:
    """Return how moments became frames, where they were not."""
    anew = [at for at in found if at.resampled]
    if not anew:
        return ["Its moments are frames here, so nothing was resampled."]
    most = max(anew, key=lambda at: at.moments)
    return [
        f"Resampled: {most.moments:,} moments became {most.frames:,} frames at {fps:g} a second, off by at "
        f"most {1e3 * max(at.off_m for at in anew):.3f} mm and {max(at.off_deg for at in anew):.3f} degrees at its own."
    ]


def _some(names: list[str]) -> str:
    told = " or ".join(f"'{n[:60]}'" for n in names[:4])
    return f"{told} or like {len(names) - 4} more" if len(names) > 4 else told
