"""Assets: mesh files stored once, by their content."""

from __future__ import annotations

import contextlib
import hashlib
import re
import secrets
import time
from pathlib import PurePosixPath
from typing import BinaryIO

from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from zembrik.core.cache.content import body_hash
from zembrik.core.cache.layout import write_whole
from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.contents import Contents
from zembrik.core.exchange.kept import kept_contents
from zembrik.core.problem import Problem
from zembrik.core.setup.assets import file_hash
from zembrik.library.models import Asset
from zembrik.library.settings import Settings

HELD_S, PIECE_BYTES = 24 * 3600.0, 1 << 20


class StoredAssets:
    """Gives the content of stored files; a setup names one as HASH/NAME."""

    def __init__(self, settings: Settings) -> None:
        self.root, self.caches = settings.assets, settings.caches

    def read(self, file: str) -> bytes:
        """Return the file's bytes; see `core.setup.assets.Assets`."""
        sha256 = file.partition("/")[0]
        if not re.fullmatch(r"[0-9a-f]{64}", sha256):
            raise Problem(f"'{file}' is no stored asset.", file, "Take the mesh in again on the Intake station.")
        try:
            return (self.root / sha256[:2] / sha256).read_bytes()
        except OSError:
            raise Problem(
                f"the stored mesh '{file}' is gone.", file, "Take it in again on the Intake station."
            ) from None

    def cache(self, name: str) -> Cache:
        """Return the cache that a setup names as HASH/FOLDER; see `core.setup.assets.Assets`."""
        content, _, folder = name.partition("/")
        if not re.fullmatch(r"[0-9a-f]{64}", content) or not re.fullmatch(r"\d{6}/bake-\d{6}\.zarr", folder):
            raise Problem(f"'{name}' is no stored cache.", name, "Place the cache again on Intake.")
        cache = Cache(self.caches / folder)
        if content not in {body_hash(cache, number) for number in range(len(cache.names))}:
            raise Problem(
                "the cache is another now than when it was placed.", folder, "Place it again on Intake.",
            )  # fmt: skip
        return cache


def take_in(session: Session, settings: Settings, name: str, data: bytes) -> tuple[str, Contents]:
    """Store a mesh file; return how a setup names it, and what it holds.

    Raises:
        Problem: when it cannot be read; nothing is stored then.
    """
    name = clean_name(name)
    sha256 = file_hash(data)
    contents = kept_contents(data, name)
    folder = settings.assets / sha256[:2]
    folder.mkdir(parents=True, exist_ok=True)
    if not (folder / sha256).exists():
        write_whole(folder / sha256, data)
    # Somebody may hand in the same content at this very moment: whoever comes second finds it there.
    row = {
        "sha256": sha256, "name": name, "size_bytes": len(data),
        "points": sum(len(p.mesh.points) for p in contents.parts),
        "faces": sum(len(p.mesh.faces) for p in contents.parts),
    }  # fmt: skip
    session.execute(insert(Asset).values(row).on_conflict_do_nothing())
    return f"{sha256}/{name}", contents


def hold(settings: Settings, file: BinaryIO) -> str:
    """Keep a file that is still to be read, under its hash, which is returned; what nobody asked for a day goes.

    It goes to disk piece by piece: it may be large, and there may be many.
    """
    folder = settings.assets / "arriving"
    folder.mkdir(parents=True, exist_ok=True)
    for old in folder.iterdir():
        with contextlib.suppress(OSError):
            if time.time() - old.stat().st_mtime > HELD_S:
                old.unlink()
    digest, fresh = hashlib.sha256(), folder / f"{secrets.token_hex(8)}.part"
    with fresh.open("wb") as out:
        while piece := file.read(PIECE_BYTES):
            digest.update(piece)
            out.write(piece)
    fresh.replace(folder / digest.hexdigest())
    return digest.hexdigest()


def take_in_held(session: Session, settings: Settings, sha256: str, name: str) -> str:
    """Store a file that was held; return how a setup names it. It is held no longer, whether it can be read or not.

    Raises:
        Problem: when it cannot be read; nothing is stored then.
    """
    place = settings.assets / "arriving" / sha256
    try:
        data = place.read_bytes()
    except OSError:
        raise Problem("the file is not there any more.", name, "Hand it in again.") from None
    place.unlink(missing_ok=True)
    return take_in(session, settings, name, data)[0]


def clean_name(name: str) -> str:
    """Return a file's bare name, without folders, control characters and angle brackets."""
    name = PurePosixPath(name.replace("\\", "/")).name
    return re.sub(r"[\x00-\x1f<>]", "", name)[:200] or "mesh.obj"
