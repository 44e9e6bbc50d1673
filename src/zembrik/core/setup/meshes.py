"""What a body's mesh is: a file's, or a shape."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Discriminator, Field, Tag

from zembrik.core.setup.parts import Part, dial
from zembrik.core.units import ForwardAxis, LengthUnit, UpAxis

A_PATH = r"^[^\x00-\x1f<>]*$"  # no control characters, and nothing that could be taken for markup


class FileMesh(Part):
    """A mesh from a file; its points are turned to metres with Y up on the way in."""

    file: str = Field(
        min_length=1,
        max_length=1000,
        pattern=A_PATH,
        description="Path beside the setup, or the name of a stored asset.",
    )
    unit: LengthUnit | None = dial(
        None, "", "The unit the file's numbers are in; as the file says if left out, metres where it says nothing."
    )
    up_axis: UpAxis | None = dial(
        None, "", "The axis that points up in the file; as the file says if left out, Y where it says nothing."
    )
    forward: ForwardAxis = dial(
        "z", "", "Where the front looks in the file, seen with Y up; it is turned to look along +Z."
    )
    part: str | None = Field(None, max_length=2000, description="Which of the file's meshes; all as one if left out.")
    animated: bool = Field(
        False, description="Of a collider: whether its points move as the file has them move; else it keeps its form."
    )
    starts: float = dial(1.0, "frame", "The shot's frame at which the file's own motion begins.", ge=-1e6, le=1e6)


class CacheMesh(Part):
    """A body of a cache, as it goes there; its points are in the cache's world, in metres with Y up."""

    cache: str = Field(
        min_length=1,
        max_length=1000,
        pattern=A_PATH,
        description="Path of a cache beside the setup, or the name of a stored one.",
    )
    body: str = Field(min_length=1, max_length=120, description="Which of the cache's bodies.")
    keeps_form: bool = Field(
        False, description="Whether it is a rigid body there, which only moves as a whole and may have any proxy."
    )
    starts: float = dial(1.0, "frame", "The shot's frame at which the cache's first frame is.", ge=-1e6, le=1e6)
    speed: float = dial(1.0, "×", "How fast it goes against its own time.", gt=0, le=1000)


class GridMesh(Part):
    """A flat sheet, facing up."""

    shape: Literal["grid"]
    size: tuple[Annotated[float, Field(gt=0, le=1000)], Annotated[float, Field(gt=0, le=1000)]]
    segments: tuple[Annotated[int, Field(ge=1, le=1000)], Annotated[int, Field(ge=1, le=1000)]]


class BoxMesh(Part):
    """A closed box."""

    shape: Literal["box"]
    size: tuple[
        Annotated[float, Field(gt=0, le=1000)],
        Annotated[float, Field(gt=0, le=1000)],
        Annotated[float, Field(gt=0, le=1000)],
    ]
    segments: int = Field(1, ge=1, le=200)


class BallMesh(Part):
    """A closed ball."""

    shape: Literal["ball"]
    radius: float = Field(gt=0, le=1000)
    rings: int = Field(16, ge=4, le=256)


class CylinderMesh(Part):
    """A closed cylinder along Y."""

    shape: Literal["cylinder"]
    radius: float = Field(gt=0, le=1000)
    height: float = Field(gt=0, le=1000)
    sides: int = Field(24, ge=3, le=512)


class CapsuleMesh(Part):
    """A closed capsule along Y; the height includes its caps."""

    shape: Literal["capsule"]
    radius: float = Field(gt=0, le=1000)
    height: float = Field(gt=0, le=1000)
    sides: int = Field(24, ge=4, le=512)


class RingMesh(Part):
    """A closed ring lying flat."""

    shape: Literal["ring"]
    radius: float = Field(gt=0, le=1000)
    tube: float = Field(gt=0, le=1000)
    sides: int = Field(32, ge=3, le=512)


def _mesh_tag(value: Any) -> str:
    """Tell a mesh from a file from a shape, so that an error speaks only of the one that was meant."""
    if isinstance(value, CacheMesh) or (isinstance(value, dict) and "cache" in value):
        return "from-cache"
    if isinstance(value, dict):
        return f"shape-{value['shape']}" if "shape" in value else "from-file"
    return f"shape-{getattr(value, 'shape', '')}" if hasattr(value, "shape") else "from-file"


Mesh = Annotated[
    Annotated[FileMesh, Tag("from-file")]
    | Annotated[CacheMesh, Tag("from-cache")]
    | Annotated[GridMesh, Tag("shape-grid")]
    | Annotated[BoxMesh, Tag("shape-box")]
    | Annotated[BallMesh, Tag("shape-ball")]
    | Annotated[CylinderMesh, Tag("shape-cylinder")]
    | Annotated[CapsuleMesh, Tag("shape-capsule")]
    | Annotated[RingMesh, Tag("shape-ring")],
    Discriminator(
        _mesh_tag,
        custom_error_type="unknown_shape",
        custom_error_message=(
            "a mesh is a 'file', a body of a 'cache', or one of the shapes grid, box, ball, cylinder, capsule, ring"
        ),
    ),
]
