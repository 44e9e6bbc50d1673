"""A person's hands and eyes on the bench, for tests in a real browser."""

from selenium.common.exceptions import NoSuchElementException, StaleElementReferenceException, TimeoutException
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import WebDriverWait


class Bench:
    """A person's hands on the bench."""

    def __init__(self, browser):
        self.browser = browser

    def wait(self, what, seconds=150):  # kernels may be compiling on the same two cores
        drawn_anew = (StaleElementReferenceException, NoSuchElementException)
        try:
            return WebDriverWait(self.browser, seconds, 0.1, drawn_anew).until(lambda _: what())
        except TimeoutException as late:
            told = "return [location.href, ...['notices', 'panel'].map((id) => document.getElementById(id)?.innerText)]"
            late.msg = f"{self.browser.execute_script(told)} {self.browser.get_log('browser')}"
            raise

    def find(self, css):
        return self.browser.find_element(By.CSS_SELECTOR, css)

    def read(self, css, what):
        """Return a property of an element, found and read at once: between the two it may be drawn anew."""
        return self.browser.execute_script(f"return document.querySelector(arguments[0])?.{what}", css)

    def click(self, css):
        def hit():
            try:
                found = self.find(css)
                self.browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", found)
                found.click()
            except (StaleElementReferenceException, NoSuchElementException):
                return False  # the panel was just drawn anew
            return True

        self.wait(hit, 60)

    def drag(self, css, right):
        def dragged():
            self.browser.execute_script("arguments[0].scrollIntoView({block: 'nearest'})", self.find(css))
            ActionChains(self.browser).drag_and_drop_by_offset(self.find(css), right, 0).perform()
            return True  # what is drawn anew before a hand is on it is taken hold of once more

        self.wait(dragged, 60)

    def station(self, name):
        here = "return document.querySelector('.open-panel')?.dataset.station"
        for seconds in (30, 30, 120):  # an answer asked for before may come after and lead back: then once more
            self.click(f".st[data-station={name}]")
            try:
                self.wait(lambda: self.browser.execute_script(here) == name, seconds)
                return
            except TimeoutException:
                continue
        raise AssertionError(f"the station {name} does not open")

    def revision(self):
        return int(self.browser.execute_script("return document.querySelector('.open-panel').dataset.revision"))

    def changed(self, action):
        before = self.revision()
        action()
        self.wait(lambda: self.revision() != before, 20)

    def type(self, css, text):
        def typed():
            field = self.find(css)  # the panel may be drawn anew between finding it and typing: then once more
            field.send_keys(Keys.CONTROL, "a")
            field.send_keys(text, Keys.TAB)
            return True

        self.wait(typed)

    def state(self, expression):
        return self.browser.execute_script(f"return window.zembrik && window.zembrik.{expression}")

    def keys(self, *keys):
        ActionChains(self.browser).send_keys(*keys).perform()


def complaints(browser):
    """Return what the browser's console complains of.

    Not that a value was refused (422), and not that a panel asked for was dropped for the next station's: that is what
    `hx-sync` is for. A request that fails tells more than its end (htmx:sendError or responseError).
    """
    told = [entry["message"] for entry in browser.get_log("browser") if entry["level"] == "SEVERE"]
    fine = ("422", "htmx:sendAbort", "htmx:afterRequest")
    return [message for message in told if not any(word in message for word in fine)]
