"""PLY, text and binary: points, and faces of any number of corners (Turk 1994)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from zembrik.core.compiled import kernel
from zembrik.core.exchange.contents import Contents, check_size, cut_polygons, make_part
from zembrik.core.problem import Problem

NUMBERS = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2",
    "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4",
    "double": "f8", "float64": "f8",
}  # fmt: skip
ORDERS = {"ascii": "", "binary_little_endian": "<", "binary_big_endian": ">"}
LONGEST_HEAD = 65536  # bytes
FACES = ("vertex_indices", "vertex_index")


class _Element:
    """One kind of row: its name, how many there are, and its properties as (name, number, number of a list's count)."""

    def __init__(self, name: str, count: int) -> None:
        self.name, self.count = name, count
        self.properties: list[tuple[str, str, str]] = []

    @property
    def listed(self) -> bool:
        """Whether its rows may have different lengths."""
        return any(length for _, _, length in self.properties)


def read_ply(data: bytes, name: str) -> Contents:
    """Return the contents of a PLY file, which says neither unit nor axes.

    Raises:
        Problem: for what is broken or holds no faces.
    """
    order, elements, at = _head(data, name)
    points, corners, sizes = np.zeros((0, 3)), np.zeros(0, np.int64), np.zeros(0, np.int64)
    words = None
    if order == "":
        try:
            words = np.array(data[at:].split(), dtype="S32").astype(np.float64)
        except ValueError:
            raise Problem("its text holds something that is no number.", name, "Export it again.") from None
        at = 0
    for element in elements:
        if words is None:
            rows, lists, lengths, at = _binary(data, at, order, element, name)
        else:
            rows, lists, lengths, at = _text(words, at, element, name)
        if element.name == "vertex":
            missing = [axis for axis in "xyz" if axis not in rows]
            if missing:
                raise Problem(f"its points have no {missing[0]}.", name, "Export it again.")
            points = np.column_stack([rows[axis] for axis in "xyz"]).astype(np.float64)
        elif element.name == "face":
            corners, sizes = lists, lengths
    if not len(sizes):
        raise Problem("the file holds points but no faces.", name, "Export it with its surface.")
    faces = cut_polygons(sizes, corners, points, name)
    part = make_part("", points, faces, np.eye(4), name)
    parts = [part] if part else []
    check_size(parts, name)
    return Contents("PLY", parts)


def _head(data: bytes, name: str) -> tuple[str, list[_Element], int]:
    """Return the byte order ("" for text), the elements, and where their rows begin."""
    end = data[:LONGEST_HEAD].find(b"end_header")
    if end < 0:
        raise Problem("its head has no end.", name, "The file may be cut off; export it again.")
    at = data.find(b"\n", end)
    if at < 0:
        at = len(data) - 1
    order, elements = None, []  # type: str | None, list[_Element]
    for line in data[:end].decode("latin-1").splitlines():
        words = line.split()
        try:
            if words[:1] == ["format"]:
                order = ORDERS[words[1]]
            elif words[:1] == ["element"]:
                elements.append(_Element(words[1], int(words[2])))
            elif words[:2] == ["property", "list"]:
                elements[-1].properties.append((words[4], NUMBERS[words[3]], NUMBERS[words[2]]))
            elif words[:1] == ["property"]:
                elements[-1].properties.append((words[2], NUMBERS[words[1]], ""))
        except (IndexError, KeyError, ValueError):
            raise Problem(f"'{line[:60]}' in its head is not PLY.", name, "Export it again.") from None
    if order is None:
        raise Problem("its head does not say how its numbers are written.", name, "Export it again.")
    for element in elements:
        if not 0 <= element.count <= len(data):  # every row takes a byte at least
            raise Problem(
                f"it says it has {element.count:,} of '{element.name}', but it is too short for them.", name,
                "It may be cut off; export it again.",
            )  # fmt: skip
    return order, elements, at + 1


Rows = tuple[dict[str, NDArray[np.float64]], NDArray[np.int64], NDArray[np.int64], int]


def _short(element: _Element, name: str) -> Problem:
    return Problem(
        f"it ends in the middle of its {element.count:,} of '{element.name}'.",
        name,
        "It may be cut off; export it again.",
    )


def _binary(data: bytes, at: int, order: str, element: _Element, name: str) -> Rows:
    """Return an element's columns, the numbers of its faces' corners one after another, their counts, and its end."""
    nothing = np.zeros(0, np.int64)
    if not element.listed:
        kind = np.dtype([(f"{n} {k}", order + t) for k, (n, t, _) in enumerate(element.properties)])
        end = at + element.count * kind.itemsize
        if end > len(data):
            raise _short(element, name)
        rows = np.frombuffer(data, kind, element.count, at)
        return {key.rsplit(" ", 1)[0]: rows[key] for key in kind.names or ()}, nothing, nothing, end
    raw = np.frombuffer(data, np.uint8)
    sizes = np.array([int(t[1]) for _, t, _ in element.properties], np.int64)
    lengths = np.array([int(t[1]) if t else 0 for _, _, t in element.properties], np.int64)
    which = next((k for k, (n, _, t) in enumerate(element.properties) if t and n in FACES), -1)
    if any(t and t[0] == "f" for _, _, t in element.properties) or (
        which >= 0 and element.properties[which][1][0] == "f"
    ):
        raise Problem("it counts corners with broken numbers.", name, "Export it again.")
    starts, counts = np.zeros(element.count, np.int64), np.zeros(element.count, np.int64)
    end = int(_walk(raw, at, element.count, sizes, lengths, order == ">", which, starts, counts))
    if end < 0:
        raise _short(element, name)
    if which < 0:
        return {}, nothing, nothing, end
    number = order + element.properties[which][1]
    width, total = int(sizes[which]), int(counts.sum())
    at_corner = np.repeat(starts - np.cumsum(counts) * width + counts * width, counts) + np.arange(total) * width
    bytes_of = raw[at_corner[:, None] + np.arange(width)] if total else np.zeros((0, width), np.uint8)
    return {}, np.ascontiguousarray(bytes_of).view(number).reshape(-1).astype(np.int64), counts, end


@kernel
def _walk(raw, at, count, sizes, lengths, big, which, starts, counts):  # type: ignore[no-untyped-def]
    """Fill where each row's list number `which` begins and how long it is; return the end, -1 where it is cut off."""
    for row in range(count):
        for k in range(len(sizes)):
            many = 1
            if lengths[k] > 0:
                if at + lengths[k] > len(raw):
                    return -1
                many = 0
                for b in range(lengths[k]):
                    byte = raw[at + b] if big else raw[at + lengths[k] - 1 - b]
                    many = many * 256 + int(byte)
                at += lengths[k]
            if many > (len(raw) - at) // sizes[k]:
                return -1
            if k == which:
                starts[row], counts[row] = at, many
            at += many * sizes[k]
    return at


def _text(words: NDArray[np.float64], at: int, element: _Element, name: str) -> Rows:
    """The same of text, whose numbers (n,) are all words after the head."""
    nothing = np.zeros(0, np.int64)
    if not element.listed:
        width = len(element.properties)
        end = at + element.count * width
        if end > len(words):
            raise _short(element, name)
        rows = words[at:end].reshape(element.count, width)
        return {n: rows[:, k] for k, (n, _, _) in enumerate(element.properties)}, nothing, nothing, end
    corners, counts = [], np.zeros(element.count, np.int64)
    for row in range(element.count):
        for n, _, listed in element.properties:
            if at >= len(words):
                raise _short(element, name)
            many = int(words[at]) if listed and abs(words[at]) < 1e9 else 1
            at += 1 if listed else 0
            if many < 0 or at + many > len(words):
                raise _short(element, name)
            if listed and n in FACES:
                corners.append(words[at : at + many])
                counts[row] = many
            at += many
    return {}, np.concatenate([nothing, *corners]).astype(np.int64), counts, at
