"""How proxies fit their bodies, as an errand measured it: once for all copies of a body."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from sqlalchemy.orm import Session

from zembrik.core.proxy.words import PROXY_WORDS
from zembrik.core.setup.document import Body
from zembrik.core.units import turn_matrix
from zembrik.library.errands import fits_from, result_of
from zembrik.web.render import Words

if TYPE_CHECKING:
    from zembrik.core.proxy.measure import Fit


def known_fits(session: Session, order: Words) -> dict[str, Fit | str] | None:
    """Return the fits by kind, or None where they are still to be measured."""
    result = result_of(session, "fits", order)
    return None if result is None else fits_from(result)


def rows_of(order: Words, fits: dict[str, Fit | str] | None) -> list[Words]:
    """Return a row for every kind of proxy that the body may have, with its fit where that is known."""
    held = fits or {}
    return [{"kind": kind, "text": PROXY_WORDS[kind], "fit": held.get(kind)} for kind in order["kinds"]]


def in_world(body: Body, kind: str, at: Any) -> list[float]:
    """Return where a place (3,) of a fit is in the shot."""
    turn = np.eye(3) if kind == "plane" else turn_matrix(body.place.rotate)
    return [float(v) for v in turn @ np.asarray(at) + np.asarray(body.place.translate)]
