"""A sequence of binary PLY files in a zip: BODY/BODY.0001.ply and so on."""

from __future__ import annotations

import zipfile
from pathlib import Path

import numpy as np

from zembrik.core.exchange.delivery import Content, Tell, told_frames
from zembrik.core.exchange.obj_sequence import NO_TIME


def write(content: Content, path: Path, tell: Tell) -> None:
    """Write all frames; see `delivery.deliver`."""
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        for frame in told_frames(content, tell):
            for part in content.parts:
                number = f"{frame:04d}" if frame >= 0 else f"-{-frame:04d}"
                info = zipfile.ZipInfo(f"{part.file_name}/{part.file_name}.{number}.ply", NO_TIME)
                info.compress_type = zipfile.ZIP_DEFLATED
                archive.writestr(info, ply_bytes(content.points(part, frame), content.faces(part, frame)))


def ply_bytes(points: np.ndarray, faces: np.ndarray) -> bytes:
    """Return points (n, 3) and triangles (m, 3) as a binary PLY file."""
    head = (
        f"ply\nformat binary_little_endian 1.0\nelement vertex {len(points)}\nproperty float x\nproperty float y\n"
        f"property float z\nelement face {len(faces)}\nproperty list uchar int vertex_indices\nend_header\n"
    )
    rows = np.empty(len(faces), dtype=[("count", "u1"), ("corners", "<i4", 3)])
    rows["count"], rows["corners"] = 3, faces
    return head.encode() + np.ascontiguousarray(points, "<f4").tobytes() + rows.tobytes()
