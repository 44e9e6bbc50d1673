"""The setup: the one document that says everything a bake depends on.

Every dial carries its unit and two sentences (what it does to the picture, what it costs),
which the page, the command line and docs/setup.schema.json all show.
"""

from __future__ import annotations

import hashlib
import json
import re
from functools import lru_cache
from typing import Annotated, Any, Literal

from pydantic import ConfigDict, Discriminator, Field, ValidationError, field_validator, model_validator

from zembrik.core.motion.handover import Spells
from zembrik.core.problem import Problem
from zembrik.core.proxy.words import CARRIED_PROXIES
from zembrik.core.remember import Aside
from zembrik.core.setup.groups import Group
from zembrik.core.setup.handover import Handover, check_order, spells_of
from zembrik.core.setup.joints import Joint
from zembrik.core.setup.keyed import Keyed, KeyedPart, KeyedWhole, keyed_dial
from zembrik.core.setup.materials import PRESETS, SIMULATED, dials_of
from zembrik.core.setup.meshes import (
    BallMesh as BallMesh,
)
from zembrik.core.setup.meshes import (
    BoxMesh as BoxMesh,
)
from zembrik.core.setup.meshes import (
    CacheMesh as CacheMesh,
)
from zembrik.core.setup.meshes import (
    CapsuleMesh as CapsuleMesh,
)
from zembrik.core.setup.meshes import (
    CylinderMesh as CylinderMesh,
)
from zembrik.core.setup.meshes import (
    FileMesh as FileMesh,
)
from zembrik.core.setup.meshes import (
    GridMesh as GridMesh,
)
from zembrik.core.setup.meshes import (
    Mesh,
)
from zembrik.core.setup.meshes import (
    RingMesh as RingMesh,
)
from zembrik.core.setup.motion import Keys as Keys
from zembrik.core.setup.motion import Motion as Motion
from zembrik.core.setup.motion import Pin as Pin
from zembrik.core.setup.motion import VectorKeys
from zembrik.core.setup.parts import Part, Vector, dial
from zembrik.core.setup.shown import Shown, check_shown

SCHEMA: Literal["zembrik.setup/1"] = "zembrik.setup/1"
MOST_BYTES = 2_000_000


class Place(Part):
    """Where a body stands: scaled first, then turned about X, Y and Z, then moved."""

    translate: Vector = dial((0.0, 0.0, 0.0), "m", "Where the body's origin stands.")
    rotate: Vector = dial((0.0, 0.0, 0.0), "°", "Turns about X, then Y, then Z.")
    scale: float = dial(1.0, "×", "Size against the file's own.", gt=0, le=1e6)


class Material(KeyedPart):
    """What a cloth, a rigid or a soft body is made of; what is left out comes from the preset."""

    preset: str | None = dial(None, "", "The fabric or stuff that fills in every value left out.")
    area_density: Keyed | None = keyed_dial(
        None, "kg/m²", "Weight of the fabric: heavy cloth hangs, light cloth flies.", least=0, above=True, most=100
    )
    stretch: Keyed | None = keyed_dial(
        None,
        "N/m",
        "Pull that would double the length; low values sag.",
        least=0,
        above=True,
        most=1e7,
    )
    compression: Keyed | None = keyed_dial(
        None, "N/m", "The same against push: low values let cloth gather.", least=0, above=True, most=1e7
    )
    shear: Keyed | None = keyed_dial(
        None, "N/m", "Resistance to going askew; low values drape softly.", least=0, above=True, most=1e7
    )
    bend: Keyed | None = keyed_dial(
        None, "N·m", "Decides the size of wrinkles: stiff gives few and wide ones.", least=0, most=1e4
    )
    damping: Keyed | None = keyed_dial(
        None,
        "s",
        "Slows changes of form from inside; high values move like wet felt.",
        "Costs a fifth of the time when above 0.",
        least=0,
        most=10,
    )
    friction: Keyed | None = keyed_dial(
        None, "", "Grip on what it touches; above 1 it hardly slides.", least=0, most=10
    )
    sliding_friction: Keyed | None = keyed_dial(
        None, "", "Grip once it slides; lower than the grip at rest lets things slip off suddenly.", least=0, most=10
    )
    density: Keyed | None = keyed_dial(
        None, "kg/m³", "Weight of the stuff: heavy bodies push light ones aside.", least=0, above=True, most=30000
    )
    lift: Keyed | None = keyed_dial(
        None, "", "Share of the push across the wind that a slanting face feels: makes it sail.", least=0, most=10
    )
    yield_angle: Keyed | None = keyed_dial(
        None, "°", "Fold up to which cloth springs back; beyond, a crease stays.", least=0, most=180
    )
    tack: Keyed | None = keyed_dial(
        None, "Pa", "Pull per area with which it clings to colliders and rigid bodies it has come close to.", least=0,
        most=1e6
    )  # fmt: skip
    tack_distance: Keyed | None = keyed_dial(None, "m", "How far off a surface the tack breaks.", least=0, most=1)
    young: Keyed | None = keyed_dial(
        None, "Pa", "Push per area that would halve it: low is dough, high is cork.",
        "What is high, light and falls wants more substeps to bounce as it should.",
        least=0, above=True, most=1e11
    )  # fmt: skip
    poisson: Keyed | None = keyed_dial(
        None, "", "How much it bulges aside when pressed: 0 not at all, near 0.5 it keeps its volume.", least=0,
        most=0.49
    )  # fmt: skip
    yield_strain: Keyed | None = keyed_dial(
        None, "", "Change of form up to which it springs back; beyond, it stays.", least=0, most=10
    )
    creep: Keyed | None = keyed_dial(
        None, "times a second", "How fast what is beyond the yield strain becomes its own form; 0 never.", least=0,
        most=1000
    )  # fmt: skip
    bounce: Keyed | None = keyed_dial(
        None, "×", "Share of its speed that it springs back with: 0 stays, 1 never rests.", least=0, most=1
    )
    rolling_resistance: Keyed | None = keyed_dial(
        None, "m", "How far ahead of its middle the ground pushes against what rolls: 0 rolls on for ever.", least=0,
        most=1
    )  # fmt: skip
    drag: Keyed | None = keyed_dial(
        None, "", "Share of the air's pressure that it feels: 0 is as in a vacuum.", least=0, most=10
    )

    pressure: Keyed = keyed_dial(
        0.0, "Pa", "Of a closed sheet: more pressure inside than outside; blows it up.", least=-1e9, most=1e9
    )
    rest_length: Keyed = keyed_dial(
        1.0, "×", "Length against the mesh's own: below 1 a band draws tight onto what it goes around.", least=0.05,
        most=1000
    )  # fmt: skip

    @field_validator("preset")
    @classmethod
    def _known(cls, name: str | None) -> str | None:
        if name is not None and not any(name in presets for presets in PRESETS.values()):
            every = "; ".join(f"{role}: {', '.join(presets)}" for role, presets in PRESETS.items())
            raise ValueError(f"there is no preset '{name}'; there are {every}")
        return name


class Proxy(Part):
    """The stand-in shape that contact sees instead of the mesh."""

    kind: Literal["plane", "ball", "box", "capsule", "hull", "hulls", "reduced", "shell", "surface"] = dial(
        "surface", "", "The shape other bodies touch.", "Surface is the exact mesh and the slowest."
    )
    most: int = dial(8, "hulls", "Of several hulls: how many there may be.", "Time grows with them.", ge=1, le=64)
    hollow: float = dial(
        0.02, "×", "Of several hulls: deepest hollow left, as a share of the size; small is faithful.", "More hulls.",
        gt=0, le=1
    )  # fmt: skip
    keep: float = dial(
        0.2, "×", "Of a reduced mesh: the share of its faces that stay; few are fast and coarse.", "", gt=0, le=1
    )
    closes: float = dial(
        0.05, "×", "Of a shell: holes and gaps up to this share of the body's size are closed.",
        "Smaller is nearer to the mesh and has more faces.", ge=0.02, le=0.5
    )  # fmt: skip
    sides: Literal["outside", "both"] = dial(
        "outside", "", "Of an exact or reduced surface: contact from its outside, or from both sides, for open sheets."
    )


class Render(Part):
    """The detailed mesh that a body carries along; no bake depends on it."""

    mesh: FileMesh
    place: Place = Field(default=Place(), description="Where it stands, as seen from the body's own mesh.")

    @field_validator("mesh")
    @classmethod
    def _keeps_form(cls, mesh: FileMesh) -> FileMesh:
        if mesh.animated:
            raise ValueError("a render mesh goes with its body and cannot move as its file has it")
        return mesh


class Body(KeyedPart):
    """An object in the shot."""

    name: str = Field(min_length=1, max_length=120, description="Unique in the setup.")
    role: Literal["cloth", "soft", "rigid", "collider", "left out"] = dial(
        "left out", "", "What the body does in the simulation."
    )
    mesh: Mesh
    place: Place = Place()
    form: FileMesh | None = Field(
        default=None,
        description="Of cloth and soft bodies: the form it begins in, in world space; a file with its mesh's points.",
    )
    render: Render | None = Field(default=None, description="The detailed mesh that the body carries.")
    material: Material | None = None
    thickness: Keyed | None = keyed_dial(
        None, "m", "Room kept free on each side; both bodies' rooms add up in contact.", least=0, most=1
    )
    friction: Keyed | None = keyed_dial(None, "", "Grip of a collider's surface.", least=0, most=10)
    bounce: Keyed | None = keyed_dial(
        None, "×", "Of a collider: share of their speed that rigid bodies get back.", least=0, most=1
    )
    gravity: Keyed = keyed_dial(
        1.0, "×", "Factor on the shot's gravity for this body: 0 floats, negative rises.", least=-1e6, most=1e6
    )
    cell: float | None = dial(
        None, "m", "Of a soft body: how wide the cells are that carry its surface; small ones bend finely.",
        "Half as wide is eight times as many.", gt=0, le=1000
    )  # fmt: skip
    proxy: Proxy | None = None
    motion: Motion | None = None
    release: int | None = dial(
        None, "frame", "Of a rigid body with a motion: when it is let go, with the speed it has then.", ge=-100_000,
        le=1_000_000,
    )  # fmt: skip
    shown: list[tuple[int, bool]] | None = Field(
        default=None, max_length=1000,
        description="When it is seen: [frame, whether] pairs, each held until the next. Nothing is computed with it.",
    )  # fmt: skip
    handovers: list[Handover] | None = Field(
        default=None,
        description="Of what moves by itself: when physics takes it over, and when its motion takes it back.",
    )
    pins: list[Pin] = []

    @field_validator("shown")
    @classmethod
    def _rising(cls, shown: Shown | None) -> Shown | None:
        return check_shown(shown)

    @field_validator("name")
    @classmethod
    def _usable(cls, name: str) -> str:
        if name != name.strip() or re.search(r"[/\\\x00-\x1f]", name) or name in (".", ".."):
            raise ValueError("a body's name has no slashes, no line breaks and no blanks at its ends")
        return name

    @model_validator(mode="after")
    def _fits_role(self) -> Body:
        role, unfit = self.role, []
        if role in SIMULATED:
            unfit = [n for n in ("friction", "bounce") if getattr(self, n) is not None]
            unfit += ["motion"] if role in ("cloth", "soft") and self.motion and not self.handovers else []
            unfit += ["proxy"] if role in ("cloth", "soft") and self.proxy else []
            unfit += ["pins"] if role == "rigid" and self.pins else []
        if role == "collider":
            unfit = [n for n in ("material", "pins") if getattr(self, n)]
            unfit += ["gravity"] if self.gravity != 1.0 else []
        elif self.motion and self.motion.ripple:
            unfit.append("motion.ripple")
        elif self.motion and self.motion.scale and role == "rigid":
            unfit.append("motion.scale")
        if self.form is not None and role not in ("cloth", "soft", "left out"):
            unfit.append("form")
        if self.cell is not None and role != "soft":
            unfit.append("cell")
        if self.release is not None and not (role == "rigid" and self.motion):
            unfit.append("release")
        if self.handovers:
            self._check_handovers()
        if unfit:
            hint = " (its grip is the material's)" if role in SIMULATED and "friction" in unfit else ""
            raise ValueError(f"a body with the role {role} has no {' and no '.join(unfit)} of its own{hint}")
        if role in SIMULATED and self.material:
            if self.material.preset is not None and self.material.preset not in PRESETS[role]:
                raise ValueError(
                    f"'{self.material.preset}' is no preset for the role {role}; there are {', '.join(PRESETS[role])}"
                )
            given = self.material.model_fields_set - {"preset"}
            wrong = sorted(given - set(dials_of(role)))
            if wrong:
                raise ValueError(f"material: the role {role} has no {' and no '.join(wrong)}")
        animated = isinstance(self.mesh, FileMesh) and self.mesh.animated
        if animated and role in SIMULATED and not (role != "rigid" and self.handovers):
            raise ValueError(
                f"a body with the role {role} cannot move as its file has it; make it a collider"
                + ("" if role == "rigid" else ", or hand it over at a frame")
            )
        if isinstance(self.mesh, CacheMesh):
            if role in SIMULATED and not (self.handovers and self.mesh.keeps_form == (role == "rigid")):
                raise ValueError(f"a body with the role {role} cannot play a cache; make it a collider or leave it out")
            animated = True
        if role not in SIMULATED and self.changes_form and self.proxy and self.proxy.kind not in CARRIED_PROXIES:
            raise ValueError(
                "a collider that changes its form or size is touched as its surface, reduced or wrapped: give it "
                "the proxy "
                f"{', '.join(CARRIED_PROXIES[:-1])} or {CARRIED_PROXIES[-1]}"
            )
        if animated and self.motion and self.motion.ripple:
            raise ValueError("a collider's form comes from its file or from a ripple, not from both")
        if role == "rigid" and self.proxy and self.proxy.kind == "plane":
            raise ValueError("an endless plane cannot be a rigid body's proxy")
        return self

    def _check_handovers(self) -> None:
        assert self.handovers
        if self.role not in SIMULATED:
            raise ValueError(f"a body with the role {self.role} is never handed over: physics does not move it")
        if self.release is not None:
            raise ValueError("it is let go of ('release') and handed over ('handovers'); give one of them")
        if self.form is not None:
            raise ValueError("what is handed over begins as its motion has it, not in a form of its own")
        if self.motion is None and not (isinstance(self.mesh, FileMesh | CacheMesh) and self.moves_by_mesh):
            raise ValueError("it is handed over, but nothing moves it before: key it, or let it play a file or a cache")
        check_order(self.handovers)

    @property
    def moves_by_mesh(self) -> bool:
        """Whether its file or cache moves it."""
        return isinstance(self.mesh, CacheMesh) or (isinstance(self.mesh, FileMesh) and self.mesh.animated)

    @property
    def spells(self) -> Spells:
        """When physics moves what moves by itself otherwise."""
        return spells_of(self.handovers, self.release)

    @property
    def changes_form(self) -> bool:
        """Whether it moves other than as a whole, by its file or a ripple."""
        if isinstance(self.mesh, CacheMesh) and not self.mesh.keeps_form:
            return True
        animated = isinstance(self.mesh, FileMesh) and self.mesh.animated
        return animated or bool(self.motion and self.motion.changes_form)


class Ground(KeyedPart):
    """An endless level ground."""

    height: float = dial(0.0, "m", "Where the ground lies.", ge=-1e4, le=1e4)
    friction: Keyed = keyed_dial(0.6, "", "Grip of the ground.", least=0, most=10)
    bounce: Keyed = keyed_dial(0.0, "×", "Share of their speed that rigid bodies get back from it.", least=0, most=1)


class World(KeyedPart):
    """What acts everywhere."""

    gravity: Vector = dial((0.0, -9.81, 0.0), "m/s²", "Pull on everything; three zeros for none.")
    gravity_strength: float | Keys = dial(1.0, "×", "Factor on the gravity, over frames.")
    gravity_turn: VectorKeys | None = dial(
        None, "°", "Turns the gravity about X, then Y, then Z, over frames: a room that rolls."
    )
    air_density: Keyed = keyed_dial(
        1.2, "kg/m³", "Thickness of the air that slows and carries cloth; 0 for none.", least=0, most=1000
    )
    ground: Ground | None = Ground()


class WindForce(Part):
    """Air moving through the whole shot."""

    kind: Literal["wind"]
    velocity: Vector = dial((0.0, 0.0, 0.0), "m/s", "Where the air goes and how fast.")
    strength: float | Keys = dial(1.0, "×", "Factor on the velocity, over frames.")
    veer: float | Keys = dial(0.0, "°", "Turns the velocity about the vertical, over frames.")


class TurbulenceForce(KeyedPart):
    """Air that swirls through the whole shot, on top of any wind."""

    kind: Literal["turbulence"]
    speed: Keyed = keyed_dial(1.0, "m/s", "How fast the swirls go, in the root of the mean square.", least=0, most=1000)
    size: Keyed = keyed_dial(
        0.5, "m", "How far apart swirls are: small ones flutter, large ones swing.", least=0, above=True, most=1e4
    )
    rate: Keyed = keyed_dial(0.5, "times a second", "How often the swirls turn over.", least=0, most=100)
    seed: int = dial(1, "", "Another number, other swirls of the same kind.", ge=0, le=2**31)
    strength: float | Keys = dial(1.0, "×", "Factor on the speed, over frames.")


class DampingForce(KeyedPart):
    """Air that slows everything alike, light or heavy."""

    kind: Literal["air damping"]
    rate: Keyed = keyed_dial(
        0.5, "times a second", "Share of all speed lost to the air each second.", least=0, most=1000
    )
    strength: float | Keys = dial(1.0, "×", "Factor on the rate, over frames.")


Force = Annotated[WindForce | TurbulenceForce | DampingForce, Discriminator("kind")]


class Quality(KeyedPart):
    """How carefully the shot is computed; what is left out comes from the profile."""

    profile: Literal["rough", "daily", "final"] = dial("daily", "", "The set of values that fills in what is left out.")
    substeps: KeyedWhole | None = keyed_dial(
        None,
        "a frame",
        "Motion in finer steps, and safer contact.",
        "Time grows in proportion.",
        least=1,
        most=400,
    )
    iterations: KeyedWhole | None = keyed_dial(
        None,
        "a substep",
        "Passes over rigid bodies and joints; cloth and soft bodies settle without.",
        "Helps less than as many more substeps.",
        least=1,
        most=100,
    )
    enough: Keyed | None = keyed_dial(
        None, "m", "Ends a substep's passes once one moves nothing farther than this; 0 makes all of them.",
        "Saves passes where little happens.", least=0, most=1
    )  # fmt: skip

    contact: Literal["points", "faces", "edges"] | None = dial(
        None, "", "What is held apart: cloth points and colliders; also colliders' corners and faces; also edges.",
        "Faces take a third longer, edges nearly twice as long."
    )  # fmt: skip
    self_collision: bool | None = dial(
        None,
        "",
        "Keeps folds from passing through each other.",
        "Half as long again, up to ten times where fine cloth crumples.",
    )


class Setup(Part):
    """The whole document."""

    schema_name: Literal["zembrik.setup/1"] = Field(SCHEMA, alias="schema")
    title: str = Field("", max_length=300)
    length_unit: Literal["m"] = "m"
    up_axis: Literal["y"] = "y"
    fps: float = dial(24.0, "frames/s", "Frames a second.", ge=1, le=1000)
    frames: tuple[int, int] = dial((1, 96), "", "First and last frame.", "Time grows in proportion.")
    preroll: int = dial(0, "frames", "Frames computed before the first one and not kept.", ge=0, le=10000)
    world: World = World()
    bodies: list[Body] = Field([], max_length=2000)
    joints: list[Joint] = Field([], max_length=10000)
    groups: list[Group] = Field([], max_length=500)
    forces: list[Force] = Field([], max_length=100)
    quality: Quality = Quality()

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, frozen=True, populate_by_name=True)

    @field_validator("frames")
    @classmethod
    def _forward(cls, frames: tuple[int, int]) -> tuple[int, int]:
        first, last = frames
        if last < first:
            raise ValueError(f"the last frame ({last}) comes before the first ({first})")
        if not (first >= -100_000 and last <= 1_000_000 and last - first < 100_000):
            raise ValueError("a shot has at most 100,000 frames, between -100,000 and 1,000,000")
        return frames

    @field_validator("bodies")
    @classmethod
    def _unique(cls, bodies: list[Body]) -> list[Body]:
        seen: dict[str, int] = {}
        for k, body in enumerate(bodies):
            if body.name in seen:
                raise ValueError(
                    f"bodies[{seen[body.name]}] and bodies[{k}] are both named '{body.name}'; names are unique"
                )
            seen[body.name] = k
        return bodies

    @model_validator(mode="after")
    def _followed_are_there(self) -> Setup:
        rigid = {body.name for body in self.bodies if body.role == "rigid"}
        for n, joint in enumerate(self.joints):
            for name in joint.bodies:
                if name is not None and name not in rigid:
                    raise ValueError(f"joints[{n}] joins '{name}', but no rigid body has that name")
            if joint.bodies[0] == joint.bodies[1]:
                raise ValueError(f"joints[{n}] joins '{joint.bodies[0]}' to itself")
        names = {body.name for body in self.bodies if body.role not in ("cloth", "soft")}
        every = {body.name for body in self.bodies}
        for k, body in enumerate(self.bodies):
            for n, pin in enumerate(body.pins):
                where, near = f"bodies[{k}].pins[{n}]", pin.points.near
                if pin.follow is not None and pin.follow not in names:
                    raise ValueError(f"{where} follows '{pin.follow}', but no collider or rigid body has that name")
                if near is not None and (near.body not in every or near.body == body.name):
                    raise ValueError(f"{where} takes points near '{near.body}', but no other body has that name")
        self._check_groups(every)
        self._check_parents()
        return self

    def _check_groups(self, every: set[str]) -> None:
        within: dict[str, str] = {}
        names = [group.name for group in self.groups]
        for n, group in enumerate(self.groups):
            if group.name in names[:n]:
                raise ValueError(f"two groups are named '{group.name}'; names are unique")
            for name in group.bodies:
                if name not in every:
                    raise ValueError(f"the group '{group.name}' has '{name}', but no body has that name")
                if name in within:
                    raise ValueError(f"'{name}' is in two groups, '{within[name]}' and '{group.name}'")
                within[name] = group.name

    def _check_parents(self) -> None:
        parents = {b.name: b.motion.parent for b in self.bodies if b.motion and b.motion.parent is not None}
        carriers = {
            b.name for b in self.bodies if b.role in ("collider", "left out") or (b.role == "rigid" and b.motion)
        }
        for name, parent in parents.items():
            if parent not in carriers:
                raise ValueError(
                    f"'{name}' goes along with '{parent}', but there is no collider, left out body or rigid body with "
                    "a motion of that name"
                )
            line = [name]
            while (above := parents.get(line[-1])) is not None:
                if above in line:
                    round_again = " → ".join([*line[line.index(above) :], above])
                    raise ValueError(f"bodies go along with each other in a circle: {round_again}")
                line.append(above)

    def document(self) -> dict[str, Any]:
        """Return the document as plain JSON values, without what was left out."""
        return self.model_dump(mode="json", by_alias=True, exclude_unset=True)


def parse_setup(document: Any, where: str = "setup") -> Setup:
    """Validate a document of plain JSON values; the same one gives the same setup again, which nobody may change.

    Raises:
        Problem: naming the path of every wrong value (at most five).
    """
    if not isinstance(document, dict):
        raise Problem("a setup is a JSON object.", where)
    try:
        content = hashlib.sha256(json.dumps(document, sort_keys=True).encode()).hexdigest()
    except (TypeError, ValueError, RecursionError):  # what is no JSON is told below
        return _validated(document, where)
    return _parsed(content, Aside((document, where)))


@lru_cache(maxsize=16)
def _parsed(content: str, aside: Aside[tuple[dict[str, Any], str]]) -> Setup:
    return _validated(*aside.value)


def _validated(document: dict[str, Any], where: str) -> Setup:
    try:
        return Setup.model_validate({"schema": SCHEMA, **document})
    except ValidationError as error:
        details = error.errors()
        lines = [_told(detail) for detail in details[:5]]
        more = f" (and {len(details) - 5} more)" if len(details) > 5 else ""
        raise Problem("; ".join(lines) + more + ".", where, "docs/setup.schema.json lists every field.") from None


def read_setup(data: bytes, where: str = "setup") -> Setup:
    """Parse and validate the bytes of a setup file."""
    if len(data) > MOST_BYTES:
        raise Problem(f"a setup has at most {MOST_BYTES / 1e6:.0f} MB.", where)
    try:
        document = json.loads(data)
    except UnicodeDecodeError:
        raise Problem("the file is not UTF-8 text.", where, "Save it as UTF-8 JSON.") from None
    except json.JSONDecodeError as error:
        raise Problem(f"not JSON: {error.msg}.", f"{where}, line {error.lineno}", "Mend the file there.") from None
    except RecursionError:
        raise Problem("the document is nested too deeply.", where) from None
    return parse_setup(document, where)


def path_text(location: tuple[Any, ...]) -> str:
    """Return a place in the document as people write it: bodies[1].thickness."""
    text = ""
    for part in location:
        if isinstance(part, int):
            text += f"[{part}]"
        elif not (
            part.startswith(("function-", "shape-", "from-file", "from-cache")) or part[:1].isupper() or part == "float"
        ):
            text += f".{part}" if text else part
    return text or "setup"


def _told(detail: Any) -> str:
    path, kind, context = path_text(detail["loc"]), detail["type"], detail.get("ctx", {})
    given = detail["input"]
    shown = f" (it is {json.dumps(given, default=str)[:60]})" if not isinstance(given, dict | list) else ""
    if kind == "extra_forbidden":
        return f"{path} is not a field of a setup"
    if kind == "missing":
        return f"{path} is missing"
    if kind == "string_pattern_mismatch":
        return f"{path} has a character that no path has: a control character, < or >"
    if kind == "value_error":
        words = detail["msg"].removeprefix("Value error, ")
        return f"{path} {words}" if words.startswith(("must be", "comes to")) else f"{path}: {words}"
    limits = {"greater_than": ("gt", "above"), "greater_than_equal": ("ge", "at least"),
              "less_than": ("lt", "below"), "less_than_equal": ("le", "at most")}  # fmt: skip
    if kind in limits:
        key, words = limits[kind]
        return f"{path} must be {words} {context[key]:g}{shown}"
    return f"{path}: {detail['msg'][:1].lower()}{detail['msg'][1:]}{shown}"
