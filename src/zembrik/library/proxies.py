"""Proxies kept by name for a mesh, shared by all shots that have it."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload

from zembrik.core.problem import Problem
from zembrik.core.setup.document import Body, Proxy
from zembrik.library.models import KeptProxy


def mesh_key(body: Body) -> str:
    """Return what a body's mesh is known by, whatever it is called and wherever it stands."""
    mesh = body.mesh.model_dump(mode="json")
    mesh.pop("starts", None)  # when its own motion begins is the shot's matter
    if "file" in mesh:
        mesh["file"] = mesh["file"].partition("/")[0]  # the content's hash, not its name
    return hashlib.sha256(json.dumps(mesh, sort_keys=True).encode()).hexdigest()


def kept_proxies(session: Session, body: Body) -> list[KeptProxy]:
    """Return what is kept for a body's mesh, by name."""
    query = select(KeptProxy).where(KeptProxy.mesh_key == mesh_key(body)).order_by(KeptProxy.name)
    return list(session.scalars(query.options(joinedload(KeptProxy.shot))))


def keep_proxy(session: Session, shot_id: int, body: Body, proxy: dict[str, Any], name: str) -> KeptProxy:
    """Keep a body's proxy under a name; one that is kept under it already is replaced.

    Raises:
        Problem: when that is no name.
    """
    name = " ".join(name.split())
    if not 0 < len(name) <= 120:
        raise Problem("a name has 1 to 120 letters.", "proxy", "Type one, as in 'rounded corners'.")
    Proxy.model_validate(proxy)
    key = mesh_key(body)
    held = session.scalar(select(KeptProxy).where(KeptProxy.mesh_key == key, KeptProxy.name == name).with_for_update())
    if held is None:
        held = KeptProxy(mesh_key=key, name=name, proxy=proxy, shot_id=shot_id)
        session.add(held)
    held.proxy, held.shot_id = proxy, shot_id
    session.flush()
    return held


def get_kept(session: Session, number: int) -> KeptProxy:
    """Return a kept proxy; raises Problem when there is none."""
    held = session.get(KeptProxy, number)
    if held is None:
        raise Problem(f"there is no kept proxy number {number}.", "proxy", "Load the page again.")
    return held
