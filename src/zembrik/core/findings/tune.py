"""Checks of motion, forces and quality: what has no effect, comes too early, or is out of proportion."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np

from zembrik.core.findings.finding import Finding, set_value
from zembrik.core.findings.idle import feels_air
from zembrik.core.motion.track import most_of
from zembrik.core.proxy.words import CARRIED_PROXIES
from zembrik.core.setup.assets import Assets, file_part, in_metres, played
from zembrik.core.setup.document import CacheMesh, FileMesh, Setup
from zembrik.core.setup.resolve import Resolved

WEAK, STRONG = 0.03, 40.0  # wind's push over a cloth's weight: less hardly moves it, more is a gale
SOUND_WEAK, SOUND_STRONG = 0.5, 10.0  # what the remedies make of it


def tune_findings(setup: Setup, resolved: Resolved, assets: Assets) -> list[Finding]:
    """Return what these checks find."""
    return [
        *idle_forces(setup, resolved), *early_motion(setup), *cut_motion(setup), *cut_files(setup, assets),
        *still_files(setup, assets),
        *short_caches(setup, assets), *wind_against_weight(setup, resolved),
    ]  # fmt: skip


def idle_forces(setup: Setup, resolved: Resolved) -> list[Finding]:
    """Wind and turbulence where nothing feels them: neither cloth nor anything with air drag or lift."""
    bodies = resolved.document["bodies"]
    if any(feels_air(body) for body in bodies) or not any(b.role in ("soft", "rigid") for b in setup.bodies):
        return []
    idle = [k for k, force in enumerate(setup.forces) if force.kind in ("wind", "turbulence")]
    if not idle:
        return []
    text = (
        f"{len(idle)} force{'s' if len(idle) > 1 else ''} of moving air, but neither cloth nor a body with "
        "air drag: the bake is the same without."
    )
    patch = [{"op": "remove", "path": f"/forces/{k}"} for k in reversed(idle)]
    return [Finding("idle_forces", "Motion", False, "The wind moves nothing", text, "", None, "Take it out", patch)]


def early_motion(setup: Setup) -> list[Finding]:
    """Tracks that begin before the first frame that is computed: what they carry starts in the middle of its motion."""
    begin, found = setup.frames[0] - setup.preroll, []
    for body in setup.bodies:
        frames = [key[0] for track in (body.motion.tracks if body.motion else []) for key in track.keys]
        if not frames or min(frames) >= begin or max(frames) <= begin:
            continue
        early = int(np.ceil(setup.frames[0] - min(frames)))
        text = (
            f"'{body.name}' moves from frame {min(frames):g} on, but frame {begin} is the first that is computed: what "
            f"touches it feels it jump to full speed. {early} frames of preroll begin where it does."
        )
        found.append(
            Finding("early_motion", "Motion", False, "A motion begins before the bake", text, body.name, None,
                    f"Use a preroll of {early}", [set_value("/preroll", early)])
        )  # fmt: skip
    return found


def cut_motion(setup: Setup) -> list[Finding]:
    """Tracks that go on after the shot's last frame: its cache ends in the middle of them."""
    last, found = setup.frames[1], []
    late = [
        (key[0], body.name)
        for body in setup.bodies
        for motion in (body.motion, *(pin.motion for pin in body.pins))
        for track in (motion.tracks if motion else [])
        for before, key in pairwise(track.keys)
        if key[0] > last and key[1] != before[1]
    ]
    if late:
        end, name = max(late)
        frame = int(np.ceil(end))
        text = (
            f"'{name}' moves until frame {end:g}, but the shot ends at {last}: {frame - last} frames of it are not in "
            "the cache."
        )
        patch = [set_value("/frames", [setup.frames[0], frame])]
        found.append(
            Finding("cut_motion", "Bake", False, "A motion goes on after the end", text, name, None,
                    f"Bake until frame {frame}", patch)
        )  # fmt: skip
    return found


def cut_files(setup: Setup, assets: Assets) -> list[Finding]:
    """Files and caches whose own motion goes on after the shot's last frame."""
    last, found = setup.frames[1], []
    for body in setup.bodies:
        mesh = body.mesh
        if body.role == "left out":
            continue
        if isinstance(mesh, FileMesh) and mesh.animated:
            times = file_part(mesh, assets).times_s
            end = mesh.starts + float(times[-1]) * setup.fps if len(times) else last
        elif isinstance(mesh, CacheMesh):
            cache, _ = played(mesh, assets)
            end = mesh.starts + (cache.frame_count - 1) * setup.fps / (cache.fps * mesh.speed)
        else:
            continue
        frame = int(np.ceil(end - 1e-6))
        if frame <= last:
            continue
        text = (
            f"What '{body.name}' plays goes on until frame {frame}, but the shot ends at {last}: {frame - last} frames "
            "of it are not in the cache."
        )
        patch = [set_value("/frames", [setup.frames[0], frame])]
        found.append(
            Finding("cut_motion", "Bake", False, "A motion goes on after the end", text, body.name, None,
                    f"Bake until frame {frame}", patch)
        )  # fmt: skip
    return found


def still_files(setup: Setup, assets: Assets) -> list[Finding]:
    """Colliders whose file has them change their form, and that do not; and files that end before the shot does."""
    found = []
    for k, body in enumerate(setup.bodies):
        if body.role != "collider" or not isinstance(body.mesh, FileMesh):
            continue
        part = file_part(body.mesh, assets)
        if len(part.shapes) < 2:
            continue
        if not body.mesh.animated:
            way = in_metres(body.mesh, part, part.shapes[-1] - part.shapes[0]) * body.place.scale
            text = (
                f"The file of '{body.name}' has {len(part.shapes)} forms, the last up to "
                f"{1e3 * np.linalg.norm(way, axis=1).max():.3g} mm from the first, but the collider keeps the first."
            )
            patch = [set_value(f"/bodies/{k}/mesh/animated", True)]
            if body.proxy is None or body.proxy.kind not in CARRIED_PROXIES:
                patch.append(set_value(f"/bodies/{k}/proxy", {"kind": "surface"}))
            found.append(
                Finding("still_file", "Motion", False, "A collider does not move as its file does", text, body.name,
                        None, "Follow the file", patch)
            )  # fmt: skip
            continue
        end = body.mesh.starts + float(part.times_s[-1]) * setup.fps
        if end < setup.frames[1] - 1:
            text = (
                f"The file of '{body.name}' ends at frame {end:.0f}; from there to frame {setup.frames[1]} it stands."
            )
            patch = [set_value("/frames", [setup.frames[0], max(int(end), setup.frames[0])])]
            found.append(
                Finding("short_file", "Motion", False, "A file's motion ends before the shot", text, body.name, None,
                        f"End the shot at frame {int(end)}", patch)
            )  # fmt: skip
    return found


def short_caches(setup: Setup, assets: Assets) -> list[Finding]:
    """Colliders that play a cache which begins after the shot does, or ends before: there they stand still."""
    found = []
    for k, body in enumerate(setup.bodies):
        if body.role != "collider" or not isinstance(body.mesh, CacheMesh):
            continue
        cache, _ = played(body.mesh, assets)
        assert cache.done is not None
        first, last = setup.frames[0], setup.frames[1]
        end = body.mesh.starts + (cache.done - cache.first) * setup.fps / (cache.fps * body.mesh.speed)
        if body.mesh.starts > first + 1:
            text = (
                f"The cache that '{body.name}' plays begins at frame {body.mesh.starts:g}, the shot at {first}: for "
                f"{body.mesh.starts - first:g} frames it stands still, and then it goes off at once."
            )
            patch = [set_value(f"/bodies/{k}/mesh/starts", float(first))]
            found.append(
                Finding("late_cache", "Motion", False, "A cache begins after the shot", text, body.name, None,
                        f"Begin it at frame {first}", patch)
            )  # fmt: skip
        elif end < last - 1:
            text = f"The cache that '{body.name}' plays ends at frame {end:.0f}; from there to {last} it stands still."
            patch = [set_value("/frames", [first, max(int(end), first)])]
            found.append(
                Finding("short_cache", "Motion", False, "A cache ends before the shot", text, body.name, None,
                        f"End the shot at frame {int(end)}", patch)
            )  # fmt: skip
    return found


def wind_against_weight(setup: Setup, resolved: Resolved) -> list[Finding]:
    """Wind that is too weak to move a cloth of that weight, or so strong that its weight means nothing.

    Compared are the pressure of the wind at its strongest, ½ ρ v², and the cloth's weight per area, both in Pa.
    """
    winds = [(k, f) for k, f in enumerate(setup.forces) if f.kind == "wind"]
    whole = resolved.document
    strongest = [most_of(whole["forces"][k]["strength"]) * np.asarray(f.velocity) for k, f in winds]
    speed, air = float(np.linalg.norm(sum(strongest, np.zeros(3)))), most_of(whole["world"]["air_density"])
    gravity = float(np.linalg.norm(setup.world.gravity))
    if not winds or speed == 0.0 or gravity == 0.0 or air == 0.0:
        return []
    found = []
    for k, body in enumerate(setup.bodies):
        if body.role != "cloth":
            continue
        values = whole["bodies"][k]
        weight = most_of(values["material"]["area_density"]) * gravity * most_of(values["gravity"])
        if weight == 0.0:
            continue
        ratio = 0.5 * air * speed**2 / weight
        if WEAK <= ratio <= STRONG:
            continue
        wanted = SOUND_WEAK if ratio < WEAK else SOUND_STRONG
        factor = float(np.sqrt(wanted / ratio))
        title = "The wind is too weak to be seen" if ratio < WEAK else "The wind is a gale"
        text = (
            f"At {speed:.1f} m/s it pushes '{body.name}' with {ratio:.2g} times its weight. "
            f"{speed * factor:.1f} m/s would be {wanted:g} times."
        )
        patch: list[dict[str, Any]] = [
            set_value(f"/forces/{n}/velocity", [round(factor * v, 3) for v in f.velocity]) for n, f in winds
        ]
        label = f"Make it {speed * factor:.1f} m/s"
        found.append(Finding("wind_proportion", "Motion", False, title, text, body.name, None, label, patch))
    return found
