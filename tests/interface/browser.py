"""Debian's Chromium driven by Playwright, against the real server, with WebGL in software."""

from __future__ import annotations

import atexit
import os
import shutil
import time
import unittest
from collections.abc import Callable
from functools import lru_cache
from typing import Any

from playwright.sync_api import BrowserContext, Error, Page, expect, sync_playwright

from tests.server.stand import running, settings
from tidy_caravan.demo.load import add_demo

ARGUMENTS = [
    "--no-sandbox", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync",
    "--use-angle=swiftshader", "--enable-unsafe-swiftshader",
    "--webgl-msaa-sample-count=0",  # smooth edges cost a software renderer more than all the rest
    "--disable-gpu-compositing",  # there is none, and pages are put together for half of what it costs to act as if
]  # fmt: skip
WIDTH, HEIGHT = 1280, 800
STILL = """async () => {
  const until = performance.now() + 20000;
  for (let before = '', same = 0; same < 4 && performance.now() < until; ) {
    await new Promise(requestAnimationFrame);
    const now = [...document.querySelectorAll('canvas')].map((c) => c.dataset.frames ?? '').join();
    same = now === before ? same + 1 : 0;
    before = now;
  }
  return performance.now() < until;
}"""
"""Whether the view came to rest: the page was drawn four times in a row, and the scene was not."""
EMPTY = '<link rel="icon" href="data:,">'
_demo: list[bool] = []
expect.set_options(timeout=20_000)  # pictures are drawn in software


@lru_cache(maxsize=1)
def profile() -> BrowserContext:
    """A browser that stays for all tests of this process, since starting takes a while."""
    # the Node.js that is there anyway: the one inside the package wants a system library that a small machine lacks
    if node := shutil.which("node"):
        os.environ.setdefault("PLAYWRIGHT_NODEJS_PATH", node)
    play = sync_playwright().start()
    browser = play.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)

    def close() -> None:
        browser.close()
        play.stop()

    atexit.register(close)
    return browser.new_context(
        viewport={"width": WIDTH, "height": HEIGHT},
        device_scale_factor=0.5,  # a quarter of the points, in the same layout
        accept_downloads=True,
    )


def tab() -> Page:
    """The one tab of this process: its renderer holds the application compiled, which a new one has to do again."""
    if not (pages := profile().pages):
        return profile().new_page()
    return pages[0]


class BrowserTest(unittest.TestCase):
    """A document per test, which knows nothing of earlier ones; messages of the console that tell of a fault fail the test."""

    page: Page

    @classmethod
    def setUpClass(cls) -> None:
        cls.address = running()
        if not _demo:
            add_demo(settings())
            _demo.append(True)

    def setUp(self) -> None:
        self.page = tab()
        profile().clear_cookies()
        self.page.set_default_timeout(30_000)
        self.faults: list[str] = []
        self.listen("pageerror", lambda error: self.faults.append(str(error)))
        self.listen("console", lambda m: self.faults.append(m.text) if m.type == "error" else None)

    def listen(self, event: str, heard: Callable[[Any], object]) -> None:
        """Has it told what happens on the page, as long as this test goes on."""
        self.page.on(event, heard)  # type: ignore[call-overload]
        self.addCleanup(self.page.remove_listener, event, heard)

    def tearDown(self) -> None:
        try:
            self.page.unroute_all(behavior="ignoreErrors")
            # an empty one of the same site, since another has a renderer of its own
            self.page.route("**/empty", lambda route: route.fulfill(content_type="text/html", body=EMPTY))
            self.page.goto(f"{self.address}/empty")
            self.page.evaluate("[localStorage, sessionStorage].forEach((kept) => kept.clear())")
        except Error:
            self.page.close()  # whatever holds it, the next test has a new one
        self.assertEqual(self.faults, [])

    def open_haul(self, name: str, station: str) -> dict[str, Any]:
        """Opens a haul by name at a station and waits until the view has drawn."""
        hauls = self.asked("hauls?limit=500")["items"]
        haul: dict[str, Any] = next(h for h in hauls if h["name"].startswith(name))
        self.page.goto(f"{self.address}/hauls/{haul['id']}/{station}")
        self.drawn()
        return haul

    def route_once(self, haul: str, good: Callable[[dict[str, Any]], bool]) -> dict[str, Any]:
        """The haul's route once it is as wanted: the page shows a change before the server has it."""
        until = time.monotonic() + 20
        while True:
            route: dict[str, Any] = self.asked(f"hauls/{haul}")["route"]
            if good(route):
                return route
            self.assertLess(time.monotonic(), until, route)
            time.sleep(0.1)

    def asked(self, path: str) -> Any:
        """The server's answer; as a browser does, once more where it has just closed a line that was long idle."""
        return self.page.request.get(f"{self.address}/api/{path}", max_retries=2).json()

    def ran(self, haul: str) -> None:
        """Waits for a run, as long as a busy machine takes; what the page shows of it has its usual time afterwards."""
        until = time.monotonic() + 90
        while True:
            run = self.asked(f"hauls/{haul}")["run"]
            if run and not run["stale"]:
                return
            self.assertLess(time.monotonic(), until, run)
            time.sleep(0.1)

    def picture(self) -> bytes:
        """The view as it is, once it is drawn."""
        self.drawn()
        self.still()
        return self.page.locator("canvas").first.screenshot()

    def still(self) -> None:
        """Waits until what was asked for is drawn: cameras have arrived, and lenses and marks are there."""
        self.assertTrue(self.page.evaluate(STILL), "the view never stands still")

    def drawn(self) -> int:
        """Draw calls of the last picture, as the renderer counted them."""
        figures = self.page.locator("[data-testid=view-figures]:not([data-calls=''])")
        figures.wait_for()
        return int(figures.get_attribute("data-calls") or 0)

    def assert_nothing_overflows(self) -> None:
        """No page-wide scrolling, and no text cut off without a way to see it whole."""
        wide = self.page.evaluate("[document.documentElement.scrollWidth, document.documentElement.scrollHeight]")
        self.assertLessEqual(wide[0], WIDTH)
        self.assertLessEqual(wide[1], HEIGHT)
        outside = self.page.evaluate(
            """() => [...document.querySelectorAll('button, select, input, h1, h2, p, a')]
              .filter(e => e.offsetParent && !e.closest('[aria-label="Steps of the route"], [data-testid=ledger], .modal, [role=region], main ul'))
              .map(e => [e, e.getBoundingClientRect()])
              .filter(([, r]) => r.width && (r.right > innerWidth + 1 || r.bottom > innerHeight + 1 || r.left < -1))
              .map(([e]) => e.outerHTML.slice(0, 120))"""
        )
        self.assertEqual(outside, [])
