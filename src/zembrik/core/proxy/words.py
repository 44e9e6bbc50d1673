"""The kinds of proxies, in words; `fit` makes them."""

from __future__ import annotations

CARRIED_PROXIES = ("reduced", "shell", "surface")  # meshes, which can be bound to one that changes its form
PROXY_WORDS = {
    "plane": "an endless flat side",
    "ball": "a ball around the mesh",
    "box": "the smallest box around it",
    "capsule": "a rounded rod along the mesh",
    "hull": "the tightest shape without hollows",
    "hulls": "several hulls, so that hollows stay",
    "reduced": "the mesh with fewer faces",
    "shell": "a closed wrap around anything",
    "surface": "the mesh itself, exactly",
}


def kinds_for(role: str, changes_form: bool = False) -> list[str]:
    """Return the kinds of proxy that a body in a role may have; one that changes its form needs what can follow it."""
    if changes_form:
        return list(CARRIED_PROXIES)
    return [kind for kind in PROXY_WORDS if kind != "plane" or role == "collider"]
