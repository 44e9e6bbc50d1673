"""Caches that play in other shots: placed without copying a byte, and found again before anything of them may go."""

from __future__ import annotations

from typing import Any, NamedTuple

from sqlalchemy import cast, func, select
from sqlalchemy.dialects.postgresql import JSONPATH
from sqlalchemy.orm import Session

from zembrik.core.cache.reader import Cache
from zembrik.core.problem import Problem
from zembrik.library.bakes import cache_path, get_bake
from zembrik.library.handing_in import playing_mesh
from zembrik.library.intake import free_name
from zembrik.library.models import Bake, Revision, Shot
from zembrik.library.settings import Settings

_PLAYED = "$.bodies[*].mesh.cache"


class Player(NamedTuple):
    """A shot whose setup, as it stands, plays a cache."""

    shot: int
    code: str


def players(session: Session) -> dict[str, list[Player]]:
    """Return for every cache, by its folder, the shots that play it."""
    path = cast(_PLAYED, JSONPATH)
    query = (
        select(Shot.id, Shot.code, func.jsonb_path_query_array(Revision.document, path))
        .join(Revision, Revision.id == Shot.head_id)
        .order_by(Shot.code)  # asking in a condition would look into all revisions before it finds the newest
    )
    found: dict[str, list[Player]] = {}
    for shot, code, names in session.execute(query):
        for folder in dict.fromkeys(str(name).partition("/")[2] for name in names):
            found.setdefault(folder, []).append(Player(shot, code))
    return found


def refuse_played(session: Session, bake: Bake) -> None:
    """Raise a Problem when shots play a bake's cache."""
    held = players(session).get(bake.cache.folder, []) if bake.cache is not None else []
    if held:
        codes = ", ".join(p.code for p in held[:5])
        raise Problem(f"{codes} play{'s' if len(held) == 1 else ''} it.", "caches", "Take those bodies out first.")


def placed_bodies(
    session: Session, settings: Settings, bake_id: int, names: list[str], role: str, starts: float,
    offset_m: tuple[float, float, float], turn_deg: float, taken: set[str],
) -> list[dict[str, Any]]:  # fmt: skip
    """Return setup bodies that play bodies of a cache, some way off and turned about Y, from a frame on.

    Args:
        bake_id: whose cache, of any shot of any show. names: of its bodies; none for all. role: "collider" or
            "left out". starts: the shot's frame at which the cache's first frame is. taken: names in use; new ones
            are added.

    Raises:
        Problem: when the cache or a body is not there, or holds nothing yet.
    """
    bake = get_bake(session, bake_id)
    if role not in ("collider", "left out") or bake.cache is None:
        raise Problem("a cache plays as a collider, or is only looked at.", "place", "Load the page again.")
    cache = Cache(cache_path(settings, bake))
    if cache.done is None:
        raise Problem("the cache holds no frame yet.", "place", "Wait until it is baked.")
    bodies = []
    for name in names or cache.names:
        number = cache.body_number(name)
        if cache.changes(number):
            raise Problem(
                f"'{name}' has other points from frame to frame, so no setup can have it.", "place",
                "Look at it on Review, or deliver it.",
            )  # fmt: skip
        body: dict[str, Any] = {"name": free_name(name, taken), "role": role}
        taken.add(body["name"])
        body["mesh"] = playing_mesh(cache, number, bake.cache.folder, starts)
        if any(offset_m) or turn_deg:
            body["place"] = {"translate": list(offset_m), "rotate": [0.0, turn_deg, 0.0]}
        bodies.append(body)
    return bodies
