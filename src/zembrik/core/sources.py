"""Hashes of the core's own source: which compiled kernels fit it, and which edition of the solver made a cache."""

from __future__ import annotations

import ast
import hashlib
import threading
from functools import cache
from pathlib import Path

from zembrik import __version__

CORE = Path(__file__).parent
# Python 3.11 counts how deep all threads' trees are together, and fails where two build one at once (its issue 106905).
_PARSING = threading.Lock()


@cache
def _source(path: Path) -> tuple[bytes, frozenset[Path]]:
    """Return a module's source and the core modules it imports."""
    data = path.read_bytes()
    found = set()
    with _PARSING:
        tree = ast.parse(data)
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("zembrik.core"):
            inside = CORE.joinpath(*node.module.split(".")[2:])
            for name in ("", *(alias.name for alias in node.names)):
                file = (inside / name if name else inside).with_suffix(".py")
                if file.exists():
                    found.add(file)
    return data, frozenset(found)


@cache
def _layouts() -> frozenset[Path]:
    return frozenset(p for p in CORE.rglob("*.py") if b"(NamedTuple)" in p.read_bytes())


@cache
def source_hash(path: Path) -> str:
    """Return a hash of a core module's source and of all that its kernels may depend on, 12 hex digits."""
    todo, seen = [path], {path}
    while todo:
        for other in _source(todo.pop())[1] - seen:
            seen.add(other)
            todo.append(other)
    digest = hashlib.sha256()
    for file in sorted(seen | _layouts()):
        digest.update(file.name.encode())
        digest.update(_source(file)[0])
    return digest.hexdigest()[:12]


@cache
def solver_edition() -> str:
    """Return the version, and a hash of all source that a motion comes from, which a cache is marked with.

    Another edition may give other bytes for the same setup. It need not: a word in a comment makes another one too.
    """
    digest = hashlib.sha256()
    for name in ("build", "step"):
        digest.update(source_hash(CORE / "solver" / f"{name}.py").encode())
    return f"zembrik {__version__}, solver {digest.hexdigest()[:8]}"
