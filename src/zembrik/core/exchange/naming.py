"""File names from a pattern, so that many files are named alike.

A pattern is text with words in square brackets that stand for what a file is of: `[shot]-[title low]-r[revision 3]`.
A word may be followed by a blank and `low` for small letters, or by a number for as many digits at least. A slash makes
a folder. What stands in brackets becomes letters, digits, `-`, `_` and `.` only, whatever a show calls its shots.
"""

from __future__ import annotations

import re
from typing import Any

from zembrik.core.problem import Problem

FIELDS: dict[str, str] = {
    "show": "the show's title", "shot": "the shot's code", "title": "the shot's title",
    "revision": "of the setup that was baked", "bake": "the bake's number", "body": "the body, where there is one",
    "first": "the first frame", "last": "the last frame", "fps": "frames a second", "unit": "of lengths",
    "format": "of the file",
}  # fmt: skip
USUAL = "[shot low]-[title low]-r[revision]"
MOST_PART, MOST_WHOLE = 100, 200  # letters of a folder's or file's name, and of all together
_WORD = re.compile(r"\[([^\[\]]*)\]")


def named(pattern: str, values: dict[str, Any], ending: str) -> str:
    """Return the name that a pattern gives, with folders before it and an ending behind.

    Args:
        pattern: see above. values: of `FIELDS`. ending: of the format, without a dot before it.

    Raises:
        Problem: for a word there is not, brackets left open, and what is no usable name.
    """
    if not pattern.strip():
        raise Problem("the pattern is empty.", "pattern", f"As usual it is {USUAL}.")

    def filled(match: re.Match[str]) -> str:
        word, _, how = match[1].strip().partition(" ")
        if word not in FIELDS:
            raise Problem(f"there is no word [{word[:30]}].", "pattern", f"There are {', '.join(FIELDS)}.")
        value = values.get(word, "")
        text = f"{value:g}" if isinstance(value, float) else str(value)
        how = how.strip()
        if how == "low":
            text = text.lower()
        elif how.isdigit() and len(how) <= 2:
            sign, digits = ("-", text[1:]) if text.startswith("-") else ("", text)
            text = sign + digits.zfill(int(how))
        elif how:
            raise Problem(f"[{word} {how[:20]}] is not known.", "pattern", "Write low, or how many digits.")
        return text if isinstance(value, int) else clean(text)

    text = _WORD.sub(filled, pattern.strip())
    if "[" in text or "]" in text:
        raise Problem("a bracket is left open.", "pattern", "Words stand in [ and ].")
    parts = [part.strip() for part in text.replace("\\", "/").split("/")]
    for part in parts:
        if not part or set(part) <= {"."} or re.search(r"[\x00-\x1f:*?\"<>|]", part) or len(part) > MOST_PART:
            raise Problem(
                f"'{part[:40]}' is no name for a file or folder.", "pattern",
                f"Names have 1 to {MOST_PART} letters, and none of : * ? \" < > |",
            )  # fmt: skip
    whole = "/".join(parts)
    if len(whole) > MOST_WHOLE:
        raise Problem(f"the name has {len(whole)} letters; the limit is {MOST_WHOLE}.", "pattern", "Shorten it.")
    return f"{whole}.{ending}"


def clean(text: str) -> str:
    """Return text as part of a file's name: letters of any script and digits stay, the rest becomes `-`."""
    text = re.sub(r"[^\w.]+", "-", text).strip("-._")
    return text[:60].rstrip("-._") or "unnamed"
