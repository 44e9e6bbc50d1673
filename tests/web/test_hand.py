"""Choosing and placing by hand, in a real browser: pennants, boxes, names, groups; mouse and keyboard."""

import numpy as np
import pytest
from baking import bake_now
from hands import Bench, complaints
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from zembrik.core.cache.reader import Cache
from zembrik.core.setup.assets import NoAssets, mover_of_body
from zembrik.core.setup.document import parse_setup
from zembrik.library import bakes
from zembrik.library.shots import create_shot, create_show, edit, get_shot

CRATE = {"shape": "box", "size": [0.3, 0.3, 0.3]}


def crate(name, at):
    return {"name": name, "role": "collider", "mesh": CRATE, "place": {"translate": at}}


@pytest.fixture()
def laid(database):
    """A shot with a row of crates in the air and a slab below them."""
    bodies = [crate(f"crate {n + 1}", [0.6 * n, 1.0, 0.0]) for n in range(4)]
    slab = {"name": "slab", "role": "collider", "mesh": {"shape": "box", "size": [4, 0.2, 2]}}
    with database.session() as session:
        code = f"HAND-{len(bodies)}-{id(bodies) % 10**9}"
        shot = create_shot(session, create_show(session, "Windfall Fair"), code, "Crates", {"bodies": [*bodies, slab]})
        return shot.id


def places(database, number):
    with database.session() as session:
        return {b["name"]: b.get("place", {}).get("translate", [0, 0, 0]) for b in document(session, number)["bodies"]}


def document(session, number):
    return get_shot(session, number).head.document


def flag(bench, label):
    return bench.find(f".pennant[aria-label='{label}']")


def pull(bench, label):
    """Take hold of a flag and draw it to the right, once it stands where it was drawn last."""
    bench.wait(lambda: not bench.state("view.pending"))
    held = ActionChains(bench.browser).click_and_hold(flag(bench, label))
    held.move_by_offset(30, 4).move_by_offset(30, 4).perform()


def test_crates_are_placed_by_hand(address, browser, database, laid):
    bench = Bench(browser)
    browser.get(f"{address}/shots/{laid}/start")
    bench.wait(lambda: bench.state("state.status") and bench.state("view.bodies.size") == 5)
    assert not bench.find("#hand").is_displayed()

    # By part of a name, then the flag along X by the mouse; the others stay.
    bench.keys("/")
    bench.keys("crate 2", Keys.ENTER)
    bench.wait(lambda: bench.find("#hand-title").text == "crate 2")
    before = places(database, laid)
    pull(bench, "move: Along X")
    assert float(bench.read("[name=move_x]", "value")) > 0.05
    bench.keys(Keys.ESCAPE)  # taken back: nothing is sent
    ActionChains(browser).release().perform()
    assert bench.state("hand.pennants.active") is None and places(database, laid) == before
    pull(bench, "move: Along X")
    seen = float(bench.read("[name=move_x]", "value"))
    bench.changed(lambda: ActionChains(browser).release().perform())
    after = places(database, laid)
    assert after["crate 2"] == pytest.approx([0.6 + seen, 1.0, 0.0], abs=2e-4)
    assert {k: v for k, v in after.items() if k != "crate 2"} == {k: v for k, v in before.items() if k != "crate 2"}

    # A number typed in the middle of a gesture decides.
    bench.wait(lambda: bench.state("state.revision") == bench.revision())
    pull(bench, "move: Along Y")
    ActionChains(browser).send_keys("0.25").release().perform()
    bench.changed(lambda: bench.keys(Keys.ENTER))
    assert places(database, laid)["crate 2"][1] == pytest.approx(1.25)

    # By keys alone: the flag, then arrows, then Enter. One gesture is one revision, undone as one.
    bench.wait(lambda: bench.state("state.revision") == bench.revision())
    browser.execute_script("arguments[0].focus()", flag(bench, "move: Along Z"))
    bench.changed(lambda: bench.keys(Keys.ARROW_UP, Keys.ARROW_UP, Keys.ENTER))
    assert places(database, laid)["crate 2"][2] == pytest.approx(0.02)
    bench.changed(lambda: bench.click("#undo"))
    assert places(database, laid)["crate 2"][2] == 0.0

    # Numbers for several at once, about their middle.
    bench.keys("/")
    browser.execute_script("document.getElementById('by-name').select()")
    bench.keys("crate", Keys.ENTER)
    bench.wait(lambda: bench.find("#hand-title").text == "4 bodies")
    bench.keys("v")
    bench.find("#hand [name=pivot] option[value=middle]").click()
    bench.find("#hand [name=angle]").clear()
    bench.changed(lambda: bench.find("#hand [name=angle]").send_keys("90", Keys.ENTER))
    turned = places(database, laid)
    assert turned["crate 1"][2] - turned["crate 4"][2] == pytest.approx(1.8, abs=1e-5)  # what lay along X lies along Z
    assert complaints(browser) == []


def test_a_box_chooses_and_a_group_is_let_down_as_one_choice(address, browser, database, laid):
    bench = Bench(browser)
    browser.get(f"{address}/shots/{laid}/start")
    bench.wait(lambda: bench.state("state.status") and bench.state("view.bodies.size") == 5)
    spots = browser.execute_script(
        "const v = zembrik.view; return ['crate 1', 'crate 2', 'crate 3'].map((n) => v.onCanvas(v.middle([n])))"
    )
    home = bench.find("#stage").rect
    left, top = (int(min(s[k] for s in spots[:2])) - 25 for k in (0, 1))
    right, bottom = (int(max(s[k] for s in spots[:2])) + 12 for k in (0, 1))
    middle = int(home["width"] / 2), int(home["height"] / 2)
    drawn = ActionChains(browser).key_down(Keys.SHIFT)
    drawn.move_to_element_with_offset(bench.find("#stage"), left - middle[0], top - middle[1])
    drawn.click_and_hold().move_by_offset(right - left, bottom - top).release().key_up(Keys.SHIFT).perform()
    bench.wait(lambda: bench.find("#hand-title").text == "2 bodies")

    # Grouped, locked against moving, freed, and let down onto the slab.
    bench.click("#hand details:nth-of-type(2) summary")
    bench.find("#hand [name=group]").send_keys("pair")
    bench.changed(lambda: bench.click("[data-hand=group]"))
    bench.wait(lambda: bench.find("#hand-title").text == "pair · 2")
    bench.click("#hand details:nth-of-type(2) summary")
    bench.changed(lambda: bench.click("[data-hand=lock-group]"))
    bench.wait(lambda: bench.state("state.revision") == bench.revision() and not bench.state("hand.pennants.shown"))
    bench.find("#hand [name=move_x]").clear()
    bench.find("#hand [name=move_x]").send_keys("1", Keys.ENTER)
    bench.wait(lambda: "is locked with the group 'pair'" in bench.find("#notices").text)
    bench.click("#hand details:nth-of-type(2) summary")
    bench.changed(lambda: bench.click("[data-hand=lock-group]"))
    bench.changed(lambda: bench.keys("d"))
    found = places(database, laid)
    assert found["crate 1"][1] == pytest.approx(0.1 + 0.15 + 0.004) == found["crate 2"][1]
    assert found["crate 3"][1] == 1.0

    # Copied with its group, then both taken away at once.
    bench.wait(lambda: bench.state("state.revision") == bench.revision())
    bench.click("#hand details:nth-of-type(1) summary")
    bench.changed(lambda: bench.click("[data-hand=copy]"))
    with database.session() as session:
        groups = document(session, laid)["groups"]
    assert [g["name"] for g in groups] == ["pair", "pair 2"] and len(groups[1]["bodies"]) == 2
    bench.wait(lambda: bench.find("#hand-title").text == "pair 2 · 2")
    bench.changed(lambda: bench.click("[data-hand=remove]"))
    assert len(places(database, laid)) == 5
    assert [chip.text.split()[0] for chip in browser.find_elements(By.CSS_SELECTOR, ".chip.group")] == ["pair"]
    assert complaints(browser) == []


def field(bench, name, value):
    """Type into a field of the form for a layer."""
    browser = bench.browser
    browser.execute_script(
        "const f = document.querySelector(`#new-layer [name=${arguments[0]}]`); f.value = arguments[1];",
        name,
        str(value),
    )


def test_a_drop_layout_of_two_layers_is_kept_though_the_page_was_left(address, browser, database, laid):
    bench = Bench(browser)
    browser.get(f"{address}/shots/{laid}/start?body=crate%204")
    bench.wait(lambda: bench.state("state.status") and bench.state("view.bodies.size") == 5)
    browser.execute_script("document.getElementById('new-layer').open = true")

    # The region is drawn in the viewport.
    bench.click("[data-action=draw-region]")
    spot = browser.execute_script("return zembrik.view.onCanvas(zembrik.view.middle(['slab']))")
    home = bench.find("#stage").rect
    drawn = ActionChains(browser)
    drawn.move_to_element_with_offset(
        bench.find("#stage"), int(spot[0] - home["width"] / 2), int(spot[1] - home["height"] / 2)
    )
    drawn.click_and_hold().move_by_offset(40, 20).release().perform()
    assert float(bench.read("#new-layer [name=x1]", "value")) > float(bench.read("#new-layer [name=x0]", "value"))
    for name, value in {"count": 6, "x0": -0.5, "x1": 0.5, "z0": -0.5, "z1": 0.5, "low": 0.5, "high": 0.6}.items():
        field(bench, name, value)
    bench.click("#new-layer .go-look")
    bench.wait(lambda: bench.find("#layer-errand").text or bench.find("#layer-errand progress"))
    browser.get("about:blank")  # left without a thought: it falls on, and is kept
    bench.wait(lambda: len(places(database, laid)) == 11)

    browser.get(f"{address}/shots/{laid}/start?body=crate%204")
    bench.wait(lambda: bench.state("state.status") and bench.state("view.bodies.size") == 11)
    assert "layer 1" in bench.find(".layers").text and "at rest" in bench.find(".layers").text
    field(bench, "count", 3)
    bench.click("#new-layer .go-look")
    bench.wait(lambda: "layer 2" in bench.find(".layers").text)
    with database.session() as session:
        held = document(session, laid)
    assert [g["name"] for g in held["groups"]] == ["layer 1", "layer 2"]
    assert all(b["role"] == "collider" for b in held["bodies"])

    # Out of the shot and back, another seed, and apart at the end.
    bench.changed(lambda: bench.click(".layers li:nth-child(1) .quiet[title^='Its bodies are kept']"))
    assert len(places(database, laid)) == 8
    bench.changed(lambda: bench.click(".layers li:nth-child(1) .row > .quiet"))
    before = places(database, laid)
    assert len(before) == 14
    bench.click(".layers li:nth-child(2) .again .quiet")
    bench.wait(lambda: places(database, laid) != before and len(places(database, laid)) == 14)
    bench.wait(lambda: bench.state("state.revision") == bench.revision() and "at rest" in bench.find(".layers").text)
    bench.click(".layers li:nth-child(1) .quiet[title^='The bodies stay']")
    bench.wait(lambda: "layer 1" not in bench.find(".layers").text)
    assert len(places(database, laid)) == 14
    assert complaints(browser) == []


@pytest.fixture()
def hanging(database):
    """A shot with a sheet that is held at one side, over a ball."""
    sheet = {"name": "sheet", "role": "cloth", "mesh": {"shape": "grid", "size": [0.6, 0.6], "segments": [10, 10]},
             "place": {"translate": [0, 0.5, 0]}, "pins": [{"points": {"side": "left"}}]}  # fmt: skip
    ball = {"name": "ball", "role": "collider", "mesh": {"shape": "ball", "radius": 0.15}, "proxy": {"kind": "ball"}}
    document = {"frames": [1, 12], "bodies": [sheet, ball], "quality": {"profile": "rough"}}
    with database.session() as session:
        shot = create_shot(session, create_show(session, "Windfall Fair"), "LIVE-1", "A sheet in hand", document)
        return shot.id


def test_a_guided_take_is_recorded_kept_used_and_baked(address, browser, database, settings, hanging):
    bench = Bench(browser)
    browser.get(f"{address}/shots/{hanging}/motion?body=sheet")
    bench.wait(lambda: bench.state("state.status") and bench.state("view.bodies.size") == 2)
    bench.click("#by-hand summary")
    bench.click("#by-hand [data-action=live]")
    bench.wait(lambda: "ready:" in bench.find("#live-words").text)

    # Dragged along X alone: the key is pressed in the middle of it.
    held = ActionChains(browser).move_to_element_with_offset(bench.find("#stage"), -60, -40).click_and_hold()
    held.send_keys("x").perform()
    for _ in range(6):
        ActionChains(browser).move_by_offset(12, 0).perform()
    bench.wait(lambda: (bench.state("live.frame") or 0) >= 10)
    ActionChains(browser).release().perform()
    bench.keys(Keys.SPACE)
    way = bench.state("live.way.toArray()")
    assert abs(way[0]) > 0.02 and abs(way[1]) < 1e-6 and abs(way[2]) < 1e-6
    bench.find("#live [name=name]").send_keys("pulled aside")
    bench.click("#live .go")
    bench.wait(lambda: "kept as 'pulled aside'" in bench.find("#live-words").text)
    bench.click("[data-live=leave]")
    bench.wait(lambda: not bench.state("live.on"))

    # Used, it is a body that the held points follow, in one revision; a bake has it at the end.
    bench.click("#takes summary")
    assert bench.find("#takes .shot").get_attribute("src").startswith("data:image/jpeg")
    bench.changed(lambda: bench.click("#takes form[hx-post$='/use-take'] .go"))
    with database.session() as session:
        setup = document(session, hanging)
    assert [b["name"] for b in setup["bodies"]] == ["sheet", "ball", "hand of sheet"]
    assert setup["bodies"][0]["pins"][0]["follow"] == "hand of sheet"
    with database.session() as session:
        number = bakes.queue_bake(session, hanging).id
    bake_now(database, number)
    assert complaints(browser) == []
    keys = setup["bodies"][2]["motion"]["translate"]["keys"]
    with database.session() as session:
        baked = Cache(bakes.cache_path(settings, bakes.get_bake(session, number)))
    left = np.flatnonzero(baked.points(0, 1)[:, 0] < -0.29)
    moved = baked.points(0, 12)[left, 0] - baked.points(0, 1)[left, 0]
    wanted = mover_of_body(parse_setup(setup), 2, NoAssets()).at(12.0)[1][0]
    assert len(keys) >= 2 and np.abs(moved - wanted).max() < 1e-5


def test_a_dial_that_is_set_by_hand_stays_in_the_panel(address, browser, database, laid):
    """Its looks are its own: nothing that is said of other things of this name moves it out of its row."""
    with database.session() as session:
        edit(session, laid, 1, [{"op": "add", "path": "/bodies/0/thickness", "value": 0.004}], "thicker")
    bench = Bench(browser)
    browser.get(f"{address}/shots/{laid}/proxies?body=crate%201")
    bench.wait(lambda: bench.state("state.status") and browser.find_elements(By.CSS_SELECTOR, "#panel .num.hand"))
    inside = """const box = (e) => e.getBoundingClientRect(), panel = box(document.getElementById('panel'));
    const dials = [...document.querySelectorAll('#panel .num.hand')];
    return dials.every((e) => box(e).left >= panel.left && box(e).width < panel.width)"""
    assert browser.execute_script(inside)
