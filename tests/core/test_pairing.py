"""Which chunks and solids are near: what lining boxes up finds is what trying each with each finds."""

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from zembrik.core.solver.pairing import AWAKE, COLLIDER, FEW, MEETINGS, find_pairs


def boxes(rng, count, size):
    low = rng.uniform(-1, 1, (count, 3)) * [3, 0.2, 1]
    return np.concatenate([low, low + rng.uniform(0, size, (count, 3))], axis=1)


@settings(max_examples=100, deadline=None)
@given(seed=st.integers(0, 2**32 - 1), solids=st.integers(0, 60), size=st.sampled_from([0.0, 0.05, 0.4, 5.0]))
def test_pairs_are_those_of_trying_each_with_each(seed, solids, size):
    """Chunks of their own solids, an endless ground, one that is no number, some that touch exactly, many in a row."""
    rng = np.random.default_rng(seed)
    box = boxes(rng, solids + 2, size)
    box[0] = [-np.inf, -np.inf, -np.inf, np.inf, -0.1, np.inf]
    whose = rng.permutation(np.arange(1, solids + 2))
    own = box[whose]
    if len(own) > 1:
        own[0, 0] = box[whose[1], 3]  # side on side
        box[whose[-1], rng.integers(6)] = np.nan
    kinds = np.full(len(box), AWAKE)
    kinds[0] = COLLIDER
    found = find_pairs(own, box, whose, np.full(len(own), AWAKE), kinds)
    expected = []
    for k, mine in enumerate(own):
        for s, theirs in enumerate(box):
            apart = (mine[:3] > theirs[3:]).any() or (mine[3:] < theirs[:3]).any()
            if not apart and s != whose[k] and MEETINGS[AWAKE, kinds[s]]:
                expected.append((k, s))
    assert found.tolist() == [list(pair) for pair in expected]
    assert size < 5.0 or solids <= FEW or len(found) > FEW
