"""axe-core over all pages, stations and both themes finds nothing serious or moderate; the ribbon shows its focus."""

import time
from pathlib import Path

import pytest
from baking import bake_now
from selenium.webdriver.common.by import By

from zembrik.library import bakes

AXE = (Path(__file__).parents[1] / "tools" / "node_modules" / "axe-core" / "axe.min.js").read_text()
STATIONS = ["intake", "proxies", "start", "motion", "quality", "bake", "review", "deliver"]


@pytest.mark.parametrize("theme", ["dark", "light"])
def test_axe_finds_nothing(address, browser, database, shot, theme):
    with database.session() as session:
        number = bakes.queue_bake(session, shot).id
    bake_now(database, number)
    pages = [
        "/",
        "/sign-in",
        "/account",
        "/caches",
        "/queue",
        "/deliveries",
        "/api",
        "/shots/999999/intake",
        f"/shots/{shot}/delete",
    ]
    found = []
    browser.get(address)
    browser.execute_script(f"localStorage.setItem('zembrik-theme', '{theme}')")
    for page in [*pages, *(f"/shots/{shot}/{station}" for station in STATIONS)]:
        browser.get(address + page)
        time.sleep(0.5)
        browser.execute_script(AXE)
        told = browser.execute_async_script(
            "const done = arguments[0];"
            "axe.run(document, {resultTypes: ['violations']}).then((found) => done(found.violations))"
        )
        found += [
            (page, v["id"], v["nodes"][0]["html"][:120])
            for v in told
            if v["impact"] in ("moderate", "serious", "critical")
        ]
    assert found == []


def test_the_ribbon_shows_its_focus_and_a_narrow_page_keeps_its_width(address, browser, shot):
    browser.get(f"{address}/shots/{shot}/review")
    ribbon = browser.find_element(By.ID, "ribbon")
    outline = browser.execute_script(
        "arguments[0].focus({focusVisible: true}); return getComputedStyle(arguments[0]).outlineStyle", ribbon
    )
    assert outline == "solid"
    size = browser.get_window_size()
    try:
        browser.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride", {"width": 390, "height": 800, "deviceScaleFactor": 1, "mobile": False}
        )
        for page in ("/", "/caches", "/queue", "/deliveries"):
            browser.get(address + page)
            assert browser.execute_script("return document.documentElement.scrollWidth") <= 390, page
    finally:
        browser.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})
        browser.set_window_size(size["width"], size["height"])
