"""A small picture of a cache's last frame, for the shots board."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from zembrik.core.cache.layout import write_whole
from zembrik.core.cache.reader import Cache
from zembrik.core.mesh.trimesh import TriMesh

WIDTH, HEIGHT, SUPER = 416, 250, 2
CLOTH = np.array([195, 216, 107])
SHADE = np.array([74, 84, 38])


def make_picture(cache: Cache, target: Path) -> None:
    """Draw the simulated bodies at the last committed frame into a PNG with a clear background."""
    if cache.done is None:
        return
    meshes = [
        TriMesh(cache.points(k, cache.done).astype(np.float64), cache.faces(k, cache.done))
        for k in range(len(cache.names))
    ]
    write_whole(target, draw(meshes))


def draw(meshes: list[TriMesh], colour: Any = CLOTH, shade: Any = SHADE) -> bytes:
    """Return a PNG of meshes seen from above and aside, far faces first."""
    import io

    corners = np.concatenate([m.points[m.faces] for m in meshes])
    turn, tilt = 0.62, 0.42
    look = np.array(
        [
            [np.cos(turn), 0.0, -np.sin(turn)],
            [-np.sin(turn) * np.sin(tilt), np.cos(tilt), -np.cos(turn) * np.sin(tilt)],
            [np.sin(turn) * np.cos(tilt), np.sin(tilt), np.cos(turn) * np.cos(tilt)],
        ]
    )
    seen = corners @ look.T
    low, high = seen[..., :2].min(axis=(0, 1)), seen[..., :2].max(axis=(0, 1))
    size = np.array([WIDTH, HEIGHT]) * SUPER
    scale = 0.84 * float((size / np.maximum(high - low, 1e-9)).min())
    place: NDArray[np.float64] = (seen[..., :2] - (low + high) / 2) * scale * [1, -1] + size / 2
    normal = np.cross(seen[:, 1] - seen[:, 0], seen[:, 2] - seen[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    normal *= np.where(normal[:, 2:] < 0, -1.0, 1.0)
    light = np.clip(normal @ np.array([-0.35, 0.6, 0.72]), 0, 1)[:, None]
    tint = np.rint(shade + (colour - shade) * light).astype(int)
    image = Image.new("RGBA", (int(size[0]), int(size[1])))
    pen = ImageDraw.Draw(image)
    for k in np.argsort(seen[..., 2].sum(axis=1), kind="stable").tolist():
        pen.polygon([tuple(p) for p in place[k]], fill=(*tint[k].tolist(), 255))
    out = io.BytesIO()
    image.resize((WIDTH, HEIGHT), Image.Resampling.LANCZOS).save(out, "PNG", optimize=True)
    return out.getvalue()
