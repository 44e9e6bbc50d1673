"""A finding: one computed statement about a setup, with a remedy that can be applied."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Finding:
    """What is wrong, where, how much, and what would cure it.

    Attributes:
        code: names the check, for tests and for dismissing.
        station: where on the bench it belongs: Intake, Proxies, Start, Motion or Quality.
        severe: whether the bake would be useless.
        title: a short sentence.
        text: what was measured, with unit, and what it means.
        body: name of the body it is about; empty for the whole setup.
        at: the place (3,) in metres, if it has one.
        remedy: label of the cure; empty if there is none to apply.
        patch: the cure as a JSON Patch (RFC 6902) on the setup document.
        frame: of a bake, the frame from which on it is so; None for what is of a setup.
    """

    code: str
    station: str
    severe: bool
    title: str
    text: str
    body: str = ""
    at: tuple[float, float, float] | None = None
    remedy: str = ""
    patch: list[dict[str, Any]] = field(default_factory=list)
    frame: int | None = None

    def plain(self) -> dict[str, Any]:
        """Return the finding as plain JSON values."""
        return {**self.__dict__, "at": list(self.at) if self.at else None}


def set_value(path: str, value: Any) -> dict[str, Any]:
    """Return the patch that sets a value whether or not it was there ("add" replaces in an object)."""
    return {"op": "add", "path": path, "value": value}
