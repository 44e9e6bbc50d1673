"""What a cache keeps of a body over all frames."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class CacheBody:
    """A body as a cache begins it.

    Attributes:
        name: its name.
        faces: int32 (faces, 3); of a body whose faces change, those of its first frame.
        points: how many it has; of a body whose numbers change, the most it ever has.
        rest: float32 (points, 3), metres, of a body that keeps its form: where it is before its poses move it.
        most_faces: of a body whose numbers of points and faces change, the most faces it ever has; 0 otherwise.
    """

    name: str
    faces: NDArray[np.integer]
    points: int
    rest: NDArray[np.floating] | None = None
    most_faces: int = 0


# What a frame has of a body: points float32 (n, 3), metres; a pose float64 (7,); or points and faces that change.
BodyFrame = NDArray[np.floating] | tuple[NDArray[np.floating], NDArray[np.integer]]
