"""Joints between rigid bodies, as a setup says them."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, field_validator, model_validator

from zembrik.core.setup.parts import Part, Vector, dial

MOST_TURN_DEG = 340.0  # from one limit to the other: what an angle is told by says the same after a whole turn


class Motor(Part):
    """Turns a hinge."""

    speed: float = dial(
        90.0, "°/s", "How fast the first body turns about the axis, against the second.", ge=-1e5, le=1e5
    )
    torque: float = dial(1.0, "N·m", "What the motor turns and brakes with, at most.", gt=0, le=1e9)


class Joint(Part):
    """What holds two rigid bodies together, or one to the world."""

    kind: Literal["socket", "hinge", "fixed"] = Field(
        description="socket: turns any way about one place; hinge: turns about one axis; fixed: not at all."
    )
    bodies: tuple[str, str | None] = Field(description="Names of two rigid bodies; null for the world.")
    at: Vector = dial((0.0, 0.0, 0.0), "m", "The joint's place at the first frame.")
    axis: Vector = dial((0.0, 1.0, 0.0), "", "Direction of a hinge.")
    touch: bool = Field(False, description="Whether the two bodies also touch each other; they may overlap otherwise.")
    limits: tuple[float, float] | None = dial(
        None,
        "°",
        "How far a hinge turns from the first frame, either way: the first body against the second.",
    )
    friction: float = dial(0.0, "N·m", "What a hinge resists turning with.", ge=0, le=1e9)
    motor: Motor | None = None

    @field_validator("axis")
    @classmethod
    def _some_way(cls, axis: Vector) -> Vector:
        if max(abs(v) for v in axis) < 1e-9:
            raise ValueError("a hinge's axis needs a direction")
        return axis

    @field_validator("limits")
    @classmethod
    def _around_none(cls, limits: tuple[float, float] | None) -> tuple[float, float] | None:
        if limits is not None and not limits[0] <= 0.0 <= limits[1] <= limits[0] + MOST_TURN_DEG:
            raise ValueError(
                f"limits are 0 or less one way, 0 or more the other, and {MOST_TURN_DEG:.0f} apart at most"
            )
        return limits

    @model_validator(mode="after")
    def _of_a_hinge(self) -> Joint:
        if self.kind != "hinge" and (self.limits or self.friction or self.motor):
            raise ValueError("only a hinge has limits, friction or a motor")
        if self.friction and self.motor:
            raise ValueError("a hinge has friction or a motor; take the friction off the motor's torque")
        return self
