"""What a mesh is told to be, before and after a mend."""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING

from zembrik.core.mesh.trimesh import TriMesh

if TYPE_CHECKING:
    from zembrik.core.mesh.audit import Audit

MOST_LIT = 4000  # faces or points of a flaw that are lit in the viewport


class _ByContent:
    """A mesh that a cache knows by its content."""

    def __init__(self, mesh: TriMesh) -> None:
        self.mesh, self.key = mesh, mesh.content_hash

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _ByContent) and other.key == self.key

    def __hash__(self) -> int:
        return hash(self.key)


@lru_cache(maxsize=128)
def _audited(one: _ByContent) -> Audit:
    from zembrik.core.mesh.audit import audit  # brings the compiler, which no page waits for

    return audit(one.mesh)


def audited(mesh: TriMesh) -> Audit:
    """Return what is found about a mesh; the last ones are remembered."""
    return _audited(_ByContent(mesh))


def told_of_mend(kind: str, before: TriMesh, after: TriMesh) -> str:
    """Tell what a mend did: the flaw's count, points and faces, and the volume, each before and after."""
    audits = [audited(mesh) for mesh in (before, after)]
    counts = [sum(f.count for f in a.flaws if f.kind == kind) for a in audits]
    words = [f"{kind} {counts[0]:,} → {counts[1]:,}"]
    for name, sizes in (("points", (before.points, after.points)), ("faces", (before.faces, after.faces))):
        words.append(f"{name} {len(sizes[0]):,} → {len(sizes[1]):,}")
    if all(a.closed for a in audits):
        words.append(f"volume {audits[0].volume * 1e3:.3g} → {audits[1].volume * 1e3:.3g} l")
    return ", ".join(words)
