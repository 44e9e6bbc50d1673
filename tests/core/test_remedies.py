"""Whatever a setup is told, taking the remedies one after the other comes to an end."""

import copy

import jsonpatch
from hypothesis import given, settings
from hypothesis import strategies as st

from zembrik.core.findings.check import check_setup
from zembrik.core.setup.assets import NoAssets
from zembrik.core.setup.document import parse_setup

MOST = 12  # remedies that a setup may need


def number(least, most):
    return st.floats(least, most).map(lambda value: round(value, 4))


@st.composite
def cloths(draw):
    """A sheet with too few points or too many, too thick or too large, near what it falls on or far above."""
    sides, segments = draw(st.sampled_from([0.2, 1.0, 2.0, 150.0])), draw(st.sampled_from([4, 16, 40]))
    body = {
        "name": "sheet", "role": "cloth",
        "mesh": {"shape": "grid", "size": [sides, sides], "segments": [segments, segments]},
        "place": {"translate": [0.0, draw(number(0.3, 4.0)), 0.0]},
        "material": {"preset": draw(st.sampled_from(["muslin", "linen", "wool felt"]))},
    }  # fmt: skip
    if draw(st.booleans()):
        body["thickness"] = draw(number(1e-4, 0.1))
    if draw(st.booleans()):
        body["material"] |= {"tack_distance": 0.01, "yield_angle": 30.0}  # they do nothing alone
    if draw(st.booleans()):
        body["place"]["scale"] = draw(st.sampled_from([0.01, 0.0254, 100.0]))
    return body


@st.composite
def movers(draw):
    """A box or a pole that rushes through, from before the bake's beginning or until after its end."""
    first, last = draw(st.sampled_from([(-20, 10), (1, 3), (1, 60)]))
    keys = [[first, [-2.0, 0.5, 0.0]], [last, [draw(number(-2.0, 3.0)), 0.5, 0.0]]]
    shape = draw(st.sampled_from([{"shape": "box", "size": [0.02, 1.0, 1.0]}, {"shape": "ball", "radius": 0.06}]))
    body = {"name": "mover", "role": "collider", "mesh": shape, "motion": {"translate": {"keys": keys}}}
    if draw(st.booleans()):
        body["proxy"] = {"kind": draw(st.sampled_from(["ball", "box", "hull"]))}
    return body


@st.composite
def solids(draw):
    """A weight above, or in, what lies below, and a lump that may be too stiff."""
    size = [draw(st.sampled_from([0.1, 0.4]))] * 3
    weight = {"name": "weight", "role": "rigid", "mesh": {"shape": "box", "size": size},
              "material": {"density": draw(st.sampled_from([50.0, 700.0, 9000.0]))},
              "place": {"translate": [0.1, draw(number(0.0, 2.0)), 0.0]}}  # fmt: skip
    lump = {"name": "lump", "role": "soft", "mesh": {"shape": "box", "size": [0.3, 0.3, 0.3]}, "cell": 0.1,
            "material": {"young": draw(st.sampled_from([1e4, 1e7, 1e9]))},
            "place": {"translate": [draw(number(-0.3, 2.0)), draw(number(0.1, 1.0)), 0.0]}}  # fmt: skip
    return draw(st.sampled_from([[weight], [lump], [weight, lump]]))


@st.composite
def setups(draw):
    bodies = [draw(cloths())]
    if draw(st.booleans()):
        bodies.append(draw(movers()))
    if draw(st.booleans()):
        bodies += draw(solids())
    document = {"frames": [1, 24], "bodies": bodies, "quality": {"substeps": draw(st.sampled_from([4, 20]))}}
    if draw(st.booleans()):
        document["forces"] = [{"kind": "wind", "velocity": [draw(number(0.1, 60.0)), 0.0, 0.0]}]
    if draw(st.booleans()):
        document["world"] = {"ground": None}
    return document


def remedies(document):
    return [f for f in check_setup(parse_setup(document), NoAssets()) if f.patch]


@given(setups())
@settings(max_examples=20, deadline=None, derandomize=True)
def test_remedies_taken_one_by_one_come_to_an_end(document):
    """Every remedy leaves a sound setup and ends its finding, whatever it begins; none undoes what another one did."""
    taken, seen, found = [], [document], remedies(document)
    while found:
        finding = found[0]
        taken.append((finding.code, finding.body, finding.remedy))
        assert len(taken) <= MOST, taken
        document = jsonpatch.apply_patch(copy.deepcopy(document), finding.patch)
        assert document not in seen, taken
        seen.append(document)
        found = remedies(document)
        assert (finding.code, finding.body, finding.text) not in [(f.code, f.body, f.text) for f in found], taken
