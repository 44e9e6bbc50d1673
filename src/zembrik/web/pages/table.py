"""All bodies as a table, where one value is set on many at once."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response

from zembrik.core.problem import Problem
from zembrik.core.proxy.words import PROXY_WORDS
from zembrik.core.setup.materials import PRESETS
from zembrik.core.setup.resolve import resolve
from zembrik.library.many import ROLES, set_many
from zembrik.library.shots import get_shot, head_setup
from zembrik.web.dials import SHOWN, from_shown
from zembrik.web.fields import Id, Numbers, Text, Whole
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places, templates

router = APIRouter()
# What can be set, and what it is called; numbers first.
NUMBERS = {
    "thickness": "thickness", "friction": "friction", "bounce": "bounce", "density": "density, kg/m³",
    "area_density": "weight, kg/m²", "scale": "scale, ×", "gravity": "gravity's share, ×",
}  # fmt: skip
CHOICES: dict[str, list[str]] = {
    "role": list(ROLES),
    "preset": sorted({name for group in PRESETS.values() for name in group}),
    "proxy": list(PROXY_WORDS),
}


@router.get("/shots/{shot_id}/table")
def table(request: Request, db: Db, shot_id: Id) -> Response:
    """Return the table of all bodies."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        setup = head_setup(shot)
        resolved = resolve(setup)
        unit, factor = SHOWN.get("thickness", ("m", 1.0))
        rows = [
            _row(n, b.role, v, factor)
            for n, (b, v) in enumerate(zip(setup.bodies, resolved.document["bodies"], strict=True))
        ]
        words = {"shot": shot, "head": shot.head, "rows": rows, "numbers": NUMBERS, "choices": CHOICES, "unit": unit}
        return templates.TemplateResponse(request, "table.html", words)


def _row(number: int, role: str, values: dict[str, Any], factor: float) -> dict[str, Any]:
    material = values.get("material") or {}
    thickness = values.get("thickness")
    return {
        "number": number, "name": values["name"], "role": role, "preset": material.get("preset") or "",
        "proxy": (values.get("proxy") or {}).get("kind", ""),
        "thickness": thickness * factor if isinstance(thickness, float) else thickness,
        "friction": values.get("friction") if role == "collider" else material.get("friction"),
        "density": material.get("area_density") if role == "cloth" else material.get("density"),
        "scale": values["place"]["scale"],
    }  # fmt: skip


@router.post("/shots/{shot_id}/table")
def set_values(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, what: Text, value: Text = "",
    choice: Text = "", number: Numbers = [], station: Text = "intake", body: Text = "",  # noqa: B006
) -> Response:  # fmt: skip
    """Set one value on all ticked bodies, as one revision."""
    if not number:
        raise Problem("no body is ticked.", "table", "Tick those that are to change.")
    if what in CHOICES:
        given: Any = choice
        if choice not in CHOICES[what]:
            raise Problem(f"'{choice[:40]}' is no {what}.", "table", "Choose one from the list.")
    elif what in NUMBERS:
        given = from_shown(what, value)
    else:
        raise Problem("there is no such value.", "table", "Load the page again.")
    with db.session() as session:
        head = get_shot(session, shot_id).head
        assert head is not None
        setup = head_setup(get_shot(session, shot_id))
        patch, without = set_many(setup, head.document, number, what, given)
    words = f"{what.replace('_', ' ')} of {len(number) - without} bodies set to {choice or value}"
    return apply_patch(request, db, places, shot_id, base, patch, words, station, body)
