"""Bodies' motion as tables: CSV to read in anything, JSON for programs.

A body that deforms gives its nearest rigid motion, and how far it is from it. A point p of the body where it stands
at the cache's first frame is at turn · p + shift at each frame. Angles turn in the order that is asked for, about axes
that stand still, each near the one of the frame before: they do not flip, and a body that has gone round three times is
at 1080 degrees.
"""

from __future__ import annotations

import csv
import json
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from zembrik.core.exchange.delivery import Content, Part, Tell, told_frames
from zembrik.core.exchange.motion_file import SCHEMA
from zembrik.core.keys.from_cache import Poses, continuous, poses_of
from zembrik.core.keys.smooth import turns_at, values_at
from zembrik.core.motion.angles import ORDERS, angles_of
from zembrik.core.units import METRES_PER_UNIT, from_si

COLUMNS = ["frame", "seconds", "body", "x", "y", "z", "qx", "qy", "qz", "qw", "rx_deg", "ry_deg", "rz_deg", "misfit"]
Floats = NDArray[np.float64]


def _rows(content: Content, part: Part) -> dict[str, Floats]:
    """Return shift, turn, angles and misfit of a body at every frame of the order, in its unit and axes."""
    poses: Poses = poses_of(content.cache, part.number)
    order = content.order
    axes = from_si(np.eye(3), "m", order.up_axis).T  # columns: where our X, Y and Z lie in the file
    matrices = axes @ Rotation.from_quat(poses.turn).as_matrix() @ axes.T
    at = np.array([content.moment(frame) for frame in content.frames]) - poses.first
    turns = continuous(Rotation.from_matrix(matrices).as_quat())
    # Between frames the way of the body's middle is followed: that of the world's origin would be long, far from it.
    middle = content.cache.points(part.number, poses.first).astype(np.float64).mean(axis=0)
    places = from_si(poses.shift + Rotation.from_quat(poses.turn).apply(middle), order.unit, order.up_axis)
    middle, turned = from_si(middle, order.unit, order.up_axis), continuous(turns_at(turns, at))
    # Angles are followed from the cache's first frame on, so that they count whole turns whatever frames are taken.
    steps = np.unique(np.concatenate([np.arange(np.floor(at[-1]) + 1.0), at]).round(9))
    angles = angles_of(Rotation.from_quat(turns_at(turns, steps)).as_matrix(), order.angles)
    return {
        "shift": values_at(places, at) - Rotation.from_quat(turned).apply(middle),
        "turn": turned,
        "angles": angles[np.searchsorted(steps, at.round(9))],
        "misfit": np.interp(at, np.arange(len(poses.misfit_m)), poses.misfit_m) / METRES_PER_UNIT[order.unit],
    }


def write_csv(content: Content, path: Path, tell: Tell) -> None:
    """Write a row a frame and body; see `delivery.deliver`."""
    bodies = [(part, _rows(content, part)) for part in content.parts]
    with path.open("w", newline="", encoding="utf-8") as file:
        out = csv.writer(file, lineterminator="\n")
        out.writerow(COLUMNS)
        for k, frame in enumerate(told_frames(content, tell)):
            seconds = f"{(frame - content.first) / content.fps:.6f}"
            for part, rows in bodies:
                numbers = [*rows["shift"][k], *rows["turn"][k], *rows["angles"][k], rows["misfit"][k]]
                out.writerow([frame, seconds, part.name, *(f"{v:.9g}" for v in numbers)])


def write_json(content: Content, path: Path, tell: Tell) -> None:
    """Write one document; docs/tracks.schema.json says what is in it. See `delivery.deliver`."""
    bodies: list[dict[str, Any]] = []
    for part in content.parts:
        rows = _rows(content, part)
        bodies.append({"name": part.name, **{name: values.round(9).tolist() for name, values in rows.items()}})
    frames = list(told_frames(content, tell))
    document = {
        "schema": SCHEMA, "fps": content.fps, "frames": [frames[0], frames[-1]],
        "length_unit": content.order.unit, "up_axis": content.order.up_axis, "angle_order": content.order.angles,
        "bodies": bodies,
    }  # fmt: skip
    path.write_text(json.dumps(document, indent=1, ensure_ascii=False), encoding="utf-8")


def schema() -> dict[str, Any]:
    """Return the JSON Schema of what `write_json` writes."""

    def rows(width: int, words: str) -> dict[str, Any]:
        numbers = {"type": "array", "items": {"type": "number"}, "minItems": width, "maxItems": width}
        return {"type": "array", "items": numbers, "description": words}

    body = {
        "type": "object", "additionalProperties": False,
        "required": ["name", "shift", "turn", "angles", "misfit"],
        "properties": {
            "name": {"type": "string"},
            "shift": rows(3, "x y z a frame, in the length unit"),
            "turn": rows(4, "quaternion x y z w a frame"),
            "angles": rows(3, "degrees about X, Y and Z a frame, turned in the angle order; they do not flip"),
            "misfit": {"type": "array", "items": {"type": "number", "minimum": 0},
                       "description": "how far the body's points are from this motion, a frame, in the length unit"},
        },
    }  # fmt: skip
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Tracks of a cache's bodies",
        "description": "A point p of a body at the cache's first frame is at turn p + shift.",
        "type": "object", "additionalProperties": False,
        "required": ["schema", "fps", "frames", "length_unit", "up_axis", "angle_order", "bodies"],
        "properties": {
            "schema": {"const": SCHEMA}, "fps": {"type": "number", "exclusiveMinimum": 0},
            "frames": {"type": "array", "items": {"type": "integer"}, "minItems": 2, "maxItems": 2},
            "length_unit": {"enum": list(METRES_PER_UNIT)}, "up_axis": {"enum": ["y", "z"]},
            "angle_order": {"enum": list(ORDERS)},
            "bodies": {"type": "array", "items": body},
        },
    }  # fmt: skip
