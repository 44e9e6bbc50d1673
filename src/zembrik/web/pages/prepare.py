"""Getting bodies ready: what is wrong with a mesh, its mends, its spacing."""

from __future__ import annotations

from functools import lru_cache
from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import Response

from zembrik.core.mesh.density import points_at, spacing_of
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import load_mesh
from zembrik.core.setup.document import Body, FileMesh
from zembrik.core.setup.resolve import resolve
from zembrik.library.bakes import seconds_a_point
from zembrik.library.intake import mended_file, respaced_body
from zembrik.library.proxies import get_kept, keep_proxy
from zembrik.library.render_meshes import carry_patch, let_go_patch
from zembrik.library.shots import Patch, get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.web.dials import from_shown
from zembrik.web.pages.bench import render_bench
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places, templates

router = APIRouter()
Text = Annotated[str, Form()]
Whole = Annotated[int, Form()]
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
def _audited(one: _ByContent) -> object:
    from zembrik.core.mesh.audit import audit  # see `app._warm_up`

    return audit(one.mesh)


@router.get("/shots/{shot_id}/audit")
def audit_of(request: Request, db: Db, places: Places, shot_id: int, body: str, station: str = "intake") -> Response:
    """Return what is wrong with a body's mesh, each with its mend."""
    from zembrik.core.mesh.mend import MENDS  # see `app._warm_up`

    with db.session() as session:
        shot = get_shot(session, shot_id)
        setup, head = head_setup(shot), shot.head
        number, one = _named(list(setup.bodies), body)
        try:
            mesh = load_mesh(one, StoredAssets(places))
        except Problem as problem:
            return Response(f'<p class="note">{problem.what}</p>', media_type="text/html")
        words = {
            "shot": shot, "head": head, "body": one, "number": number, "station": station, "mends": MENDS,
            "audit": _audited(_ByContent(mesh)), "scale": one.place.scale, "most": MOST_LIT,
            "is_file": isinstance(one.mesh, FileMesh),
            "densities": _densities(mesh, one.place.scale, seconds_a_point(session, places, shot_id)),
            "moves": isinstance(one.mesh, FileMesh) and one.mesh.animated,
        }  # fmt: skip
        return templates.TemplateResponse(request, "audit.html", words)


@router.post("/shots/{shot_id}/mend")
def mend(
    request: Request, db: Db, places: Places, shot_id: int, base: Whole, number: Whole, kind: Text,
    station: Text = "intake",
) -> Response:  # fmt: skip
    """Take one kind of flaw out of a body's mesh: a new file, made from the old one, which stays."""
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
        if not 0 <= number < len(setup.bodies):
            raise Problem("there is no such body.", "mend", "Load the page again.")
        one = setup.bodies[number]
        assets = StoredAssets(places)
        mesh = mended_file(session, places, one, kind)
        meshes = [load_mesh(b, assets) for b in (one, one.model_copy(update={"mesh": FileMesh.model_validate(mesh)}))]
    told = _before_and_after(kind, *meshes)
    patch: Patch = [{"op": "add", "path": f"/bodies/{number}/mesh", "value": mesh}]
    return apply_patch(
        request, db, places, shot_id, base, patch, f"mended {one.name}: {told}", station, one.name, f"Mended: {told}."
    )  # fmt: skip


def _before_and_after(kind: str, before: TriMesh, after: TriMesh) -> str:
    """Tell what a mend did: the flaw's count, points and faces, and the volume, each before and after."""
    audits: list[Any] = [_audited(_ByContent(mesh)) for mesh in (before, after)]
    counts = [sum(f.count for f in a.flaws if f.kind == kind) for a in audits]
    words = [f"{kind} {counts[0]:,} → {counts[1]:,}"]
    for name, sizes in (("points", (before.points, after.points)), ("faces", (before.faces, after.faces))):
        words.append(f"{name} {len(sizes[0]):,} → {len(sizes[1]):,}")
    if all(a.closed for a in audits):
        words.append(f"volume {audits[0].volume * 1e3:.3g} → {audits[1].volume * 1e3:.3g} l")
    return ", ".join(words)


def _densities(mesh: TriMesh, scale: float, a_point_s: float | None) -> list[dict[str, float | None]]:
    """Return three spacings with what they cost: half as close, as it is, twice as close."""
    now = spacing_of(mesh)
    rows: list[dict[str, float | None]] = []
    for factor in (2.0, 1.0, 0.5):
        points = points_at(mesh, now * factor)
        cost = None if a_point_s is None else a_point_s * points
        rows.append({"spacing_mm": 1e3 * now * factor * scale, "points": points, "seconds": cost, "factor": factor})
    return rows


@router.post("/shots/{shot_id}/density")
def set_density(
    request: Request, db: Db, places: Places, shot_id: int, base: Whole, number: Whole, value: Text,
    station: Text = "intake",
) -> Response:  # fmt: skip
    """Give a body's mesh another spacing, typed in millimetres."""
    spacing_m = float(from_shown("spacing", value)) / 1e3
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
        if not 0 <= number < len(setup.bodies):
            raise Problem("there is no such body.", "density", "Load the page again.")
        body = respaced_body(session, places, setup.bodies[number], spacing_m)
    patch: Patch = [{"op": "replace", "path": f"/bodies/{number}", "value": body}]
    words = f"spacing of {body['name']} set to {value} mm"
    return apply_patch(request, db, places, shot_id, base, patch, words, station, body["name"])


def _named(bodies: list[Body], name: str) -> tuple[int, Body]:
    for number, body in enumerate(bodies):
        if body.name == name:
            return number, body
    raise Problem(f"there is no body '{name[:80]}'.", "audit", "Load the page again.")


@router.post("/shots/{shot_id}/keep-proxy")
def keep_one(
    request: Request, db: Db, places: Places, shot_id: int, number: Whole, name: Text = "", station: Text = "proxies",
) -> Response:  # fmt: skip
    """Keep a body's proxy under a name, for every shot that has its mesh."""
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
        if not 0 <= number < len(setup.bodies) or setup.bodies[number].role not in ("collider", "rigid"):
            raise Problem("there is no such collider or rigid body.", "proxies", "Load the page again.")
        body = setup.bodies[number]
        proxy = dict(resolve(setup).document["bodies"][number]["proxy"])
        keep_proxy(session, shot_id, body, proxy, name)
        return render_bench(request, session, places, shot_id, station, body.name)


@router.post("/kept-proxies/{kept}/forget")
def forget_one(
    request: Request, db: Db, places: Places, kept: int, shot: Whole, station: Text = "proxies", body: Text = ""
) -> Response:
    """Keep a proxy no longer; bodies that have it go on having it."""
    with db.session() as session:
        session.delete(get_kept(session, kept))
        session.flush()
        return render_bench(request, session, places, shot, station, body)


@router.post("/shots/{shot_id}/carry")
def carry_mesh(
    request: Request, db: Db, places: Places, shot_id: int, base: Whole, number: Whole, other: Text = "",
    station: Text = "intake",
) -> Response:  # fmt: skip
    """Make a body carry the mesh of another body, or with no name let go of what it carries."""
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
    if not 0 <= number < len(setup.bodies):
        raise Problem("there is no such body.", "intake", "Load the page again.")
    name = setup.bodies[number].name
    with_other = _named(list(setup.bodies), other)[0] if other else None
    patch = let_go_patch(setup, number) if with_other is None else carry_patch(setup, number, with_other)
    words = f"{name} carries {other}" if other else f"{name} carries no mesh"
    return apply_patch(request, db, places, shot_id, base, patch, words, station, name)
