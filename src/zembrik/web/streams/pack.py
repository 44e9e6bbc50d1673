"""Meshes as bytes for the viewport: a JSON head, then arrays it points into."""

from __future__ import annotations

import json
import struct
from typing import Any

import numpy as np
from numpy.typing import NDArray


class Pack:
    """Collects arrays and remembers where each begins."""

    def __init__(self) -> None:
        self.parts: list[bytes] = []
        self.length = 0

    def add(self, values: NDArray[Any], dtype: str) -> list[int]:
        """Append values as little-endian dtype; return [byte offset, count]."""
        data = np.ascontiguousarray(values, dtype=dtype).tobytes()
        place = [self.length, int(values.size)]
        self.parts.append(data)
        self.length += len(data)
        return place

    def bytes(self, head: dict[str, Any]) -> bytes:
        """Return 4 bytes with the head's length, the head (padded to 4), and the arrays."""
        text = json.dumps(head, separators=(",", ":")).encode()
        text += b" " * (-len(text) % 4)
        return struct.pack("<I", len(text)) + text + b"".join(self.parts)
