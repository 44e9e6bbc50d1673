"""Many bodies poured, as in the example of five hundred."""

import numpy as np

from zembrik.core.findings.check import check_setup
from zembrik.core.setup.document import parse_setup
from zembrik.core.solver.build import build_world
from zembrik.core.solver.stats import Meter
from zembrik.core.solver.step import Stepper
from zembrik.library.fair_bodies import pears


class Files:
    """A shot's files by their names."""

    def __init__(self, files):
        self.files = files

    def read(self, file):
        return self.files[file]


def test_pears_poured_down_the_terraces_are_not_lost_and_come_to_rest():
    """24 pears, 270 frames: all lie on the terraces or before them, none deeper in anything than
    5% of its 0.12 m, and all asleep."""
    shot = pears(24, 270)
    assets, setup = Files(shot.files), parse_setup(shot.setup)
    assert [f for f in check_setup(setup, assets) if f.severe] == []
    world = build_world(setup, assets)
    stepper, meter, worst = Stepper(world, 20, 1, 24.0), Meter(world), []
    for frame in range(1, 271):
        stepper.advance(frame)
        if frame % 5 == 0:
            worst.append(meter.measure(stepper)["worst_penetration"])
    place = world.solids.rigid.place
    assert np.isfinite(place).all()
    assert (place[:, 1] > 0.0).all() and (np.abs(place[:, 0]) < 2.0).all() and (place[:, 2] < 6.0).all()
    assert max(worst) < 0.05 * 0.12
    assert world.solids.rigid.asleep.all()
