"""What the interface for scripts takes and gives: plain JSON, every quantity with its unit in its name."""

from __future__ import annotations

import datetime
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from zembrik.web.fields import MOST

Order3 = Literal["xyz", "xzy", "yxz", "yzx", "zxy", "zyx"]
Patch = list[dict[str, Any]]
Number = Annotated[int, Field(ge=-MOST, le=MOST)]  # the database keeps no larger ones


class Out(BaseModel):
    """What all answers share: they are made from rows of the library."""

    model_config = ConfigDict(from_attributes=True)


class In(BaseModel):
    """What all requests share: unknown fields are errors."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class ProblemTold(BaseModel):
    """Why something was refused: what is wrong, where, and what to do about it."""

    what: str
    where: str
    remedy: str


class ProblemOut(BaseModel):
    """The answer to what was refused."""

    problem: ProblemTold


class ShowOut(Out):
    """A show."""

    id: int
    title: str
    archived: datetime.datetime | None = Field(None, description="when it was put away")


class ShowIn(In):
    """A show to be made, or found by its title."""

    title: str = Field(min_length=1, max_length=300)


class ShotOut(Out):
    """A shot: its setup's newest revision, and the bake that stands for it."""

    id: int
    show: int
    code: str
    title: str
    revision: int
    setup_hash: str
    bake: int | None = Field(description="the bake that its page shows")
    state: str = Field(description="not baked, queued, running, failed, stopped, stale, partial or true")
    stale: list[str] | None = Field(
        description="what changed since that bake, a line each; null in lists, where only the state tells"
    )


class ShowChangeIn(In):
    """What to change of a show; what is left out stays."""

    title: str | None = Field(None, min_length=1, max_length=300)
    archived: bool | None = Field(None, description="Whether it is put away.")


class ShotChangeIn(In):
    """What to change of a shot; what is left out stays."""

    code: str | None = Field(None, min_length=1, max_length=40)
    title: str | None = Field(None, min_length=1, max_length=300)
    archived: bool | None = Field(None, description="Whether it is put away.")


class ShotIn(In):
    """A shot to be made; without a setup it is empty."""

    code: str = Field(min_length=1, max_length=40)
    title: str = Field(min_length=1, max_length=300)
    setup: dict[str, Any] | None = None


class EditIn(In):
    """A change of a setup: a JSON Patch (RFC 6902) on the revision that was seen."""

    base: Number = Field(description="number of the revision that the patch was made for")
    patch: Patch
    note: str = Field("by script", max_length=300)


class SetupOut(Out):
    """A setup as it stands."""

    number: int
    setup_hash: str
    note: str
    document: dict[str, Any]


class FindingOut(Out):
    """A computed statement about a setup; `patch` applies its remedy."""

    code: str
    station: str
    severe: bool
    title: str
    text: str
    body: str
    at: list[float] | None
    remedy: str
    patch: Patch


class BakeOut(Out):
    """A bake and its cache."""

    id: int
    shot: int
    revision: int
    state: str
    first: int
    last: int
    done: int | None = Field(description="last committed frame")
    bytes: int
    error: str
    label: str
    handed_in: str = Field(description="the file that the cache came from, if it was not baked here")
    approved: bool
    damage: list[str] = Field(description="what was found wrong when it was looked over")
    setup_hash: str
    folder: str | None = Field(description="the cache's Zarr group, below the folder of all caches")


class CacheOut(Out):
    """A cache as the library lists it."""

    bake: int
    shot: int
    show: str
    code: str
    title: str
    revision: int
    label: str
    first: int
    last: int
    done: int | None
    bytes: int
    state: str
    approved: datetime.datetime | None
    verified: datetime.datetime | None
    damage: list[str] | None
    deliveries: int
    played_in: list[str] = Field(description="codes of the shots that play it")


class CachesOut(Out):
    """Caches that fit a search; at most 200 are listed."""

    count: int
    bytes: int
    caches: list[CacheOut]


class HandInIn(In):
    """Chosen parts of a stored file to be kept as a cache."""

    reference: str = Field(description="as storing the file gave it")
    parts: list[str] = Field(description="paths in the file")
    unit: Literal["m", "cm", "mm", "in", "ft"] = "m"
    up_axis: Literal["y", "z"] = "y"
    forward: Literal["z", "-z", "x", "-x"] = "z"
    fps: float = Field(24.0, ge=1, le=1000)
    first: Number = Field(1, description="number of its first frame")
    label: str = Field("", max_length=200)


class PlaceIn(In):
    """A cache to be played in a shot; nothing of it is copied."""

    bake: Number
    bodies: list[str] = Field([], description="none for all")
    role: Literal["collider", "left out"] = "collider"
    starts: float = Field(1.0, description="the shot's frame at which the cache's first frame is")
    offset_m: tuple[float, float, float] = (0.0, 0.0, 0.0)
    turn_deg: float = 0.0


class KeysIn(In):
    """Bodies of a bake that are to go by keys."""

    bake: Number
    bodies: list[str] = Field([], description="none for all rigid ones")
    bound_m: float = Field(0.001, ge=0, lt=100)
    bound_deg: float = Field(0.5, ge=0, lt=180)
    angles: Order3 | None = Field(None, description="turns as angles in that order; quaternions if left out")


class StillIn(In):
    """One frame of a baked body to be made a mesh."""

    bake: Number
    body: str
    frame: Number
    thickness_m: float = Field(0.0, ge=0)
    rounds: Number = Field(0, ge=0, le=3)


class TakeOut(Out):
    """A take, without its tracks."""

    id: int
    name: str
    source: str
    fps: float
    favourite: bool
    created: datetime.datetime
    bodies: list[str]


class TakeIn(In):
    """Motion of a shot to be kept as a take: by keys, or with a bake what its bodies did there."""

    name: str = Field(min_length=1, max_length=120)
    bodies: list[str] = Field([], description="none for all that move")
    bake: Number | None = None
    bound_m: float = Field(0.001, ge=0, lt=100)
    bound_deg: float = Field(0.5, ge=0, lt=180)
    angles: Order3 | None = None


class TakeChange(In):
    """A take's new name, or whether it is a favourite."""

    name: str | None = None
    favourite: bool | None = None


class UseTakeIn(In):
    """A take for bodies of a shot."""

    take: Number
    base: int = Field(description="number of the revision that was seen")
    body: str | None = Field(None, description="who gets it; none for every body called as one of the take's")
    track: str | None = Field(None, description="which of the take's bodies, for one body")
    begins: float | None = Field(None, description="frame of its first key; none keeps its frames")
    offset_m: tuple[float, float, float] = (0.0, 0.0, 0.0)
    parent: str | None = None


class RetimeIn(In):
    """What to do with a body's keys in time; frames may be fractions."""

    body: str
    how: Literal["shift", "trim", "hold", "loop on", "loop again", "every", "rate"]
    one: float = Field(description="frames to shift by, first to keep, times to loop, frames between keys, or fps")
    two: float = Field(0.0, description="last frame to keep, of trim")


class DoneOut(Out):
    """What was done, in a sentence."""

    told: str


class ToldOut(Out):
    """A new revision, and what there is to tell about it."""

    revision: int
    told: str = ""


class ErrandOut(Out):
    """Something long that a worker does; `result` is there when it is done."""

    id: int
    kind: str
    shot: int
    state: str
    done: int
    total: int
    error: str
    result: dict[str, Any] | None


class OrderIn(In):
    """What a delivered file is to hold."""

    format: Literal["glb", "usdc", "usda", "abc", "obj.zip", "ply.zip", "csv", "json"]
    frames: tuple[Number, Number] | None = Field(None, description="first and last; none for all")
    bodies: list[str] = Field([], description="none for all")
    unit: Literal["m", "cm", "mm", "in", "ft"] = "m"
    up_axis: Literal["y", "z"] = "y"
    fps: float | None = Field(None, ge=1, le=1000)
    angles: Order3 = "xyz"
    subdivided: Number = Field(0, ge=0, le=3)
    carried: bool = Field(True, description="detailed meshes that bodies carry, in place of the bodies' own")


class DeliveryIn(OrderIn):
    """A file of one bake."""

    pattern: str = Field("", description="of its name; see the deliveries page. As usual if left out")


class BatchIn(OrderIn):
    """A file of each of many shots, named by a pattern."""

    shots: list[Number]
    pattern: str


class PlannedOut(Out):
    """A file that a batch would write, or why it cannot."""

    shot: int
    bake: int | None
    file: str
    frames: int
    bytes: float
    problem: str


class DeliveryOut(Out):
    """A delivered file, or one that is being written."""

    id: int
    bake: int
    file: str
    state: str
    frames_done: int
    frames_all: int
    error: str
    order: dict[str, Any]
    manifest: dict[str, Any] | None


class QueueOut(Out):
    """What the workers do and what waits."""

    workers: int
    bakes: list[BakeOut]
    deliveries: list[DeliveryOut]
    errands: list[ErrandOut]


class AssetOut(Out):
    """A stored file and what it holds."""

    reference: str
    kind: str
    unit: str
    up_axis: str
    notes: list[str]
    parts: list[dict[str, Any]]
