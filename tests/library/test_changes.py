"""What changed between two setups, told in words."""

import itertools
import json
import re
from pathlib import Path

import jsonpatch

from zembrik.core.setup.document import parse_setup
from zembrik.core.setup.resolve import setup_hash
from zembrik.library.changes import called, differences

BOX = {"shape": "box", "size": [1, 1, 1]}
EXAMPLES = [json.loads(path.read_text()) for path in sorted(Path(__file__).parents[2].glob("examples/*.json"))]


def test_any_two_setups_differ_in_words():
    """From each example to each other: something is told, nothing in raw form, nothing twice, no change to the same."""
    assert len(EXAMPLES) > 10
    for before, after in itertools.permutations(EXAMPLES, 2):
        lines = differences(before, after)
        assert lines and len(set(lines)) == len(lines)
        for line in lines:
            assert not re.search(r"[{}\[\]_]|None|: values", line), line
            if " → " in line:
                was, now = line.partition(": ")[2].split(" → ")
                assert was != now, line


def test_one_change_is_one_line():
    for document in EXAMPLES:
        before = json.loads(json.dumps(document)) | {"fps": 24.0, "frames": [1, 96]}
        before["bodies"][0]["material"] = {"preset": "linen"}
        before["quality"] = {"self_collision": True}
        name = before["bodies"][0]["name"]
        for path, value, told in (
            ("/quality/self_collision", False, "quality self collision: on → off"),
            ("/frames/1", 48, "last frame: 96 → 48"), ("/fps", 30, "fps: 24 → 30"),
            ("/bodies/0/material/preset", "fleece", f"'{name}' material preset: linen → fleece"),
        ):  # fmt: skip
            after = jsonpatch.apply_patch(before, [{"op": "replace", "path": path, "value": value}])
            assert differences(before, after) == [told]


def test_a_number_written_otherwise_is_no_change():
    before = {"frames": [1, 10], "bodies": [{"name": "a", "mesh": BOX, "place": {"translate": [0, 1, 0]}}]}
    after = json.loads(json.dumps(before))
    after["bodies"][0]["place"]["translate"] = [0.0, 1.0, 0.0]
    assert differences(before, after) == []
    assert setup_hash(parse_setup(before), str) == setup_hash(parse_setup(after), str)


def test_places_are_called_by_words():
    paths = ("/bodies/0/pins/1", "/bodies/2/material/area_density", "/quality/substeps", "/forces/0", "/preroll")
    assert [called(p) for p in paths] == ["pin 2", "material area density", "quality substeps", "force 1", "preroll"]
