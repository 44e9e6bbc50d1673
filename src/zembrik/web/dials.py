"""The dials of a panel: each with its value, unit, sentence, and where the value came from."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import jsonpointer
from pydantic import BaseModel
from pydantic.fields import FieldInfo

from zembrik.core.problem import Problem
from zembrik.core.setup.document import Body, Ground, Material, Place, Proxy, Quality, Setup, World
from zembrik.core.setup.resolve import BY_HAND, Resolved, dotted

# Shown in another unit than the document's: path ending → (unit, factor from the document's).
SHOWN = dict.fromkeys(("thickness", "enough", "cell", "tack_distance"), ("mm", 1000.0))


@dataclass(frozen=True)
class Dial:
    """One value that can be set on a panel.

    Attributes:
        label: its name on the page.
        path: JSON Pointer into the setup.
        value: as shown. unit: as shown.
        what, cost: its sentences.
        origin: where the value came from. by_hand: whether it can be given back.
    """

    label: str
    path: str
    value: Any
    unit: str
    what: str
    cost: str
    origin: str
    by_hand: bool


LABELS = {
    "substeps": "Substeps", "iterations": "Iterations", "area_density": "Weight", "stretch": "Stretch stiffness",
    "compression": "Compression stiffness", "shear": "Shear stiffness", "bend": "Bend stiffness", "damping": "Damping",
    "friction": "Friction", "drag": "Air drag", "thickness": "Thickness", "fps": "Frame rate", "preroll": "Preroll",
    "air_density": "Air density", "scale": "Scale", "height": "Height",
    "contact": "Contact", "self_collision": "Self-collision", "enough": "Enough when a pass moves less than",
    "density": "Density", "bounce": "Bounce", "sliding_friction": "Sliding friction", "lift": "Lift",
    "young": "Stiffness (Young)", "poisson": "Bulge (Poisson)", "yield_strain": "Yield strain",
    "yield_angle": "Yield angle", "creep": "Creep", "tack": "Tack", "tack_distance": "Tack breaks at",
    "cell": "Cell", "gravity": "Gravity's share", "release": "Let go at frame", "most": "Hulls at most",
    "hollow": "Deepest hollow left",
    "keep": "Share of faces kept", "closes": "Closes holes up to",
}  # fmt: skip
MODELS: dict[str, type[BaseModel]] = {
    "material": Material, "place": Place, "quality": Quality, "world": World, "ground": Ground, "body": Body, "": Setup,
    "proxy": Proxy,
}  # fmt: skip


def dial(resolved: Resolved, path: str) -> Dial:
    """Return the dial of a path such as /bodies/0/material/bend."""
    parts = path.strip("/").split("/")
    name = parts[-1]
    field = _field(parts)
    extra: Any = field.json_schema_extra
    value = jsonpointer.resolve_pointer(resolved.document, path, None)
    unit, factor = SHOWN.get(name, (extra["unit"], 1.0))
    if isinstance(value, float | int) and factor != 1.0:
        value = round(value * factor, 9)
    origin = resolved.origins.get(dotted(path), "default")
    return Dial(LABELS.get(name, name), path, value, unit, extra["what"], extra["cost"], origin, origin == BY_HAND)


def _field(parts: list[str]) -> FieldInfo:
    holder = parts[-2] if len(parts) > 1 else ""
    model = MODELS["body" if holder.isdigit() else holder]
    return model.model_fields[parts[-1]]


def from_shown(path: str, text: str) -> Any:
    """Return a typed number in the document's unit.

    Raises:
        Problem: when it is no number.
    """
    name = path.rsplit("/", 1)[-1]
    label = LABELS.get(name, name)
    text = text.strip().replace(",", ".").replace("\u2212", "-")
    try:
        value = float(text)
        if not math.isfinite(value):
            raise ValueError
    except ValueError:
        raise Problem(f"{label}: '{text[:40]}' is not a number.", "dial", "Type a number, as in 0.5.") from None
    if name in SHOWN:
        return round(value / SHOWN[name][1], 12)
    return int(value) if value == int(value) and abs(value) < 1e15 else value
