"""What is wrong with a mesh, counted and located; `mend` takes it away."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel, parallel_kernel
from zembrik.core.mesh.trimesh import TriMesh, volume_m3

SAME = 1e-6  # of the mesh's size: points nearer to each other are one
NO_AREA = 1e-12  # of the size's square: a face with less is none
NEEDLE = 20.0  # a face this many times longer than it is high folds badly
BINS = 24
MOST_COPIES = 4  # of each face, in the mean, in the columns where crossings are looked for

Whole = NDArray[np.int64]


@dataclass(frozen=True)
class Flaw:
    """One kind of defect.

    Attributes:
        kind: short name; `mend.MENDS` has those that can be mended.
        title: what it is called. count: how many there are.
        meaning: what it does to a simulation, one sentence.
        faces: int64, the faces to light up. points: int64, the points.
    """

    kind: str
    title: str
    count: int
    meaning: str
    faces: Whole = field(default_factory=lambda: np.zeros(0, np.int64))
    points: Whole = field(default_factory=lambda: np.zeros(0, np.int64))


@dataclass(frozen=True)
class Audit:
    """What was found.

    Attributes:
        flaws: those that there are.
        parts: how many pieces hang together. closed: whether no edge is open.
        volume: enclosed, cubed unit of the mesh; negative when inside out.
        edges, edges_at: int64 (BINS,) and float64 (BINS + 1,), histogram of edge lengths and its bounds.
        skew: share of faces with an angle below 20 degrees, 0..1.
    """

    flaws: list[Flaw]
    parts: int
    closed: bool
    volume: float
    edges: Whole
    edges_at: NDArray[np.float64]
    skew: float

    def plain(self, most: int) -> dict[str, Any]:
        """Return it as JSON, with at most `most` faces and points a flaw."""
        flaws = [
            {"kind": f.kind, "count": f.count, "faces": f.faces[:most].tolist(), "points": f.points[:most].tolist()}
            for f in self.flaws
        ]
        bounds = {"edges": self.edges.tolist(), "edges_at": self.edges_at.tolist()}
        return {**vars(self), **bounds, "flaws": flaws}

    @classmethod
    def of(cls, plain: dict[str, Any]) -> Audit:
        """Return it from JSON."""
        flaws = [
            Flaw(f["kind"], WORDS[f["kind"]][0], f["count"], WORDS[f["kind"]][1],
                 np.asarray(f["faces"], np.int64), np.asarray(f["points"], np.int64))
            for f in plain["flaws"]
        ]  # fmt: skip
        bounds: dict[str, Any] = {name: np.asarray(plain[name]) for name in ("edges", "edges_at")}
        return cls(**(plain | bounds | {"flaws": flaws}))


WORDS = {  # kind: its title, and what it does to a simulation
    "doubled points": ("Doubled points", "The surface is torn there: cloth comes apart along it."),
    "loose points": ("Loose points", "They belong to no face and fall by themselves."),
    "empty faces": ("Faces without area", "They have no direction, and no stiffness that can be computed."),
    "needles": ("Needles", "Long thin faces fold badly and hold up the solver."),
    "doubled faces": ("Doubled faces", "Two faces in one place count twice as stiff."),
    "crowded edges": (
        "Edges of more than two faces", "Inside and outside have no meaning there, and cloth does not bend over them."
    ),
    "turned faces": ("Faces turned against their neighbours", "A collider lets things through from their back."),
    "inside out": ("Parts inside out", "All faces look inwards: a collider swallows what it should keep out."),
    "holes": ("Open borders", "Fine for cloth; a soft or rigid body, and a collider with an inside, must be closed."),
    "crossings": ("Faces that cross others", "With self-collision on they stay hooked into each other."),
}  # fmt: skip


def audit(mesh: TriMesh) -> Audit:
    """Return everything that is found about a mesh; its faces are counted as they are."""
    points, faces = mesh.points, mesh.faces.astype(np.int64)
    size = float(np.linalg.norm(np.ptp(points, axis=0))) or 1.0
    flaws: list[Flaw] = []
    no = np.zeros(0, np.int64)

    def add(kind: str, count: int, faces: Whole = no, points: Whole = no) -> None:
        if count:
            flaws.append(Flaw(kind, WORDS[kind][0], count, WORDS[kind][1], faces, points))

    twins = np.flatnonzero(doubled_points(mesh) != np.arange(len(points)))
    add("doubled points", len(twins), points=twins)
    used = np.zeros(len(points), bool)
    used[faces] = True
    add("loose points", int((~used).sum()), points=np.flatnonzero(~used))
    area, longest = mesh.face_areas, _longest(points, faces)
    empty = area <= NO_AREA * size * size
    add("empty faces", int(empty.sum()), np.flatnonzero(empty))
    needle = ~empty & (longest * longest > 2.0 * NEEDLE * area)
    add("needles", int(needle.sum()), np.flatnonzero(needle))
    _, first, again = np.unique(np.sort(faces, axis=1), axis=0, return_index=True, return_inverse=True)
    copies = np.flatnonzero(first[again.reshape(-1)] != np.arange(len(faces)))
    add("doubled faces", len(copies), copies)
    crowded = mesh.edge_use > 2
    add("crowded edges", int(crowded.sum()), np.flatnonzero(crowded[mesh.face_edges].any(axis=1)))
    against = turned_against(mesh)
    add("turned faces", len(against), against)
    label, inward = inward_parts(mesh)
    add("inside out", len(inward), np.flatnonzero(np.isin(label, inward)))
    loops, torn = open_loops(mesh)
    rims = loops + torn
    add("holes", len(rims), points=np.unique(np.concatenate(rims)) if rims else no)
    crossed = np.flatnonzero(crossing_faces(points, mesh.faces))
    add("crossings", len(crossed), crossed)
    lengths = mesh.edge_lengths
    counts, at = np.histogram(lengths, BINS, (0.0, float(lengths.max(initial=0.0)) or 1.0))
    skew = float((smallest_angles(points, faces) < 20.0).mean()) if len(faces) else 0.0
    parts = int(label.max(initial=-1)) + 1
    return Audit(flaws, parts, mesh.is_closed, volume_m3(mesh), counts.astype(np.int64), at, skew)


def _longest(points: NDArray[np.float64], faces: Whole) -> NDArray[np.float64]:
    return np.max([np.linalg.norm(points[faces[:, k]] - points[faces[:, k - 1]], axis=1) for k in range(3)], axis=0)


def smallest_angles(points: NDArray[np.float64], faces: Whole) -> NDArray[np.float64]:
    """Return each face's smallest angle (faces,), degrees; 0 for one without area."""
    sides = [points[faces[:, (k + 1) % 3]] - points[faces[:, k]] for k in range(3)]
    found = np.full(len(faces), 180.0)
    for k in range(3):
        one, two = sides[k], -sides[k - 1]
        size = np.linalg.norm(one, axis=1) * np.linalg.norm(two, axis=1)
        cosine = np.einsum("ij,ij->i", one, two) / np.where(size > 0, size, 1.0)
        found = np.minimum(found, np.where(size > 0, np.degrees(np.arccos(np.clip(cosine, -1, 1))), 0.0))
    return found


def doubled_points(mesh: TriMesh) -> Whole:
    """Return for each point (n,) the first point that lies in its place: itself, unless it is doubled."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

    points = mesh.points
    size = float(np.linalg.norm(np.ptp(points, axis=0))) or 1.0
    pairs = cKDTree(points).query_pairs(SAME * size, output_type="ndarray")
    if not len(pairs):
        return np.arange(len(points))
    graph = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(points), len(points)))
    label = connected_components(graph, directed=False)[1]
    _, first = np.unique(label, return_index=True)
    return np.asarray(first[label], dtype=np.int64)


def neighbours(mesh: TriMesh) -> tuple[Whole, NDArray[np.bool_]]:
    """Return pairs of faces (k, 2) that share an edge of just two, and whether both run it the same way (wrongly)."""
    flat = mesh.face_edges.reshape(-1)
    order = np.argsort(flat, kind="stable")
    inner = np.flatnonzero(mesh.edge_use == 2)
    first = np.searchsorted(flat[order], inner)
    one, two = order[first], order[first + 1]
    corners = mesh.faces.astype(np.int64)
    begins = corners[one // 3, one % 3] == corners[two // 3, two % 3]
    return np.stack([one // 3, two // 3], axis=1), begins


def consistent_turns(mesh: TriMesh) -> tuple[Whole, NDArray[np.bool_]]:
    """Return each face's part (faces,) and whether it must be turned to agree with most of its part."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import breadth_first_order, connected_components

    pairs, wrong = neighbours(mesh)
    count = len(mesh.faces)
    graph = coo_matrix((np.where(wrong, 2.0, 1.0), (pairs[:, 0], pairs[:, 1])), shape=(count, count)).tocsr()
    both = graph + graph.T
    label = connected_components(graph, directed=False)[1]
    turn = np.zeros(count, bool)
    _, starts = np.unique(label, return_index=True)
    for start in starts:
        order, before = breadth_first_order(both, start, directed=False)
        if len(order) == 1:
            continue
        weights = np.asarray(both[order[1:], before[order[1:]]]).reshape(-1)
        for face, weight in zip(order[1:], weights, strict=True):
            turn[face] = turn[before[face]] ^ (weight > 1.5)
        if turn[order].sum() * 2 > len(order):
            turn[order] = ~turn[order]
    return label.astype(np.int64), turn


def turned_against(mesh: TriMesh) -> Whole:
    """Return the faces that run against most of their part."""
    if not neighbours(mesh)[1].any():
        return np.zeros(0, np.int64)
    return np.flatnonzero(consistent_turns(mesh)[1])


def inward_parts(mesh: TriMesh) -> tuple[Whole, Whole]:
    """Return each face's part (faces,), and the parts that are closed, agree in themselves, and look inwards."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    count, faces = len(mesh.points), mesh.faces.astype(np.int64)
    ends = mesh.edges
    graph = coo_matrix((np.ones(len(ends)), (ends[:, 0], ends[:, 1])), shape=(count, count))
    of_point = connected_components(graph, directed=False)[1]
    _, label = np.unique(of_point[faces[:, 0]], return_inverse=True)
    label = label.reshape(-1)
    parts = int(label.max(initial=-1)) + 1
    middle = mesh.points.mean(axis=0)
    a, b, c = (mesh.points[faces[:, k]] - middle for k in range(3))
    volume = np.bincount(label, (np.cross(a, b) * c).sum(axis=1) / 6.0, parts)
    open_faces = (mesh.edge_use[mesh.face_edges] != 2).any(axis=1)
    bad = np.bincount(label, open_faces, parts) > 0
    pairs, wrong = neighbours(mesh)
    bad |= np.bincount(label[pairs[:, 0]], wrong, parts) > 0
    return label.astype(np.int64), np.flatnonzero(~bad & (volume < 0.0))


def open_loops(mesh: TriMesh) -> tuple[list[Whole], list[Whole]]:
    """Return the closed chains of points along open edges, each running as its faces do, and chains that do not close.

    A chain does not close where faces are turned against each other.
    """
    flat = mesh.face_edges.reshape(-1)
    border = np.flatnonzero(mesh.edge_use[flat] == 1)
    faces = mesh.faces.astype(np.int64)
    begin, end = faces[border // 3, border % 3], faces[border // 3, (border % 3 + 1) % 3]
    follow: dict[int, list[int]] = {}
    for a, b in zip(begin.tolist(), end.tolist(), strict=True):
        follow.setdefault(a, []).append(b)
    loops, torn = [], []
    while follow:
        start = next(iter(follow))
        chain, at = [start], start
        while at in follow:
            after = follow[at].pop()
            if not follow[at]:
                del follow[at]
            at = after
            if at in chain:  # a loop is closed here; what came before it goes on later
                k = chain.index(at)
                loops.append(np.array(chain[k:], dtype=np.int64))
                chain = chain[: k + 1]
            else:
                chain.append(at)
        if len(chain) > 1:
            torn.append(np.array(chain, dtype=np.int64))
    return loops, torn


@kernel
def _crosses(points, faces, t, u):  # type: ignore[no-untyped-def]
    """Tell whether an edge of face t goes through face u."""
    a, b, c = faces[u, 0], faces[u, 1], faces[u, 2]
    ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
    vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
    for k in range(3):
        p, q = faces[t, k], faces[t, (k + 1) % 3]
        # The edge against the plane and the three sides (Möller and Trumbore 1997), as signed volumes.
        dx, dy, dz = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
        hx, hy, hz = dy * vz - dz * vy, dz * vx - dx * vz, dx * vy - dy * vx
        det = ux * hx + uy * hy + uz * hz
        if det == 0.0:
            continue
        sx, sy, sz = points[p, 0] - points[a, 0], points[p, 1] - points[a, 1], points[p, 2] - points[a, 2]
        f = (sx * hx + sy * hy + sz * hz) / det
        if f < 0.0 or f > 1.0:
            continue
        gx, gy, gz = sy * uz - sz * uy, sz * ux - sx * uz, sx * uy - sy * ux
        g = (dx * gx + dy * gy + dz * gz) / det
        if g < 0.0 or f + g > 1.0:
            continue
        w = (vx * gx + vy * gy + vz * gz) / det
        if 0.0 <= w <= 1.0:
            return True
    return False


@kernel
def _share_point(faces, t, u):  # type: ignore[no-untyped-def]
    for i in range(3):
        for j in range(3):
            if faces[t, i] == faces[u, j]:
                return True
    return False


@parallel_kernel
def _cross_others(points, faces, first, whose, box, crossed):  # type: ignore[no-untyped-def]
    """Mark the faces that cross another of the same cell; `whose` and `box` (m, 6) go cell by cell, by box[:, 0]."""
    for cell in numba.prange(len(first) - 1):
        for i in range(first[cell], first[cell + 1]):
            t = whose[i]
            for j in range(i + 1, first[cell + 1]):
                if box[j, 0] > box[i, 3]:
                    break
                if box[i, 1] > box[j, 4] or box[j, 1] > box[i, 4] or box[i, 2] > box[j, 5] or box[j, 2] > box[i, 5]:
                    continue
                u = whose[j]
                if _share_point(faces, t, u):
                    continue
                if _crosses(points, faces, t, u) or _crosses(points, faces, u, t):
                    crossed[t], crossed[u] = True, True  # whoever writes it, it is the same


def crossing_faces(points: NDArray[np.float64], faces: NDArray[np.int32]) -> NDArray[np.bool_]:
    """Return which faces (faces,) go through another that they share no point with.

    Faces are sorted into columns of cells along the longest side, each into every column it reaches into, and
    swept along within each.
    """
    crossed = np.zeros(len(faces), np.bool_)
    if not len(faces):
        return crossed
    corners = points[faces]
    box = np.concatenate([corners.min(axis=1), corners.max(axis=1)], axis=1)
    axis = int(np.argmax(np.ptp(points, axis=0)))
    turn = [(axis + k) % 3 for k in range(3)]
    box = box[:, [*turn, *[3 + k for k in turn]]]
    low = box[:, 1:3].min(axis=0)
    wide = np.maximum(np.median(box[:, 4:6] - box[:, 1:3], axis=0) * 3.0, np.ptp(points, axis=0).max() * 1e-3 + 1e-300)
    while True:
        begin, end = ((box[:, k] - low) // wide for k in (slice(1, 3), slice(4, 6)))
        across = (end - begin + 1).prod(axis=1)
        if across.sum() <= MOST_COPIES * len(faces):
            break
        wide = wide * 2.0
    begin, across = begin.astype(np.int64), across.astype(np.int64)
    whose = np.repeat(np.arange(len(faces)), across)
    step = np.arange(len(whose)) - np.repeat(np.cumsum(across) - across, across)
    deep = (end[:, 1].astype(np.int64) - begin[:, 1] + 1)[whose]
    column = begin[whose] + np.stack([step // deep, step % deep], axis=1)
    key = column[:, 0] * (int(end[:, 1].max()) + 1) + column[:, 1]
    order = np.lexsort((box[whose, 0], key))
    whose, key = whose[order], key[order]
    first = np.concatenate([np.flatnonzero(np.diff(key, prepend=-1)), [len(key)]])
    _cross_others(points, faces.astype(np.int64), first, whose, np.ascontiguousarray(box[whose]), crossed)
    return crossed
