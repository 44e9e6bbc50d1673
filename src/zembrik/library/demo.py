"""Filling an empty database with the demo."""

from __future__ import annotations

import copy

from sqlalchemy import func, select

from zembrik.library.database import Database
from zembrik.library.fair import demo_shots
from zembrik.library.models import Show
from zembrik.library.settings import Settings
from zembrik.library.shots import create_shot, create_show
from zembrik.library.store import take_in

SHOW = "Windfall Fair"


def fill(database: Database, settings: Settings) -> list[int]:
    """Add the demo's show and shots to an empty database, all or nothing; return the shots' numbers."""
    with database.session() as session:
        if session.scalar(select(func.count(Show.id))):
            return []
        show = create_show(session, SHOW)
        numbers = []
        for shot in demo_shots():
            document = copy.deepcopy(shot.setup)
            names = {name: take_in(session, settings, name, data)[0] for name, data in shot.files.items()}
            for body in document["bodies"]:
                held = [body["mesh"], body.get("render", {}).get("mesh", {})]
                for mesh in held:
                    if "file" in mesh:
                        mesh["file"] = names[mesh["file"]]
            numbers.append(create_shot(session, show, shot.code, shot.title, document).id)
        return numbers
