"""Groups of bodies, and how a dropped one came about, as a setup says them; no bake depends on either."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field, model_validator

from zembrik.core.setup.parts import Part, dial

MOST_DROPPED = 1000  # bodies, by one layer
Span = tuple[float, float]


class Source(Part):
    """A body whose copies fall, and how many of all."""

    body: str = Field(max_length=120, description="Name of the body; it stays where it is.")
    share: float = dial(1.0, "×", "How many of all are copies of it, against the other shares.", gt=0, le=1e6)


class Drop(Part):
    """A layer of a drop layout: what was scattered, and how it came to rest."""

    sources: list[Source] = Field(min_length=1, max_length=50)
    count: Annotated[int, Field(ge=1, le=MOST_DROPPED)] = dial(50, "copies", "How many fall.", "Time grows with them.")
    across: Span = dial((-0.5, 0.5), "m", "From where to where along X they are scattered.")
    along: Span = dial((-0.5, 0.5), "m", "From where to where along Z they are scattered.")
    above: float | None = dial(None, "m", "How high the lowest begin; left out: just above what is there.")
    room: float | None = dial(
        None, "m", "How high the heap of what is to fall may be; left out: as high as needed.", gt=0
    )
    size: Span = dial((1.0, 1.0), "×", "Between which each one's size lies, times that of what it is a copy of.")
    turn: float = dial(180.0, "°", "Up to how far each is turned about each axis.", ge=0, le=180)
    spacing: float = dial(0.005, "m", "How far apart they are when they begin, at least.", ge=0, le=100)
    seed: int = dial(1, "", "Another number, another heap of the same kind.", ge=0, le=2**31)
    frames: int = dial(240, "frames", "When the fall ends, at rest or not.", ge=1, le=5000)
    rests: bool = Field(True, description="Whether all of it had come to rest.")
    took: int | None = Field(None, description="How many frames the fall took.")

    @model_validator(mode="after")
    def _spans(self) -> Drop:
        for name in ("across", "along", "size"):
            low, high = getattr(self, name)
            if low > high:
                raise ValueError(f"{name} goes from {low:g} to {high:g}: the first is the smaller one")
        if not 0.0 < self.size[0] <= self.size[1] <= 100.0:
            raise ValueError("sizes lie between 0 and 100 times")
        return self


class Group(Part):
    """A name for some bodies, which are chosen, hidden, locked and moved as one."""

    name: str = Field(min_length=1, max_length=120, description="Unique among the groups.")
    bodies: list[str] = Field(max_length=2000, description="Names of bodies; each in one group at most.")
    hidden: bool = Field(False, description="Not drawn in the viewport; a bake has it all the same.")
    locked: bool = Field(False, description="Neither moved by hand nor taken away.")
    drop: Drop | None = Field(None, description="Of a dropped layer: what it was made of.")
    away: list[dict[str, Any]] = Field([], max_length=2000, description="Bodies that are out of the shot for now.")

    @model_validator(mode="after")
    def _something(self) -> Group:
        if bool(self.bodies) == bool(self.away):
            raise ValueError("a group has its bodies in the shot, or away")
        return self
