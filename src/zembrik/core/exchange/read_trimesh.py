"""PLY and STL, through trimesh."""

from __future__ import annotations

import io
from typing import Any

import numpy as np

from zembrik.core.exchange.contents import Contents, check_size, make_part
from zembrik.core.problem import Problem


def read_simple(data: bytes, name: str, kind: str) -> Contents:
    """Return the contents of a PLY or STL file, which says neither unit nor axes.

    Args:
        kind: "ply" or "stl".

    Raises:
        Problem: for what is broken or holds no faces.
    """
    import trimesh  # takes a while to load

    notes = []
    if kind == "stl" and data[:5].lower() != b"solid" and len(data) >= 84:
        said = int.from_bytes(data[80:84], "little")
        if 84 + 50 * said > len(data):
            raise Problem(
                f"the file says it has {said:,} faces, but it is too short for them.", name, "It may be cut off."
            )
    try:
        mesh: Any = trimesh.load(io.BytesIO(data), file_type=kind, process=False, force="mesh")
        points, faces = np.asarray(mesh.vertices, dtype=np.float64), np.asarray(mesh.faces, dtype=np.int64)
    except Exception as error:  # whatever its parsers stumble over
        raise Problem(
            f"the file is not sound {kind.upper()}: {str(error)[:80] or type(error).__name__}.",
            name,
            "Export it again.",
        ) from None
    if kind == "stl" and len(points):  # every face has corners of its own there
        if not np.isfinite(points).all():
            raise Problem("a coordinate is not a usable number.", name, "Mend the mesh where it was made.")
        points, numbers = np.unique(points, axis=0, return_inverse=True)
        faces = numbers.reshape(-1)[faces]
        notes.append("Corners at the same place were joined: in STL every face has its own.")
    part = make_part("", points, faces, np.eye(4), name)
    parts = [part] if part else []
    check_size(parts, name)
    return Contents(kind.upper(), parts, notes=notes)
