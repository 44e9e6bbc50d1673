"""How bodies and held points move by themselves: keys over frames, paths, spins, waves; and which points are held."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, field_validator, model_validator

from zembrik.core.setup.parts import Part, Vector, dial

Quaternion = tuple[float, float, float, float]


def _check_rising(keys: list[Any]) -> list[Any]:
    for one, two in pairwise(keys):
        if two[0] == one[0]:
            raise ValueError(f"two keys stand on frame {two[0]:g}; a track has one value a frame")
        if two[0] < one[0]:
            raise ValueError(f"keys must rise in frames, but frame {two[0]:g} comes after frame {one[0]:g}")
    return keys


def _check_turns(keys: list[Any]) -> list[Any]:
    for key in keys:
        if sum(v * v for v in key[1]) < 1e-12:
            raise ValueError(f"the quaternion at frame {key[0]:g} is all zeros, which is no turn")
    return keys


def _some_way(direction: Vector) -> Vector:
    if max(abs(v) for v in direction) < 1e-9:
        raise ValueError("a direction is more than three zeros")
    return direction


Direction = Annotated[Vector, AfterValidator(_some_way)]
Ease = Literal["hold", "straight", "smooth"]


class Slopes(Part):
    """Own handles: how steeply a number leaves a key, and arrives at the next one."""

    leave: float = dial(0.0, "a frame", "How fast it changes as it leaves this key.", ge=-1e9, le=1e9)
    arrive: float = dial(0.0, "a frame", "How fast it changes as it arrives at the next.", ge=-1e9, le=1e9)


class VectorSlopes(Part):
    """Own handles of three numbers."""

    leave: Vector = dial((0.0, 0.0, 0.0), "a frame", "How fast they change as they leave this key.")
    arrive: Vector = dial((0.0, 0.0, 0.0), "a frame", "How fast they change as they arrive at the next.")


_KEYS = "[frame, value] pairs; a third item says how it goes from this key to the next, unlike the track's own ease."
Key = tuple[float, float] | tuple[float, float, Ease | Slopes]
VectorKey = tuple[float, Vector] | tuple[float, Vector, Ease | VectorSlopes]
TurnKey = tuple[float, Quaternion] | tuple[float, Quaternion, Ease]


class Keys(Part):
    """A number over frames."""

    keys: Annotated[list[Key], AfterValidator(_check_rising)] = Field(min_length=1, max_length=10000, description=_KEYS)
    ease: Ease = "straight"


class VectorKeys(Part):
    """Three numbers over frames."""

    keys: Annotated[list[VectorKey], AfterValidator(_check_rising)] = Field(
        min_length=1, max_length=10000, description=_KEYS
    )
    ease: Ease = "straight"


class TurnKeys(Part):
    """A turn over frames, as quaternions x y z w; from key to key it goes the short way."""

    keys: Annotated[list[TurnKey], AfterValidator(_check_rising), AfterValidator(_check_turns)] = Field(
        min_length=1, max_length=10000, description=_KEYS
    )
    ease: Ease = "straight"


class RippleMotion(Part):
    """Waves that go over a collider's surface and change its form."""

    height: float = dial(0.05, "m", "How far the waves rise above and fall below the surface.", ge=0, le=1000)
    length: float = dial(1.0, "m", "From crest to crest.", "Points should lie closer than a sixth of it.", gt=0, le=1e5)
    rate: float = dial(0.5, "times a second", "How many crests pass a place each second.", ge=0, le=100)
    direction: Direction = dial((1.0, 0.0, 0.0), "", "Where the waves go.")
    strength: float | Keys = dial(1.0, "×", "Factor on the height, over frames.")


class SpinMotion(Part):
    """A turn about one axis through the body's origin, as far round as the angle says."""

    axis: Direction = dial((0.0, 1.0, 0.0), "", "What it spins about, in the body's own axes.")
    angle: Keys = dial(..., "°", "How far it has turned, over frames; 360 is once round, 1350 three times and more.")


class PathMotion(Part):
    """A way through the shot that the body's origin follows."""

    points: list[Vector] = dial(
        ..., "m", "Places it passes in this order, on a round way between them.", min_length=2, max_length=10000
    )
    closed: bool = Field(False, description="Whether the way leads on from its last place to its first.")
    progress: Keys = dial(..., "×", "How much of the way's length is behind it, over frames: 0 at its start, 1 at its "
                          "end; on a closed way it may go round again.")  # fmt: skip
    forward: Literal["x", "-x", "z", "-z", "none"] = dial(
        "z",
        "",
        "Which side of the body, as it stands in its place, looks ahead along the way; none turns it not.",
    )
    offset: Vector = dial((0.0, 0.0, 0.0), "m", "How far beside, above and ahead of the way's place it is.")
    bank: float | Keys = dial(0.0, "°", "How far it leans about the way ahead, over frames; positive leans right.")

    @field_validator("points")
    @classmethod
    def _goes_somewhere(cls, points: list[Vector]) -> list[Vector]:
        for k, (one, two) in enumerate(pairwise(points)):
            if max(abs(a - b) for a, b in zip(one, two, strict=True)) < 1e-6:
                raise ValueError(f"places {k} and {k + 1} are the same; a way goes on from place to place")
        return points


class Motion(Part):
    """How a body moves by itself, on top of its place."""

    translate: VectorKeys | None = dial(None, "m", "Way from its place, over frames.")
    rotate: VectorKeys | None = dial(
        None, "°", "Angles about X, Y and Z through its origin, over frames; more than a full turn is fine."
    )
    rotate_order: Literal["xyz", "xzy", "yxz", "yzx", "zxy", "zyx"] | None = dial(
        None, "", "In which order the angles turn, about axes that stand still; X, then Y, then Z if left out."
    )
    turn: TurnKeys | None = dial(None, "", "The turn as quaternions instead, over frames.")
    spin: SpinMotion | None = Field(None, description="A turn about an axis of its own, before all others.")
    scale: Keys | None = dial(
        None, "×", "Of a collider: size against its own, about its origin, over frames.", "It is touched as a surface."
    )
    path: PathMotion | None = Field(None, description="A way that its origin follows.")
    parent: str | None = Field(
        None, max_length=120, description="The body it goes along with; its own motion comes on top."
    )
    ripple: RippleMotion | None = Field(None, description="Of a collider: waves over its surface.")

    @model_validator(mode="after")
    def _one_turn(self) -> Motion:
        if self.rotate and self.turn:
            raise ValueError("a turn is given as angles (rotate) or as quaternions (turn), not as both")
        if self.scale and min(key[1] for key in self.scale.keys) <= 0.0:
            raise ValueError("a scale is more than nothing at every key")
        return self

    @property
    def changes_form(self) -> bool:
        """Whether it does more than move the body as a whole."""
        return self.scale is not None or self.ripple is not None

    @property
    def tracks(self) -> list[Keys | VectorKeys | TurnKeys]:
        """All its keys over frames."""
        path, spin, ripple = self.path, self.spin, self.ripple
        every = [self.translate, self.rotate, self.turn, self.scale, spin and spin.angle, path and path.progress,
                 path and path.bank, ripple and ripple.strength]  # fmt: skip
        return [track for track in every if isinstance(track, Keys | VectorKeys | TurnKeys)]


class Nearness(Part):
    """Points by what they lie near to."""

    body: str = Field(max_length=120, description="The other body.")
    distance: float = dial(0.01, "m", "How far off its surface at most, at the start.", ge=0, le=1000)


Side = Literal["left", "right", "bottom", "top", "back", "front"]


class PinnedPoints(Part):
    """Which points a pin takes: by one rule, and softly some way around them."""

    box: tuple[Vector, Vector] | None = dial(
        None, "m", "All points inside this box at the start: lowest and highest corner."
    )
    numbers: list[Annotated[int, Field(ge=0)]] | None = Field(None, description="Point numbers of the mesh.")
    side: Side | None = dial(
        None, "", "The outermost points on that side at the start: left is -X, bottom -Y, back -Z."
    )
    above: float | None = dial(None, "m", "All points higher than this at the start.", ge=-1e5, le=1e5)
    near: Nearness | None = Field(None, description="All points near another body at the start.")
    falloff: float = dial(0.0, "m", "How far around them others are drawn along, less and less.", ge=0, le=1000)

    @model_validator(mode="after")
    def _one(self) -> PinnedPoints:
        rules = ("box", "numbers", "side", "above", "near")
        if sum(getattr(self, rule) is not None for rule in rules) != 1:
            raise ValueError(f"give one of {', '.join(repr(r) for r in rules)}")
        return self


class Pin(Part):
    """Points that stay where they are, or go with another body, or move by a motion of their own."""

    points: PinnedPoints
    follow: str | None = Field(None, max_length=120, description="The body whose motion the points follow.")
    motion: Motion | None = Field(
        None, description="How they move by themselves, about their middle; on top of what they follow."
    )
    strength: float | Keys = dial(
        1.0, "×", "How firmly they are held, over frames: 1 holds fast, below 1 they are drawn softly, 0 lets go."
    )
    release: int | None = dial(
        None, "frame", "When they are let go, with the speed they have then.", ge=-100_000, le=1_000_000
    )

    @model_validator(mode="after")
    def _keeps_form(self) -> Pin:
        if self.motion is not None and (self.motion.ripple or self.motion.parent):
            raise ValueError("held points have no ripple and no parent; they 'follow' a body")
        values = [key[1] for key in self.strength.keys] if isinstance(self.strength, Keys) else [self.strength]
        if not 0.0 <= min(values) <= max(values) <= 1.0:
            raise ValueError("a pin's strength lies between 0 and 1")
        return self
