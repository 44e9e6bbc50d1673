"""Which proxy to take, by fits that were measured: the same wherever it is told."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from sqlalchemy.orm import Session

from zembrik.core.problem import Problem
from zembrik.core.setup.document import parse_setup
from zembrik.core.setup.resolve import resolve
from zembrik.library.errands import Order, fits_from, fits_order, result_of
from zembrik.library.models import Revision
from zembrik.library.settings import Settings
from zembrik.library.store import StoredAssets

if TYPE_CHECKING:
    from zembrik.core.proxy.measure import Fit


def advice_for(order: Order, fits: dict[str, Fit | str], settings: Settings, chosen: str) -> tuple[str, str] | None:
    """Return the kind to take, and why; None where no proxy can be made."""
    from zembrik.core.proxy.candidates import recommended  # brings the compiler, which no page waits for

    try:
        found: tuple[str, str] | None = recommended(fits, order["body"], order["role"], chosen, StoredAssets(settings))
    except Problem:
        return None
    return found


def agreed(session: Session, settings: Settings, revision: Revision) -> list[dict[str, Any]]:
    """Return a revision's findings; what a proxy that stands off is cured by is what its fits say, once measured.

    The finding alone knows only the proxy that there is, and names the one that is surely nearer.
    """
    findings: list[dict[str, Any]] = list(revision.findings or [])
    if not any(f["code"] == "wide_gap" for f in findings):
        return findings
    setup = parse_setup(revision.document)
    proxies = {b["name"]: b["proxy"] for b in resolve(setup).document["bodies"] if b.get("proxy")}
    for n, finding in enumerate(findings):
        body = next((b for b in setup.bodies if b.name == finding["body"]), None)
        if finding["code"] != "wide_gap" or body is None:
            continue
        proxy = proxies[body.name]
        order = fits_order(body, proxy)
        result = result_of(session, "fits", order)
        advice = advice_for(order, fits_from(result), settings, proxy["kind"]) if result else None
        if advice is None:
            continue
        if advice[0] == proxy["kind"]:  # nothing is nearer
            findings[n] = {**finding, "remedy": "", "patch": []}
        else:
            patch = [{**operation, "value": {"kind": advice[0]}} for operation in finding["patch"]]
            findings[n] = {**finding, "remedy": f"Use {advice[0]}", "patch": patch}
    return findings
