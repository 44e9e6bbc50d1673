"""Units and axes, converted at the doors: inside, everything is SI and Y points up."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

LengthUnit = Literal["m", "cm", "mm", "in", "ft"]
UpAxis = Literal["y", "z"]
ForwardAxis = Literal["z", "-z", "x", "-x"]

METRES_PER_UNIT: dict[str, float] = {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048}
UNIT_NAMES: dict[str, str] = {"m": "metres", "cm": "centimetres", "mm": "millimetres", "in": "inches", "ft": "feet"}


def to_si(points: NDArray[np.float64], unit: str, up_axis: str, forward: str = "z") -> NDArray[np.float64]:
    """Return points (n, 3) of a file in `unit` with `up_axis` as metres with Y up and the front looking along +Z.

    A Z-up file is turned by -90 degrees about X: its (x, y, z) becomes (x, z, -y), which keeps a right-handed frame
    right-handed. `forward` is where the front looks then; it is turned about Y to look along +Z.
    """
    metres = np.asarray(points, dtype=np.float64) * METRES_PER_UNIT[unit]
    if up_axis == "z":
        metres = np.stack([metres[:, 0], metres[:, 2], -metres[:, 1]], axis=1)
    x, y, z = metres[:, 0], metres[:, 1], metres[:, 2]
    if forward != "z":
        metres = np.stack({"-z": (-x, y, -z), "x": (-z, y, x), "-x": (z, y, -x)}[forward], axis=1)
    return np.ascontiguousarray(metres)


def from_si(points: NDArray[np.floating], unit: str, up_axis: str) -> NDArray[np.float64]:
    """Return points (..., 3) in metres with Y up as `unit` with `up_axis`; the inverse of `to_si`."""
    values = np.asarray(points, dtype=np.float64) / METRES_PER_UNIT[unit]
    if up_axis == "z":
        values = np.stack([values[..., 0], -values[..., 2], values[..., 1]], axis=-1)
    return values


def turn_matrix(rotate_deg: Any) -> NDArray[np.float64]:
    """Return the matrix (3, 3) of turns in degrees about X, then Y, then Z."""
    (cx, cy, cz), (sx, sy, sz) = np.cos(np.radians(rotate_deg)), np.sin(np.radians(rotate_deg))
    about_x = np.array([[1, 0, 0], [0, cx, -sx], [0, sx, cx]])
    about_y = np.array([[cy, 0, sy], [0, 1, 0], [-sy, 0, cy]])
    about_z = np.array([[cz, -sz, 0], [sz, cz, 0], [0, 0, 1]])
    return about_z @ about_y @ about_x


def quaternion_turn(quaternion: Any) -> NDArray[np.float64]:
    """Return the matrix (3, 3) of a unit quaternion x y z w."""
    x, y, z, w = (float(v) for v in quaternion)
    return np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - w * z), 2 * (x * z + w * y)],
            [2 * (x * y + w * z), 1 - 2 * (x * x + z * z), 2 * (y * z - w * x)],
            [2 * (x * z - w * y), 2 * (y * z + w * x), 1 - 2 * (x * x + y * y)],
        ]
    )
