"""Any mesh file: told by its content, not by its name."""

from __future__ import annotations

from zembrik.core.exchange.contents import Contents, FilePart
from zembrik.core.problem import Problem

ENDINGS = (".obj", ".ply", ".stl", ".glb", ".gltf", ".usd", ".usda", ".usdc", ".usdz", ".abc", ".zip")
MOST_BYTES = 256 * 1024 * 1024
MOTION = "motion"  # follows a kind where only what moves is asked for


def kind_of(data: bytes, name: str) -> str:
    """Return what a file is: "obj", "ply", "stl", "gltf", "usda", "usdc", "usdz", "abc" or "zip"."""
    head = data[:512]
    if not head.strip(b"\0\t\r\n \xef\xbb\xbf"):
        raise Problem("the file is empty.", name, "Export it again.")
    for mark, kind in ((b"PXR-USDC", "usdc"), (b"glTF", "gltf"), (b"PK\x03\x04", "usdz"), (b"Ogawa", "abc"),
                       (b"#usda", "usda"), (b"ply\n", "ply"), (b"ply\r", "ply")):  # fmt: skip
        if head.startswith(mark):
            return "zip" if kind == "usdz" and not name.lower().endswith(".usdz") and not _holds_usd(data) else kind
    if head.startswith(b"\x89HDF"):
        raise Problem(
            "this point cache is of the old kind (HDF5).", name, "Export it again in the kind of today (Ogawa)."
        )
    if head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return "gltf"
    ending = name.rsplit(".", 1)[-1].lower()
    if ending == "stl" or (head.startswith(b"solid") and b"facet" in data[:4096]):
        return "stl"
    if ending in ("obj", "txt") or b"\nv " in data[:65536] or head.startswith((b"v ", b"#", b"o ", b"g ", b"mtllib")):
        return "obj"
    if f".{ending}" in ENDINGS:
        raise Problem(
            f"the file is called {ending.upper()}, but its content is something else.", name, "Export it again."
        )
    raise Problem(
        "this is none of the mesh formats that are read.", name,
        "Hand in OBJ, PLY, STL, glTF or GLB, USD (usda, usdc, usdz), a point cache (abc), or a zip of numbered OBJ or "
        "PLY.",
    )  # fmt: skip


def _holds_usd(data: bytes) -> bool:
    """Tell whether a package begins with a stage, as usdz does: its first file's name stands in its first bytes."""
    length = int.from_bytes(data[26:28], "little")
    return data[30 : 30 + length].lower().endswith((b".usd", b".usda", b".usdc"))


def read_contents(data: bytes, name: str) -> Contents:
    """Return what a mesh file holds, read in a process apart with bounds that follow from its size.

    Raises:
        Problem: saying what is wrong with it, where, and what to do.
    """
    if len(data) > MOST_BYTES:
        raise Problem(
            f"the file has {len(data) / 1e6:.0f} MB; the limit is {MOST_BYTES / 1e6:.0f} MB.", name, "Split it."
        )
    from zembrik.core.exchange.apart import read_apart

    return read_apart(data, name, kind_of(data, name))


def read_moving(data: bytes, name: str) -> Contents:
    """Return what moves as a whole in a glTF or USD file, with or without a mesh, read in a process apart.

    Raises:
        Problem: saying what is wrong with it, where, and what to do.
    """
    kind = kind_of(data, name)
    if kind not in ("gltf", "usda", "usdc", "usdz"):
        raise Problem(
            "this file says nothing of motion as a whole.", name, "Hand in a table of tracks (CSV, JSON), glTF or USD."
        )
    from zembrik.core.exchange.apart import read_apart

    return read_apart(data, name, f"{kind} {MOTION}")


def read_here(data: bytes, name: str, kind: str) -> Contents:
    """Return what a file of a kind holds, read in this process; see `read_contents`, or `read_moving`."""
    kind, _, only = kind.partition(" ")
    if kind == "obj":
        from zembrik.core.exchange.obj import read_obj

        return Contents("OBJ", [FilePart("", read_obj(data, name))])
    if kind == "ply":
        from zembrik.core.exchange.read_ply import read_ply

        return read_ply(data, name)
    if kind == "stl":
        from zembrik.core.exchange.read_stl import read_stl

        return read_stl(data, name)
    if kind == "zip":
        from zembrik.core.exchange.read_sequence import read_sequence, unpacked

        return read_sequence(unpacked(data, name), name)
    if kind == "gltf":
        from zembrik.core.exchange.read_gltf import read_gltf

        return read_gltf(data, name, motion=only == MOTION)
    if kind == "abc":
        from zembrik.core.exchange.read_abc import read_abc

        return read_abc(data, name)
    from zembrik.core.exchange.read_usd import read_usd

    return read_usd(data, name, kind, motion=only == MOTION)
