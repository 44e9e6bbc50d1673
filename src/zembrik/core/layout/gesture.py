"""Places moved, turned and sized as one, with the pins and joints that stand with them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.motion.angles import angles_of
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import Assets, placed_mesh, start_mesh
from zembrik.core.setup.document import Body, Place, Setup
from zembrik.core.units import turn_matrix

Floats = NDArray[np.float64]
Patch = list[dict[str, Any]]
FARTHEST_M = 1e6  # from the middle of the shot: beyond, single precision is coarser than a decimetre
STEEPEST = 0.1  # how much a normal points up, at least, for a body to stand upright on the surface
LEAST, MOST = 1e-4, 1e4  # times its size, by one gesture


@dataclass(frozen=True)
class Gesture:
    """A similarity: sized and turned about a pivot, then moved.

    Attributes:
        move_m: float64 (3,), metres.
        axis: float64 (3,), what is turned about, of any length; angle_deg: how far, by the right hand.
        factor: of the size.
        pivot_m: float64 (3,), the place that stays through turn and size, metres.
    """

    move_m: Floats
    axis: Floats
    angle_deg: float = 0.0
    factor: float = 1.0
    pivot_m: Floats | None = None

    @property
    def turn(self) -> Floats:
        """The turn as a matrix (3, 3) (Rodrigues 1840)."""
        length = float(np.linalg.norm(self.axis))
        if self.angle_deg == 0.0 or length < 1e-12:
            return np.eye(3)
        x, y, z = self.axis / length
        cross, angle = np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]]), np.radians(self.angle_deg)
        found: Floats = np.eye(3) + np.sin(angle) * cross + (1.0 - np.cos(angle)) * cross @ cross
        return found

    @property
    def only_moves(self) -> bool:
        """Whether it neither turns nor sizes."""
        return self.factor == 1.0 and bool(np.array_equal(self.turn, np.eye(3)))

    def apply(self, points: Floats) -> Floats:
        """Return where points (..., 3) come to, metres."""
        pivot = np.zeros(3) if self.pivot_m is None else self.pivot_m
        moved: Floats = self.factor * (points - pivot) @ self.turn.T + pivot + self.move_m
        return moved

    def check(self) -> None:
        """Raise a Problem for what nobody means."""
        if not LEAST <= self.factor <= MOST:
            raise Problem(
                f"{self.factor:g} times the size is no size.", "place", f"Stay within {LEAST:g} and {MOST:g}."
            )
        if not np.abs(self.move_m).max() <= FARTHEST_M:
            raise Problem(f"that is more than {FARTHEST_M / 1e3:,.0f} km away.", "place", "Move it less far.")


def moved_place(place: Place, gesture: Gesture) -> dict[str, Any]:
    """Return a place, as plain JSON values, after a gesture; angles stay near what they were."""
    turn = angles_of((gesture.turn @ turn_matrix(place.rotate))[None], after=np.array(place.rotate, np.float64))[0]
    found: dict[str, Any] = {"translate": rounded(gesture.apply(np.array(place.translate, np.float64)), 6)}
    found["rotate"] = list(place.rotate) if gesture.only_moves else rounded(turn, 5)
    found["scale"] = float(f"{place.scale * gesture.factor:.8g}")
    return found


def gesture_patch(setup: Setup, numbers: list[int], gesture: Gesture, assets: Assets) -> Patch:
    """Return the patch that moves bodies as one.

    What stands with them goes along: the boxes and heights by which their pins take points, and joints whose first
    body is among them. A box that is turned or sized no longer lies along the axes: the points it takes are named then.

    Args:
        setup: as it stands. numbers: of its bodies. assets: gives its meshes.

    Raises:
        Problem: for a body that begins in a form of its own, which lies in the world, and for what nobody means.
    """
    gesture.check()
    patch: Patch = []
    for number in numbers:
        body = setup.bodies[number]
        if body.form is not None:
            raise Problem(
                f"'{body.name}' begins in a form of its own, which lies where it was baked.", "place",
                "Let it begin as its mesh is, on Start, or leave it out of what you move.",
            )  # fmt: skip
        place = moved_place(body.place, gesture)
        if max(abs(v) for v in place["translate"]) > FARTHEST_M:
            raise Problem(
                f"'{body.name}' would be more than {FARTHEST_M / 1e3:,.0f} km away.", "place", "Move it less."
            )
        patch.append({"op": "add", "path": f"/bodies/{number}/place", "value": place})
        patch += _pins_along(setup, number, gesture, assets)
    names = {setup.bodies[n].name for n in numbers}
    for j, joint in enumerate(setup.joints):
        if joint.bodies[0] in names:
            at, axis = gesture.apply(np.array(joint.at)), gesture.turn @ np.array(joint.axis)
            patch.append({"op": "add", "path": f"/joints/{j}/at", "value": rounded(at, 6)})
            patch.append({"op": "add", "path": f"/joints/{j}/axis", "value": rounded(axis, 6)})
    return patch


def _pins_along(setup: Setup, number: int, gesture: Gesture, assets: Assets) -> Patch:
    """Return what the pins of a body take after a gesture, where they take it by places in the world."""
    from zembrik.core.solver.pins import meshes_of, pin_weights  # pages load without a solver

    body, patch = setup.bodies[number], []
    for n, pin in enumerate(body.pins):
        rule, path = pin.points, f"/bodies/{number}/pins/{n}/points"
        if rule.box is None and rule.above is None and (gesture.only_moves or rule.side is None):
            continue
        value: dict[str, Any] = rule.model_dump(mode="json", exclude_unset=True)
        if not gesture.only_moves:
            mesh = placed_mesh(body, assets)
            bare = pin.model_copy(update={"points": rule.model_copy(update={"falloff": 0.0})})
            held = pin_weights(
                bare, mesh, start_mesh(body, assets).points, f"bodies[{number}].pins[{n}]", meshes_of(setup, assets)
            )  # fmt: skip
            value = {"numbers": np.flatnonzero(held).tolist()}
            if rule.falloff:
                value["falloff"] = float(f"{rule.falloff * gesture.factor:.8g}")
        elif rule.box is not None:
            value["box"] = [rounded(np.array(corner) + gesture.move_m, 6) for corner in rule.box]
        else:
            value["above"] = round(float(rule.above or 0.0) + float(gesture.move_m[1]), 6)
        patch.append({"op": "add", "path": path, "value": value})
    return patch


def mirrored_place(place: Place, axis: int, at_m: float) -> dict[str, Any]:
    """Return a place as a mirror across axis 0, 1 or 2 at a coordinate shows it, metres.

    Position and turn are mirrored; the mesh itself stays as it is, which for one that is alike on both sides is the
    mirror's picture.
    """
    flip = np.eye(3)
    flip[axis, axis] = -1.0
    at = np.array(place.translate, np.float64)
    at[axis] = 2.0 * at_m - at[axis]
    turn = angles_of((flip @ turn_matrix(place.rotate) @ flip)[None])[0]
    return {"translate": rounded(at, 6), "rotate": rounded(turn, 5), "scale": place.scale}


def middle_of(setup: Setup, numbers: list[int], assets: Assets) -> Floats:
    """Return the middle (3,) of the box around bodies as they stand, metres."""
    boxes = np.array([placed_mesh(setup.bodies[n], assets).bounds for n in numbers])
    middle: Floats = 0.5 * (boxes[:, 0].min(axis=0) + boxes[:, 1].max(axis=0))
    return middle


def rounded(values: Any, digits: int) -> list[float]:
    """Return numbers as plain ones, rounded; none of them is minus nothing."""
    return [round(float(v), digits) + 0.0 for v in values]


def numbers_of(setup: Setup, names: list[str]) -> list[int]:
    """Return the numbers of bodies by their names, in the setup's order.

    Raises:
        Problem: for a name that no body has, and for none at all.
    """
    where = {body.name: n for n, body in enumerate(setup.bodies)}
    if missing := [name for name in names if name not in where]:
        raise Problem(f"there is no body '{missing[0][:80]}'.", "chosen", "Load the page again.")
    if not names:
        raise Problem("no body is chosen.", "chosen", "Choose one by a click, or by its name.")
    return sorted({where[name] for name in names})


def stand_on(body: Body, point_m: Floats, normal: Floats, upright: bool, assets: Assets) -> dict[str, Any]:
    """Return the place at which a body stands on a surface at a point.

    Args:
        body: it is turned as little as possible. point_m: float64 (3,), on the surface, metres.
        normal: float64 (3,), away from the surface, of any length.
        upright: whether it keeps its turn; otherwise its own Y points along the normal.

    Raises:
        Problem: for a normal that is none.
    """
    length = float(np.linalg.norm(normal))
    if not length > 1e-9:
        raise Problem("the surface has no direction there.", "place", "Point at another place of it.")
    way = normal / length
    turn = turn_matrix(body.place.rotate)
    if not upright:
        own = turn[:, 1]
        across = np.cross(own, way)
        angle = float(np.degrees(np.arctan2(np.linalg.norm(across), own @ way)))
        if np.linalg.norm(across) < 1e-9:
            across = turn[:, 0]
        tip = Gesture(np.zeros(3), across, angle, 1.0, np.array(body.place.translate))
        body = body.model_copy(update={"place": Place.model_validate(moved_place(body.place, tip))})
    mesh = placed_mesh(body, assets)
    middle = 0.5 * (mesh.points.min(axis=0) + mesh.points.max(axis=0))
    # Its lowest point along the way lies in the surface's plane there, its middle above the point; on what is too
    # steep to stand on, beside it.
    up = np.array([0.0, 1.0, 0.0])
    if not upright or up @ way < STEEPEST:
        up = way
    lowest, shift = float((mesh.points @ way).min()), point_m - middle
    shift = shift + up * ((point_m @ way - lowest - shift @ way) / (up @ way))
    return moved_place(body.place, Gesture(shift, np.zeros(3)))


def between(place: Place, to: dict[str, Any]) -> Gesture:
    """Return the gesture that brings a place to another, given as plain values, of the same size."""
    turn = turn_matrix(to["rotate"]) @ turn_matrix(place.rotate).T
    axis = np.array([turn[2, 1] - turn[1, 2], turn[0, 2] - turn[2, 0], turn[1, 0] - turn[0, 1]])
    angle = float(np.degrees(np.arctan2(np.linalg.norm(axis), np.trace(turn) - 1.0)))
    if np.linalg.norm(axis) < 1e-9 and np.trace(turn) < 0.0:  # half a turn: the axis is what stays
        axis = np.linalg.eigh(turn + turn.T)[1][:, -1]
    pivot = np.array(place.translate, np.float64)
    return Gesture(np.array(to["translate"]) - pivot, axis, angle, 1.0, pivot)
