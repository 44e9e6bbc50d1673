"""Size of caches against raw float32, and how fast they are written and read against raw files.

usage: PYTHONPATH=src python bench/caches.py [frames]

The four demo shots of what changes its form are baked for some frames. Per shot: bytes of all points on disk against
12 bytes a point and frame; then megabytes a second of raw points, written and read, as a cache's chunks and as plain
files, best of three, from and to the memory that the system keeps files in.
"""

import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import yardstick

from zembrik.core.bake import bake
from zembrik.core.cache.layout import chunk_path, encode_chunk, write_whole
from zembrik.core.cache.reader import Cache
from zembrik.core.compiled import use_threads
from zembrik.core.setup.assets import FolderAssets
from zembrik.core.setup.document import parse_setup, read_setup

EXAMPLES = Path(__file__).parent.parent / "examples"
SHOTS = ("awning-in-gusts", "quilt-over-the-bales", "muslin-over-the-loaf", "dent-in-the-dough")


def best(work) -> float:
    spent = []
    for _ in range(3):
        start = time.perf_counter()
        work()
        spent.append(time.perf_counter() - start)
    return min(spent)


def main() -> None:
    use_threads(2)
    yardstick.say()
    frames = int(sys.argv[1]) if sys.argv[1:] else 72
    folder = Path(tempfile.mkdtemp())
    for name in SHOTS:
        setup = read_setup((EXAMPLES / f"{name}.json").read_bytes(), name)
        setup = parse_setup({**setup.document(), "frames": [1, frames]})
        cache = bake(setup, FolderAssets(EXAMPLES), folder / f"{name}.zarr")
        bodies = [n for n in range(len(cache.names)) if not cache.is_rigid(n)]
        every = [(n, f) for n in bodies for f in range(1, frames + 1)]
        points = [cache.points(n, f) for n, f in every]
        raw = sum(p.nbytes for p in points)
        held = sum(chunk_path(cache.path / "bodies" / str(n) / "points", f - 1, 0, 0).stat().st_size for n, f in every)
        out = folder / "raw"
        out.mkdir(exist_ok=True)

        def write(what, out=out, points=points):
            for k, p in enumerate(points):
                write_whole(out / str(k), what(p))

        def read_cache(path=cache.path, every=every):
            again = Cache(path)
            for n, f in every:
                again.points(n, f)

        def read_raw(out=out, points=points):
            for k in range(len(points)):
                np.fromfile(out / str(k), np.float32)

        chunks = best(lambda write=write: write(encode_chunk))
        plain = best(lambda write=write: write(np.ndarray.tobytes))
        speeds = [raw / 1e6 / s for s in (chunks, plain, best(read_cache), best(read_raw))]
        size = f"{len(points[0]):,} points  {held / raw:.1%} of raw"
        print(f"{name:22} {size}  MB/s: written {speeds[0]:.0f} (raw {speeds[1]:.0f}), ", end="")
        print(f"read {speeds[2]:.0f} (raw {speeds[3]:.0f})", flush=True)


if __name__ == "__main__":
    main()
