"""Getting bodies ready: what is wrong with a mesh, its mends, its spacing."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response

from zembrik.core.mesh.density import points_at, spacing_of
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import load_mesh
from zembrik.core.setup.document import Body, FileMesh, GridMesh
from zembrik.core.setup.resolve import resolve
from zembrik.library.bakes import seconds_a_point
from zembrik.library.carrying import carry_alike_patch, carry_many_patch, pairs_by_name, pairs_by_nearness
from zembrik.library.errands import HEAVY_FACES, audit_order, result_of
from zembrik.library.intake import mended_file, respaced_body
from zembrik.library.mending import MOST_LIT, audited, told_of_mend
from zembrik.library.proxies import get_kept, keep_proxy
from zembrik.library.render_meshes import carry_patch, let_go_patch
from zembrik.library.shots import Patch, get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.web.dials import from_shown
from zembrik.web.fields import Id, Text, Whole
from zembrik.web.pages.bench import render_bench
from zembrik.web.pages.edits import apply_patch
from zembrik.web.render import Db, Places, templates

router = APIRouter()
MOST_SHOWN = 40  # pairs of a preview


@router.get("/shots/{shot_id}/audit")
def audit_of(request: Request, db: Db, places: Places, shot_id: Id, body: str, station: str = "intake") -> Response:
    """Return what is wrong with a body's mesh, each with its mend."""
    from zembrik.core.mesh.audit import Audit  # see `app._warm_up`
    from zembrik.core.mesh.mend import MENDS

    with db.session() as session:
        shot = get_shot(session, shot_id)
        setup, head = head_setup(shot), shot.head
        number, one = _named(list(setup.bodies), body)
        try:
            mesh = load_mesh(one, StoredAssets(places))
        except Problem as problem:
            return templates.TemplateResponse(request, "line.html", {"line": problem.what})
        heavy = len(mesh.faces) > HEAVY_FACES
        found = result_of(session, "audit", audit_order(one)) if heavy else None
        if heavy and found is None:
            return Response(_send_for(shot_id, "audit", body, station), media_type="text/html")
        words = {
            "shot": shot, "head": head, "body": one, "number": number, "station": station, "mends": MENDS,
            "audit": Audit.of(found) if found else audited(mesh), "heavy": heavy,
            "scale": one.place.scale, "most": MOST_LIT,
            "is_file": isinstance(one.mesh, FileMesh),
            "densities": _densities(mesh, one.place.scale, seconds_a_point(session, places, shot_id)),
            "moves": isinstance(one.mesh, FileMesh) and one.mesh.animated,
        }  # fmt: skip
        return templates.TemplateResponse(request, "audit.html", words)


def _send_for(shot_id: int, kind: str, body: str, station: str, **asked: str) -> str:
    """Return what has the page ask for an errand, and watch it in this place."""
    words = {"shot_id": shot_id, "order": {"kind": kind, "body": body, "station": station, **asked}}
    return templates.get_template("send_for.html").render(words)


@router.post("/shots/{shot_id}/mend")
def mend(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, kind: Text,
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
    told = told_of_mend(kind, *meshes)
    patch: Patch = [{"op": "add", "path": f"/bodies/{number}/mesh", "value": mesh}]
    return apply_patch(
        request, db, places, shot_id, base, patch, f"mended {one.name}: {told}", station, one.name, f"Mended: {told}."
    )  # fmt: skip


def _densities(mesh: TriMesh, scale: float, a_point_s: float | None) -> list[dict[str, Any]]:
    """Return three spacings with what they cost: half as close, as it is, twice as close."""
    now = spacing_of(mesh)
    rows: list[dict[str, Any]] = []
    for factor in (2.0, 1.0, 0.5):
        points = points_at(mesh, now * factor)
        cost = None if a_point_s is None else a_point_s * points
        rows.append(
            {
                "spacing_mm": 1e3 * now * factor * scale,
                "points": points,
                "seconds": cost,
                "factor": factor,
                "heavy": points > HEAVY_FACES // 2,
            }
        )
    return rows


@router.post("/shots/{shot_id}/density")
def set_density(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, value: Text,
    station: Text = "intake",
) -> Response:  # fmt: skip
    """Give a body's mesh another spacing, typed in millimetres."""
    spacing_m = float(from_shown("spacing", value)) / 1e3
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
        if not 0 <= number < len(setup.bodies):
            raise Problem("there is no such body.", "density", "Load the page again.")
        one = setup.bodies[number]
        coming = points_at(load_mesh(one, StoredAssets(places)), spacing_m / one.place.scale) if spacing_m > 0 else 0
        if coming > HEAVY_FACES // 2 and not isinstance(one.mesh, GridMesh):
            sent = _send_for(shot_id, "spacing", one.name, station, spacing=value)
            return Response(sent, headers={"HX-Retarget": "#respaced"}, media_type="text/html")
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
    request: Request, db: Db, places: Places, shot_id: Id, number: Whole, name: Text = "", station: Text = "proxies",
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
    request: Request, db: Db, places: Places, kept: Id, shot: Whole, station: Text = "proxies", body: Text = ""
) -> Response:
    """Keep a proxy no longer; bodies that have it go on having it."""
    with db.session() as session:
        session.delete(get_kept(session, kept))
        session.flush()
        return render_bench(request, session, places, shot, station, body)


@router.post("/shots/{shot_id}/carry-many")
def carry_many(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, how: Text, carriers: Text = "",
    meshes: Text = "", number: Whole = -1, show: Whole = 0, station: Text = "intake", body: Text = "",
) -> Response:  # fmt: skip
    """Give bodies the meshes they carry: by names, by nearness, or to all copies of one; `show` only tells which."""
    with db.session() as session:
        setup = head_setup(get_shot(session, shot_id))
    if how == "copies":
        if not 0 <= number < len(setup.bodies):
            raise Problem("there is no such body.", "carry", "Load the page again.")
        patch = carry_alike_patch(setup, number)
        words = f"{len(patch)} copies of {setup.bodies[number].name} carry what it carries"
        return apply_patch(request, db, places, shot_id, base, patch, words, station, body)
    near = how == "near"
    pairs = pairs_by_nearness(setup, StoredAssets(places)) if near else pairs_by_name(setup, carriers, meshes)
    if show:
        names = [(setup.bodies[a].name, setup.bodies[b].name) for a, b in pairs]
        return templates.TemplateResponse(request, "carrying.html", {"pairs": names[:MOST_SHOWN], "count": len(names)})
    words = f"{len(pairs)} bodies carry detailed meshes"
    return apply_patch(request, db, places, shot_id, base, carry_many_patch(setup, pairs), words, station, body)


@router.post("/shots/{shot_id}/carry")
def carry_mesh(
    request: Request, db: Db, places: Places, shot_id: Id, base: Whole, number: Whole, other: Text = "",
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
