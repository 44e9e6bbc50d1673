"""Operators are asked for arrays and numbers first, and still know all the rest."""

import operator

import numpy as np
from numba import njit, typed, typeof
from numba.core.registry import cpu_target
from numba.core.target_extension import get_local_target
from numba.core.utils import order_by_target_specificity

from zembrik.core.compiled import kernel  # noqa: F401  (puts the rules in order)


def test_a_place_in_an_array_is_known_by_one_of_the_first_rules_asked():
    known = cpu_target.typing_context
    rules = known._lookup_global(operator.getitem).templates
    asked = order_by_target_specificity(get_local_target(known), rules)
    place = typeof(np.zeros((2, 3))), typeof((0, 1))
    knows = [rule(known).apply(place, {}) is not None for rule in asked]
    assert knows.index(True) < 4, asked


def test_operators_know_lists_text_and_tuples_as_python_does():
    @njit
    def mixed(numbers, words, table, row):
        first = words[0] + words[1][0:2]
        table["new"] = row[1] * 2.0
        numbers[0] += len(first) + table["old"] - row[0] / 4
        text = "ab" * 2
        told = text < "abc", table["new"] >= 3.0, (1, 2) < (1, 3), row[0] < True + 2, -row[0] >= -3
        return first, told, (*row, 3)[2], words[0] + "e", [4, 5][0], numbers[1:] - 1, numbers > 2.0

    def outcome(function):
        table = typed.Dict()
        table["old"], numbers = 1.5, np.array([1.0, 2.0])
        return *map(repr, function(numbers, ("ab", "cde"), table, (2, 1.5))), numbers.tolist(), dict(table)

    assert outcome(mixed) == outcome(mixed.py_func)
