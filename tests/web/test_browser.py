"""The whole path in a real browser: upload, role, proxy, bake, scrub, play, deliver."""

import io
import json
import time
import urllib.request
import zipfile
from pathlib import Path

import numpy as np
from baking import bake_now
from hands import Bench, complaints
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from zembrik.core.cache.reader import Cache
from zembrik.core.exchange.obj import read_obj, write_obj
from zembrik.core.mesh import shapes
from zembrik.library import bakes
from zembrik.library.shots import edit, get_shot

ROOT = Path(__file__).parents[2]


def test_the_whole_path(address, browser, database, settings, shot, tmp_path):
    bench = Bench(browser)
    browser.get(f"{address}/shots/{shot}/intake")
    bench.wait(lambda: bench.state("state.status"))

    # Take in a mesh from a file in centimetres with Z up, and see its real size.
    stool = shapes.cylinder(20, 30, 16)
    lying = stool.points[:, [0, 2, 1]] * [1, -1, 1]  # its axis along Z
    with (tmp_path / "stool.obj").open("wb") as file:
        write_obj(file, lying, stool.faces, "stool")
    bench.find("#drop input[type=file]").send_keys(str(tmp_path / "stool.obj"))
    bench.wait(lambda: "centimetres" in bench.find(".taken").text)
    bench.click(".taken input[value=cm]")
    bench.click(".taken input[value=z]")
    bench.changed(lambda: bench.click(".taken .go"))
    sizes = ["0.4", "0.3", "0.4"]
    bench.wait(
        lambda: [e.get_attribute("value") for e in browser.find_elements(By.CSS_SELECTOR, ".sizes input")] == sizes
    )
    bench.wait(lambda: "No flaw found" in bench.find(".open-panel").text)
    bench.keys("h")
    assert bench.state("view.person.visible")

    # Give it a role, a place and a proxy that is drawn over it.
    bench.changed(lambda: bench.click(".choice button[title='others touch it']"))
    bench.changed(lambda: bench.type("input[aria-label='Stands at x']", "1.5"))
    bench.station("proxies")
    bench.wait(lambda: "hull" in bench.find(".kinds").text)
    place = "return document.querySelector('.kinds.proxies tr:nth-child(5) button').getBoundingClientRect().top"
    before = browser.execute_script(place)
    bench.wait(lambda: "…" not in bench.find(".kinds").text)
    assert browser.execute_script(place) == before  # what was measured does not move the rows under the hand
    bench.changed(lambda: bench.click(".kinds tr:nth-child(5) button"))
    bench.wait(lambda: bench.find(".kinds .chosen button").text == "hull")
    bench.wait(lambda: bench.state("view.bodies.get('stool').proxy.visible"))

    # Change dials; one wrong turn, one undo.
    bench.station("quality")
    bench.type("[id$=quality-substeps]", "ten thousand")
    bench.wait(lambda: "is not a number" in bench.find("#notices").text)
    bench.click("[data-action=close-notice]")
    bench.changed(lambda: bench.type("[id$=quality-substeps]", "12"))
    bench.changed(lambda: bench.type("[id$=quality-substeps]", "14"))
    bench.changed(lambda: bench.click("#undo"))
    bench.wait(lambda: bench.read("[id$=quality-substeps]", "value") == "12")
    bench.click(".chip[data-body=sheet]")
    bench.wait(lambda: browser.find_elements(By.CSS_SELECTOR, ".fabric"))
    bench.changed(lambda: Select(bench.find(".fabric")).select_by_visible_text("oilcloth"))
    bench.station("motion")
    bench.changed(lambda: bench.type("input[aria-label='Gravity y']", "-5"))

    # Bake, watch frames while it goes on, reload in the middle, stop and keep, carry on.
    bench.station("bake")
    bench.changed(lambda: bench.type("input[name=last]", "9000"))
    bench.click("#bake-now")
    bench.wait(lambda: (bench.state("state.status.bake") or {}).get("done", 0) > 12)
    browser.refresh()
    bench.wait(lambda: bench.state("state.status") and bench.state("state.status.bake.done") > 20)
    assert bench.state("state.status.bake.state") == "running"
    bench.wait(lambda: "of 9000 baked" in bench.find("#bake-words").text)
    browser.execute_script("window.zembrik.state.frame = 1")
    bench.keys(Keys.SPACE)
    bench.wait(lambda: bench.state("state.drawn") and bench.state("state.drawn") > 8)
    bench.keys(Keys.SPACE)
    bench.station("bake")
    bench.click("#stop-bake")
    bench.wait(lambda: bench.state("state.status.bake.state") == "stopped")
    assert bench.state("state.status.bake.done") < 9000
    bench.changed(lambda: bench.type("input[name=last]", "12"))

    # Scrub on the ribbon itself; what is drawn is what the cache holds.
    ribbon = bench.find("#ribbon")
    width = ribbon.size["width"]
    hands = ActionChains(browser)
    hands.move_to_element_with_offset(ribbon, -width // 2 + 4, 0).click_and_hold().move_by_offset(
        30, 0
    ).release().perform()
    bench.wait(lambda: bench.state("state.drawn") == bench.state("state.frame"))
    frame = bench.state("state.frame")
    with database.session() as session:
        row = bakes.bakes_of(session, shot)[0]
        bake_number, cache = row.id, Cache(bakes.cache_path(settings, row))
    drawn = bench.state("view.bodies.get('sheet').mesh.geometry.attributes.position.array")
    drawn = np.array([drawn[str(k)] for k in range(len(drawn))] if isinstance(drawn, dict) else drawn)
    assert np.abs(drawn.reshape(-1, 3) - cache.points(0, frame)).max() < 1e-6

    # Deliver, fetch the file, and compare with the cache.
    bench.station("deliver")
    Select(bench.find("#format")).select_by_value("obj.zip")
    bench.type("input[name=first]", "2")
    bench.type(".deliver input[name=last]", "6")
    bench.click(".deliver .go")
    bench.wait(lambda: browser.find_elements(By.CSS_SELECTOR, "#files a.go"))
    link = bench.wait(lambda: bench.find("#files a.go").get_attribute("href"))
    with zipfile.ZipFile(io.BytesIO(urllib.request.urlopen(link).read())) as archive:
        assert len(archive.namelist()) == 5
        for delivered in (2, 6):
            mesh = read_obj(archive.read(f"sheet/sheet.{delivered:04d}.obj"))
            assert np.abs(mesh.points - cache.points(0, delivered)).max() < 1e-5
    assert cache.attributes["setup"]["quality"]["substeps"] == 12
    assert cache.attributes["setup"]["bodies"][0]["material"]["preset"] == "oilcloth"
    assert json.loads(urllib.request.urlopen(f"{address}/shots/{shot}/status.json").read())["bake"]["id"] == bake_number
    assert complaints(browser) == []


def test_what_a_person_asked_for_is_not_overtaken(address, browser, shot):
    """An answer held up on its way does not replace the panel of what was asked for after it."""
    bench = Bench(browser)
    browser.get(f"{address}/shots/{shot}/quality")
    bench.wait(lambda: bench.state("state.status"))
    hold_up = """const open = XMLHttpRequest.prototype.open, send = XMLHttpRequest.prototype.send;
    window.late = [];
    XMLHttpRequest.prototype.open = function (...w) { this.where = w[1]; return open.apply(this, w); };
    XMLHttpRequest.prototype.send = function (...w) {
      const late = window.hold && this.where.includes(window.hold), onload = this.onload;
      if (late) { window.hold = ""; this.onload = () => window.late.push(() => onload.call(this)); }
      return send.apply(this, w); };"""
    browser.execute_script(hold_up)

    def ask_late(headers):
        browser.execute_script("window.hold = '/quality'")
        browser.execute_script(f"htmx.ajax('GET', '/shots/{shot}/quality', {{target: '#panel', headers: {headers}}})")
        bench.wait(lambda: browser.execute_script("return window.late.length"))

    def let_come():
        browser.execute_script("window.late.pop()()")
        browser.execute_async_script("setTimeout(arguments[0], 200)")

    for headers in ("{}", "{'X-By-Itself': '1'}"):
        # An old panel is under way while a dial is changed: the change stays on show.
        bench.station("quality")
        ask_late(headers)
        substeps = bench.read("[id$=quality-substeps]", "value")
        new = str(int(substeps) + 1)
        bench.changed(lambda new=new: bench.type("[id$=quality-substeps]", new))
        let_come()
        assert bench.read("[id$=quality-substeps]", "value") == new
        # And while another station is opened: it stays open.
        ask_late(headers)
        bench.station("motion")
        let_come()
        assert bench.read(".open-panel", "dataset.station") == "motion"
    # What nothing overtook is shown.
    ask_late("{'X-By-Itself': '1'}")
    let_come()
    assert bench.read(".open-panel", "dataset.station") == "quality"
    assert complaints(browser) == []


def test_no_page_scrolls_sideways_and_light_is_remembered(address, browser, shot):
    bench = Bench(browser)
    for path in (
        "/",
        f"/shots/{shot}/intake",
        f"/shots/{shot}/proxies",
        f"/shots/{shot}/motion",
        f"/shots/{shot}/bake",
    ):
        browser.get(address + path)
        assert browser.execute_script("return document.documentElement.scrollWidth <= window.innerWidth"), path
    bench.click("[data-action=theme]")
    browser.get(address)
    assert browser.execute_script("return document.documentElement.dataset.theme") == "light"
    bench.click("[data-action=theme]")


def test_trials_are_planned_run_watched_and_one_is_adopted(address, browser, database, shot):
    """By mouse and keyboard: a wrong plan is told, six runs move by one clock, one becomes the shot."""
    bench = Bench(browser)
    browser.get(f"{address}/shots/{shot}/quality")
    bench.wait(lambda: bench.state("state.status"))
    bench.type("#one-values", "5, many")
    bench.click(".plan-form button")
    bench.wait(lambda: "is not a number" in bench.find("#notices").text)
    bench.click("#notices [data-action=close-notice]")
    bench.type("#one-values", "5, 10, 20")
    Select(bench.find("select[name=two]")).select_by_value("sheet friction")
    bench.type("#two-values", "0.1 to 0.9 in 2")
    bench.type("#trials-last", "8")
    bench.click(".plan-form button")
    bench.wait(lambda: "6 runs" in bench.find("#trial-plan").text)
    bench.click("#trial-plan .go")
    bench.wait(lambda: "/sheets/" in browser.current_url)
    bench.wait(lambda: bench.find("#trial-table").get_attribute("data-busy") == "0", 180)
    # What is told while the table is being drawn anew is asked for again, though what asked was exchanged.
    browser.execute_script("""
        window.asked = 0;
        document.addEventListener("htmx:beforeRequest", ({ detail }) => {
          window.asked += detail.pathInfo.requestPath.includes("/table");
        });
        document.querySelector("#trial-table [name=busy]").value = 1;
        htmx.trigger(document.body, "work");
        htmx.trigger(document.body, "work");""")
    bench.wait(lambda: browser.execute_script("return window.asked") == 2)
    cells = browser.find_elements(By.CSS_SELECTOR, ".cell")
    assert len(cells) == 6 and len({c.size["width"] for c in cells}) == 1
    bench.wait(lambda: bench.state("trials.size") == 6 and bench.state("trials.values().next().value.frames"))

    # One clock: every cell shows the frame that the keys lead to.
    bench.keys(Keys.END)
    bench.wait(lambda: bench.find("#now").text == "008")
    first_point = "t.stage.bodies.get('sheet').mesh.geometry.attributes.position.getY(0)"
    heights = f"return [...zembrik.trials.values()].map(t => {first_point})"
    bench.wait(lambda: all(h < 1.0 for h in browser.execute_script(heights)))
    bench.keys(",", ",")
    assert bench.read("#now", "innerText") == "006"

    # At rest every frame is drawn once; then it plays from pictures, which a turn of the view makes anew.
    bench.wait(lambda: bench.state("book.size") == 8, 60)
    bench.keys(Keys.HOME)
    covered = "const m = document.getElementById('multiple'), p = document.getElementById('pictures');"
    assert browser.execute_script(covered + "return !p.hidden && m.style.opacity === '0'")
    picture = covered + "return p.toDataURL()"
    began = browser.execute_script(picture)
    bench.keys(" ")
    bench.wait(lambda: not bench.state("state.playing") and bench.find("#now").text == "008")
    ended, age = browser.execute_script(picture), bench.state("book.age")
    assert len(ended) > 5000 and ended != began and bench.state("book.size") == 8
    ActionChains(browser).drag_and_drop_by_offset(bench.find("#multiple"), 60, 10).perform()
    bench.wait(lambda: bench.state("book.age") > age and bench.state("book.size") == 8, 60)
    assert browser.execute_script(picture) not in (began, ended)
    bench.keys(Keys.HOME, Keys.END, ",", ",")
    assert bench.read("#now", "innerText") == "006"

    # Picked by a click on its cell, which the canvas lies over.
    ActionChains(browser).move_to_element(cells[4]).click().perform()
    bench.wait(lambda: "picked" in cells[4].get_attribute("class"))
    assert bench.find("#of-trial").text == cells[4].find_element(By.TAG_NAME, "figcaption").text

    # Sorted by the time they took, the slowest first; held against it, the others are some way off.
    bench.click("[data-sort=whole]")
    bench.click("[data-sort=whole]")
    took = "return [...document.querySelectorAll('#trial-table tbody tr')].map(r => Number(r.dataset.whole))"
    assert browser.execute_script(took) == sorted(browser.execute_script(took), reverse=True)
    bench.click("#trial-table tbody tr .acts .link")
    bench.wait(lambda: "held against" in bench.find("#trial-table").text)
    away = browser.execute_script(
        "return [...document.querySelectorAll('#trial-table tr[data-apart]')].map(r => r.dataset.apart)"
    )
    assert sum(float(v) > 0 for v in away if v) == 5

    # Laid over: the others are coloured by how far they are, on one scale; the one they are held against is not.
    bench.click("#lay-over")
    tinted = """return [...zembrik.trials.values()].map(t => {
        const c = t.stage.bodies.get('sheet').mesh.geometry.getAttribute('color');
        return t.tinted ? (c && new Set(c.array).size > 3) : null})"""
    bench.wait(lambda: sorted(map(str, browser.execute_script(tinted))) == ["None"] + ["True"] * 5)
    bench.wait(lambda: "mm" in bench.find("#ramp .most").text)
    bench.click("#lay-over")
    bench.wait(lambda: not bench.find("#ramp").is_displayed())

    bench.click("#trial-table tbody tr.chosen .acts .link:nth-of-type(2)")
    bench.wait(lambda: "adopted" in bench.find("#trial-table tr.chosen").text)
    browser.get(f"{address}/shots/{shot}/bake")
    bench.wait(lambda: bench.state("state.status"))
    assert bench.revision() == 2 and bench.state("state.status.bake.stale.length") == 0
    assert complaints(browser) == []


def test_review_colours_loops_marks_and_compares(address, browser, database, settings, shot):
    """Stretch as colours with their scale, a loop that is kept to, a mark that stays, two caches side by side."""
    bench = Bench(browser)
    numbers = []
    for substeps in (5, 9):
        with database.session() as session:
            head = get_shot(session, shot).head.number
            edit(session, shot, head, [{"op": "add", "path": "/quality/substeps", "value": substeps}], "test")
            numbers.append(bakes.queue_bake(session, shot).id)
        bake_now(database, numbers[-1])
    browser.get(f"{address}/shots/{shot}/review")
    bench.wait(lambda: bench.state("state.status") and bench.state("state.frames"))
    browser.execute_script("localStorage.clear()")
    bench.keys(Keys.END)
    bench.wait(lambda: bench.state("state.drawn") == 12)
    bench.click("[data-action=tint][data-what=stretch]")
    colours = "view.bodies.get('sheet').mesh.geometry.getAttribute('color')"
    bench.wait(lambda: bench.state(f"{colours} && new Set({colours.replace('view', 'zembrik.view')}.array).size > 3"))
    assert "%" in bench.find("#ramp .most").text
    bench.click("[data-action=tint][data-what='']")
    bench.wait(lambda: not bench.find("#ramp").is_displayed())
    again = "document.getElementById('figure').dispatchEvent(new Event('change'))"
    browser.execute_script(f"zembrik.state.frame = 4; {again}")
    bench.keys("[")
    browser.execute_script(f"zembrik.state.frame = 7; {again}")
    bench.keys("]", "x", "e", " ")
    bench.wait(lambda: bench.find("#every").text == "every frame")
    seen = set()
    until = time.monotonic() + 3
    while time.monotonic() < until:
        seen.add(bench.state("state.frame"))
    bench.keys(" ")
    assert seen <= {4, 5, 6, 7} and len(seen) >= 3
    with database.session() as session:
        assert get_shot(session, shot).marks == [7]
    bench.wait(lambda: "7" in bench.find(".marks").text)
    bench.keys("\\")
    bench.click("[data-action=compare]")
    bench.wait(lambda: "/compare" in browser.current_url and bench.state("trials.size") == 2)
    bench.click("#trial-table .acts .link")
    bench.wait(lambda: "held against" in bench.find("#trial-table").text)
    assert complaints(browser) == []


def test_keys_are_added_moved_and_deleted_in_the_curve_view(address, browser, database, shot):
    """With the mouse and the keyboard, a wrong turn included; the body moves before any bake."""
    bench = Bench(browser)
    browser.get(f"{address}/shots/{shot}/motion?body=ball")
    bench.wait(lambda: bench.state("state.status") and bench.state("state.whole"))
    path = "/bodies/1/motion/translate"

    def track():
        with database.session() as session:
            return get_shot(session, shot).head.document["bodies"][1].get("motion", {}).get("translate")

    bench.click(f"[data-track*='{path}']")
    curve = bench.find("#curves svg")
    wide = curve.size["width"]
    count = bench.state("state.status.frames[1]")
    hands = ActionChains(browser)
    at = lambda frame: round((frame - 0.5) * wide / count - wide / 2)  # noqa: E731
    hands.move_to_element_with_offset(curve, at(4), 40).double_click().perform()
    bench.wait(lambda: track() is not None)
    assert [k[0] for k in track()["keys"]] == [1, 4]
    bench.type("[data-set='1']", "0.5")
    bench.wait(lambda: track()["keys"][1] == [4, [0, 0.5, 0]])
    bench.wait(lambda: bench.state("state.revision") == bench.revision())
    bench.drag("#curves .knob[data-key='1'][data-part='1']", round(3 * wide / count))
    bench.wait(lambda: track()["keys"][1][0] == 7)

    # What was shown before may come once more, late: the key that is chosen stays so.
    bench.wait(lambda: bench.state("state.revision") == bench.revision())
    late = "const c = zembrik.curves, now = structuredClone(c.track), then = structuredClone(now); then.keys[1][0] = 4;"
    browser.execute_script(f"{late} c.show(then); c.show(now);")
    assert bench.state("curves.chosen.has(1)") and bench.read("[data-set=frame]", "value") == "7"

    # Its place at the keyed frame, before anything is baked.
    bench.wait(lambda: bench.state("state.revision") == bench.revision())
    browser.execute_script(
        "zembrik.state.frame = 7; document.getElementById('figure').dispatchEvent(new Event('change'))"
    )
    bench.wait(lambda: abs(bench.state("view.bodies.get('ball').group.matrix.elements[13]") - 0.5) < 0.02)

    # Faster than the server answers: each step rests on the one before, and none is lost.
    bench.click("#curves .knob[data-key='1'][data-part='1']")
    ActionChains(browser).send_keys(*[Keys.ARROW_LEFT] * 3).perform()
    bench.wait(lambda: track()["keys"][1][0] == 4)
    assert not bench.find("#notices").text
    ActionChains(browser).send_keys(*[Keys.ARROW_RIGHT] * 3).perform()
    bench.wait(lambda: track()["keys"][1][0] == 7)

    # Two keys on one frame are refused, and what there was stays.
    bench.type("[data-set=frame]", "1")
    bench.wait(lambda: "two keys stand on frame 1" in bench.find("#notices").text)
    bench.click("#notices [data-action=close-notice]")
    bench.wait(lambda: bench.find("#curves .count").text == "2 keys")
    Select(bench.find("[data-set=ease]")).select_by_value("hold")
    bench.wait(lambda: [k[2:] for k in track()["keys"]] in ([["hold"], []], [[], ["hold"]]))
    bench.wait(lambda: bench.state("state.revision") == bench.revision())
    bench.click("#curves .knob[data-key='1'][data-part='1']")
    ActionChains(browser).send_keys(Keys.DELETE).perform()
    bench.wait(lambda: [k[0] for k in track()["keys"]] == [1])
    ActionChains(browser).send_keys(Keys.ESCAPE).perform()
    bench.wait(lambda: not bench.find("#curves").is_displayed())


def test_a_dial_is_keyed_where_it_stands(address, browser, database, shot):
    """By the curve beside it on the Quality station, in its own unit; too much is refused; given back, it is plain."""
    bench = Bench(browser)
    browser.get(f"{address}/shots/{shot}/quality?body=sheet")
    bench.wait(lambda: bench.state("state.status") and bench.state("state.whole"))

    def thickness():
        with database.session() as session:
            return get_shot(session, shot).head.document["bodies"][0].get("thickness")

    bench.click("[aria-label='Thickness over frames']")
    ActionChains(browser).move_to_element(bench.find("#curves svg")).double_click().perform()
    bench.wait(lambda: isinstance(thickness(), dict))
    bench.type("[data-set='0']", "3.5")
    bench.wait(lambda: 0.0035 in [key[1] for key in thickness()["keys"]])
    bench.wait(lambda: bench.state("state.revision") == bench.revision())
    bench.wait(lambda: bench.read(".open-panel", "dataset.station") == "quality")
    bench.wait(lambda: bench.find("#panel .spark").is_displayed())
    bench.type("[data-set='0']", "3500")
    bench.wait(lambda: "must be at most 1" in bench.find("#notices").text)
    bench.click("#notices [data-action=close-notice]")
    bench.click(".dial:has(.spark) .link")
    bench.wait(lambda: thickness() is None)
    bench.wait(lambda: bench.find("#curves .count").text.startswith("nothing is keyed yet"))


def test_a_remedy_is_taken_and_given_back_by_keys(address, browser, database, shot):
    """A dial without effect is told where it is set; its remedy gives it back; undo and redo go back and forth."""
    bench = Bench(browser)
    browser.get(f"{address}/shots/{shot}/quality?body=sheet")
    bench.wait(lambda: bench.state("state.status") and bench.state("state.whole"))

    def iterations():
        with database.session() as session:
            return get_shot(session, shot).head.document.get("quality", {}).get("iterations")

    def told():
        return [f.text for f in browser.find_elements(By.CSS_SELECTOR, "#panel .find b") if "without effect" in f.text]

    dial = "[id$=quality-iterations]"
    given = bench.read(dial, "value")
    bench.changed(lambda: bench.type(dial, "5"))
    bench.wait(lambda: iterations() == 5 and told())
    assert bench.wait(lambda: bench.find("#panel .find:has(b) .go-look").text) == "Give it back"
    bench.changed(lambda: bench.click("#panel .find .go-look"))
    bench.wait(lambda: iterations() is None and not told())
    assert bench.read(dial, "value") == given != "5"
    ActionChains(browser).key_down(Keys.CONTROL).send_keys("z").key_up(Keys.CONTROL).perform()
    bench.wait(lambda: iterations() == 5 and told())
    hands = ActionChains(browser).key_down(Keys.CONTROL).key_down(Keys.SHIFT).send_keys("z")
    hands.key_up(Keys.SHIFT).key_up(Keys.CONTROL).perform()
    bench.wait(lambda: iterations() is None and not told())
    assert complaints(browser) == []


def test_points_are_chosen_in_the_viewport_and_held(address, browser, database, shot):
    bench = Bench(browser)
    browser.get(f"{address}/shots/{shot}/motion?body=sheet")
    bench.wait(lambda: bench.state("state.status"))
    bench.click("#hold summary")
    bench.click("[data-action=choose]")
    corner = """const b = zembrik.view.bodies.get('sheet'), p = b.mesh.geometry.attributes.position, v = zembrik.view;
        const q = new b.mesh.position.constructor().fromBufferAttribute(p, arguments[0]).project(v.camera);
        return [q.x * v.canvas.clientWidth / 2, -q.y * v.canvas.clientHeight / 2]"""
    stage = bench.find("#stage")
    for number in (0, 16, 288, 288):  # the last one twice: out again
        x, y = browser.execute_script(corner, number)
        ActionChains(browser).move_to_element_with_offset(stage, round(x), round(y)).click().perform()
    bench.wait(lambda: "2 points chosen" in bench.find("#chosen-words").text)
    bench.changed(lambda: bench.click("#hold .go"))
    with database.session() as session:
        assert get_shot(session, shot).head.document["bodies"][0]["pins"] == [{"points": {"numbers": [0, 16]}}]
    bench.wait(lambda: "2 chosen points" in bench.find("#panel").text)
    assert complaints(browser) == []
