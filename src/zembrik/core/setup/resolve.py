"""The resolved view: every value of a setup, with where it came from."""

from __future__ import annotations

import copy
import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from zembrik.core.motion.track import extremes_of, scaled, value_at
from zembrik.core.setup.document import Body, Keys, Material, Proxy, Setup
from zembrik.core.setup.keyed import is_keyed
from zembrik.core.setup.materials import SIMULATED, USUAL, dials_of, filled_dials, preset_of
from zembrik.core.setup.profiles import PROFILES

BY_HAND, DEFAULT = "set by hand", "default"
COLLIDER_THICKNESS_M, COLLIDER_FRICTION = 0.002, 0.5
COLLIDER_BOUNCE = 0.0


@dataclass(frozen=True)
class Resolved:
    """A setup with nothing left open.

    Attributes:
        document: the whole document as plain JSON values.
        origins: for each leaf's path ("bodies[0].material.bend") where its value came from.
    """

    document: dict[str, Any]
    origins: dict[str, str]

    def quality(self, name: str) -> Any:
        """Return a quality dial's value, which may be a track."""
        return self.document["quality"][name]

    def count_at(self, name: str, frame: float) -> int:
        """Return how many substeps or iterations there are at a frame."""
        return round(value_at(self.document["quality"][name], frame))

    def count_at_start(self, name: str) -> int:
        """Return how many substeps or iterations the first frame that is computed has."""
        return self.count_at(name, self.document["frames"][0] - self.document["preroll"])

    def least_count(self, name: str) -> int:
        """Return how few substeps or iterations there are at some frame."""
        return round(extremes_of(self.document["quality"][name])[0])

    def passes_of(self, frames: int) -> float:
        """Return how many passes over all constraints so many frames take together; the first computes nothing."""
        first, most = self.document["frames"][0], max(frames - 1, 0)
        if not any(is_keyed(self.quality(name)) for name in ("substeps", "iterations")):
            return float(self.quality("substeps") * self.quality("iterations") * most)
        each = [self.count_at("substeps", f) * self.count_at("iterations", f) for f in range(first, first + most)]
        return float(sum(each))


def resolve(setup: Setup) -> Resolved:
    """Fill in every value that the document leaves to its preset, its profile or a default; nobody may change it."""
    return _resolved(_Same(setup))


class _Same:
    """A setup that a cache knows by being the very one: `parse_setup` gives one document the same setup again."""

    def __init__(self, setup: Setup) -> None:
        self.setup = setup

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and other.setup is self.setup

    def __hash__(self) -> int:
        return id(self.setup)


@lru_cache(maxsize=16)
def _resolved(same: _Same) -> Resolved:
    setup = same.setup
    full = setup.model_dump(mode="json", by_alias=True)
    given = setup.document()
    origins: dict[str, str] = {}
    _note_origins(full, given, "", origins)
    for k, body in enumerate(setup.bodies):
        _resolve_body(body, full["bodies"][k], f"bodies[{k}]", origins)
    quality = setup.quality
    profile = PROFILES[quality.profile]
    for name in ("substeps", "iterations", "enough", "contact", "self_collision"):
        if getattr(quality, name) is None:
            full["quality"][name] = profile.own(name, has_rigid(setup))
            origins[f"quality.{name}"] = f"profile {quality.profile}"
    return Resolved(full, origins)


def _resolve_body(body: Body, full: dict[str, Any], path: str, origins: dict[str, str]) -> None:
    def fill(target: dict[str, Any], name: str, value: Any, at: str, origin: str) -> None:
        if target.get(name) is None:
            target[name] = value
            origins[f"{at}.{name}"] = origin

    if body.role in SIMULATED:
        material = body.material or Material()
        name = material.preset or USUAL[body.role]
        preset = preset_of(body.role, name)
        if body.material is None:
            full["material"] = material.model_dump(mode="json")
        target, at = full["material"], f"{path}.material"
        fill(target, "preset", name, at, DEFAULT)
        for dial in filled_dials(body.role):
            value, origin = getattr(preset, dial), f"preset {name}"
            if dial == "sliding_friction" and material.friction is not None and material.sliding_friction is None:
                # A grip set by hand keeps the preset's share that sliding leaves of it.
                share, origin = value / max(preset.friction, 1e-9), "follows friction"
                value = material.friction * share if isinstance(material.friction, float) else scaled(
                    material.friction.model_dump(mode="json"), share
                )  # fmt: skip
            fill(target, dial, value, at, origin)
        for unused in set(target) - {"preset", *dials_of(body.role)}:
            del target[unused]
            origins.pop(f"{at}.{unused}", None)
        if body.material is None:
            origins.update({f"{at}.{name}": DEFAULT for name in target if f"{at}.{name}" not in origins})
        fill(full, "thickness", preset.thickness, path, f"preset {name}")
        drop = ["friction", "bounce"]
        if body.role == "rigid":
            drop.append("pins")
            if body.proxy is None:
                _usual_proxy(full, path, origins, "hull")
        else:
            drop += ["proxy", "release", *([] if body.handovers else ["motion"])]
        for unused in drop:
            del full[unused]
            origins.pop(f"{path}.{unused}", None)
    elif body.role == "collider":
        fill(full, "thickness", COLLIDER_THICKNESS_M, path, DEFAULT)
        fill(full, "friction", COLLIDER_FRICTION, path, DEFAULT)
        fill(full, "bounce", COLLIDER_BOUNCE, path, DEFAULT)
        if body.proxy is None:
            _usual_proxy(full, path, origins, "surface")
        for unused in ("material", "pins", "gravity", "release", "handovers"):
            del full[unused]
            origins.pop(f"{path}.{unused}", None)


def _usual_proxy(full: dict[str, Any], path: str, origins: dict[str, str], kind: Any) -> None:
    full["proxy"] = Proxy(kind=kind).model_dump(mode="json")
    origins.pop(f"{path}.proxy", None)
    origins.update({f"{path}.proxy.{name}": DEFAULT for name in full["proxy"]})


def _note_origins(full: Any, given: Any, path: str, origins: dict[str, str]) -> None:
    if is_keyed(full):
        origins[path] = BY_HAND
    elif isinstance(full, dict):
        for name, value in full.items():
            has = isinstance(given, dict) and name in given
            _note_origins(value, given[name] if has else None, f"{path}.{name}" if path else name, origins)
    elif isinstance(full, list) and full and isinstance(full[0], dict):
        for k, value in enumerate(full):
            _note_origins(value, given[k] if isinstance(given, list) else None, f"{path}[{k}]", origins)
    else:
        origins[path] = DEFAULT if given is None else BY_HAND


def dotted(path: str) -> str:
    """Return a JSON pointer such as /bodies/0/cell as `Resolved.origins` has it: bodies[0].cell."""
    text = ""
    for part in path.strip("/").split("/"):
        text += f"[{part}]" if part.isdigit() else (f".{part}" if text else part)
    return text


def canonical(document: Any) -> bytes:
    """Return plain JSON values as bytes that are equal when the values are equal."""
    return json.dumps(_numbers(document), sort_keys=True, separators=(",", ":"), ensure_ascii=True).encode()


def _numbers(value: Any) -> Any:
    if isinstance(value, bool) or value is None or isinstance(value, str):
        return value
    if isinstance(value, int | float):
        return float(value)  # 1 and 1.0 are one value
    if isinstance(value, list | tuple):
        return [_numbers(v) for v in value]
    return {k: _numbers(v) for k, v in value.items()}


def setup_hash(setup: Setup, mesh_hash: Callable[[str], str]) -> str:
    """Return the hash of everything a bake depends on, and of nothing else.

    Bodies that are left out (unless pins follow them), the title and the last frame do not count: a longer bake of
    the same setup begins with the same frames. A file counts by its content.

    Args:
        setup: the document.
        mesh_hash: gives the hash of a mesh file's content by its name.
    """
    document = copy.deepcopy(resolve(setup).document)
    del document["title"], document["groups"]  # neither is computed with
    document["frames"] = document["frames"][0]
    document["quality"].pop("profile")
    kept = []
    followed = {pin.follow for body in setup.bodies for pin in body.pins}
    followed |= {pin.points.near.body for body in setup.bodies for pin in body.pins if pin.points.near}
    parents = {b.name: b.motion.parent for b in setup.bodies if b.motion and b.motion.parent}
    todo = [b.name for b in setup.bodies if b.role != "left out" or b.name in followed]
    while todo:
        if (above := parents.get(todo.pop())) is not None and above not in followed:
            followed.add(above)
            todo.append(above)
    for body in document["bodies"]:
        if body["role"] == "left out" and body["name"] not in followed:
            continue
        body.pop("render", None)  # it is carried afterwards
        body.pop("shown", None)  # nothing is computed with it
        if "file" in body["mesh"]:
            body["mesh"]["file"] = mesh_hash(body["mesh"]["file"])
        if "cache" in body["mesh"]:
            body["mesh"]["cache"] = mesh_hash(body["mesh"]["cache"])
        if body.get("form"):
            body["form"]["file"] = mesh_hash(body["form"]["file"])
        if body.get("material"):
            body["material"].pop("preset")
        kept.append(body)
    document["bodies"] = kept
    return hashlib.sha256(canonical(_given(document))).hexdigest()


def _given(value: Any) -> Any:
    """Return plain JSON values without what is nothing: a field that comes later makes no bake of before another."""
    if isinstance(value, dict):
        return {k: _given(v) for k, v in value.items() if v is not None}
    return [_given(v) for v in value] if isinstance(value, list) else value


def has_rigid(setup: Setup) -> bool:
    """Tell whether any body is rigid and free: a profile gives such a shot more substeps."""
    return any(body.role == "rigid" for body in setup.bodies)


def quality_words(setup: Setup) -> str:
    """Return a short fact: the profile and the resolved substeps."""
    quality = setup.quality
    if isinstance(quality.substeps, Keys):
        least, most = extremes_of(quality.substeps.model_dump(mode="json"))
        return f"{quality.profile} · {round(least)} to {round(most)} substeps"
    own = PROFILES[quality.profile].own("substeps", has_rigid(setup))
    return f"{quality.profile} · {quality.substeps or own} substeps"
