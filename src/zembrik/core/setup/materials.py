"""Presets: physical values of fabrics and of rigid and soft stuff, each with where it comes from.

Bending is Peirce's cantilever rule (F. T. Peirce, "The handle of cloth as a measurable
quantity", 1930): B = w c³, with w the weight per area (N/m²) and c the bending length of a
fabric of that weight, named in each source line. Stretch is the force per width at small
strain; shear the force per width and radian at small angles. They are nominal values of the
named kind of fabric, not of one sample.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Any

GRAVITY = 9.81


@dataclass(frozen=True)
class Fabric:
    """One fabric; the fields carry the names of the material's dials.

    Attributes:
        area_density: kg/m².
        stretch: N/m of pull for a strain of 1, along warp and weft.
        compression: N/m, the same under push; woven fabric buckles inside before it carries much.
        shear: N/m for a shear angle of 1 radian.
        bend: N·m, moment per width for a curvature of 1/m.
        damping: s; the pull of a material that stretches at 1/s, over its stiffness. The presets
            leave it at 0: at these steps the solver's own damping is larger than a fabric's.
        friction: Coulomb coefficient.
        sliding_friction: Coulomb coefficient once it slides.
        yield_strain: stretch up to which it springs back. yield_angle: degrees of a fold, likewise.
        creep: times a second that what is beyond becomes its rest shape; 0 for never.
        tack: Pa of pull towards what it came close to. tack_distance: m at which that breaks.
        lift: share of the push across the wind that a slanting face feels.
        drag: share of the full pressure of the air that a face square to the wind feels.
        thickness: m kept free on each side of the surface.
        source: where the values come from.
    """

    area_density: float
    stretch: float
    compression: float
    shear: float
    bend: float
    damping: float
    friction: float
    sliding_friction: float
    drag: float
    thickness: float
    source: str
    lift: float = 0.0
    yield_strain: float = 0.1
    yield_angle: float = 60.0
    creep: float = 0.0
    tack: float = 0.0
    tack_distance: float = 0.005


def _woven(
    area_density: float,
    bending_length_m: float,
    stretch: float,
    shear: float,
    friction: float,
    thickness: float,
    words: str,
    drag: float = 1.0,
    compression: float | None = None,
) -> Fabric:
    bend = float(f"{area_density * GRAVITY * bending_length_m**3:.2g}")
    source = f"{words}; bending length {bending_length_m * 100:.1f} cm after Peirce (1930)"
    push = stretch if compression is None else compression
    return Fabric(area_density, stretch, push, shear, bend, 0.0, friction, friction, drag, thickness, source)


FABRICS: dict[str, Fabric] = {
    "muslin": _woven(0.13, 0.020, 4000, 40, 0.45, 0.002, "plain-weave cotton of 130 g/m²", drag=0.9),
    "linen": _woven(0.20, 0.026, 8000, 60, 0.40, 0.002, "plain-weave flax of 200 g/m²"),
    "canvas": _woven(0.40, 0.042, 15000, 150, 0.50, 0.003, "tight plain weave of 400 g/m²"),
    "taffeta": _woven(0.09, 0.028, 6000, 60, 0.25, 0.0015, "crisp filament weave of 90 g/m²"),
    "wool felt": _woven(0.60, 0.040, 2000, 1000, 0.60, 0.004, "pressed wool of 600 g/m², the same in all directions"),
    "oilcloth": _woven(0.35, 0.032, 5000, 800, 0.35, 0.002, "coated cotton of 350 g/m², which hardly shears"),
}


@dataclass(frozen=True)
class Stuff:
    """What a rigid body is made of; the fields carry the names of the material's dials.

    Attributes:
        density: kg/m³.
        friction, sliding_friction: Coulomb coefficients at rest and in sliding.
        bounce: share of the speed given back by a hard floor.
        rolling_resistance: m, the lever at which the ground's push holds back what rolls.
        thickness: m kept free around the surface.
        source: where the values come from.
        drag, lift: as a fabric's, of the faces that meet the air; what is heavy hardly feels it, so it is left out.
    """

    density: float
    friction: float
    sliding_friction: float
    bounce: float
    rolling_resistance: float
    thickness: float
    source: str
    drag: float = 0.0
    lift: float = 0.0


RIGIDS: dict[str, Stuff] = {
    "oak": Stuff(720, 0.55, 0.40, 0.35, 5e-4, 0.001,
                 "air-dry oak, 720 kg/m³; wood on wood 0.5-0.6 at rest, 0.4 sliding; rolls on a lever of 0.5 mm"),
    "fired clay": Stuff(1900, 0.60, 0.50, 0.20, 5e-4, 0.001,
                        "unglazed earthenware, 1,900 kg/m³; breaks rather than bounces"),
    "granite": Stuff(2650, 0.65, 0.55, 0.30, 5e-4, 0.001, "granite, 2,650 kg/m³; rough stone on stone 0.6-0.7"),
    "tin": Stuff(7290, 0.45, 0.35, 0.15, 2e-4, 0.001, "pure tin, 7,290 kg/m³; a soft metal that swallows blows"),
}  # fmt: skip


@dataclass(frozen=True)
class Soft:
    """What a soft body is made of; the fields carry the names of the material's dials.

    Attributes:
        density: kg/m³.
        young: Young's modulus, Pa. poisson: Poisson's ratio.
        damping: s, by which stress lags behind strain.
        friction, sliding_friction: Coulomb coefficients at rest and in sliding.
        yield_strain: logarithmic change of form up to which it springs back.
        creep: times a second that what is beyond becomes its rest shape; 0 for never.
        thickness: m kept free around the surface.
        source: where the values come from.
        drag, lift: as a fabric's, of the faces that meet the air; what is heavy hardly feels it, so it is left out.
    """

    density: float
    young: float
    poisson: float
    damping: float
    friction: float
    sliding_friction: float
    yield_strain: float
    creep: float
    thickness: float
    source: str
    drag: float = 0.0
    lift: float = 0.0


SOFTS: dict[str, Soft] = {
    "dough": Soft(800, 1.2e4, 0.42, 0.02, 0.8, 0.8, 0.08, 6.0, 0.001,
                  "proofed wheat dough: shear modulus of some kPa in rheometers, yields at a few percent"),
    "cork": Soft(180, 1.5e7, 0.05, 0.001, 0.6, 0.5, 0.05, 0.0, 0.001,
                 "natural cork: 15 MPa across, Poisson's ratio near 0 (Gibson, Easterling and Ashby 1981)"),
    "wax": Soft(960, 2.0e6, 0.40, 0.01, 0.5, 0.4, 0.03, 4.0, 0.001,
                "beeswax at hand warmth: some MPa, far below its 40 MPa when cold; takes a dent"),
    "sponge": Soft(40, 2.5e4, 0.10, 0.02, 0.7, 0.7, 0.50, 0.0, 0.001,
                   "open-cell foam of 40 kg/m³: tens of kPa, hardly bulges (Gibson and Ashby 1997)"),
}  # fmt: skip

PRESETS: dict[str, dict[str, Any]] = {"cloth": FABRICS, "soft": SOFTS, "rigid": RIGIDS}
SIMULATED = tuple(PRESETS)
USUAL = {"cloth": "muslin", "soft": "dough", "rigid": "oak"}
_MORE: dict[str, tuple[str, ...]] = {"cloth": ("rest_length", "pressure"), "soft": (), "rigid": ()}


def preset_of(role: str, name: str | None) -> Any:
    """Return a role's preset by its name; None gives the usual one."""
    return PRESETS[role][name or USUAL[role]]


def filled_dials(role: str) -> tuple[str, ...]:
    """Return the material's dials that a role's presets fill in."""
    first = next(iter(PRESETS[role].values()))
    return tuple(f.name for f in fields(first) if f.name not in ("thickness", "source"))


def dials_of(role: str) -> tuple[str, ...]:
    """Return all of the material's dials that a role has."""
    return (*filled_dials(role), *_MORE[role])
