"""Taking files in: what they hold is shown first, then chosen parts become bodies."""

from __future__ import annotations

import io
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.contents import Contents, FilePart
from zembrik.core.exchange.kept import kept_contents
from zembrik.core.exchange.obj import write_obj
from zembrik.core.exchange.sizes import UnitGuess, declared_unit, guess_units, guess_up
from zembrik.core.mesh.density import nearest_points, respaced
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.motion.from_poses import motion_of
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import file_part, load_mesh, metres_a_unit
from zembrik.core.setup.document import Body, FileMesh, GridMesh, Setup
from zembrik.core.start.keep import Kept
from zembrik.core.units import METRES_PER_UNIT
from zembrik.library.bakes import cache_path
from zembrik.library.models import Asset, Bake
from zembrik.library.settings import Settings
from zembrik.library.store import StoredAssets, take_in


@dataclass(frozen=True)
class Shown:
    """What is shown of a stored file before any of it becomes a body.

    Attributes:
        reference: how a setup names the file. name: its own.
        contents: what it holds.
        unit, up: what it says, or what is guessed.
        said_unit, said_up: whether it says so.
        why_up: what speaks for the axis.
        guesses: every unit with its evidence.
    """

    reference: str
    name: str
    contents: Contents
    unit: str
    up: str
    said_unit: bool
    said_up: bool
    why_up: str
    guesses: list[UnitGuess]

    @property
    def rate(self) -> float | None:
        """Frames a second at which its moments lie; None when nothing moves, they lie unevenly, or it does not say."""
        from zembrik.core.exchange.into_cache import rate_of  # stands on the writing of caches

        return None if self.contents.first is not None else rate_of(self.contents)

    @property
    def in_order(self) -> list[UnitGuess]:
        """The guesses in the units' usual order, so that a unit is found where it always is."""
        order = list(METRES_PER_UNIT)
        return sorted(self.guesses, key=lambda g: order.index(g.unit))

    def size_of(self, part: FilePart) -> list[float]:
        """Return a part's extents (3,) in metres, in the unit and axes that are taken for true."""
        size = np.ptp(part.mesh.points, axis=0) * METRES_PER_UNIT[self.unit]
        return [float(v) for v in (size if self.up == "y" else size[[0, 2, 1]])]


def store_file(session: Session, settings: Settings, name: str, data: bytes) -> Shown:
    """Store a file and return what it holds.

    Raises:
        Problem: when it cannot be used; nothing is stored then.
    """
    reference = take_in(session, settings, name, data)[0]
    return show_file(reference, kept_contents(data, reference.partition("/")[2]))


def show_file(reference: str, contents: Contents) -> Shown:
    """Return what is shown of a stored file."""
    said = declared_unit(contents.unit_m)
    up, why = (contents.up, "the file says so") if contents.up else guess_up(contents.parts)
    guesses = guess_units(contents.parts, up)
    return Shown(
        reference, reference.partition("/")[2], contents, said or guesses[0].unit, up, said is not None,
        contents.up is not None, why, guesses,
    )  # fmt: skip


def bodies_of(
    settings: Settings, reference: str, paths: list[str], unit: str, up_axis: str, fps: float, starts: int,
    taken: set[str], forward: str = "z",
) -> list[dict[str, Any]]:  # fmt: skip
    """Return the setup's bodies for chosen parts of a stored file.

    What moves without changing its form gets tracks; what changes its form becomes a collider that follows.

    Args:
        paths: of the parts. unit, up_axis, forward: the file's.
        fps, starts: the shot's rate and first frame.
        taken: names that are in use; the new ones are added.
    """
    for value, known in ((unit, METRES_PER_UNIT), (up_axis, ("y", "z")), (forward, ("z", "-z", "x", "-x"))):
        if value not in known:
            raise Problem(f"'{value[:20]}' is none of {', '.join(known)}.", "intake", "Load the page again.")
    data = StoredAssets(settings).read(reference)
    contents = kept_contents(data, reference.partition("/")[2])
    found = []
    for path in paths:
        part = contents.part(path, reference)
        stem = path.rsplit("/", 1)[-1] if path else reference.partition("/")[2].rsplit(".", 1)[0]
        name = free_name(stem, taken)
        taken.add(name)
        mesh: dict[str, Any] = {"file": reference, "unit": unit, "up_axis": up_axis}
        if forward != "z":
            mesh["forward"] = forward
        if len(contents.parts) > 1:
            mesh["part"] = path
        body: dict[str, Any] = {"name": name, "mesh": mesh}
        if len(part.sequence):
            raise Problem(
                f"'{name}' is another mesh from frame to frame, so no body can have it.", reference.partition("/")[2],
                "Keep it as a cache, or untick it.",
            )  # fmt: skip
        if len(part.shapes):
            mesh |= {"animated": True, "starts": float(starts)}
            body["role"] = "collider"
        elif len(part.poses):
            motion = motion_of(part.times_s, part.poses, unit, up_axis, fps, starts, forward)
            if motion:
                body |= {"role": "collider", "motion": motion}
        found.append(body)
    if not found:
        raise Problem("no part was chosen.", reference.partition("/")[2], "Tick at least one.")
    return found


def free_name(stem: str, taken: set[str]) -> str:
    """Return a body's name that is not in use, from what a file calls it."""
    stem = "".join(c for c in stem if c not in "/\\" and c.isprintable()).strip()[:100].strip() or "body"
    if stem in (".", ".."):
        stem = "body"
    k, name = 1, stem
    while name in taken:
        k += 1
        name = f"{stem} {k}"
    return name


def scale_for(size_m: float, wanted_m: float, scale: float) -> float:
    """Return the scale that gives a body the wanted extent (m), now that it has `size_m` with `scale`."""
    if not 0.0 < wanted_m <= 1e5 or size_m <= 0.0:
        raise Problem("a size is more than 0 and at most 100 km.", "size", "Type one in metres.")
    return float(f"{scale * wanted_m / size_m:.8g}")


def mended_file(session: Session, settings: Settings, body: Body, kind: str) -> dict[str, Any]:
    """Return the "mesh" of a body with one kind of flaw taken out: a new file, whose parent is the old one.

    Raises:
        Problem: when the body has no file, or there is no such mend.
    """
    from zembrik.core.mesh.mend import MENDS  # brings kernels, which take a second to load

    if not isinstance(body.mesh, FileMesh) or kind not in MENDS:
        raise Problem(f"'{body.name}' cannot be mended so.", "mend", "Load the page again.")
    part = file_part(body.mesh, StoredAssets(settings))
    if len(part.shapes):
        raise Problem("its points move, and a mend would lose that.", body.name, "Mend it where it was made.")
    return _made_from(session, settings, body, MENDS[kind][1](part.mesh), "mended", f"mend: {kind}")


def respaced_body(
    session: Session, settings: Settings, body: Body, spacing_m: float, even: bool = False
) -> dict[str, Any]:
    """Return a body, as a document, with its points about `spacing_m` apart where it stands; pins stay by position.

    A sheet that is a shape gets other segments; every other mesh, and any that is to become even, becomes a new
    file, whose parent is the old one.
    """
    document = body.model_dump(mode="json", by_alias=True, exclude_unset=True)
    if not 0.0 < spacing_m <= 1e4:
        raise Problem("a spacing is more than nothing.", body.name, "Type one in millimetres.")
    if isinstance(body.mesh, GridMesh) and not even:
        along = [max(1, round(side * body.place.scale / spacing_m)) for side in body.mesh.size]
        if max(along) > 1000:
            raise Problem("a sheet has at most 1,000 segments a side.", body.name, "Choose a larger spacing.")
        old = load_mesh(body, StoredAssets(settings))
        document["mesh"] = {**document["mesh"], "segments": along}
        new = load_mesh(Body.model_validate({**document, "pins": []}), StoredAssets(settings))
    else:
        if isinstance(body.mesh, FileMesh) and body.mesh.animated:
            raise Problem(
                "its points move, and another spacing would lose that.", body.name, "Make it where it was made."
            )
        old = load_mesh(body, StoredAssets(settings))
        if even:
            from zembrik.core.mesh.even import evened  # brings the compiler, which no page waits for
        new = (evened if even else respaced)(old, spacing_m / body.place.scale, body.name)
        made_by = f"{'even ' if even else ''}spacing: {spacing_m * 1e3:.4g} mm"
        document["mesh"] = _made_from(session, settings, body, new, "respaced", made_by, "m")
    document.pop("form", None)  # it has the old points
    for pin in document.get("pins", []):
        if pin["points"].get("numbers") is not None:
            pin["points"] = {"numbers": nearest_points(old.points, pin["points"]["numbers"], new.points)}
    return document


def _made_from(
    session: Session, settings: Settings, body: Body, mesh: TriMesh, word: str, made_by: str, unit: str | None = None
) -> dict[str, Any]:
    """Store a mesh made from a body's; return the "mesh" that names it. Without a unit it is in the old file's."""
    out, points, said = io.BytesIO(), mesh.points, ("m", "y")
    if unit is None and isinstance(body.mesh, FileMesh):  # the new file says nothing, so the setup has to
        part = file_part(body.mesh, StoredAssets(settings))
        named = body.mesh.unit or declared_unit(metres_a_unit(body.mesh, part))
        points = points if named else points * metres_a_unit(body.mesh, part)
        said = named or "m", body.mesh.up_axis or part.up or "y"
    write_obj(out, points, mesh.faces, body.name)
    parent, stem = "", body.name
    if isinstance(body.mesh, FileMesh):
        parent, _, name = body.mesh.file.partition("/")
        stem = name.rsplit(".", 1)[0]
    for old in ("mended", "respaced"):
        stem = stem.removesuffix(f" {old}")
    reference, _ = take_in(session, settings, f"{stem} {word}.obj", out.getvalue())
    asset = session.get(Asset, reference.partition("/")[0])
    if asset is not None and asset.parent is None and asset.sha256 != parent:
        asset.parent, asset.made_by = parent or None, made_by
    if unit is None and isinstance(body.mesh, FileMesh):
        return {"file": reference, "unit": said[0], "up_axis": said[1], "forward": body.mesh.forward}
    return {"file": reference, "unit": "m", "up_axis": "y"}


def still_body(
    session: Session, settings: Settings, setup: Setup, bake: Bake, name: str, frame: int, thickness_m: float,
    rounds: int,
) -> dict[str, Any]:  # fmt: skip
    """Store one frame of a baked body as a mesh of its own; return the left out body that shows it, where it was.

    Args:
        setup: as it stands, for a free name. bake: whose frame. name: of the body in its cache.
        thickness_m: of what was a sheet, metres; 0 leaves it one. rounds: of smoothing by subdivision.

    Raises:
        Problem: when there is no such body or frame, or the mesh cannot be made so.
    """
    from zembrik.core.mesh.still import still_of  # brings the compiler, which no page waits for

    cache = Cache(cache_path(settings, bake))
    number = cache.body_number(name)
    mesh = still_of(cache.points(number, frame), cache.faces(number, frame), thickness_m, rounds)
    out = io.BytesIO()
    write_obj(out, mesh.points, mesh.faces, name)
    reference, _ = take_in(session, settings, f"{name} still {frame}.obj", out.getvalue())
    asset = session.get(Asset, reference.partition("/")[0])
    if asset is not None and not asset.made_by:
        held = next((b.mesh for b in setup.bodies if b.name == name), None)
        if isinstance(held, FileMesh) and held.file.partition("/")[0] != asset.sha256:
            asset.parent = held.file.partition("/")[0]
        asset.made_by = f"still: {name}, frame {frame} of bake {bake.id}"
    named = free_name(f"{name} still {frame}", {b.name for b in setup.bodies})
    return {"name": named, "role": "left out", "mesh": {"file": reference}}


def kept_forms(session: Session, settings: Settings, setup: Setup, kept: Kept) -> list[dict[str, Any]]:
    """Store the forms of a start that was taken from a frame; return the patch that lets its bodies begin in them."""
    patch = []
    for number, points in kept.forms.items():
        body, out = setup.bodies[number], io.BytesIO()
        write_obj(out, points, load_mesh(body, StoredAssets(settings)).faces, body.name)
        reference, _ = take_in(session, settings, f"{body.name} form.obj", out.getvalue())
        patch.append({"op": "add", "path": f"/bodies/{number}/form", "value": {"file": reference}})
    return patch
