"""Files that are a frame each, BODY.0001.obj and so on, one by one or in a zip: bodies over frames."""

from __future__ import annotations

import io
import re
import zipfile
from pathlib import PurePosixPath

import numpy as np

from zembrik.core.exchange.contents import FRAMES_A_SECOND, MOST_MOVED, Contents, FilePart, Sequence, check_size
from zembrik.core.exchange.obj_sequence import NO_TIME
from zembrik.core.mesh.trimesh import TriMesh
from zembrik.core.problem import Problem

NAMED = re.compile(r"(?P<stem>.*?)[._ ]?(?P<number>-?\d{1,7})\.(?P<kind>obj|ply)", re.IGNORECASE)
MOST_FILES = 20_000
MOST_UNPACKED, MOST_TIMES = 16 * 1024 * 1024, 40  # bytes in any case, and times the zip itself
Numbered = dict[str, dict[int, bytes]]


def is_sequence(names: list[str]) -> bool:
    """Tell whether files look like the frames of a sequence: more than one, all numbered with three digits or more.

    bale1.obj and bale2.obj are two meshes; in a zip any number counts.
    """
    found = [NAMED.fullmatch(PurePosixPath(n).name) for n in names]
    return len(names) > 1 and all(m is not None and len(m["number"].lstrip("-")) >= 3 for m in found)


def unpacked(data: bytes, name: str) -> list[tuple[str, bytes]]:
    """Return the numbered meshes in a zip, with their names; what else is in it is left out.

    Raises:
        Problem: when it is broken, too large, or holds none.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            wanted = [i for i in archive.infolist() if _is_wanted(i.filename)]
            size = sum(i.file_size for i in wanted)
            if size > MOST_UNPACKED + MOST_TIMES * len(data) or len(wanted) > MOST_FILES:
                raise Problem(
                    f"it would unpack to {size / 1e9:.1f} GB in {len(wanted):,} files.", name, "Hand in less."
                )
            found = [(i.filename, archive.read(i)) for i in wanted]
    except Problem:
        raise
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError, RuntimeError, EOFError):
        raise Problem("the zip is broken.", name, "It may be cut off; make it again.") from None
    except Exception as error:  # what packs inside of it has exceptions of its own
        raise Problem(f"the zip cannot be unpacked: {str(error)[:80]}.", name, "Make it again.") from None
    if not found:
        raise Problem("the zip holds no numbered OBJ or PLY.", name, "Its files are to be called as in sheet.0001.obj.")
    return found


def _is_wanted(file: str) -> bool:
    """Tell whether a file in a zip is a numbered mesh, and none of the notes some systems put beside each."""
    path = PurePosixPath(file)
    return "__MACOSX" not in path.parts and not path.name.startswith("._") and NAMED.fullmatch(path.name) is not None


def packed(files: list[tuple[str, bytes]]) -> tuple[str, bytes]:
    """Return files of a sequence as one zip, with its name; equal files in any order make equal bytes."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        for file, data in sorted(files):
            archive.writestr(zipfile.ZipInfo(PurePosixPath(file).name, NO_TIME), data)
    stems = {NAMED.sub(r"\g<stem>", PurePosixPath(f).name) for f, _ in files}
    return f"{sorted(stems)[0].strip('._ ') or 'sequence'}.zip", out.getvalue()


def read_sequence(files: list[tuple[str, bytes]], name: str) -> Contents:
    """Return the bodies of a sequence; frames that are not there are told, and what was before goes on until the next.

    Args:
        files: names and bytes, in any order. name: of the whole.

    Raises:
        Problem: for what is broken, or one frame twice.
    """
    bodies: Numbered = {}
    for file, data in files:
        match = NAMED.fullmatch(PurePosixPath(file).name)
        if match is None:
            raise Problem("its name has no frame number.", file, "Call it as in sheet.0001.obj.")
        stem = match["stem"].strip("._ ") or PurePosixPath(name).stem
        if (number := int(match["number"])) in bodies.setdefault(stem, {}):
            raise Problem(f"frame {number} of '{stem}' is there twice.", file, "Leave one of them out.")
        bodies[stem][number] = data
    notes: list[str] = []
    first = min(min(frames) for frames in bodies.values())
    parts = [_part(stem, frames, first, notes) for stem, frames in sorted(bodies.items())]
    check_size(parts, name)
    return Contents("sequence", parts, notes=notes, first=first)


def _part(stem: str, frames: dict[int, bytes], first: int, notes: list[str]) -> FilePart:
    from zembrik.core.exchange.obj import read_obj
    from zembrik.core.exchange.read_ply import read_ply

    numbers = sorted(frames)
    meshes: list[TriMesh] = []
    size = 0
    for number in numbers:
        data, where = frames[number], f"{stem}, frame {number}"
        mesh = read_ply(data, where).parts[0].mesh if data.startswith(b"ply") else read_obj(data, where)
        size += mesh.points.size
        if size > MOST_MOVED:
            raise Problem("its moving points are more than fit.", stem, "Hand in fewer frames or a coarser mesh.")
        meshes.append(mesh)
    missing = sorted(set(range(numbers[0], numbers[-1] + 1)) - set(numbers))
    if missing:
        notes.append(
            f"'{stem}': {_ranges(missing)} not there; it goes straight over from the frame before to the next."
        )
    times = (np.array(numbers, dtype=np.float64) - first) / FRAMES_A_SECOND
    same = all(m.faces.shape == meshes[0].faces.shape and (m.faces == meshes[0].faces).all() and
               len(m.points) == len(meshes[0].points) for m in meshes)  # fmt: skip
    if len(meshes) == 1:
        return FilePart(stem, meshes[0])
    if same:
        return FilePart(stem, meshes[0], times_s=times, shapes=np.stack([m.points for m in meshes]))
    counts = sorted({len(m.points) for m in meshes})
    told = f"{counts[0]:,} to {counts[-1]:,} points" if len(counts) > 1 else "the same points with other faces"
    notes.append(f"'{stem}' is another mesh from frame to frame ({told}): it is kept as a sequence of meshes.")
    return FilePart(stem, meshes[0], times_s=times, sequence=Sequence.of(meshes))


def _ranges(numbers: list[int]) -> str:
    """Return frames in words: "frame 5 is", "frames 5 to 7 and 12 are"."""
    runs: list[list[int]] = []
    for n in numbers:
        if runs and n == runs[-1][-1] + 1:
            runs[-1][1:] = [n]
        else:
            runs.append([n, n])
    told = [f"{a}" if a == b else f"{a} to {b}" for a, b in runs[:6]]
    more = f" and {len(runs) - 6} more" if len(runs) > 6 else ""
    return f"frame{'s' if len(numbers) > 1 else ''} {', '.join(told)}{more} {'are' if len(numbers) > 1 else 'is'}"
