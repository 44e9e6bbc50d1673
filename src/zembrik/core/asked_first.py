"""Which of the compiler's rules is asked first what an operator gives.

For `a[n]` Numba asks eight rules for dictionaries, text and lists before the one for arrays, twice each and anew for
every place in a kernel: a quarter of the time that kernels take to compile. What operators do with arrays and plain
numbers is asked first here. The answers are the same: no two rules know the same kinds.
"""

from __future__ import annotations

import operator
from typing import Any

from numba.core import types
from numba.core.registry import cpu_target

OPERATORS = (
    operator.getitem, operator.setitem, operator.add, operator.sub, operator.mul, operator.truediv, operator.lt,
    operator.le, operator.gt, operator.ge,
)  # fmt: skip


def ask_plain_kinds_first() -> None:
    """Let the rules that are built in be asked before those for libraries, from now on."""
    known = cpu_target.typing_context
    known.refresh()
    for operation in OPERATORS:
        rules = known._lookup_global(operation)
        first = [_as_special(rule, operation) for rule in rules.templates if "target" not in rule.metadata]
        known._remove_global(operation)
        known._insert_global(operation, types.Function(first).augment(rules))


def _as_special(rule: Any, operation: Any) -> Any:
    """Return a rule as one for this processor, as those for libraries are: such come before those for all."""
    return type(rule.__name__, (rule,), {"key": operation, "metadata": {"target": "cpu"}})
