"""The shelf: what takes long to work out is kept on disk, once a machine, whatever process asks for it."""

from __future__ import annotations

import io
import os
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from zembrik.core.cache.layout import write_whole
from zembrik.core.compiled import cache_home

Arrays = dict[str, NDArray[Any]]


def shelf_home() -> Path:
    """Return where the shelf is."""
    return Path(os.environ.get("ZEMBRIK_SHELF") or cache_home().parent / "proxies")


def place_of(key: str) -> Path:
    """Return the file of a key, which is a hash in hexadecimal digits."""
    return shelf_home() / key[:2] / f"{key}.npz"


def take_arrays(key: str) -> Arrays | None:
    """Return the arrays that are kept under a key; None where there are none, or they cannot be read."""
    try:
        with np.load(place_of(key), allow_pickle=False) as kept:
            return {name: kept[name] for name in kept.files}
    except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile):
        return None


def put_arrays(key: str, arrays: Arrays) -> None:
    """Keep arrays under a key; where the disk takes nothing more, they are worked out anew next time."""
    out = io.BytesIO()
    np.savez(out, **arrays)  # type: ignore[arg-type]  # its stub takes the names for options
    try:
        place_of(key).parent.mkdir(parents=True, exist_ok=True)
        write_whole(place_of(key), out.getvalue())
    except OSError:
        return
