"""What is wrong with the frames that a page shows."""

from __future__ import annotations

import json
from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from typing import Any

from zembrik.core.cache.reader import Cache
from zembrik.core.findings.finding import Finding
from zembrik.core.findings.outcome import check_outcome
from zembrik.core.setup.document import parse_setup
from zembrik.library.bakes import progress_of
from zembrik.library.models import Bake
from zembrik.library.settings import Settings
from zembrik.library.store import StoredAssets


def outcome_of(places: Settings, bake: Bake | None, told: list[dict[str, Any]]) -> list[Finding]:
    """Return what is wrong with a bake's frames so far.

    `told` are the findings of the shot's setup: where one of them asks for substeps, the same count stands here.
    """
    if bake is None or bake.handed_in:
        return []
    _, cache = progress_of(places, bake)
    if cache is None or cache.done is None:
        return []
    found = _outcome(str(cache.path), cache.done, json.dumps(bake.document), places)
    counts = [p["value"] for f in told for p in f["patch"] if p["path"] == "/quality/substeps" and len(f["patch"]) == 1]
    most = max((c for c in counts if isinstance(c, int)), default=0)
    return [_with_count(f, most) for f in found] if most else found


def _with_count(finding: Finding, count: int) -> Finding:
    if [p["path"] for p in finding.patch] != ["/quality/substeps"]:
        return finding
    return replace(finding, remedy=f"Use {count} substeps", patch=[{**finding.patch[0], "value": count}])


@lru_cache(maxsize=128)
def _outcome(path: str, done: int, document: str, places: Settings) -> list[Finding]:
    """Return what is wrong with a cache's frames up to `done`."""
    setup, cache = parse_setup(json.loads(document)), Cache(Path(path))
    found = check_outcome(setup, cache)
    if any(body.spells for body in setup.bodies):
        from zembrik.core.findings.pops import pops_found  # brings a library that takes a while to load

        found = [*found, *pops_found(setup, cache, StoredAssets(places))]
    return found
