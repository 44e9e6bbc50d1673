"""What leverage, proof and trial sheets are worth, measured on the demo's own shots.

python bench/knowledge.py leverage [SHOT …]   ranks dials with two seeds on four shots, and holds that against trials
python bench/knowledge.py proof      takes the cheapest quality that proof finds, and a run four times finer
python bench/knowledge.py workers    times twelve trials of the awning on one worker and on two
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import jsonpatch

from zembrik.core.bake import bake
from zembrik.core.cache.reader import Cache
from zembrik.core.compiled import use_threads
from zembrik.core.setup.assets import FolderAssets
from zembrik.core.setup.document import parse_setup
from zembrik.core.setup.resolve import resolve
from zembrik.core.trials.figures import apart
from zembrik.core.trials.leverage import Range, design, effects
from zembrik.core.trials.proof import judge, way_between

EXAMPLES = Path(__file__).resolve().parents[1] / "examples"
FRAMES, WALKS, SUBSTEPS = 24, 5, 10
SHOTS = {
    "awning-in-gusts": ["/bodies/0/material/area_density", "/bodies/0/material/bend", "/bodies/0/material/drag",
                        "/bodies/0/thickness"],
    "muslin-over-the-loaf": ["/bodies/0/material/friction", "/bodies/0/material/area_density",
                             "/bodies/0/material/bend", "/bodies/0/thickness"],
    "quilt-over-the-bales": ["/bodies/0/material/friction", "/bodies/0/material/area_density",
                             "/bodies/0/material/bend", "/bodies/0/thickness"],
    "dent-in-the-dough": ["/bodies/0/material/young", "/bodies/0/material/yield_strain", "/bodies/0/material/friction",
                          "/bodies/0/material/density"],
}  # fmt: skip


def example(name: str, frames: int) -> dict:
    """Return an example's setup, cut to so many frames."""
    document = json.loads((EXAMPLES / f"{name}.json").read_text())
    document["frames"] = [document["frames"][0], document["frames"][0] + frames - 1]
    return document


def baked(document: dict, patch: list, folder: Path, name: str) -> Cache:
    """Bake a patched setup."""
    changed = jsonpatch.JsonPatch(patch).apply(document)
    return bake(parse_setup(changed), FolderAssets(EXAMPLES), folder / f"{name}.zarr")


def ranges_of(document: dict, paths: list[str]) -> list[Range]:
    """Return each dial from half to one and a half of what it is now."""
    import jsonpointer

    whole = resolve(parse_setup(document)).document
    now = [float(jsonpointer.resolve_pointer(whole, path)) for path in paths]
    return [
        Range(p.rsplit("/", 1)[-1], (p,), 0.5 * v, 1.5 * v, False, 1.0, "") for p, v in zip(paths, now, strict=True)
    ]


def leverage(folder: Path) -> None:
    """Rank the dials of some shots with two seeds."""
    for name, paths in SHOTS.items():
        if sys.argv[2:] and name not in sys.argv[2:]:
            continue
        document = example(name, FRAMES)
        document["quality"] = {**document.get("quality", {}), "substeps": SUBSTEPS}
        ranges, orders = ranges_of(document, paths), []
        for seed in (1, 2):
            planned = design(ranges, WALKS, seed)
            caches = [baked(document, t.patch, folder, f"{name}-{seed}-{k}") for k, t in enumerate(planned.trials)]
            moved = [None] + [
                apart(b, a).mean_m if turned >= 0 else None
                for a, b, turned in zip(caches, caches[1:], planned.turned[1:], strict=False)
            ]
            seconds = [float(c.figure("timing/seconds")[1:].mean()) for c in caches]
            found = effects([r.label for r in ranges], planned.turned, moved, seconds)
            orders.append([e.label for e in sorted(found, key=lambda e: -e.moved_m)])
            told = ", ".join(
                f"{e.label} {1e3 * e.moved_m:.2f} ± {1e3 * e.spread_m:.2f} mm"
                for e in sorted(found, key=lambda e: -e.moved_m)
            )
            print(f"{name}, seed {seed}: {told}", flush=True)
        plain = {}
        for one in (ranges[[r.label for r in ranges].index(orders[0][k])] for k in (0, -1)):
            patches = [[{"op": "add", "path": p, "value": v} for p in one.paths] for v in (one.low, one.high)]
            sides = [baked(document, p, folder, f"{name}-{one.label}-{k}") for k, p in enumerate(patches)]
            plain[one.label] = apart(*sides).mean_m
        top, bottom = plain.values()
        told = ", ".join(f"{label} {1e3 * v:.2f} mm" for label, v in plain.items())
        print(f"  the same order in both: {orders[0] == orders[1]}; trials from half to one and a half: {told}; "
              f"top above bottom: {top > bottom}", flush=True)  # fmt: skip


def proof(folder: Path) -> None:
    """Find the cheapest quality of the muslin within a bound, and hold it against one four times finer."""
    bound_m = 0.004
    for name, frames in (("awning-in-gusts", 12), ("dent-in-the-dough", 24)):
        document = example(name, frames)
        steps = [20, 40, 80]
        caches = [baked(document, _substeps(n), folder, f"{name}-{n}") for n in steps]
        verdict = judge(caches, bound_m)
        if verdict is None or verdict.enough is None:
            print(f"{name}: none of {steps} is within {1e3 * bound_m:g} mm")
            continue
        enough = steps[verdict.enough]
        finer = baked(document, _substeps(4 * enough), folder, f"{name}-finer")
        way = way_between(caches[verdict.enough], finer)
        held = "holds" if way.mean <= bound_m else "DOES NOT HOLD"
        told = f"{name}: {enough} substeps are enough for {1e3 * bound_m:g} mm; four times finer is"
        print(f"{told} {1e3 * way.mean:.2f} mm away: {held}", flush=True)


def _substeps(count: int) -> list:
    return [{"op": "add", "path": "/quality/substeps", "value": count}]


def workers(folder: Path) -> None:
    """Time twelve trials of the awning on one process and on two that share them, a thread each."""
    document = example("awning-in-gusts", 48)
    document["quality"] = {"substeps": 20}
    (folder / "setup.json").write_text(json.dumps(document))
    for path in EXAMPLES.glob("*.obj"):
        (folder / path.name).write_bytes(path.read_bytes())
    seconds = {}
    for count, threads in ((1, 2), (1, 1), (2, 1)):
        begin = time.perf_counter()
        words = [str(folder), str(count), str(threads)]
        running = [subprocess.Popen([sys.executable, __file__, "some", *words, str(k)]) for k in range(count)]
        for process in running:
            process.wait()
        seconds[count, threads] = time.perf_counter() - begin
    one, alone, two = seconds.values()
    print(f"12 trials of the awning, 48 frames: {one:.1f} s on a worker that has both cores, {alone:.1f} s on one that")
    print(f"has one, {two:.1f} s on two that have one each: {two / alone:.2f} of one, {two / one:.2f} of both")


def some(folder: Path, count: int, threads: int, mine: int) -> None:
    """Bake every so-manieth of the twelve."""
    use_threads(threads)
    document = json.loads((folder / "setup.json").read_text())
    for k in range(mine, 12, count):
        weight = [{"op": "add", "path": "/bodies/0/material/area_density", "value": 0.2 + 0.05 * k}]
        changed = jsonpatch.JsonPatch(weight).apply(document)
        bake(parse_setup(changed), FolderAssets(folder), folder / f"{count}-{threads}-{k}.zarr")


if __name__ == "__main__":
    if sys.argv[1:2] == ["some"]:
        some(Path(sys.argv[2]), int(sys.argv[3]), int(sys.argv[4]), int(sys.argv[5]))
    else:
        with tempfile.TemporaryDirectory() as place:
            {"leverage": leverage, "proof": proof, "workers": workers}[sys.argv[1]](Path(place))
