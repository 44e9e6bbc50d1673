"""Names of files from patterns, whatever shows and shots are called."""

import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zembrik.core.exchange.naming import FIELDS, USUAL, clean, named
from zembrik.core.problem import Problem

VALUES = {"show": "Windfall Fair", "shot": "WF-010", "title": "Awning in \"gusts\"/2", "revision": 7, "bake": 12,
          "body": "all", "first": -5, "last": 96, "fps": 23.976, "unit": "cm", "format": "usdc"}  # fmt: skip


@pytest.mark.parametrize(("pattern", "name"), [
    (USUAL, "wf-010-awning-in-gusts-2-r7.usdc"),
    ("[show low]/[shot]/[shot]_[first 4]-[last 4]", "windfall-fair/WF-010/WF-010_-0005-0096.usdc"),
    ("[title]@[fps] v[revision 3]", "Awning-in-gusts-2@23.976 v007.usdc"),
    ("plain", "plain.usdc"),
])  # fmt: skip
def test_patterns(pattern, name):
    assert named(pattern, VALUES, "usdc") == name


@pytest.mark.parametrize(("pattern", "told"), [
    ("", "pattern is empty"), ("[shto]", r"no word \[shto\]. There are show, shot"), ("[shot", "left open"),
    ("[shot loud]", "is not known"), ("../[shot]", "no name for a file"), ("/[shot]", "no name for a file"),
    ("a/", "no name for a file"), ("a:b", "no name for a file"), ("x" * 101, "no name for a file"),
    ("/".join(["x" * 90] * 3), "the limit is 200"),
])  # fmt: skip
def test_wrong_patterns_are_told(pattern, told):
    with pytest.raises(Problem, match=told):
        named(pattern, VALUES, "usdc")


@given(st.text(max_size=300))
def test_whatever_a_shot_is_called_its_file_has_a_name(title):
    """Slashes, quotes, any script, 300 letters, nothing at all: one usable part of a name, never a way elsewhere."""
    text = clean(title)
    assert 0 < len(text) <= 60 and re.fullmatch(r"[\w.\-]+", text) and text.strip(".") and "/" not in text
    assert named("[title]/[title low]", {"title": title}, "abc").count("/") == 1
    assert set(VALUES) == set(FIELDS)
