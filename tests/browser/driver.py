"""Debian's Chromium, driven headless against the real build; one driver a class."""

import contextlib
import json
import os
import socket
import time
from collections.abc import Callable
from datetime import date
from typing import Any

from django.conf import settings
from django.core.servers.basehttp import ThreadedWSGIServer
from django.db import connection
from django.test import Client, LiveServerTestCase
from django.test.testcases import LiveServerThread, QuietWSGIRequestHandler
from selenium import webdriver
from selenium.common.exceptions import StaleElementReferenceException, WebDriverException
from selenium.webdriver.chrome.options import Options
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from aldrip.accounts.models import User
from tests.server.house import ensure_library, make_house

FLAGS = (
    "--headless=new",
    "--disable-gpu",
    "--disable-dev-shm-usage",
    "--window-size=1280,800",
    "--force-device-scale-factor=1",
    "--hide-scrollbars",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-default-apps",
    "--disable-extensions",
    "--host-resolver-rules=MAP * ~NOTFOUND , EXCLUDE localhost , EXCLUDE 127.0.0.1",
)
PATIENCE = 30.0  # a loaded machine is slow, and waiting ends as soon as the thing is there
AXE = settings.ROOT / "web" / "node_modules" / "axe-core" / "axe.min.js"


# Asked of the page in one go: a question per element would take most of a test's time.
NAMED = """
const [kind, name] = arguments;
let begins = null;
for (const element of document.querySelectorAll(kind)) {
  const label = element.getAttribute("aria-label") || (element.innerText || "").trim().replace(/\\s+/g, " ");
  if (!label.startsWith(name) || !element.getClientRects().length || getComputedStyle(element).visibility === "hidden") continue;
  if (label === name) return element;
  begins ??= element;
}
return begins;
"""
FIELD_OF = """
const [name] = arguments;
for (const label of document.querySelectorAll("label")) {
  if ((label.innerText || "").trim().replace(/\\s+/g, " ").startsWith(name)) {
    const control = label.querySelector("input, select, textarea");
    if (control) return control;
  }
}
for (const control of document.querySelectorAll("input, select, textarea"))
  if ((control.getAttribute("aria-label") || "").startsWith(name)) return control;
return null;
"""


def make_driver() -> webdriver.Chrome:
    options = Options()
    options.binary_location = "/usr/bin/chromium"
    for flag in FLAGS:
        options.add_argument(flag)
    if os.geteuid() == 0:
        options.add_argument("--no-sandbox")
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    return webdriver.Chrome(options=options, service=Service("/usr/bin/chromedriver"))


class CuttingServer(ThreadedWSGIServer):
    """A server that hangs up on everybody when it stops, as a killed one does."""

    def __init__(self, *args: Any, **more: Any) -> None:
        self.lines: list[socket.socket] = []
        super().__init__(*args, **more)

    def process_request(self, request: Any, client_address: Any) -> None:
        self.lines.append(request)
        super().process_request(request, client_address)

    def server_close(self) -> None:
        for line in self.lines:
            with contextlib.suppress(OSError):
                line.shutdown(socket.SHUT_RDWR)
        super().server_close()


class RestartableThread(LiveServerThread):
    """A server that may come back on the port it had."""

    server_class = CuttingServer

    def _create_server(self, connections_override: Any = None) -> Any:
        return self.server_class(
            (self.host, self.port),
            QuietWSGIRequestHandler,
            allow_reuse_address=True,
            connections_override=connections_override,
        )


BUSY = "select count(*) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid() and state <> 'idle'"


class BrowserCase(LiveServerTestCase):
    """A browser, and a nursery set up for each test."""

    server_thread_class = RestartableThread

    driver: webdriver.Chrome

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.driver = make_driver()

    @classmethod
    def tearDownClass(cls) -> None:
        cls.driver.quit()
        super().tearDownClass()

    def setUp(self) -> None:
        ensure_library()
        self.ctx = make_house()
        self.size(1280, 800)
        self.driver.delete_all_cookies()

    def tearDown(self) -> None:
        # No request may still be on its way while the tables are emptied.
        self.driver.get("about:blank")
        quiet, end = 0, time.monotonic() + PATIENCE
        while quiet < 3 and time.monotonic() < end:
            with connection.cursor() as cursor:
                cursor.execute(BUSY)
                quiet = 0 if cursor.fetchone()[0] else quiet + 1
            time.sleep(0.02)

    def size(self, width: int, height: int) -> None:
        metrics = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 600}
        self.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)

    def open(self, path: str) -> None:
        self.driver.get(self.live_server_url + path)

    def until(self, found: Callable[[], Any], what: str) -> Any:
        """Wait for something to be there."""
        end = time.monotonic() + PATIENCE
        while time.monotonic() < end:
            try:
                value = found()
            except (StaleElementReferenceException, WebDriverException):
                value = None
            if value:
                return value
            time.sleep(0.05)
        raise AssertionError(f"waited for {what}; the page says:\n{self.text()[-1800:]}")

    def text(self) -> str:
        return str(self.driver.execute_script("return document.body.innerText")).replace("\t", " ")

    def see(self, words: str) -> None:
        self.until(lambda: words in self.text(), f"“{words}”")

    def gone(self, words: str) -> None:
        self.until(lambda: words not in self.text(), f"“{words}” to go")

    def named(self, tag: str, name: str) -> WebElement:
        """The visible element of a kind that has a name; else the first whose words or label begin with it."""
        found: WebElement = self.until(lambda: self.driver.execute_script(NAMED, tag, name), f"{tag} “{name}”")
        return found

    def press(self, name: str, tag: str = "button, a, summary") -> None:
        def click() -> bool:
            self.named(tag, name).click()
            return True

        self.until(click, f"“{name}” to press")

    def field(self, label: str) -> WebElement:
        """The control of a label that begins with these words, or whose own label does."""
        found: WebElement = self.until(lambda: self.driver.execute_script(FIELD_OF, label), f"field “{label}”")
        return found

    def fill(self, label: str, text: str) -> None:
        def typed() -> bool:
            control = self.field(label)
            control.send_keys(Keys.CONTROL, "a")
            control.send_keys(text)
            return True

        self.until(typed, f"field “{label}” to take “{text}”")

    def fill_day(self, label: str, day: date) -> None:
        """A day as a person may type it."""
        self.fill(label, f"{day.day} {day:%b} {day.year}")

    def stop_server(self) -> None:
        """The server is down: nothing listens any more. A test that fails meanwhile leaves it running to the next."""
        self.server_thread.terminate()
        self._down = True
        self.addCleanup(lambda: self.start_server() if self._down else None)

    def start_server(self) -> None:
        """The server is back, on the same port."""
        self._down = False
        thread = type(self)._create_server_thread({})
        thread.port = self.server_thread.port
        thread.daemon = True
        thread.start()
        thread.is_ready.wait()
        if thread.error:
            raise thread.error
        type(self).server_thread = thread

    def choose(self, label: str, option: str) -> None:
        def pick() -> bool:
            for element in self.field(label).find_elements(By.TAG_NAME, "option"):
                if element.text.startswith(option):
                    element.click()
                    return True
            return False

        self.until(pick, f"option “{option}” of {label}")

    def sign_in(self, username: str = "ada") -> None:
        """Let somebody in by their session; the form of it has its own tests."""
        client = Client()
        client.force_login(User.objects.get(username=username))
        cookie = client.cookies[settings.SESSION_COOKIE_NAME]
        self.open("/healthz")  # a page of the place, for which alone a cookie can be set
        self.driver.execute_script("sessionStorage.clear()")  # what an earlier test left unsaved
        self.driver.add_cookie({"name": cookie.key, "value": cookie.value, "path": "/", "httpOnly": True})
        self.open("/")
        self.see("Sign out")

    def keys(self, *keys: str) -> None:
        """Keys to whatever has the focus."""
        for key in keys:
            ActionChains(self.driver).send_keys(key).perform()

    def axe(self, target_size: bool = False) -> list[str]:
        """What axe finds on the page as it stands; with the size of what fingers hit, where fingers are likely."""
        if not self.driver.execute_script("return 'axe' in window"):
            self.driver.execute_script(AXE.read_text(encoding="utf-8"))
        result = self.driver.execute_async_script(
            "const done = arguments[arguments.length - 1];"
            "axe.run(document, {resultTypes: ['violations'], rules: {'target-size': {enabled: arguments[0]}}})"
            ".then(r => done(JSON.stringify(r.violations)), e => done(String(e)))",
            target_size,
        )
        return [f"{v['id']}: {v['nodes'][0]['html'][:160]} ({v['help']})" for v in json.loads(result)]

    def complaints(self) -> list[str]:
        """What the browser itself complained about, the policy's refusals among it."""
        return [
            row["message"]
            for row in self.driver.get_log("browser")
            if row["level"] == "SEVERE" and " 4" not in row["message"]
        ]
