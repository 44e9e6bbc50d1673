"""The arrays of rigid bodies, skins, solids and their contacts, as kernels read and write them."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Numbers = NDArray[np.int64]

CARRIERS = 8  # particles that a place on a soft body goes with: the corners of its cell


class Rigid(NamedTuple):
    """R rigid bodies, in arrays that kernels read and write.

    Attributes:
        place: float64 (R, 7), centre of mass in metres and turn as a quaternion x y z w (own axes to world).
        speed: float64 (R, 6), velocity in m/s and angular velocity in rad/s, both in world axes.
        before: float64 (R, 7), the place at the substep's start.
        speed_before: float64 (R, 6), the velocities at the substep's start.
        shift: float64 (R, 6), what constraints did in this substep: metres, and radians about world axes.
        w: float64 (R,), inverse masses, 1/kg; 0 for bodies that are driven.
        inverse: float64 (R, 3), inverse principal moments, 1/(kg·m²); 0 for bodies that are driven.
        turning: float64 (R, 9), the inverse inertia in world axes at the predicted place.
        weight: float64 (R,), factor on gravity.
        still: float64 (R,), seconds that each body has hardly moved.
        asleep: bool (R,), bodies that rest until something wakes them.
    """

    place: Floats
    speed: Floats
    before: Floats
    speed_before: Floats
    shift: Floats
    w: Floats
    inverse: Floats
    turning: Floats
    weight: Floats
    still: Floats
    asleep: NDArray[np.bool_]


class Skin(NamedTuple):
    """m skin points in K chunks.

    Attributes:
        owner: int64 (m,), the rigid body a point is on, -1 where it goes with particles, -2 - c on collider c.
        masters: int32 (m, CARRIERS), those particles; shares: float64 (m, CARRIERS), their shares, summing to 1.
        local: float64 (m, 3), the place in its rigid body's own frame, or its collider's field's, metres.
        radius: float64 (m,), of the ball that stands for it (balls and capsules), metres.
        room: float64 (m,), thickness in metres.
        grip, slip, bounce: float64 (m,), static friction, sliding friction, share of speed given back.
        now, begin: float64 (m, 3), predicted place, and place at the substep's start.
        axes: float64 (3, m + 3), as `now`, an axis a row: four points side by side in memory, from any on.
        first: int64 (K + 1,), where each chunk begins.
        solid: int64 (K,), the solid of the chunk's own body, or -1.
        wide: bool (K,), whether the chunk asks colliders too (a cloth's points ask them elsewhere, see `contact`).
        box: float64 (K, 6), around the chunk's ways, widened by its room.
        widest: float64 (K,), the most that radius and thickness of one of its points are together, metres.
    """

    owner: Numbers
    masters: NDArray[np.int32]
    shares: Floats
    local: Floats
    radius: Floats
    room: Floats
    grip: Floats
    slip: Floats
    bounce: Floats
    now: Floats
    begin: Floats
    axes: Floats
    first: Numbers
    solid: Numbers
    wide: NDArray[np.bool_]
    box: Floats
    widest: Floats


class Solids(NamedTuple):
    """S solids over F fields.

    Attributes:
        span: int64 (S, 2), first and last + 1 of its fields.
        owner: int64 (S,), the rigid body, or -1 for a collider.
        room, grip, slip, bounce: float64 (S,), as of the skin.
        slim: float64 (S,), half of its smallest width, metres.
        both: bool (S,), whether it is touched from both sides.
        moving: bool (S,), whether it moves by a track.
        drift: float64 (S, 12), takes a place on it at the substep's end to where it was at its start.
        pose: float64 (S, 13), a rigid body's turn by rows and its centre, as predicted, and what any
            place on it went at most (m).
        gone: float64 (S,), how far a rigid body's places went at most, altogether, metres.
        box: float64 (S, 6), world box of all it meets in this substep.
        local_box: float64 (S, 6), a rigid body's box in its own frame.
        local_field: float64 (F, 12), each rigid field's turn and origin in its body's frame.
    """

    span: Numbers
    owner: Numbers
    room: Floats
    grip: Floats
    slip: Floats
    bounce: Floats
    slim: Floats
    both: NDArray[np.bool_]
    moving: NDArray[np.bool_]
    drift: Floats
    pose: Floats
    gone: Floats
    box: Floats
    local_box: Floats
    local_field: Floats


class Slots(NamedTuple):
    """Room for P pairs of chunk and solid, CHUNK places each, filled without gaps where one thread fills some.

    Attributes:
        filled, first: int64 (P,), how many places are filled for each pair, and from which on.
        point: int64 (P·CHUNK,), the skin point.
        normal: float64 (P·CHUNK, 3), the way out. gap: float64 (P·CHUNK,), signed distance, metres.
    """

    filled: NDArray[np.int64]
    first: NDArray[np.int64]
    point: NDArray[np.int64]
    normal: Floats
    gap: Floats


# Where a contact's row keeps what: pairs of sides are called a (the skin point's) and b (the solid's).
GAP, ROOM = 0, 1  # between the surfaces as predicted, and what is kept free, metres
WEIGHT = 2  # both sides' inverse mass along the normal, 1/kg
LOAD = 3  # the pushes so far, kg·m (over dt² it is newtons)
MEETS = 4  # speed of parting when the substep began, m/s; negative when closing
GRIP, SLIP, BOUNCE = 5, 6, 7  # static and sliding friction, and the share of speed given back, of both sides together
NORMAL = 8  # out of the solid; this and the following take three places each
ARM_A, ARM_B = 11, 14  # from the bodies' centres to the place of contact, metres
SLID = 17  # what a's place was predicted to go relative to b's, metres
DRAG = 20  # velocity of a collider's place, m/s
RUB = 23  # the pushes of friction so far, kg·m
GIVE = 26  # xx xy xz yy yz zz of how far a push of 1 kg·m parts both sides at the place of contact, 1/kg
HELD = 32  # 1 while the run it belongs to is pushed together
WIDTH = 33


class Contacts(NamedTuple):
    """Q contacts of this substep.

    Attributes:
        point, solid: int64 (Q,), skin point and solid.
        a, b: int64 (Q,), the rigid bodies they are on, or -1.
        row: float64 (Q, WIDTH), all else, in the places named above.
    """

    point: Numbers
    solid: Numbers
    a: Numbers
    b: Numbers
    row: Floats


class Joints(NamedTuple):
    """J joints.

    Attributes:
        kind: int64 (J,), one of the kinds above.
        bodies: int64 (J, 2), rigid bodies, -1 for the world.
        anchor: float64 (J, 2, 3), the joint's place in both bodies' own frames, metres.
        frame: float64 (J, 2, 9), the joint's axes in both bodies' own frames, a matrix by rows whose
            columns are the axes; the first is the hinge's.
        arm: float64 (J, 2, 3), filled: from the centres to the anchor in world axes, as a substep begins.
        axes: float64 (J, 2, 9), filled: the frames in world axes, as a substep begins.
        least, most: float64 (J,), between which angles a hinge may turn, rad; without an end for none.
        speed: float64 (J,), that a hinge's motor turns it with, rad/s; 0 where friction holds it.
        strength: float64 (J,), N·m, of that motor or friction; 0 where it turns freely.
    """

    kind: NDArray[np.int64]
    bodies: NDArray[np.int64]
    anchor: Floats
    frame: Floats
    arm: Floats
    axes: Floats
    least: Floats
    most: Floats
    speed: Floats
    strength: Floats
