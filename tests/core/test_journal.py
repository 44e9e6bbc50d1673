"""The journal of a bake: every whole record counts, whatever its length, and nothing after one that was cut off."""

import shutil

import numpy as np
import pytest

from zembrik.core.cache.content import body_hash
from zembrik.core.cache.journal import NAME, append_record, read_journal
from zembrik.core.cache.reader import Cache


@pytest.mark.parametrize("count", [0, 1, 2, 3, 7, 20])
def test_every_record_comes_back_to_the_last(tmp_path, count):
    figures = {frame: [frame + 0.25 * k for k in range(count)] for frame in (7, 8, 9)}
    for frame, row in figures.items():
        append_record(tmp_path, frame, row)
    assert read_journal(tmp_path, count) == figures
    whole = (tmp_path / NAME).read_bytes()
    assert len(whole) == 3 * (8 + 4 * count + 4)
    for cut in (1, 4, len(whole) // 3 - 1):
        (tmp_path / NAME).write_bytes(whole[:-cut])
        assert sorted(read_journal(tmp_path, count)) == [7, 8]
    spoilt = bytearray(whole)
    spoilt[len(whole) // 3] ^= 1  # in the second record: what comes after it counts no more
    (tmp_path / NAME).write_bytes(bytes(spoilt))
    assert sorted(read_journal(tmp_path, count)) == [7]


def test_a_bodys_hash_takes_in_every_frame_to_the_last(baked, tmp_path):
    """The last byte of the last frame's points: another sum there is another content."""
    shutil.copytree(baked.path, tmp_path / "copy.zarr")
    before = body_hash(Cache(tmp_path / "copy.zarr"), 0)
    chunks = [p for p in (tmp_path / "copy.zarr" / "bodies" / "0" / "points").rglob("*") if p.is_file()]
    chunks = [p for p in chunks if p.name != "zarr.json"]
    last = max(chunks, key=lambda p: [int(n) for n in p.parts[-3:] if n.isdigit()])
    data = np.frombuffer(last.read_bytes(), np.uint8).copy()
    data[-1] ^= 1
    last.write_bytes(data.tobytes())
    (tmp_path / "copy.zarr").rename(tmp_path / "other.zarr")  # what was hashed is remembered by its place
    assert body_hash(Cache(tmp_path / "other.zarr"), 0) != before
