"""What hands do in the viewport: chosen bodies moved, stood, let down, copied, grouped; a gesture is one revision."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import Response

from zembrik.core.layout.gesture import Gesture, between, gesture_patch, middle_of, numbers_of, stand_on
from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup
from zembrik.library.duplicates import exchange_patch, mirrored_copies, settings_patch, stepped_copies
from zembrik.library.errands import ask, get_errand
from zembrik.library.groups import group_patch, refuse_locked, rename_group_patch, switch_patch, ungroup_patch
from zembrik.library.shots import Patch, get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.web.dials import from_shown
from zembrik.web.fields import Id, Text, Whole, read_json
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places, templates

router = APIRouter()
MOST_NAMES = 2000


class Chosen(NamedTuple):
    """The setup as it stands, as a document too, the number of its revision, and which of its bodies are chosen."""

    setup: Setup
    document: dict[str, Any]
    revision: int
    names: list[str]
    numbers: list[int]

    @property
    def title(self) -> str:
        """The chosen bodies in words."""
        return f"'{self.names[0]}'" if len(self.names) == 1 else f"{len(self.names)} bodies"


def chosen_bodies(db: Db, shot_id: int, names: str, moving: bool = True) -> Chosen:
    """Return what was chosen by names, as JSON; raises Problem for what is locked when it is to be moved."""
    listed = read_json(names, "chosen")
    if not isinstance(listed, list) or not all(isinstance(n, str) for n in listed) or len(listed) > MOST_NAMES:
        raise Problem("what is chosen is no list of names.", "chosen", "Load the page again.")
    with db.session() as session:
        shot = get_shot(session, shot_id)
        setup, head = head_setup(shot), shot.head
        assert head is not None
        numbers = numbers_of(setup, listed)
        if moving:
            refuse_locked(head.document, listed)
        return Chosen(setup, head.document, head.id, listed, numbers)


def _three(text: str, name: str) -> list[float]:
    """Return three numbers from JSON."""
    values = read_json(text, name)
    if not isinstance(values, list) or len(values) != 3:
        raise Problem(f"{name} is three numbers.", name, "Load the page again.")
    for v in values:
        if isinstance(v, bool) or not isinstance(v, int | float) or not abs(v) < 1e12 or not math.isfinite(v):
            raise Problem(f"{name} is three numbers.", name, "Load the page again.")
    return [float(v) for v in values]


@router.post("/shots/{shot_id}/gesture")
def gesture(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, names: Text, station: Text,
    move: Text = "[0,0,0]", axis: Text = "[0,1,0]", angle: Text = "0", factor: Text = "1", pivot: Text = "own",
    body: Text = "",
) -> Response:  # fmt: skip
    """Move, turn and size chosen bodies as one: about their own origins, their middle, or a place as JSON."""
    chosen, assets = chosen_bodies(db, shot_id, names), StoredAssets(places)
    way, about = np.array(_three(move, "way")), np.array(_three(axis, "axis"))
    angle_deg, times = float(from_shown("turn", angle)), float(from_shown("size", factor))
    patch: Patch = []
    if pivot == "own":
        for n in chosen.numbers:
            own = Gesture(way, about, angle_deg, times, np.array(chosen.setup.bodies[n].place.translate))
            patch += gesture_patch(chosen.setup, [n], own, assets)
    else:
        middle = pivot == "middle"
        at = middle_of(chosen.setup, chosen.numbers, assets) if middle else np.array(_three(pivot, "pivot"))
        patch = gesture_patch(chosen.setup, chosen.numbers, Gesture(way, about, angle_deg, times, at), assets)
    note = f"{chosen.title} {_done(way, angle_deg, times)}"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, body or chosen.names[-1])


def _done(way: Any, angle_deg: float, times: float) -> str:
    """Return in words what a gesture did."""
    done = []
    if np.abs(way).max() > 0.0:
        done.append("moved by " + ", ".join(f"{v:.4g}" for v in way) + " m")
    if angle_deg:
        done.append(f"turned by {angle_deg:.4g}°")
    if times != 1.0:
        done.append(f"sized by {times:.4g}")
    return ", ".join(done) or "left where it is"


@router.post("/shots/{shot_id}/stand")
def stand(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, names: Text, station: Text, point: Text,
    normal: Text, upright: Whole = 1, body: Text = "",
) -> Response:  # fmt: skip
    """Stand the last of the chosen bodies on a surface, the others going along with it."""
    chosen, assets = chosen_bodies(db, shot_id, names), StoredAssets(places)
    n = next(k for k, b in enumerate(chosen.setup.bodies) if b.name == chosen.names[-1])
    lead = chosen.setup.bodies[n]
    at, up = np.array(_three(point, "point")), np.array(_three(normal, "normal"))
    to = stand_on(lead, at, up, bool(upright), assets)
    patch = gesture_patch(chosen.setup, chosen.numbers, between(lead.place, to), assets)
    note = f"{chosen.title} stood at {', '.join(f'{v:.3f}' for v in at)} m"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, body or chosen.names[-1])


@router.post("/shots/{shot_id}/let-down")
def ask_let_down(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, names: Text, station: Text
) -> Response:
    """Let chosen bodies down to what is below; of many a worker does, and the answer is what to watch it by."""
    from zembrik.core.layout.let_down import is_soon_let_down, let_down  # it loads the solver

    chosen, assets, last = chosen_bodies(db, shot_id, names), StoredAssets(places), read_json(names, "chosen")[-1]
    if is_soon_let_down(chosen.setup, chosen.numbers, assets):
        found = let_down(chosen.setup, chosen.numbers, assets)
        told = " ".join(f"'{name}' {why} and stays." for name, why in list(found.held.items())[:3])
        return apply_patch(request, db, places, shot_id, base, found.patch, found.words, station, last, told)
    order = {"revision": chosen.revision, "names": chosen.names}
    with db.session() as session:
        number = ask(session, shot_id, "let down", order).id
    with db.session() as session:
        words = {"errand": get_errand(session, number), "shot_id": shot_id, "station": station, "body_name": last,
                 "head": get_shot(session, shot_id).head}  # fmt: skip
        answer = templates.TemplateResponse(request, "errand.html", words)
        answer.headers["HX-Retarget"], answer.headers["HX-Reswap"] = "#hand-errand", "innerHTML"
        return answer


@router.post("/shots/{shot_id}/duplicate")
def duplicate(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, names: Text, station: Text,
    count: Whole = 1, x: Text = "0", y: Text = "0", z: Text = "0", turn: Text = "0", mirror: Text = "",
    at: Text = "0",
) -> Response:  # fmt: skip
    """Copy chosen bodies by a step, or as a mirror shows them."""
    chosen = chosen_bodies(db, shot_id, names, moving=False)
    if mirror:
        patch = mirrored_copies(chosen.setup, chosen.document, chosen.numbers, mirror, float(from_shown("at", at)))
        note = f"{chosen.title} copied in a mirror"
    else:
        step = [float(from_shown(f"step along {name}", v)) for name, v in (("X", x), ("Y", y), ("Z", z))]
        turn_deg = float(from_shown("turn", turn))
        patch = stepped_copies(
            chosen.setup, chosen.document, chosen.numbers, count, step, turn_deg, StoredAssets(places)
        )
        note = f"{chosen.title} copied {count} time{'s' if count > 1 else ''}"
    first = next(op["value"]["name"] for op in patch if op["path"] == "/bodies/-")
    return apply_patch(request, db, places, shot_id, base, patch, note, station, first)


@router.post("/shots/{shot_id}/group")
def group(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, names: Text, title: Text, station: Text
) -> Response:
    """Make a group of chosen bodies."""
    chosen = chosen_bodies(db, shot_id, names, moving=False)
    patch = group_patch(chosen.document, chosen.names, title)
    note = f"{chosen.title} grouped as '{title.strip()}'"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, chosen.names[-1])


@router.post("/shots/{shot_id}/group-edit")
def edit_group(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, name: Text, station: Text, do: Text,
    title: Text = "", body: Text = "",
) -> Response:  # fmt: skip
    """Rename a group, take it apart, hide, show, lock or free it."""
    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        document = head.document
    if do == "rename":
        patch, note = rename_group_patch(document, name, title), f"group '{name}' is called '{title.strip()}'"
    elif do == "apart":
        patch, note = ungroup_patch(document, name), f"group '{name}' taken apart"
    else:
        on, switch = not do.startswith("not "), do.removeprefix("not ")
        patch = switch_patch(document, name, switch, on)
        note = f"group '{name}' is {'' if on else 'no longer '}{switch}"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, body)


@router.post("/shots/{shot_id}/settings-onto")
def settings_onto(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, names: Text, station: Text
) -> Response:
    """Put the settings of the last of the chosen bodies onto the others."""
    chosen = chosen_bodies(db, shot_id, names, moving=False)
    source = next(k for k, b in enumerate(chosen.setup.bodies) if b.name == chosen.names[-1])
    patch = settings_patch(chosen.document, source, chosen.numbers)
    note = f"settings of '{chosen.names[-1]}' put onto {len(chosen.names) - 1} more"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, chosen.names[-1])


@router.post("/shots/{shot_id}/exchange")
def exchange(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, names: Text, other: Text, station: Text,
    gone: Text = "",
) -> Response:  # fmt: skip
    """Give a body the mesh of another; its settings stay."""
    chosen = chosen_bodies(db, shot_id, names, moving=False)
    donor = numbers_of(chosen.setup, [other])[0]
    patch = exchange_patch(chosen.document, chosen.numbers[0], donor, bool(gone))
    note = f"'{chosen.names[0]}' has the mesh of '{other}'"
    return apply_patch(request, db, places, shot_id, base, patch, note, station, chosen.names[0])
