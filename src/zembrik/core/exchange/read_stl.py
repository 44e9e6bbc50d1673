"""STL, through trimesh."""

from __future__ import annotations

import io
from typing import Any

import numpy as np

from zembrik.core.exchange.contents import Contents, check_size, make_part
from zembrik.core.problem import Problem


def read_stl(data: bytes, name: str) -> Contents:
    """Return the contents of an STL file, which says neither unit nor axes.

    Raises:
        Problem: for what is broken or holds no faces.
    """
    import trimesh  # takes a while to load

    said = int.from_bytes(data[80:84], "little") if len(data) >= 84 else -1
    binary = said >= 0 and 84 + 50 * said == len(data)
    if not binary and data[:5].lower() != b"solid":
        what = (
            f"says it has {said:,} faces, but it is too short for them"
            if said >= 0
            else "is too short to hold any faces"
        )
        if said >= 0 and 84 + 50 * said < len(data):
            what = f"goes on after the {said:,} faces it says it has"
        raise Problem(f"the file {what}.", name, "It may be cut off; export it again.")
    facets, corners = data.count(b"endfacet"), data.count(b"vertex ")
    if not binary and corners != 3 * facets:
        raise Problem(
            "a facet is not three corners of three numbers, or the file ends within one.", name, "Export it again."
        )
    if not binary and not facets:
        check_size([], name)
    try:
        kind = "stl" if binary else "stl_ascii"
        mesh: Any = trimesh.load(io.BytesIO(data), file_type=kind, process=False, force="mesh")
        points, faces = np.asarray(mesh.vertices, dtype=np.float64), np.asarray(mesh.faces, dtype=np.int64)
    except Exception:  # whatever its parser stumbles over, in words that are not for people
        raise Problem("a corner is not three numbers.", name, "Export it again.") from None
    notes = []
    if len(points):  # every face has corners of its own there
        if not np.isfinite(points).all():
            raise Problem("a coordinate is not a usable number.", name, "Mend the mesh where it was made.")
        points, numbers = np.unique(points, axis=0, return_inverse=True)
        faces = numbers.reshape(-1)[faces]
        notes.append("Corners at the same place were joined: in STL every face has its own.")
    part = make_part("", points, faces, np.eye(4), name)
    parts = [part] if part else []
    check_size(parts, name)
    return Contents("STL", parts, notes=notes)
