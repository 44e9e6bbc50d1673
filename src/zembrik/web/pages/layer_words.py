"""What the Start station offers for a drop layout."""

from __future__ import annotations

import contextlib
from typing import Any

import numpy as np

from zembrik.core.problem import Problem
from zembrik.core.setup.assets import placed_mesh
from zembrik.core.setup.document import Setup
from zembrik.library.settings import Settings
from zembrik.library.store import StoredAssets

MOST_OFFERED = 200  # bodies to drop copies of


def layer_words(setup: Setup, number: int | None, places: Settings) -> dict[str, Any]:
    """Return whose copies may fall, and where they are scattered unless told otherwise.

    That is where the last layer was, else over the chosen body, else a square metre about the origin.
    """
    layers = [group for group in setup.groups if group.drop is not None]
    laid = {name for group in layers for name in group.bodies}
    offered = [b.name for b in setup.bodies if b.role not in ("cloth", "soft") and b.name not in laid]
    low, high = np.array([-0.5, 0.0, -0.5]), np.array([0.5, 0.0, 0.5])
    if layers and layers[-1].drop is not None:
        drop = layers[-1].drop
        low[[0, 2]], high[[0, 2]] = (drop.across[0], drop.along[0]), (drop.across[1], drop.along[1])
    elif number is not None and setup.bodies[number].role != "left out":
        with contextlib.suppress(Problem):  # a mesh that is not there is told elsewhere
            low, high = placed_mesh(setup.bodies[number], StoredAssets(places)).bounds
    region = {"x0": float(low[0]), "x1": float(high[0]), "z0": float(low[2]), "z1": float(high[2])}
    return {"droppable": offered[:MOST_OFFERED], "region": region}
