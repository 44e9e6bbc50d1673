"""What a mesh file holds: parts, each a mesh where the file puts it, and how it moves there."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from zembrik.core.exchange.obj import MOST_CORNERS
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem

MOST_PARTS = 20_000
MOST_POINTS = 4_000_000  # of all parts of a file
MOST_MOVED = 150_000_000  # numbers of all animated points of a file
FARTHEST = 1e7  # file units; a coordinate beyond this is a damaged number, not a place
FRAMES_A_SECOND = 24.0  # at which a sequence's frames are counted until it is told otherwise
UNEVEN = 1e-3  # relative difference of two scales that is told

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Sequence:
    """Meshes one after the other, with as many points and faces as each has.

    Attributes:
        points: float64 (all points, 3). faces: int32 (all faces, 3), numbering the points of their own mesh.
        counts: int64 (k, 2), how many points and faces each has.
    """

    points: Floats = field(default_factory=lambda: np.zeros((0, 3)))
    faces: NDArray[np.int32] = field(default_factory=lambda: np.zeros((0, 3), np.int32))
    counts: NDArray[np.int64] = field(default_factory=lambda: np.zeros((0, 2), np.int64))

    @classmethod
    def of(cls, meshes: list[TriMesh]) -> Sequence:
        """Return meshes as a sequence."""
        counts = np.array([[len(m.points), len(m.faces)] for m in meshes], dtype=np.int64)
        faces = np.concatenate([m.faces for m in meshes]).astype(np.int32)
        return cls(np.concatenate([m.points for m in meshes]), faces, counts)

    def __len__(self) -> int:
        return len(self.counts)

    def at(self, k: int) -> tuple[Floats, NDArray[np.int32]]:
        """Return points (n, 3) and faces (m, 3) of the mesh number k."""
        (p, f), (points, faces) = self.counts[:k].sum(axis=0), self.counts[k]
        return self.points[p : p + points], self.faces[f : f + faces]

    @property
    def is_sound(self) -> bool:
        """Whether counts and arrays fit together, and faces name points that are there."""
        totals = self.counts.sum(axis=0) if len(self) else np.zeros(2)
        if (self.counts < 0).any() or totals.tolist() != [len(self.points), len(self.faces)]:
            return False
        most = np.repeat(self.counts[:, 0], self.counts[:, 1])[:, None] if len(self) else np.zeros((0, 1))
        return bool(np.isfinite(self.points).all() and ((self.faces >= 0) & (self.faces < most)).all())


@dataclass(frozen=True)
class FilePart:
    """One mesh of a file.

    Attributes:
        path: its place in the file's hierarchy, as in "yard/crate/pear"; unlike any other part's.
        mesh: at the file's first moment, with all transforms applied, in the file's own unit and axes.
        transform: float64 (4, 4), what was applied, columns being the axes.
        times_s: float64 (k,), when `poses` or `shapes` are, seconds; empty where nothing moves.
        poses: float64 (k, 4, 4), transforms over time of a part that keeps its form; may be empty.
        shapes: float64 (k, points, 3), places over time of a part that does not; may be empty.
        sequence: of a part that is another mesh at every moment; such a part can be kept as a cache, and nothing else.
        unit_m, up: what the file says of its unit (metres) and of the axis that points up; None where it says nothing.
    """

    path: str
    mesh: TriMesh
    transform: Floats = field(default_factory=lambda: np.eye(4))
    times_s: Floats = field(default_factory=lambda: np.zeros(0))
    poses: Floats = field(default_factory=lambda: np.zeros((0, 4, 4)))
    shapes: Floats = field(default_factory=lambda: np.zeros((0, 0, 3)))
    sequence: Sequence = field(default_factory=lambda: Sequence())
    unit_m: float | None = None
    up: str | None = None

    @property
    def scales(self) -> Floats:
        """How much the transform stretches along its three main directions (3,), largest first."""
        return np.asarray(np.linalg.svd(self.transform[:3, :3], compute_uv=False), dtype=np.float64)

    @property
    def mirrored(self) -> bool:
        """Whether the transform turns left into right; the faces were turned round for it."""
        return float(np.linalg.det(self.transform[:3, :3])) < 0.0

    @property
    def uneven(self) -> bool:
        """Whether the transform stretches one way more than another."""
        scales = self.scales
        return bool(scales[0] > (1.0 + UNEVEN) * scales[2])

    @property
    def applied(self) -> bool:
        """Whether there was any transform to apply."""
        return not np.allclose(self.transform, np.eye(4), atol=1e-9)


@dataclass(frozen=True)
class Contents:
    """What a file holds.

    Attributes:
        kind: of file, as in "OBJ".
        parts: its meshes.
        unit_m: metres a unit, if the file says so.
        up: "y" or "z", if the file says so.
        notes: what was left out or changed, a sentence each.
        first: of a sequence, its first frame's number; its moments are frames, counted as `FRAMES_A_SECOND`.
        begins: of another file, the number of the frame at which its motion begins, if it says so.
    """

    kind: str
    parts: list[FilePart]
    unit_m: float | None = None
    up: str | None = None
    notes: list[str] = field(default_factory=list)
    first: int | None = None
    begins: int | None = None

    @property
    def moves(self) -> bool:
        """Whether anything in it moves, so that it can be kept as a cache of more than one frame."""
        return any(len(p.times_s) > 1 for p in self.parts)

    def part(self, path: str | None, name: str) -> FilePart:
        """Return a part by its path, or all parts as one still mesh for None."""
        if path is not None:
            for part in self.parts:
                if part.path == path:
                    return replace(part, unit_m=self.unit_m, up=self.up)
            raise Problem(f"the file has no part '{path}'.", name, f"It has {len(self.parts)} others.")
        if len(self.parts) == 1:
            return replace(self.parts[0], unit_m=self.unit_m, up=self.up)
        counts = np.concatenate([[0], np.cumsum([len(p.mesh.points) for p in self.parts])])
        faces = [p.mesh.faces + int(s) for p, s in zip(self.parts, counts, strict=False)]
        whole = TriMesh(np.concatenate([p.mesh.points for p in self.parts]), np.concatenate(faces).astype(np.int32))
        return FilePart("", whole, unit_m=self.unit_m, up=self.up)


def make_part(
    path: str, points: Floats, faces: NDArray[np.integer], transform: Floats, name: str,
    times_s: Floats | None = None, poses: Floats | None = None, shapes: Floats | None = None,
) -> FilePart | None:  # fmt: skip
    """Return a part from its own points (n, 3) and triangles (m, 3), placed by a transform (4, 4).

    Only points of faces are kept; a mirroring transform turns the faces round. None when no face is left.

    Args:
        path: in the file. name: of the file, for errors.
        times_s, poses, shapes: see `FilePart`; shapes hold all points, transforms applied.

    Raises:
        Problem: for numbers that are no places, and faces that name points there are not.
    """
    where = f"{name}, part '{path}'" if path else name
    points = np.asarray(points, dtype=np.float64).reshape(-1, 3)
    faces = np.asarray(faces, dtype=np.int64).reshape(-1, 3)
    if not len(faces):
        return None
    if faces.min() < 0 or faces.max() >= len(points):
        raise Problem(
            f"a face names point {int(faces.max())}, but there are {len(points)}.", where, "Export the file again."
        )
    if not np.isfinite(transform).all():
        raise Problem("its transform has numbers that are not finite.", where, "Mend it where it was made.")
    placed = points @ transform[:3, :3].T + transform[:3, 3]
    moved = [placed] if shapes is None or not len(shapes) else [placed, shapes.reshape(-1, 3)]
    if any(not (np.abs(p) < FARTHEST).all() for p in moved):
        raise Problem(
            "a coordinate is not a usable number.", where,
            f"Coordinates must be finite and below {FARTHEST:.0e}; mend the mesh where it was made.",
        )  # fmt: skip
    faces = faces[(faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])]
    if not len(faces):
        return None
    if np.linalg.det(transform[:3, :3]) < 0.0:
        faces = faces[:, ::-1]
    used = np.zeros(len(points), dtype=bool)
    used[faces] = True
    faces = (np.cumsum(used) - 1)[faces]
    mesh = TriMesh(np.ascontiguousarray(placed[used]), np.ascontiguousarray(faces, dtype=np.int32))
    none = np.zeros(0)
    return FilePart(
        path, mesh, np.asarray(transform, dtype=np.float64), none if times_s is None else times_s,
        np.zeros((0, 4, 4)) if poses is None else poses,
        np.zeros((0, 0, 3)) if shapes is None or not len(shapes) else np.ascontiguousarray(shapes[:, used]),
    )  # fmt: skip


def sequence_part(path: str, forms: list[FilePart | None], times_s: Floats, transform: Floats) -> FilePart | None:
    """Return a part that is another mesh at every moment; where one has no face, the one before stays.

    Args:
        path, times_s, transform: see `FilePart`. forms: what it is at every moment, None where it has no face.
    """
    meshes: list[TriMesh] = []
    first = next((form.mesh for form in forms if form is not None), None)
    if first is None:
        return None
    for form in forms:
        meshes.append(form.mesh if form is not None else (meshes[-1] if meshes else first))
    return FilePart(path, meshes[0], transform, times_s, sequence=Sequence.of(meshes))


def cut_polygons(
    counts: NDArray[np.integer], corners: NDArray[np.integer], points: Floats, where: str
) -> NDArray[np.int64]:
    """Return the triangles int64 (m, 3) of polygons given by their sizes (p,) and all their corners, one after another.

    Polygons of fewer than three corners are left out.

    Raises:
        Problem: when sizes and corners do not fit together.
    """
    from zembrik.core.mesh.polygons import cut_all

    counts, corners = np.asarray(counts, dtype=np.int64), np.asarray(corners, dtype=np.int64)
    if (counts < 0).any() or int(counts.sum()) != len(corners):
        raise Problem(f"its faces need {int(counts.sum())} corners, the file has {len(corners)}.", where,
                      "The file may be cut off; export it again.")  # fmt: skip
    if len(counts) and counts.max() > MOST_CORNERS:
        raise Problem(
            f"a face has {int(counts.max()):,} corners; the limit is {MOST_CORNERS:,}.", where,
            "Cut it into smaller faces before exporting.",
        )  # fmt: skip
    if len(corners) and (corners.min() < 0 or corners.max() >= len(points)):
        raise Problem(
            f"a face names point {int(corners.max())}, but there are {len(points)}.", where, "Export the file again."
        )
    return cut_all(np.asarray(points, dtype=np.float64), counts, corners)


def moving_part(path: str, times_s: Floats, poses: Floats) -> FilePart:
    """Return a part that is a motion alone: transforms (k, 4, 4) at moments (k,), and no mesh."""
    nothing = TriMesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32))
    return FilePart(path, nothing, np.asarray(poses[0], dtype=np.float64), times_s, poses)


def check_motion(parts: int, moments: int, name: str) -> None:
    """Refuse files in which nothing moves, or more than a worker can hold."""
    if not parts or moments < 2:
        raise Problem("nothing moves in the file.", name, "Export it with its animation.")
    if parts * moments * 16 > MOST_MOVED or parts > MOST_PARTS:
        raise Problem(
            f"{parts:,} things move for {moments:,} moments, which is more than fit.", name, "Hand in fewer, or less."
        )


def check_size(parts: list[FilePart], name: str) -> None:
    """Refuse files that are larger than a worker can hold, and those without any surface."""
    if not parts:
        raise Problem("the file holds no mesh with faces.", name, "Export it with its surface.")
    points = sum(len(p.mesh.points) for p in parts)
    if len(parts) > MOST_PARTS:
        raise Problem(f"the file has {len(parts):,} parts; the limit is {MOST_PARTS:,}.", name, "Split it.")
    if points > MOST_POINTS:
        raise Problem(f"the meshes have {points:,} points; the limit is {MOST_POINTS:,}.", name, "Reduce them first.")
    if sum(p.poses.size + p.shapes.size + p.sequence.points.size + p.sequence.faces.size for p in parts) > MOST_MOVED:
        raise Problem("its moving points are more than fit.", name, "Hand in fewer frames or a coarser mesh.")
