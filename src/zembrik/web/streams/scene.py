"""The bodies of a setup at their start, and their proxies, for the viewport."""

from __future__ import annotations

from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from fastapi.responses import Response

from zembrik.core.cache.reader import Cache
from zembrik.core.cache.shown import shown_count, shown_faces
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import mover_of_body, placed_mesh, render_mesh, start_mesh
from zembrik.core.setup.document import Body, Keys, Setup, parse_setup
from zembrik.core.setup.resolve import resolve
from zembrik.library.bakes import cache_path, get_bake
from zembrik.library.findings import Looking, findings_of
from zembrik.library.render_meshes import binding_of, carried_bodies
from zembrik.library.settings import Settings
from zembrik.library.shots import get_shot, head_setup
from zembrik.library.store import StoredAssets
from zembrik.web.fields import Id
from zembrik.web.render import Db, Places
from zembrik.web.streams.drawn import Drawn, baked_bodies, baked_shape
from zembrik.web.streams.pack import Pack
from zembrik.web.streams.shared import Shared, add_mesh, affine, columns

router = APIRouter()
BINARY = "application/octet-stream"
MOST_FORMS = 2_000_000  # points times frames of a collider that changes its form; more is shown as it begins


@router.get("/shots/{shot_id}/scene.bin")
def scene(request: Request, db: Db, places: Places, shot_id: Id) -> Response:
    """Return every body's mesh where it stands, its pinned points, its proxy, and its motion frame by frame."""
    with db.session() as session:
        shot = get_shot(session, shot_id)
        setup, head = head_setup(shot), shot.head
        assert head is not None
        found, marked = findings_of(session, places, head), list(shot.marks or [])
        findings = [] if isinstance(found, Looking) else found
    tag = f'"{"-".join(map(str, [head.id, *marked]))}"'
    if request.headers.get("if-none-match") == tag:
        return Response(status_code=304)
    marks = [
        {"at": f["at"], "text": f["text"], "title": f["title"], "severe": f["severe"]} for f in findings if f["at"]
    ]
    data, whole = scene_bytes(setup, places, {"revision": head.number, "marks": marks, "marked": marked})
    whole = whole and not isinstance(found, Looking)
    headers = {"ETag": tag, "Cache-Control": "no-cache"} if whole else {"Cache-Control": "no-store"}
    return Response(data, media_type=BINARY, headers=headers)


@router.get("/bakes/{bake_id}/scene.bin")
def baked_scene(db: Db, places: Places, bake_id: Id) -> Response:
    """Return the same of the setup that was baked, which never changes."""
    with db.session() as session:
        setup = parse_setup(get_bake(session, bake_id).document)
    data, whole = scene_bytes(setup, places, {"revision": 0, "marks": []})
    headers = {"Cache-Control": "private, max-age=86400" if whole else "no-store"}
    return Response(data, media_type=BINARY, headers=headers)


def scene_bytes(setup: Setup, places: Settings, more: dict[str, Any]) -> tuple[bytes, bool]:
    """Return a setup's bodies as a pack with more in its head, and whether it is whole: proxies may be missing yet."""
    from zembrik.core.solver.pins import meshes_of, pin_weights  # see `app._warm_up`

    assets, pack, bodies = StoredAssets(places), Pack(), []
    drawn = Drawn(Shared(pack), assets)
    resolved = resolve(setup)
    for number, body in enumerate(setup.bodies):
        entry: dict[str, Any] = {"name": body.name, "role": body.role, "origin": body.place.translate}
        if body.shown:
            entry["shown"] = body.shown
        try:
            mover = mover_of_body(setup, number, assets)
            if body.role in ("cloth", "soft") or (mover is not None and mover.changes_form):
                mesh = start_mesh(body, assets)
                entry |= add_mesh(pack, mesh)
                if body.render is not None:
                    entry["render"] = _render(pack, body, mesh.points, assets)
            else:
                entry |= drawn.mesh(body)
                if body.render is not None:
                    entry["render"] = drawn.render(body)
            if body.role in ("collider", "rigid"):
                entry |= drawn.proxy(body, resolved.document["bodies"][number]["proxy"])
            if body.pins:
                began, every = start_mesh(body, assets).points, meshes_of(setup, assets)
                held = np.zeros(len(began))
                for pin in body.pins:
                    held = np.maximum(held, pin_weights(pin, placed_mesh(body, assets), began, body.name, every))
                entry["pins"] = pack.add(np.flatnonzero(held > 0.0), "<u4")
            frames = range(setup.frames[0], setup.frames[1] + 1)
            if mover is not None and mover.changes_form:
                points = placed_mesh(body, assets).points
                if len(frames) * len(points) <= MOST_FORMS:
                    forms = np.stack([mover.points_at(points, frame) for frame in frames])
                    entry["forms"] = pack.add(forms.reshape(-1, 3), "<f4")
            elif mover is not None:
                poses = [mover.at(frame) for frame in frames]
                entry["motion"] = pack.add(np.array([columns(affine(*pose)) for pose in poses]), "<f4")
        except Problem as problem:
            entry["problem"] = str(problem)
        bodies.append(entry)
    drawn.shared.add_coarse()
    ground = setup.world.ground
    document = {
        "bodies": bodies, "shapes": drawn.shared.entries, "ground": ground.height if ground else None,
        "frames": list(setup.frames), "fps": setup.fps, "schedule": schedule_of(setup),
        "handovers": _handovers(setup), "groups": [group.model_dump(mode="json") for group in setup.groups],
    }  # fmt: skip
    whole = not any("pending" in entry for entry in bodies)
    return pack.bytes(document | more | {"whole": whole}), whole


def _handovers(setup: Setup) -> list[dict[str, Any]]:
    """Return the frames at which bodies are handed over or taken back."""
    every = [(spell, body.name) for body in setup.bodies for spell in body.spells]
    over = [{"frame": spell.begin, "back": False, "body": name} for spell, name in every]
    return over + [{"frame": spell.end, "back": True, "body": name} for spell, name in every if np.isfinite(spell.end)]


def schedule_of(setup: Setup) -> list[dict[str, Any]]:
    """Return what eases over the shot, each with its label and its strength at every frame."""
    from zembrik.core.motion.track import track_values  # see `app._warm_up`

    frames = np.arange(setup.frames[0], setup.frames[1] + 1, dtype=np.float64)
    keyed = [(force.kind, force.strength) for force in setup.forces] + [("gravity", setup.world.gravity_strength)]
    return [
        {"label": label, "values": track_values(plain["keys"], plain["ease"], frames).round(4).tolist()}
        for label, strength in keyed
        if isinstance(strength, Keys) and (plain := strength.model_dump(mode="json"))
    ]


def _render(pack: Pack, body: Body, began: np.ndarray, assets: StoredAssets) -> dict[str, Any]:
    """Add the mesh that a body which changes its form carries, as it is at the start."""
    from zembrik.core.mesh.carry import carry  # see `app._warm_up`

    detailed = render_mesh(body, assets)
    assert detailed is not None
    return add_mesh(pack, detailed.moved(carry(binding_of(body, assets), began)))


@router.get("/bakes/{bake_id}/mesh.bin")
def baked_mesh(db: Db, places: Places, bake_id: Id, carried: bool = False) -> Response:
    """Return the bodies of a cache: of each the faces and how many points it has, or the mesh that its poses place.

    If asked, also what they carry.
    """
    with db.session() as session:
        bake = get_bake(session, bake_id)
        cache, setup = Cache(cache_path(places, bake)), head_setup(get_shot(session, bake.shot_id))
    pack, bodies = Pack(), []
    shared, baked = Shared(pack), baked_bodies(cache)
    for number, name in enumerate(cache.names):
        if cache.is_rigid(number):
            bodies.append({"name": name, **baked_shape(shared, cache, number, baked.get(name))})
            continue
        faces = pack.add(shown_faces(cache, number), "<u4")
        bodies.append({"name": name, "count": shown_count(cache, number), "faces": faces})
    for _, body in carried_bodies(cache, setup) if carried else []:
        detailed = render_mesh(body, StoredAssets(places))
        assert detailed is not None
        faces = pack.add(detailed.faces, "<u4")
        bodies.append({"name": body.name, "count": len(detailed.points), "faces": faces, "render": True})
    return Response(pack.bytes({"bodies": bodies, "shapes": shared.entries}), media_type=BINARY)
