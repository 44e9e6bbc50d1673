"""Compiling ahead of time what the pages ask of the core, so that no first visitor waits for it."""

from __future__ import annotations

from zembrik.core.exchange.apart import SMALL, read_apart
from zembrik.core.findings.check import check_setup
from zembrik.core.mesh import shapes
from zembrik.core.mesh.audit import audit
from zembrik.core.proxy.fit import fit_proxy
from zembrik.core.proxy.measure import measure_fit
from zembrik.core.proxy.words import PROXY_WORDS
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.sources import solver_edition


def warm_up() -> None:
    """Check a small setup, look a mesh over and fit every kind of proxy; the kernels are then compiled and kept."""
    solver_edition()
    read_apart(SMALL["obj"], "small.obj", "obj")  # starts the readers
    sheet = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [1, 1], "segments": [4, 4]}}
    box = {"name": "box", "role": "collider", "mesh": {"shape": "box", "size": [1, 1, 1]}}
    check_setup(parse_setup({"bodies": [sheet, box]}), NoAssets())
    mesh = shapes.box((1.0, 1.0, 1.0), 2)
    audit(mesh)
    for kind in set(PROXY_WORDS) - {"hulls"}:
        measure_fit([fit_proxy(kind, mesh)], mesh)
