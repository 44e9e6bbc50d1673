"""The setup document: what is refused, what is resolved, what the hash hangs on."""

import copy
import json
from pathlib import Path

import pytest

from zembrik.core.problem import Problem
from zembrik.core.setup.document import Setup, parse_setup, read_setup
from zembrik.core.setup.resolve import resolve, setup_hash

ROOT = Path(__file__).parents[2]
GRID = {"shape": "grid", "size": [1, 1], "segments": [4, 4]}
REFUSED = {
    "unknown field": ({"bodys": []}, "bodys is not a field"),
    "unknown field inside": ({"world": {"gravityy": 1}}, "world.gravityy is not a field"),
    "two of one name": (
        {"bodies": [{"name": "a", "mesh": GRID}] * 2},
        r"bodies\[0\] and bodies\[1\] are both named 'a'",
    ),
    "negative thickness": (
        {"bodies": [{"name": "a", "mesh": GRID, "thickness": -0.1}]},
        r"bodies\[0\].thickness must be at least 0 \(it is -0.1\)",
    ),
    "frames backwards": ({"frames": [9, 3]}, r"the last frame \(3\) comes before the first \(9\)"),
    "ten thousand substeps": ({"quality": {"substeps": 10000}}, "quality.substeps must be at most 400"),
    "no mesh": ({"bodies": [{"name": "a"}]}, r"bodies\[0\].mesh is missing"),
    "unknown shape": ({"bodies": [{"name": "a", "mesh": {"shape": "blob"}}]}, "grid, box, ball"),
    "unknown fabric": ({"bodies": [{"name": "a", "mesh": GRID, "material": {"preset": "steel"}}]}, "no preset 'steel'"),
    "NaN": ({"fps": float("nan")}, "fps"),
    "words for a number": ({"fps": "fast"}, "fps"),
    "a slash in a name": ({"bodies": [{"name": "a/b", "mesh": GRID}]}, "no slashes"),
    "proxy on a cloth": (
        {"bodies": [{"name": "a", "role": "cloth", "mesh": GRID, "proxy": {"kind": "box"}}]},
        "no proxy",
    ),
    "keys on one frame": (
        {"forces": [{"kind": "wind", "strength": {"keys": [[1, 0], [1, 2]]}}]},
        "two keys stand on frame 1",
    ),
    "another schema": ({"schema": "zembrik.setup/9"}, "schema"),
    "a list": ([], "JSON object"),
}


@pytest.mark.parametrize("case", REFUSED)
def test_wrong_documents_are_told_with_their_place(case):
    document, words = REFUSED[case]
    with pytest.raises(Problem, match=words):
        parse_setup(document)


@pytest.mark.parametrize(
    ("data", "words"),
    [(b"{", "line 1"), (b'{"title": "\xff"}', "UTF-8"), (b"[" * 100_000, "nested"), (b" " * 2_000_001, "2 MB")],
)
def test_what_is_no_json(data, words):
    with pytest.raises(Problem, match=words):
        read_setup(data, "s.json")


def test_every_value_is_resolved_with_its_origin(sheet):
    sheet["bodies"][0]["material"]["bend"] = 1e-3
    found = resolve(parse_setup(sheet))
    material = found.document["bodies"][0]["material"]
    assert material["bend"] == 1e-3 and found.origins["bodies[0].material.bend"] == "set by hand"
    assert material["stretch"] == 8000 and found.origins["bodies[0].material.stretch"] == "preset linen"
    assert found.document["quality"]["iterations"] == 1 and found.origins["quality.iterations"] == "profile daily"
    assert found.origins["world.gravity"] == "default"
    assert None not in material.values()


def test_the_hash_hangs_on_what_counts_and_on_nothing_else(sheet):
    def hash_with(**changes):
        document = copy.deepcopy(sheet) | changes
        return setup_hash(parse_setup(document), lambda file: file)

    plain = hash_with()
    assert hash_with(title="another") == plain
    assert hash_with(frames=[1, 400]) == plain  # a longer bake begins with the same frames
    assert hash_with(bodies=[*sheet["bodies"], {"name": "looked at", "mesh": GRID}]) == plain
    same = {"substeps": 10.0, "profile": "final", "iterations": 1, "contact": "edges", "self_collision": False}
    assert hash_with(quality=same) == plain  # the same values, though another profile
    assert hash_with(quality={**same, "self_collision": True}) != plain
    assert hash_with(frames=[2, 12]) != plain
    assert hash_with(quality={"substeps": 11}) != plain
    assert hash_with(world={"ground": None}) != plain


def test_the_published_schema_is_the_one_in_force():
    published = json.loads((ROOT / "docs" / "setup.schema.json").read_text())
    assert published == json.loads(json.dumps(Setup.model_json_schema(by_alias=True))), "run tools/write_examples.py"


def test_examples_are_what_the_demo_makes():
    from zembrik.library.fair import demo_shots
    from zembrik.library.fair_hard import hard_shots

    for shot in [*demo_shots(), *hard_shots()]:
        name = shot.setup["title"].lower().replace(" ", "-")
        assert json.loads((ROOT / "examples" / f"{name}.json").read_text()) == json.loads(json.dumps(shot.setup))
        for file, data in shot.files.items():
            assert (ROOT / "examples" / file).read_bytes() == data


def test_no_kernel_may_reorder_or_fuse_what_is_written():
    """With such leave a kernel rounded otherwise when it was compiled than when it was loaded: see `compiled`."""
    import importlib
    import pkgutil

    import zembrik.core.solver as solver

    seen = 0
    for module in pkgutil.iter_modules(solver.__path__):
        for held in vars(importlib.import_module(f"zembrik.core.solver.{module.name}")).values():
            if hasattr(held, "targetoptions"):
                seen += 1
                assert not held.targetoptions.get("fastmath"), held
    assert seen > 40
