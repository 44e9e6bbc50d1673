"""The colliders of a world: where each is, and how it went there within a substep."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from zembrik.core.distance.build import Shape, build_fields
from zembrik.core.distance.field import Fields
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.motion.carried import Carried
from zembrik.core.motion.rigid import Mover
from zembrik.core.proxy import shelf
from zembrik.core.proxy.fit import convex_hull, fit_proxy
from zembrik.core.proxy.hulls import several_hulls
from zembrik.core.proxy.outline import outline
from zembrik.core.proxy.reduce import reduced
from zembrik.core.proxy.shell import shell_around
from zembrik.core.remember import Aside
from zembrik.core.setup.assets import Assets, mover_of_body, placed_mesh
from zembrik.core.setup.document import Body, Setup
from zembrik.core.setup.resolve import Resolved
from zembrik.core.solver.over_frames import at_most
from zembrik.core.solver.samples import collider_samples
from zembrik.core.solver.touching import Corners, sharp_corners
from zembrik.core.telling import Tell, silent
from zembrik.core.units import turn_matrix

Floats = NDArray[np.float64]
FEW_FACES = 20_000  # of a mesh whose hulls and shell are found within a second or two
NOWHERE = 1e7  # metres: no body is there


class Touch(NamedTuple):
    """What contact kernels read of C colliders beside their distances.

    Attributes:
        room, grip, slip, bounce: float64 (C,), thickness in metres, static and sliding friction, and
            the share of the speed that a rigid body gets back.
        slim: float64 (C,), half of the smallest width, metres: a point that goes further than
            this in a substep may have passed through.
        both: bool (C,), whether it is touched from both sides.
        drift: float64 (C, 12), turn by rows and shift that take a place on the collider at the
            substep's end to where it was at the substep's start.
    """

    room: Floats
    grip: Floats
    slip: Floats
    bounce: Floats
    slim: Floats
    both: NDArray[np.bool_]
    drift: Floats


@dataclass
class Colliders:
    """The colliders and what moves them.

    Attributes:
        fields, touch: for the kernels; `move_to` changes the fields' places and the drift.
        names: in their order.
        movers: collider number and motion of those that move.
        forms: collider number, motion and mesh in its place of those that change their form.
            Their shapes are as the first frame finds them.
        shapes: their proxies in their places.
        samples: by the numbers of those that keep their form, where they ask rigid bodies: places (k, 3) in the axes of
            its field, metres, with the radius (k,) of the ball each stands for. None where there is no rigid body.
    """

    fields: Fields
    touch: Touch
    names: list[str]
    movers: list[tuple[int, Mover]]
    shapes: list[Shape]
    forms: dict[int, tuple[Mover, TriMesh]] = field(default_factory=dict)
    samples: dict[int, tuple[Floats, Floats]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        fields = self.fields
        self.moved = np.zeros(len(self.touch.room), np.bool_)  # whether each went anywhere when it was last moved
        self._rest = [(fields.place[c].copy(), _corners(fields.low[c], fields.high[c])) for c, _ in self.movers]
        self._last = [corners for _, corners in self._rest]

    def corners(self, spacing_m: float) -> list[Corners]:
        """Return the sharp corners and edges of all colliders that have any, cut to about a spacing (m)."""
        movers, found = dict(self.movers), []
        for c, shape in enumerate(self.shapes):
            room, grip = float(self.touch.room[c]), float(self.touch.grip[c])
            if c in self.forms:
                mover, mesh = self.forms[c]
                found.append(Corners(mesh.points, mesh.edges.astype(np.int32), room, grip, mover, c, mesh.faces))
                continue
            if shape.kind == "box":
                mesh = outline([shape], TriMesh(np.zeros((0, 3)), np.zeros((0, 3), np.int32)))
            elif shape.kind in ("hull", "surface") and shape.mesh is not None:
                mesh = shape.mesh.moved(shape.mesh.points @ shape.turn.T + shape.origin)
            else:
                continue  # nothing about it is sharp
            points, edges = sharp_corners(mesh, spacing_m)
            if len(edges):
                found.append(Corners(points, edges, room, grip, movers.get(c), c))
        return found

    def leave_forms(self) -> None:
        """Take what changes its form out of the fields, which stay as they are: it is touched by its faces alone."""
        for c in self.forms:
            self.fields.low[c], self.fields.high[c] = NOWHERE, NOWHERE

    def move_to(self, frame: float) -> None:
        """Put every moving collider where it is at a frame, and note how it went there."""
        fields, drift = self.fields, self.touch.drift
        for k, ((c, mover), (place, corners)) in enumerate(zip(self.movers, self._rest, strict=True)):
            turn, shift = mover.at(frame)
            old = fields.place[c].copy()
            fields.place[c, :9] = (turn @ place[:9].reshape(3, 3)).ravel()
            fields.place[c, 9:] = turn @ place[9:] + shift
            self.moved[c] = bool((fields.place[c] != old).any())
            back = old[:9].reshape(3, 3) @ fields.place[c, :9].reshape(3, 3).T if self.moved[c] else np.eye(3)
            drift[c, :9], drift[c, 9:] = back.ravel(), old[9:] - back @ fields.place[c, 9:]
            if np.isfinite(corners).all():
                now = corners @ turn.T + shift
                way = np.concatenate([self._last[k], now])  # all it may have met on its way
                fields.low[c], fields.high[c] = way.min(axis=0), way.max(axis=0)
                self._last[k] = now
            else:  # an endless plane may be anywhere
                fields.low[c], fields.high[c] = -np.inf, np.inf


def _corners(low: Floats, high: Floats) -> Floats:
    pick = np.array(np.meshgrid([0, 1], [0, 1], [0, 1])).reshape(3, -1).T.astype(bool)
    return np.where(pick, high, low)


def proxy_shapes(body: Body, proxy: dict[str, Any], mesh: TriMesh, tell: Tell = silent) -> list[Shape]:
    """Return the shapes of a body's resolved proxy on its placed mesh: one, or several hulls.

    They are found in the body's own axes, once for all its copies, however these are turned. A plane lies level on
    what is placed.

    Raises:
        Problem: when the mesh is nothing for that proxy. Stopped: when `tell` says so.
    """
    kind = proxy["kind"]
    if kind in ("surface", "plane"):
        return [fit_proxy(kind, mesh, name=body.name)]
    found = _shapes_of(_Alike(_in_own_axes(body, mesh)), kind, *_asked(proxy), Aside((body.name, tell)))
    turn, scale, shift = turn_matrix(body.place.rotate), body.place.scale, np.asarray(body.place.translate)
    return [_placed(shape, turn, scale, shift) for shape in found]


def _placed(shape: Shape, turn: Floats, scale: float, shift: Floats) -> Shape:
    if shape.mesh is not None:
        return replace(shape, mesh=shape.mesh.moved((shape.mesh.points * scale) @ turn.T + shift))
    return replace(
        shape, turn=turn @ shape.turn, origin=turn @ (scale * shape.origin) + shift, half_m=scale * shape.half_m,
        radius_m=scale * shape.radius_m,
    )  # fmt: skip


def _asked(proxy: dict[str, Any]) -> tuple[float, ...]:
    """Return what a proxy's kind is asked to be like."""
    names = {"hulls": ("most", "hollow"), "shell": ("closes",), "reduced": ("keep",)}
    return tuple(proxy[name] for name in names.get(proxy["kind"], ()))


def is_found(body: Body, proxy: dict[str, Any], mesh: TriMesh) -> bool:
    """Tell whether a body's resolved proxy is at hand, or found so soon that a page can wait for it."""
    if len(mesh.faces) <= FEW_FACES or proxy["kind"] not in ("hulls", "shell"):
        return True
    return shelf.is_there(proxy["kind"], _in_own_axes(body, mesh), _asked(proxy))


def _in_own_axes(body: Body, mesh: TriMesh) -> TriMesh:
    """Return a placed mesh as it is before it is placed: proxies are found there, once for all copies of a body."""
    turn, shift = turn_matrix(body.place.rotate), np.asarray(body.place.translate)
    local = (mesh.points - shift) @ turn / body.place.scale
    grain = 1e-9 * (float(np.linalg.norm(np.ptp(local, axis=0))) or 1.0)
    return mesh.moved(np.rint(local / grain) * grain)


class _Alike:
    """A mesh that a cache knows by its content."""

    def __init__(self, mesh: TriMesh) -> None:
        self.mesh = mesh

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Alike) and other.mesh.content_hash == self.mesh.content_hash

    def __hash__(self) -> int:
        return hash(self.mesh.content_hash)


@lru_cache(maxsize=64)
def _shapes_of(one: _Alike, kind: str, *rest: Any) -> tuple[Shape, ...]:
    *asked, aside = rest
    (name, tell), mesh = aside.value, one.mesh
    if kind == "reduced":
        return (Shape("surface", mesh=reduced(mesh, asked[0], name)),)
    if kind not in ("hulls", "shell"):
        return (fit_proxy(kind, mesh, name=name),)
    found = shelf.take(kind, mesh, tuple(asked))
    if found is None:
        if kind == "shell":
            found = (shell_around(mesh, asked[0] * float(np.linalg.norm(mesh.size)), name),)
        else:
            parts = [mesh.points] if asked[0] == 1 else several_hulls(mesh, asked[0], asked[1], name, tell)
            found = tuple(convex_hull(points, name) for points in parts)
        shelf.put(kind, mesh, tuple(asked), found)
    return tuple(Shape("surface" if kind == "shell" else "hull", mesh=part) for part in found)


def build_colliders(
    setup: Setup, resolved: Resolved, assets: Assets, most_point_room_m: float, more: list[Shape] | None = None
) -> Colliders:
    """Return the colliders of a setup in their places (motion not yet applied).

    Args:
        setup, resolved: the document.
        assets: gives the mesh files.
        most_point_room_m: the largest thickness of what may touch them.
        more: shapes of rigid bodies, whose fields come after the colliders'.
    """
    shapes: list[Shape] = []
    room, grip, slip, bounce, both, names, movers = [], [], [], [], [], [], []
    forms: dict[int, tuple[Mover, TriMesh]] = {}
    if setup.world.ground is not None:
        ground = at_most(resolved.document["world"]["ground"])
        shapes.append(Shape("plane", origin=np.array([0.0, ground["height"], 0.0])))
        room.append(0.0)
        grip.append(ground["friction"])
        slip.append(ground["friction"])
        bounce.append(ground["bounce"])
        both.append(False)
        names.append("ground")
    for k, body in enumerate(setup.bodies):
        if body.role != "collider":
            continue
        values = at_most(resolved.document["bodies"][k])
        kind = values["proxy"]["kind"]
        mesh = placed_mesh(body, assets)
        for shape in proxy_shapes(body, values["proxy"], mesh):
            mover = mover_of_body(setup, k, assets)
            if mover is not None and mover.changes_form:
                assert shape.mesh is not None
                if shape.mesh is not mesh:  # fewer faces, or a wrap: bound to the mesh, so that it takes on its forms
                    mover = Carried(mover, mesh, shape.mesh, body.name)
                forms[len(shapes)] = mover, shape.mesh
                form = mover.points_at(shape.mesh.points, setup.frames[0] - setup.preroll)
                shape = Shape("surface", mesh=shape.mesh.moved(form))
            elif mover is not None:
                movers.append((len(shapes), mover))
            shapes.append(shape)
            room.append(values["thickness"])
            grip.append(values["friction"])
            slip.append(values["friction"])
            bounce.append(values["bounce"])
            both.append(values["proxy"]["sides"] == "both" and kind in ("surface", "reduced"))
            names.append(body.name)
    reach = (max(room, default=0.0) + most_point_room_m) * 1.5 + 1e-3
    samples = {}
    for c, shape in enumerate(shapes if more else []):
        if c not in forms and shape.kind != "plane":
            at, radius = collider_samples(shape)
            samples[c] = (at - shape.origin) @ shape.turn, radius
    exact = reach + 1.5 * max((float(radius.max(initial=0.0)) for _, radius in samples.values()), default=0.0)
    drift = np.tile(np.concatenate([np.eye(3).ravel(), np.zeros(3)]), (len(shapes), 1))
    touch = Touch(
        room=np.array(room, dtype=np.float64),
        grip=np.array(grip, dtype=np.float64),
        slip=np.array(slip, dtype=np.float64),
        bounce=np.array(bounce, dtype=np.float64),
        slim=np.array([slim_of(shape) for shape in shapes], dtype=np.float64),
        both=np.array(both, dtype=np.bool_),
        drift=drift,
    )
    fields = build_fields([*shapes, *(more or [])], reach, exact)
    return Colliders(fields, touch, names, movers, shapes, forms, samples)


def shape_outline(shape: Shape) -> Floats:
    """Return places (k, 3) in world space that a shape which ends lies between, metres."""
    if shape.mesh is not None:
        return shape.mesh.points @ shape.turn.T + shape.origin
    half = shape.half_m if shape.kind == "box" else np.full(3, shape.radius_m)
    if shape.kind == "capsule":
        half = half + np.array([0.0, shape.half_m[1], 0.0])
    return _corners(-half, half) @ shape.turn.T + shape.origin


def slim_of(shape: Shape) -> float:
    """Return half of a shape's smallest width, metres; 0 for a surface, which may be as thin as it likes."""
    if shape.kind == "plane":
        return float("inf")
    if shape.kind in ("ball", "capsule"):
        return shape.radius_m
    if shape.kind == "box":
        return float(shape.half_m.min())
    if shape.kind == "hull":
        assert shape.mesh is not None
        along = shape.mesh.points @ shape.mesh.face_normals.T
        return float(np.ptp(along, axis=0).min()) / 2
    return 0.0
