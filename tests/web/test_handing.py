"""Handing over from animation to physics, by mouse and keyboard in a real browser."""

import pytest
from baking import bake_now
from hands import Bench, complaints

from zembrik.library import bakes
from zembrik.library.shots import create_shot, create_show, get_shot

CRATE = {"shape": "box", "size": [0.3, 0.3, 0.3]}
THROW = {"translate": {"keys": [[1, [0, 0, 0]], [13, [1.2, 0.8, 0]]]}}


@pytest.fixture()
def thrown(database):
    """A crate that is keyed, and a double of it that physics is to move."""
    keyed = {"name": "crate", "role": "collider", "mesh": CRATE, "motion": THROW, "place": {"translate": [0, 1, 0]}}
    double = {"name": "double", "role": "rigid", "mesh": {**CRATE, "segments": 2}, "place": {"translate": [3, 2, 0]},
              "proxy": {"kind": "box"}}  # fmt: skip
    setup = {"bodies": [keyed, double], "frames": [1, 16], "quality": {"profile": "rough"}}
    with database.session() as session:
        show = create_show(session, "Windfall Fair")
        return create_shot(session, show, f"THROW-{id(setup) % 10**9}", "Thrown", setup).id


def bodies(database, number):
    with database.session() as session:
        return {b["name"]: b for b in get_shot(session, number).head.document["bodies"]}


def seen(bench):
    return bench.state("view.bodies.entries().map(([name, b]) => [name, b.group.visible]).toArray()")


def test_a_crate_is_handed_over_on_the_page_and_taken_back(address, browser, database, thrown):
    bench = Bench(browser)
    browser.get(f"{address}/shots/{thrown}/motion?body=crate")
    bench.wait(lambda: bench.state("state.status") and bench.state("view.bodies.size") == 2)
    bench.click("#handovers summary")
    bench.find("#handovers [name=at]").send_keys("soon")
    bench.find("#handovers [name=role]").send_keys("rigid")
    bench.click("#handovers .go")
    bench.wait(lambda: "'soon' is no whole number of frames" in bench.find("#notices").text)
    bench.type("#handovers [name=at]", "8")
    bench.find("#handovers [name=role]").send_keys("rigid")
    bench.changed(lambda: bench.click("#handovers .go"))
    made = bodies(database, thrown)["crate"]
    assert made["role"] == "rigid" and made["handovers"] == [{"at": 8, "back": None, "over": 12}]
    bench.wait(lambda: "goes on with 2.88 m/s and 0°/s" in bench.find(".handover").text)
    bench.changed(lambda: bench.type(".handover [name=back]", "12"))
    bench.changed(lambda: bench.type(".handover [name=over]", "0"))
    assert bodies(database, thrown)["crate"]["handovers"] == [{"at": 8, "back": 12, "over": 0}]

    with database.session() as session:
        number = bakes.queue_bake(session, thrown).id
    bake_now(database, number)
    bench.station("review")
    bench.wait(lambda: len(browser.find_elements("css selector", ".pops tr[data-action]")) == 2)
    rows = [row.text for row in browser.find_elements("css selector", ".pops tr[data-action]")]
    assert "handed over, goes on" in rows[0] and "taken back, jumps" in rows[1]
    bench.click(".pops tr[data-action]")
    ghosts = "view.scene.children.filter((c) => c.ink).map((c) => c.children.length).join()"
    bench.wait(lambda: bench.state(ghosts) == "1,1" and bench.state("state.frame") == 8)
    bench.keys(".")
    assert bench.state(ghosts) == ""
    # The pop has a remedy: it is drawn back over some frames.
    bench.changed(lambda: bench.click(".find.severe .go-look"))
    assert bodies(database, thrown)["crate"]["handovers"][0]["over"] == 12
    bench.station("motion")
    bench.changed(lambda: bench.click(".handover .quiet"))
    assert "handovers" not in bodies(database, thrown)["crate"]
    assert complaints(browser) == []


def test_a_double_takes_over_and_the_crate_goes_away(address, browser, database, thrown):
    bench = Bench(browser)
    browser.get(f"{address}/shots/{thrown}/motion?body=double")
    bench.wait(lambda: bench.state("state.status") and bench.state("view.bodies.size") == 2)
    bench.click("#handovers summary")
    bench.find("#handovers [name=at]").send_keys("9")
    bench.changed(lambda: bench.click("#handovers .go"))
    bench.wait(lambda: "'double' lies on 'crate' by their surfaces" in bench.find("#panel").text)
    made = bodies(database, thrown)
    assert made["double"]["motion"] == {"parent": "crate"} and made["crate"]["role"] == "left out"
    assert made["double"]["shown"] == [[8, False], [9, True]] and made["crate"]["shown"] == [[8, True], [9, False]]
    bench.wait(lambda: bench.state("view.bodies.get('double').entry.shown"))
    browser.execute_script("window.zembrik.view.moveTo(4)")
    assert dict(seen(bench)) == {"crate": True, "double": False}
    browser.execute_script("window.zembrik.view.moveTo(10)")
    assert dict(seen(bench)) == {"crate": False, "double": True}
    # When it is seen can be typed; what is no span is told and changes nothing.
    bench.type("#seen", "often")
    bench.wait(lambda: "'often' is no span of frames" in bench.find("#notices").text)
    bench.changed(lambda: bench.type("#seen", "3 to 5, 9 to"))
    assert bodies(database, thrown)["double"]["shown"] == [[2, False], [3, True], [6, False], [9, True]]
    assert complaints(browser) == []
