"""A world run frame by frame from a plain document, for tests of the solver."""

from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.setup.resolve import resolve
from zembrik.core.solver.build import build_world
from zembrik.core.solver.step import Stepper


class Stage:
    """A world at its first frame, and what moves it on."""

    def __init__(self, document, substeps=None, iterations=1, assets=None):
        """Take a document; with no substeps, those of the profile "daily"."""
        document = {"world": {"air_density": 0}, **document}
        document["quality"] = {"substeps": substeps, "iterations": iterations, **document.get("quality", {})}
        setup = parse_setup(document)
        self.world = build_world(setup, assets or NoAssets())
        quality = resolve(setup).document["quality"]
        self.stepper = Stepper(self.world, quality["substeps"], quality["iterations"], setup.fps, quality["enough"])
        self.fps, self.frame = setup.fps, setup.frames[0]

    @property
    def rigid(self):
        return self.world.solids.rigid

    def number(self, name):
        """Return a rigid body's number."""
        return [part.name for part in self.world.solids.parts].index(name)

    def run(self, frames, look=None):
        """Advance so many frames; collect what look() returns after each."""
        found = []
        for _ in range(frames):
            self.stepper.advance(self.frame)
            self.frame += 1
            if look:
                found.append(look())
        return found


def brick(name, at, size=(0.4, 0.4, 0.4), **more):
    """Return a rigid box with the proxy box."""
    place = {"translate": list(at), **more.pop("place", {})}
    mesh = {"shape": "box", "size": list(size)}
    return {"name": name, "role": "rigid", "mesh": mesh, "place": place, "proxy": {"kind": "box"}, **more}
