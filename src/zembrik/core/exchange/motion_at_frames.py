"""A file's motion at the frames of a shot: turned to our axes and unit, and taken to another frame rate."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import CubicHermiteSpline
from scipy.spatial.transform import Rotation

from zembrik.core.exchange.motion_file import FileTrack
from zembrik.core.keys.from_cache import Poses, continuous
from zembrik.core.keys.smooth import angle_between, slerp, turns_at, values_at
from zembrik.core.problem import Problem
from zembrik.core.units import to_si

MOST_FRAMES = 20_000
MOST_STEP_DEG = 45.0  # from moment to moment, of turns between which a cubic of quaternions is taken
AT_A_FRAME = 1e-3  # frames that a moment may be beside one and still be taken as at it

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class AtFrames:
    """A track at whole frames.

    Attributes:
        poses: its way, see `keys.from_cache.Poses`. about: float64 (3,), metres: the point whose way was followed.
        moments: how many the file has. resampled: whether they were not at frames.
        off_m, off_deg: how far the frames' curve is from the file at the file's own moments, at most.
    """

    poses: Poses
    about: Floats
    moments: int
    resampled: bool
    off_m: float
    off_deg: float


def at_frames(track: FileTrack, first: float, fps: float, unit_m: float, up_axis: str, about: Any = None) -> AtFrames:
    """Return a track at the frames of a shot.

    Between its moments places and turns go by the cubic that has their central differences. What ends between two
    frames has its end at the later one.

    Args:
        track: of a file. first: the shot's frame at which the file begins. fps: of the shot.
        unit_m, up_axis: of the file; Y or Z.
        about: the point (3,), metres, whose way is followed, so that its arcs stay arcs; a node's own origin, or the
            world's for a table, if left out.

    Raises:
        Problem: for more frames than a take can have.
    """
    axes = to_si(np.eye(3), "m", up_axis).T
    ways = track.poses @ np.linalg.inv(track.poses[0]) if track.is_node else track.poses
    matrices = axes @ _nearest_turns(ways[:, :3, :3]) @ axes.T
    if track.is_node and about is None:
        places = unit_m * (track.poses[:, :3, 3] @ axes.T)
        origin = places[0]
    else:
        origin = np.zeros(3) if about is None else np.asarray(about, dtype=np.float64)
        places = matrices @ origin + unit_m * (ways[:, :3, 3] @ axes.T)
    turns = continuous(Rotation.from_matrix(matrices).as_quat())
    at = first + track.times_s * fps
    low, high = int(np.floor(at[0] + AT_A_FRAME)), int(np.ceil(at[-1] - AT_A_FRAME))
    if high - low >= MOST_FRAMES:
        raise Problem(f"it moves for {high - low:,} frames.", track.name[:80], "Hand in fewer frames.")
    frames = np.arange(low, max(high, low) + 1, dtype=np.float64)
    taken = np.clip(frames, at[0], at[-1])
    found_places, found_turns = _smooth_at(at, places, taken), _turns_at(at, turns, taken)
    back = at - low
    off_m = float(np.linalg.norm(values_at(found_places, back) - places, axis=1).max())
    off = float(angle_between(turns_at(found_turns, back), turns).max())
    shift = found_places - Rotation.from_quat(found_turns).as_matrix() @ origin
    poses = Poses(low, shift, continuous(found_turns), np.zeros(len(frames)))
    resampled = len(at) != len(frames) or bool(np.abs(at - frames).max() > AT_A_FRAME)
    return AtFrames(poses, origin, len(at), resampled, off_m, float(np.degrees(off)))


def _nearest_turns(matrices: Floats) -> Floats:
    """Return the rotations (k, 3, 3) nearest to matrices: their polar part."""
    u, _, v = np.linalg.svd(matrices)
    u[..., :, 2] *= np.sign(np.linalg.det(u @ v))[..., None]
    return np.asarray(u @ v)


def _smooth_at(at: Floats, values: Floats, wanted: Floats) -> Floats:
    """Return values (m, d) at moments (m,) by the cubic through values (k, d) at moments (k,) with their slopes."""
    if len(at) == 1:
        return np.repeat(values, len(wanted), axis=0)
    slopes = np.gradient(values, at, axis=0, edge_order=2 if len(at) > 2 else 1)
    return np.asarray(CubicHermiteSpline(at, values, slopes)(wanted))


def _turns_at(at: Floats, turns: Floats, wanted: Floats) -> Floats:
    """Return quaternions (m, 4) at moments (m,): by the same cubic where steps are small, else by arcs."""
    if len(at) > 1 and np.degrees(angle_between(turns[:-1], turns[1:]).max()) > MOST_STEP_DEG:
        k = np.clip(np.searchsorted(at, wanted, side="right") - 1, 0, len(at) - 2)
        return slerp(turns[k], turns[k + 1], (wanted - at[k]) / (at[k + 1] - at[k]))
    found = _smooth_at(at, turns, wanted)
    return np.asarray(found / np.linalg.norm(found, axis=1, keepdims=True))
