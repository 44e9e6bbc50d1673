"""Checks of what a bake came to: where it tore, sank in or flew off, and what would help."""

from __future__ import annotations

import numpy as np

from zembrik.core.cache.reader import Cache
from zembrik.core.findings.finding import Finding, set_value
from zembrik.core.motion.track import most_of, scaled
from zembrik.core.setup.document import Setup
from zembrik.core.setup.keyed import is_keyed
from zembrik.core.setup.resolve import resolve

GAINED = 0.1  # of all energy that a shot has had so far: more from nowhere is no longer what the setup says
LEAST_GAIN_J = 1e-6
DRIFTED, LEAST_DRIFT_M_PER_S = 0.01, 1e-4  # of the greatest speed, by which all mass together may come to go otherwise
SWOLLEN = 0.15  # of the first frame's volume
TORN = 0.6  # strain: no fabric stretches by as much, so the solver lost hold of it
SUNK_ROOMS, SUNK_M = 3.0, 0.003  # deeper than this many thicknesses, and than this
FLOWN = 3.0  # times the speed of a fall through the whole scene
MOST_SUBSTEPS = 400


def check_outcome(setup: Setup, cache: Cache) -> list[Finding]:
    """Return what is wrong with a cache's frames so far; nothing while there are none."""
    if cache.done is None or cache.done <= cache.first:
        return []
    found = []
    stretch, depth, speed = (cache.figure(f"stats/{n}") for n in ("worst_stretch", "worst_penetration", "top_speed"))
    resolved = resolve(setup)
    dial, substeps = resolved.quality("substeps"), resolved.least_count("substeps")
    label, more = "Use twice the substeps", scaled(dial, 2.0)
    if not is_keyed(dial):
        more = min(2 * dial, MOST_SUBSTEPS)
        label = f"Use {more} substeps" if more > dial else ""
    elif most_of(more) > MOST_SUBSTEPS:
        label = ""
    patch = [set_value("/quality/substeps", more)] if label else []

    def add(code: str, title: str, text: str, index: int) -> None:
        body, at = _fastest(cache, cache.first + index)
        text += f" The fastest there is '{body}'." if body else ""
        found.append(Finding(code, "Review", True, title, text, body, at, label, patch, cache.first + index))

    torn = np.flatnonzero(stretch > TORN)
    if len(torn):
        add(
            "torn", "A cloth is torn apart",
            f"From frame {cache.first + torn[0]} on, triangles are stretched by up to {100 * stretch.max():.0f}%. With "
            f"{substeps} substeps the solver cannot hold what pulls there.", int(torn[0]),
        )  # fmt: skip
    begins = _energy_from_nowhere(cache)
    if begins is not None and not len(torn):
        index, gained, had = begins
        body, at = _fastest(cache, cache.first + index)
        text = (
            f"From frame {cache.first + index} on there is {gained:.3g} J more than what falls, blows and moves put "
            f"in, of {had:.3g} J altogether: frames from there on are wrong. {substeps} substeps are too few "
            f"for what is this fine or stiff; fewer points help as well. The fastest there is '{body}'."
        )
        title = "Energy comes from nowhere"
        found.append(Finding("energy", "Review", True, title, text, body, at, label, patch, cache.first + index))
    swollen = _volume_changes(setup, cache)
    if swollen is not None:
        index, share = swollen
        word = "more" if share > 0.0 else "less"
        text = (
            f"From frame {cache.first + index} on the soft bodies hold {100 * abs(share):.0f}% {word} than at the "
            f"start. Their stuff hardly changes its volume, so {substeps} substeps do not hold it."
        )
        title, frame = "Soft bodies lose their volume", cache.first + index
        found.append(Finding("volume", "Review", True, title, text, "", None, label, patch, frame))
    drifting = _momentum_changes(cache)
    if drifting is not None:
        index, off = drifting
        text = (
            f"Nothing holds what is simulated, yet by frame {cache.first + index} its middle goes {off:.3g} m/s "
            f"otherwise than gravity makes it go. {substeps} substeps are too few."
        )
        title, frame = "Momentum is not kept", cache.first + index
        found.append(Finding("momentum", "Review", True, title, text, "", None, label, patch, frame))
    # Tracks may drive things fast: what falls through the whole scene, and what the wind blows, is no surprise.
    winds = [float(np.linalg.norm(f.velocity)) for f in setup.forces if f.kind == "wind"]
    expected = _fall_speed(setup, cache) + max(winds, default=0.0)
    driven = any(b.motion is not None for b in setup.bodies)
    flown = np.flatnonzero(speed > FLOWN * expected)
    if len(flown) and not driven and not len(torn):
        add(
            "flown", "Something flies off",
            f"At frame {cache.first + flown[0]} a point goes {speed[flown[0]]:.0f} m/s; a fall through the whole scene "
            f"would make {expected:.0f} m/s.", int(flown[0]),
        )  # fmt: skip
    rooms = [most_of(b.get("thickness") or 0.0) for b in resolved.document["bodies"]]
    bound = max(SUNK_ROOMS * max(rooms, default=0.0), SUNK_M)
    sunk = np.flatnonzero(depth[1:] > bound) + 1  # the first frame is how it began
    if len(sunk) and not len(torn):
        add(
            "sunk", "Bodies sink into each other",
            f"{len(sunk)} frames have places deeper than {1e3 * bound:.0f} mm in the room kept free, the worst "
            f"{1e3 * depth[1:].max():.1f} mm at frame {cache.first + 1 + int(np.argmax(depth[1:]))}.", int(sunk[0]),
        )  # fmt: skip
    return found


def _energy_from_nowhere(cache: Cache) -> tuple[int, float, float] | None:
    """Return (index of the frame, J gained since, J there were) where a bake begins to gain energy, or None.

    What is gained is counted from the last frame that had least: what was lost to friction does not come back.
    """
    names = ("energy_balance", "kinetic_energy", "height_energy")
    balance, moving, height = (cache.figure(f"stats/{n}").astype(np.float64) for n in names)
    if not len(balance):
        return None
    span = np.maximum.accumulate(height) - np.minimum.accumulate(height)
    had = np.maximum.accumulate(np.maximum(moving, 0.0)) + span
    gained, begins = 0.0, 1
    for k in range(1, len(balance)):
        if gained + balance[k] <= 0.0 or balance[k] == 0.0:
            gained, begins = 0.0, k + 1
            continue
        gained += balance[k]
        if gained > max(GAINED * had[k], LEAST_GAIN_J):
            return begins, gained, float(had[k])
    return None


def _volume_changes(setup: Setup, cache: Cache) -> tuple[int, float] | None:
    """Return (index of the frame, change as a share) of the volume of soft bodies that should keep theirs."""
    kept = [k for k, b in enumerate(resolve(setup).document["bodies"]) if b["role"] == "soft"]
    others = any(b.role == "cloth" for b in setup.bodies)
    bulges = [most_of(resolve(setup).document["bodies"][k]["material"]["poisson"]) for k in kept]
    volume = cache.figure("stats/volume").astype(np.float64)
    if not kept or others or min(bulges) < 0.4 or not len(volume) or volume[0] <= 0.0:
        return None
    share = volume / volume[0] - 1.0
    bad = np.flatnonzero(np.abs(share) > SWOLLEN)
    return (int(bad[0]), float(share[bad[0]])) if len(bad) else None


def _momentum_changes(cache: Cache) -> tuple[int, float] | None:
    """Return (index of the frame, m/s) where all mass together has come to go otherwise than gravity makes it go."""
    balance = cache.figure("stats/momentum_balance").astype(np.float64)
    if not len(balance):
        return None
    off, fastest = np.cumsum(np.abs(balance)), np.maximum.accumulate(cache.figure("stats/top_speed"))
    bad = np.flatnonzero(off > np.maximum(DRIFTED * fastest, LEAST_DRIFT_M_PER_S))
    return (int(bad[0]), float(off[bad[0]])) if len(bad) else None


def _fall_speed(setup: Setup, cache: Cache) -> float:
    """Return the speed (m/s) after a fall through the height of all that is simulated, and 2 m at least."""
    gravity = float(np.linalg.norm(setup.world.gravity))
    points = np.concatenate([cache.points(n, cache.first) for n in range(len(cache.names))])
    ground = setup.world.ground.height if setup.world.ground else float(points[:, 1].min())
    return float(np.sqrt(2.0 * gravity * max(float(points[:, 1].max()) - ground, 2.0))) + 1.0


def _fastest(cache: Cache, frame: int) -> tuple[str, tuple[float, float, float] | None]:
    """Return the body with the point that goes fastest into a frame, and where that is then."""
    best, name, at = -1.0, "", None
    for n, body in enumerate(cache.names):
        now = cache.points(n, frame)
        way = np.linalg.norm(now - cache.points(n, max(frame - 1, cache.first)), axis=1)
        if len(way) and float(way.max()) > best:
            k = int(way.argmax())
            best, name, at = float(way[k]), body, (float(now[k, 0]), float(now[k, 1]), float(now[k, 2]))
    return name, at
