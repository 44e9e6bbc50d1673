"""Paths into a setup as the page calls what they lead to."""

from __future__ import annotations

import re
from typing import Any

from zembrik.web.dials import LABELS

PATH = re.compile(
    r"(?<![\w'/])(?P<top>bodies|joints|forces|world|quality|frames|preroll|fps|title)"
    r"(?P<rest>(?:\[\d+\]|\.[a-z_]+)*)(?P<named> '[^']*')?",
    re.IGNORECASE,
)
HOLDERS = ("material", "place", "proxy", "quality", "world", "motion", "mesh")  # said by what is in them
PARTS = {"pins": "hold", "joints": "joint", "forces": "force", "keys": "key"}
SCHEMA = "docs/setup.schema.json lists every field."


def in_page_words(text: str, document: dict[str, Any] | None) -> str:
    """Return a sentence with paths such as bodies[1].place.scale told as on the page: 'ball', Scale."""

    def told(match: re.Match[str]) -> str:
        top, rest = match["top"].lower(), match["rest"]
        if not rest and top not in ("preroll", "fps", "frames"):
            return match[0]  # an ordinary word
        words = []
        steps = re.findall(r"\[(\d+)\]|\.([a-z_]+)", rest)
        names = [top] + [name or number for number, name in steps]
        if top == "bodies" and steps and steps[0][0]:
            words.append(match["named"].strip() if match["named"] else f"'{_name(document, int(steps[0][0]))}'")
            names = names[2:]
        for k, name in enumerate(names):
            if name.isdecimal():
                continue
            follows = names[k + 1] if k + 1 < len(names) else ""
            if follows.isdecimal():
                words.append(f"{PARTS.get(name, name.removesuffix('s').replace('_', ' '))} {int(follows) + 1}")
            elif name not in HOLDERS or k + 1 == len(names):
                words.append(LABELS.get(name, name.replace("_", " ")))
        return ", ".join(words)

    return PATH.sub(told, text)


def _name(document: dict[str, Any] | None, number: int) -> str:
    bodies = (document or {}).get("bodies", [])
    return str(bodies[number].get("name", number + 1)) if number < len(bodies) else f"body {number + 1}"
