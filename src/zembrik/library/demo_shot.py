"""One shot of the demo, and its meshes as files."""

from __future__ import annotations

import io
from dataclasses import dataclass, field
from typing import Any

from zembrik.core.exchange.obj import write_obj
from zembrik.core.mesh.trimesh import TriMesh


@dataclass(frozen=True)
class DemoShot:
    """One shot of the demo.

    Attributes:
        code: as in WF-010.
        title: a few words.
        setup: the setup document; its files lie in `files`.
        files: name and content of each mesh file.
    """

    code: str
    title: str
    setup: dict[str, Any]
    files: dict[str, bytes] = field(default_factory=dict)


def obj_bytes(mesh: TriMesh, name: str) -> bytes:
    """Return a mesh as an OBJ file."""
    out = io.BytesIO()
    write_obj(out, mesh.points, mesh.faces, name)
    return out.getvalue()
