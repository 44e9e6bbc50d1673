"""A small picture of a cache's last frame, for the shots board."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from zembrik.core.cache.layout import write_whole
from zembrik.core.cache.reader import Cache
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh
from zembrik.core.setup.document import Setup

WIDTH, HEIGHT, SUPER = 416, 250, 2
CLOTH = np.array([195, 216, 107]), np.array([74, 84, 38])  # in the light, and in the shade
COLLIDER = np.array([116, 152, 149]), np.array([50, 66, 76])
MOST_FACES = 200_000  # of a collider in the picture, 2 s; one that takes more is left out, so that no bake waits for it
PARTS = 30  # a collider's faces are cut to this share of the picture, so that they can be put in order
MANY = 8  # of more bodies than this, those that rolled far off are not waited for

Floats = NDArray[np.float64]
TURN, TILT = 0.62, 0.42  # radians, from where it is seen
LOOK = np.array([
    [np.cos(TURN), 0.0, -np.sin(TURN)],
    [-np.sin(TURN) * np.sin(TILT), np.cos(TILT), -np.cos(TURN) * np.sin(TILT)],
    [np.sin(TURN) * np.cos(TILT), np.sin(TILT), np.cos(TURN) * np.cos(TILT)],
])  # fmt: skip


def make_picture(cache: Cache, target: Path, setup: Setup | None = None, assets: Assets | None = None) -> None:
    """Draw the simulated bodies at the last committed frame, and the colliders, into a PNG without background."""
    if cache.done is None:
        return
    meshes = [
        TriMesh(cache.points(k, cache.done).astype(np.float64), cache.faces(k, cache.done))
        for k in range(len(cache.names))
    ]
    around = colliders_at(setup, assets, cache.done) if setup is not None and assets is not None else []
    write_whole(target, draw(meshes, around))


def colliders_at(setup: Setup, assets: Assets, frame: int) -> list[TriMesh]:
    """Return the meshes of a setup's colliders where they are at a frame."""
    found = []
    for number, body in enumerate(setup.bodies):
        if body.role == "collider":
            mesh, mover = placed_mesh(body, assets), mover_of_body(setup, number, assets)
            found.append(mesh if mover is None else mesh.moved(mover.points_at(mesh.points, frame)))
    return found


def _shown(meshes: list[TriMesh]) -> tuple[Floats, Floats]:
    """Return the low and the high corner (2,) of what the picture is to show, as seen, metres."""
    boxes = np.array([[f(m.points @ LOOK[:2].T, axis=0) for f in (np.min, np.max)] for m in meshes])  # (n, 2, 2)
    if len(boxes) > MANY:
        middle = boxes.mean(axis=1)
        low, high = np.quantile(middle, [0.1, 0.9], axis=0)
        near = (np.abs(middle - (low + high) / 2) <= 0.75 * (high - low) + 1e-9).all(axis=1)
        boxes = boxes[near] if near.any() else boxes
    return boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)


def draw(meshes: list[TriMesh], around: list[TriMesh]) -> bytes:
    """Return a PNG of meshes, and of what is around them, seen from above and aside, far faces first."""
    size = np.array([WIDTH, HEIGHT]) * SUPER
    low, high = _shown(meshes)
    scale = 0.84 * float((size / np.maximum(high - low, 1e-9)).min())
    frame = (low + high - size / scale) / 2, (low + high + size / scale) / 2
    wide = float(size.max()) / scale / PARTS
    seen = [_inside(mesh.points[mesh.faces] @ LOOK.T, *frame) for mesh in meshes]
    behind = [_cut(mesh.points[mesh.faces] @ LOOK.T, wide, *frame) for mesh in around]
    tint = [_tint(faces, *CLOTH) for faces in seen] + [_tint(faces, *COLLIDER) for faces in behind]
    # What lies on a collider is drawn over it, though its faces' middles may be farther off than the collider's.
    faces = np.concatenate([*seen, *[faces - [0.0, 0.0, wide] for faces in behind]])
    colours = np.concatenate(tint).tolist()
    place = (faces[..., :2] - (low + high) / 2) * scale * [1, -1] + size / 2
    image = Image.new("RGBA", (int(size[0]), int(size[1])))
    pen = ImageDraw.Draw(image)
    for k in np.argsort(faces[..., 2].sum(axis=1), kind="stable").tolist():
        pen.polygon([tuple(p) for p in place[k]], fill=(*colours[k], 255))
    out = io.BytesIO()
    image.resize((WIDTH, HEIGHT), Image.Resampling.LANCZOS).save(out, "PNG", optimize=True)
    return out.getvalue()


def _inside(faces: Floats, low: Floats, high: Floats) -> Floats:
    """Return those of faces (f, 3, 3), as seen, that the picture from low to high (2,) may show."""
    flat = faces[..., :2]
    return faces[((flat.max(axis=1) > low) & (flat.min(axis=1) < high)).all(axis=1)]


def _cut(faces: Floats, longest_m: float, low: Floats, high: Floats) -> Floats:
    """Return the same, halved along their longest edges until none is longer; what falls outside is left out.

    Of more than MOST_FACES, none.
    """
    done = [np.zeros((0, 3, 3))]
    while len(faces := _inside(faces, low, high)):
        if len(faces) + sum(map(len, done)) > MOST_FACES:
            return done[0]
        lengths = np.linalg.norm(faces - np.roll(faces, -1, axis=1), axis=2)
        short = lengths.max(axis=1) <= longest_m
        done.append(faces[short])
        a, b, c = (faces[~short, (lengths[~short].argmax(axis=1) + k) % 3] for k in range(3))
        middle = (a + b) / 2
        faces = np.concatenate([np.stack([a, middle, c], axis=1), np.stack([middle, b, c], axis=1)])
    return np.concatenate(done)


def _tint(faces: Floats, colour: Any, shade: Any) -> NDArray[np.int64]:
    """Return the colours (f, 3) of faces as seen, whichever side is turned here."""
    normal = np.cross(faces[:, 1] - faces[:, 0], faces[:, 2] - faces[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    normal *= np.where(normal[:, 2:] < 0, -1.0, 1.0)
    light = np.clip(normal @ np.array([-0.35, 0.6, 0.72]), 0, 1)[:, None]
    return np.rint(shade + (colour - shade) * light).astype(np.int64)
