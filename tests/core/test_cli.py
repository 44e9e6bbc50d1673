"""The command line, run as people run it: files in, files out, clear lines, documented exit codes."""

import json
import subprocess
import sys
from pathlib import Path

import pytest
from click.testing import CliRunner

from zembrik.cli import main

ROOT = Path(__file__).parents[2]


def zembrik(*words, code=0):
    done = subprocess.run([sys.executable, "-m", "zembrik.cli", *map(str, words)], capture_output=True, text=True,
                          env={**__import__("os").environ, "PYTHONPATH": str(ROOT / "src")})  # fmt: skip
    assert done.returncode == code, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    return done


def test_the_whole_path_without_web_and_database(sheet, tmp_path):
    setup, cache = tmp_path / "sheet.json", tmp_path / "sheet.zarr"
    setup.write_text(json.dumps(sheet))
    assert "No findings" in zembrik("check", setup).stdout
    idle = tmp_path / "idle.json"
    idle.write_text(json.dumps({**sheet, "quality": {"iterations": 5}}))
    assert "A dial without effect" in zembrik("check", idle).stdout
    assert "frames 1 to 6" in zembrik("bake", setup, "--out", cache, "--frames", "1-6").stdout
    assert "a cache already" in zembrik("bake", setup, "--out", cache, code=2).stderr
    told = zembrik("bake", setup, "--out", cache, "--resume", "--threads", "1").stderr
    assert "frame 7" in told and "frame 6 " not in told
    facts = json.loads(zembrik("info", cache, "--json").stdout)
    assert facts["done"] == 12 and facts["bodies"] == {"sheet": 289}
    assert "12 frames, all sound" in zembrik("verify", cache).stdout
    for ending in ("glb", "usdc", "usda", "obj.zip"):
        zembrik("export", cache, tmp_path / f"out.{ending}")
        assert (tmp_path / f"out.{ending}").stat().st_size > 1000
    (cache / "bodies/0/points/c/3/0/0").write_bytes(b"nothing good")
    assert "frame 4 is damaged" in zembrik("verify", cache, code=1).stdout


@pytest.mark.parametrize("example", sorted(p.name for p in (ROOT / "examples").glob("*.json")))
def test_every_example_bakes(example, tmp_path):
    setup, out = str(ROOT / "examples" / example), str(tmp_path / "c.zarr")
    for words in (["check", setup], ["bake", setup, "--out", out, "--frames", "1-2", "--quiet"], ["verify", out]):
        done = CliRunner().invoke(main, words)
        assert done.exit_code == 0, done.output


def test_refusals(sheet, tmp_path):
    setup = tmp_path / "bad.json"
    assert "No such file" in zembrik("check", tmp_path / "none.json", code=2).stderr
    sheet["bodies"][0]["thickness"] = -1
    setup.write_text(json.dumps(sheet))
    assert "bodies[0].thickness" in zembrik("bake", setup, "--out", tmp_path / "c.zarr", code=2).stderr
    sheet["bodies"][0] |= {"thickness": 0.001, "mesh": {"file": "../outside.obj"}}
    setup.write_text(json.dumps(sheet))
    assert "outside" in zembrik("bake", setup, "--out", tmp_path / "c.zarr", code=2).stderr
    assert zembrik("check", setup, "--json", code=1).stdout.count('"severe": true') == 1
    assert not (tmp_path / "c.zarr").exists()
    assert "no cache here" in zembrik("info", tmp_path, code=2).stderr
