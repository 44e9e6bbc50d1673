"""Take the pictures in docs/screenshots from a running demo (a fresh one, all its shots baked).

usage: PYTHONPATH=src ZEMBRIK_HOME=… python tools/take_screenshots.py [address [name ...]]
"""

import json
import re
import subprocess
import sys
import tempfile
import time
import urllib.parse
import urllib.request
from pathlib import Path

from selenium import webdriver
from selenium.common.exceptions import JavascriptException
from selenium.webdriver.chrome.service import Service

from zembrik.start import home_folder

ROOT = Path(__file__).resolve().parents[1]
FLAGS = (
    "--headless=new --no-sandbox --disable-quic --no-first-run --disable-background-networking "
    "--disable-component-update --disable-sync --use-angle=swiftshader --enable-unsafe-swiftshader "
    "--ignore-gpu-blocklist --hide-scrollbars"
)
LAYERED = """
zembrik.hand.first();
zembrik.hand.choice.set(zembrik.view.groups.find((g) => g.drop)?.bodies ?? [...zembrik.view.bodies.keys()].slice(1, 9));
document.querySelector('.layers')?.scrollIntoView();
"""
HANDED = """
zembrik.state.frame = 24;
document.querySelector('#handovers')?.scrollIntoView();
"""
# name: path, and what is done on the page before the picture is taken: a script, or FILE and a mesh to hand in
VIEWS = {
    "board": ("/", ""),
    "intake": ("/shots/1/intake", "document.querySelector('[data-toggle=human]').click()"),
    "taken": ("/shots/3/intake", "FILE examples/terraces.obj"),
    "table": ("/shots/5/intake", "document.querySelector('[data-action=table]').click()"),
    "proxies": (
        "/shots/3/proxies",
        "if (document.querySelector('.kinds').textContent.includes('…')) throw new Error('still being measured')",
    ),
    "start": ("/shots/5/start?body=terraces", LAYERED),
    "motion": ("/shots/1/motion", "document.querySelector('[data-action=air]').click(); zembrik.state.frame = 54"),
    "curves": ("/shots/1/motion", "document.querySelector('.wind .track').click(); zembrik.state.frame = 40"),
    "quality": ("/shots/3/quality", "zembrik.state.frame = 60"),
    "bake": ("/shots/3/bake", "zembrik.state.frame = 30"),
    "review": (
        "/shots/2/review",
        "document.querySelector('[data-action=tint][data-what=stretch]').click(); zembrik.state.frame = 40",
    ),
    "deliver": ("/shots/1/deliver", "zembrik.state.frame = 60"),
    "handover": ("/shots/8/motion?body=tossed%20pear%203", HANDED),
    "caches": ("/caches", ""),
    "queue": ("/queue", ""),
    "deliveries": ("/deliveries", ""),
    "light": ("/shots/2/review", "document.querySelector('[data-action=theme]').click(); zembrik.state.frame = 72"),
}


def start_trials(address: str) -> str:
    """Put six trials of the muslin into the queue and return their sheet's path."""
    fields = {
        "one": "quality substeps",
        "one_values": "20, 40",
        "two": "muslin bend",
        "two_values": "±90%",
        "last": "48",
    }
    with urllib.request.urlopen(f"{address}/shots/3/quality") as page:
        token = re.search(rb'X-Form-Token": "(\w+)"', page.read())
    headers = {"hx-request": "true", "X-Form-Token": token[1].decode() if token else ""}
    asked = urllib.request.Request(f"{address}/shots/3/trials", urllib.parse.urlencode(fields).encode(), headers)
    with urllib.request.urlopen(asked) as answer:
        return str(answer.headers["hx-redirect"])


def wait_for(address: str, sheet: str) -> str:
    """Wait for a sheet's trials and return its path."""
    while True:
        with urllib.request.urlopen(f"{address}{sheet}/table") as answer:
            if b'data-busy="0"' in answer.read():
                return sheet
        time.sleep(2)


def make_comparison(address: str) -> str:
    """Hand the awning in as a point cache, as another program would, and return where it is beside ours."""
    with tempfile.TemporaryDirectory() as folder:
        at = [str(ROOT / "zembrik"), "at", "--server", address]
        baked = json.loads(subprocess.check_output([*at, "show-shot", "1"]))["bake"]
        folder_of = json.loads(subprocess.check_output([*at, "show-bake", str(baked)]))["folder"]
        path = str(home_folder() / "caches" / folder_of)
        point_cache = f"{folder}/awning from elsewhere.abc"
        subprocess.check_call([str(ROOT / "zembrik"), "export", path, point_cache])
        stored = json.loads(subprocess.check_output([*at, "store-asset", point_cache]))["reference"]
        order = ["--reference", stored, "--parts", "awning", "--label", "from elsewhere"]
        done = json.loads(subprocess.check_output([*at, "hand-in-cache", "1", *order, "--wait"]))
    return f"/shots/1/compare?bake={baked}&bake={done['result']['bake']}&against={baked}"


def main() -> None:
    """Walk through the views and write their pictures."""
    address = (sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8460").rstrip("/")
    folder = ROOT / "docs" / "screenshots"
    folder.mkdir(parents=True, exist_ok=True)
    options = webdriver.ChromeOptions()
    options.binary_location = "/usr/bin/chromium"
    for flag in FLAGS.split():
        options.add_argument(flag)
    driver = webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))
    size = {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False}
    driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
    try:
        views = {name: VIEWS[name] for name in VIEWS if name in (sys.argv[2:] or VIEWS)}
        sheet = start_trials(address) if not sys.argv[2:] or {"trials", "queue"} & set(sys.argv[2:]) else ""
        if "queue" in views:  # first of all, while the trials are at work
            views = {"queue": views.pop("queue")} | views
        if not sys.argv[2:] or "trials" in sys.argv[2:]:
            views["trials"] = (sheet, "zembrik.state.frame = 40")
        if not sys.argv[2:] or "compare" in sys.argv[2:]:
            views["compare"] = (make_comparison(address), "zembrik.state.frame = 60")
        for name, (path, before) in views.items():
            driver.get(address + (wait_for(address, path) if name == "trials" else path))
            time.sleep(2.5)
            if before.startswith("FILE "):
                path = str(ROOT / before[5:])
                driver.find_element("css selector", "#drop input[type=file]").send_keys(path)
            else:
                until = time.monotonic() + 90
                while True:  # what is asked for may wait for an errand
                    try:
                        driver.execute_script(before)
                        break
                    except JavascriptException:
                        if time.monotonic() > until:
                            raise
                        time.sleep(1)
            driver.execute_script(  # it goes to the frame that was set
                "document.getElementById('figure')?.dispatchEvent(new Event('change'));"
                "if (window.zembrik) dispatchEvent(new Event('resize'))"
            )
            time.sleep(3)
            driver.save_screenshot(str(folder / f"{name}.png"))
            driver.execute_script("localStorage.clear()")
    finally:
        driver.quit()


if __name__ == "__main__":
    main()
