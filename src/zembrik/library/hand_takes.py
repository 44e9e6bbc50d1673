"""Takes that were guided by hand: kept with their picture, and put into a setup as an ordinary motion."""

from __future__ import annotations

import re
from datetime import datetime
from typing import Any

from sqlalchemy.orm import Session

from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets
from zembrik.core.setup.document import Setup, parse_setup
from zembrik.library.models import Take
from zembrik.library.shots import Patch, get_shot, head_setup
from zembrik.library.takes import add_take

PICTURE = re.compile(r"data:image/(?:jpeg|png);base64,[A-Za-z0-9+/]+=*")
MOST_PICTURE = 80_000  # characters


def keep_hand_take(session: Session, shot_id: int, name: str, kept: dict[str, Any], picture: str) -> Take:
    """Keep what a live run recorded under a name; without one, under its body and the time of day.

    Raises:
        Problem: for a name that is taken.
    """
    shot = get_shot(session, shot_id)
    setup, tracks = head_setup(shot), kept["tracks"]
    usual = f"{tracks[0]['body'][:80]} by hand {datetime.now():%H:%M:%S}"
    take = add_take(session, shot, name.strip() or usual, f"by hand in {shot.code}", setup, tracks)
    take.picture = picture if len(picture) <= MOST_PICTURE and PICTURE.fullmatch(picture) else ""
    return take


def is_by_hand(take: Take) -> bool:
    """Tell whether held points of a take go by it, or a body that it lets go of: it is used as a whole then."""
    return any("holds" in track or "release" in track for track in take.tracks)


def hand_patch(setup: Setup, take: Take, assets: Assets) -> tuple[Patch, str]:
    """Return the patch that has a setup go by a guided take, and what was done, in words.

    Held points get a body of their own to follow, where they have none yet; its way is an ordinary motion.

    Raises:
        Problem: when the setup has not what was held.
    """
    from zembrik.core.live.run import Held, with_grip  # pages load without a solver

    document = setup.document()
    patch: Patch = []
    for track in take.tracks:
        holds, grip = track.get("holds"), track["body"]
        if holds is not None:
            number = next((n for n, b in enumerate(document["bodies"]) if b["name"] == holds["body"]), None)
            grown = with_grip(parse_setup(document), Held(holds["body"], holds["pin"]), assets)
            if number is not None and len(grown["bodies"]) > len(document["bodies"]):
                pin = f"/bodies/{number}/pins/{holds['pin']}"
                patch.append({"op": "add", "path": f"{pin}/follow", "value": grip})
                patch.append({"op": "add", "path": "/bodies/-", "value": grown["bodies"][-1]})
            document = grown
        where = next((n for n, b in enumerate(document["bodies"]) if b["name"] == grip), None)
        if where is None:
            raise Problem(f"there is no body '{grip[:80]}' here.", "takes", "Use it in a shot that has one.")
        patch.append({"op": "add", "path": f"/bodies/{where}/motion", "value": track["motion"]})
        if "release" in track:
            patch.append({"op": "add", "path": f"/bodies/{where}/release", "value": track["release"]})
    who = f"'{take.tracks[0]['body']}' goes" if len(take.tracks) == 1 else f"{len(take.tracks)} bodies go"
    return patch, f"{who} by the take '{take.name}'."
