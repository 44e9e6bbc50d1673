"""What all parts of the setup document share."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict, Field

Vector = tuple[float, float, float]


def dial(default: Any, unit: str, what: str, cost: str = "", **limits: Any) -> Any:
    """Return a field with a unit and its sentence; None as default means: preset or profile decides."""
    extra: Any = {"unit": unit, "what": what, "cost": cost}
    return Field(default, description=f"{what} {cost}".strip(), json_schema_extra=extra, **limits)


class Part(BaseModel):
    """What all parts of the document share: unknown fields and non-finite numbers are errors."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, frozen=True)
