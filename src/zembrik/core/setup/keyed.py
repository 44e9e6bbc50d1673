"""Dials that may change over frames: a number within limits, or keys that stay within them."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Discriminator, Tag, ValidationInfo, field_validator

from zembrik.core.motion.track import extremes_of
from zembrik.core.setup.motion import Keys
from zembrik.core.setup.parts import Part, dial


def _which(value: Any) -> str:
    return "Keys" if isinstance(value, dict | Keys) else "Number"


# Told apart beforehand, so that what is wrong is told of what was meant.
Keyed = Annotated[Annotated[float, Tag("Number")] | Annotated[Keys, Tag("Keys")], Discriminator(_which)]
KeyedWhole = Annotated[Annotated[int, Tag("Number")] | Annotated[Keys, Tag("Keys")], Discriminator(_which)]


def keyed_dial(
    default: Any, unit: str, what: str, cost: str = "", *, least: float, most: float, above: bool = False
) -> Any:
    """Return a field as `dial` does, of a number or keys that stay from `least` (or above it) to `most`."""
    field = dial(default, unit, what, cost)
    field.json_schema_extra |= {"exclusiveMinimum" if above else "minimum": least, "maximum": most, "keyed": True}
    return field


def is_keyed(value: Any) -> bool:
    """Tell whether a value of a resolved document is a track."""
    return isinstance(value, dict) and "keys" in value


class KeyedPart(Part):
    """A part of the document with dials that may change over frames."""

    @field_validator("*")
    @classmethod
    def _within_limits(cls, value: Any, info: ValidationInfo) -> Any:
        limits: Any = cls.model_fields[str(info.field_name)].json_schema_extra
        if not isinstance(limits, dict) or not limits.get("keyed") or value is None:
            return value
        over = isinstance(value, Keys)
        low, high = extremes_of(value.model_dump(mode="json") if over else value)
        if low < limits.get("minimum", low) or low <= limits.get("exclusiveMinimum", -float("inf")):
            word = "above" if "exclusiveMinimum" in limits else "at least"
            raise ValueError(_told(low, f"{word} {limits.get('exclusiveMinimum', limits.get('minimum')):g}", over))
        if high > limits["maximum"]:
            raise ValueError(_told(high, f"at most {limits['maximum']:g}", over))
        return value


def _told(value: float, limit: str, over: bool) -> str:
    """Return what is wrong with a value, or with keys that come to it somewhere."""
    return (
        f"comes to {value:.4g} over the frames, but must be {limit}" if over else f"must be {limit} (it is {value:g})"
    )
