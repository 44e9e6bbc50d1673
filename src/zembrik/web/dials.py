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
from zembrik.core.setup.keyed import is_keyed
from zembrik.core.setup.resolve import BY_HAND, Resolved, dotted
from zembrik.web.tracks import Track, made, times

# Shown in another unit than the document's: path ending → (unit, factor from the document's).
SHOWN = dict.fromkeys(("thickness", "enough", "cell", "tack_distance", "rolling_resistance"), ("mm", 1000.0))


@dataclass(frozen=True)
class Dial:
    """One value that can be set on a panel.

    Attributes:
        label: its name on the page.
        path: JSON Pointer into the setup.
        value: as shown. unit: as shown.
        what, cost: its sentences.
        origin: where the value came from. by_hand: whether it can be given back.
        track: of what may change over frames, as the curve view takes it.
    """

    label: str
    path: str
    value: Any
    unit: str
    what: str
    cost: str
    origin: str
    by_hand: bool
    track: Track | None = None


LABELS = {
    "substeps": "Substeps", "iterations": "Iterations", "area_density": "Weight", "stretch": "Stretch stiffness",
    "compression": "Compression stiffness", "shear": "Shear stiffness", "bend": "Bend stiffness", "damping": "Damping",
    "friction": "Friction", "drag": "Air drag", "thickness": "Thickness", "fps": "Frame rate", "preroll": "Preroll",
    "air_density": "Air density", "scale": "Scale", "height": "Height",
    "contact": "Contact", "self_collision": "Self-collision", "enough": "Enough when a pass moves less than",
    "density": "Density", "bounce": "Bounce", "rolling_resistance": "Rolling resistance",
    "sliding_friction": "Sliding friction", "lift": "Lift",
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
    raw = value
    if isinstance(value, float | int) and factor != 1.0:
        value = round(value * factor, 9)
    origin = resolved.origins.get(dotted(path), "default")
    label, track = LABELS.get(name, name), None
    if extra.get("keyed") and value is not None:
        plain = value if is_keyed(value) else None
        usual = raw if plain is None else plain["keys"][0][1]
        whose = resolved.document["bodies"][int(parts[1])]["name"] if parts[0] == "bodies" else ""
        words = label, unit, extra["what"]
        track = made(resolved.document["frames"], path, plain, usual, words, whose, factor)
    return Dial(label, path, value, unit, extra["what"], extra["cost"], origin, origin == BY_HAND, track)


def _field(parts: list[str]) -> FieldInfo:
    holder = parts[-2] if len(parts) > 1 else ""
    model = MODELS["body" if holder.isdigit() else holder]
    return model.model_fields[parts[-1]]


def keys_from_shown(path: str, keys: list[Any]) -> list[Any]:
    """Return keys of the curve view in the document's unit.

    Raises:
        Problem: when they are no keys.
    """
    name = path.rsplit("/", 1)[-1]
    if name not in SHOWN:
        return keys
    try:
        return times(keys, 1.0 / SHOWN[name][1])
    except (TypeError, ValueError, AttributeError):
        raise Problem("these are no keys of a number.", LABELS.get(name, name), "Load the page again.") from None


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
