"""The figures that every frame has, in words; `stats` measures them."""

from __future__ import annotations

# name: (unit it is shown in, factor from SI to that unit, words)
STATS: dict[str, tuple[str, float, str]] = {
    "worst_penetration": ("mm", 1e3, "deepest point or face centre inside the room kept free"),
    "mean_penetration": ("mm", 1e3, "mean over all places inside the room kept free"),
    "worst_stretch": ("%", 1e2, "largest strain of a triangle along warp or weft"),
    "mean_stretch": ("%", 1e2, "mean strain along warp or weft"),
    "residual": ("mm", 1e3, "farthest that one more pass over the stiffnesses would move a point"),
    "passes": ("a substep", 1.0, "passes made in the mean"),
    "top_speed": ("m/s", 1.0, "fastest point"),
    "kinetic_energy": ("J", 1.0, "energy of all motion"),
    "stored_energy": ("J", 1.0, "energy that strain and folds store"),
    "height_energy": ("J", 1.0, "energy of height, 0 at the world's origin"),
    "energy_balance": ("J", 1.0, "gained in this frame that nothing explains; below 0 lost to friction and damping"),
    "momentum": ("kg·m/s", 1.0, "momentum of all that moves freely"),
    "momentum_balance": ("m/s", 1.0, "speed that all mass together took on in this frame and gravity does not explain"),
    "volume": ("l", 1e3, "held by closed cloth and soft bodies"),
    "asleep": ("bodies", 1.0, "rigid bodies that rest until something wakes them"),
    "contacts": ("points", 1.0, "points resting on or pressed against something"),
}
