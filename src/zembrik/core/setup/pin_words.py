"""Which points a pin takes, in words."""

from __future__ import annotations

from zembrik.core.setup.motion import PinnedPoints

SIDE_WORDS = {
    "left": "its left side (-X)", "right": "its right side (+X)", "bottom": "its lowest points",
    "top": "its highest points", "back": "its back (-Z)", "front": "its front (+Z)",
}  # fmt: skip


def which_points(points: PinnedPoints) -> str:
    """Return in words which points a pin takes."""
    if points.box is not None:
        words = "the points in a box"
    elif points.side is not None:
        words = SIDE_WORDS[points.side]
    elif points.above is not None:
        words = f"all above {points.above:g} m"
    elif points.near is not None:
        words = f"all within {1000 * points.near.distance:g} mm of {points.near.body}"
    else:
        count = len(points.numbers or ())
        words = f"{count} chosen point{'s' if count != 1 else ''}"
    return words + (f", fading over {1000 * points.falloff:g} mm" if points.falloff else "")
