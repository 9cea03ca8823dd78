"""A server with an access key: its pages lead to the sign-in, and work behind it, live progress included."""

from __future__ import annotations

import socket
import threading
import time
import unittest
from urllib.parse import quote, urlsplit

import uvicorn
from playwright.sync_api import expect

from tests.interface.browser import BrowserTest
from tests.server.stand import settings
from tidy_caravan.server.app import create_app

KEY = 'schlüssel ☃ = ; " key'


class Access(BrowserTest):
    def test_sign_in_and_work_behind_it(self) -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        chosen = settings().but(host="0.0.0.0", access_key=KEY)
        config = uvicorn.Config(create_app(chosen), host="127.0.0.1", port=port, log_level="error")
        server = uvicorn.Server(config)
        thread = threading.Thread(target=server.run, daemon=True)
        thread.start()
        until = time.monotonic() + 30
        while not server.started and time.monotonic() < until:
            time.sleep(0.05)
        try:
            page = self.page
            page.goto(f"http://127.0.0.1:{port}/")
            page.wait_for_url("**/sign-in*")
            box = page.get_by_label("Access key")
            box.fill("wrong")
            page.get_by_role("button", name="Sign in").click()
            expect(page.get_by_role("alert")).to_contain_text("not the access key")
            self.faults.clear()  # the refusals so far are in the console, as they should be
            box.fill(KEY)
            with page.expect_response(lambda r: "/api/events" in r.url) as stream:
                page.get_by_role("button", name="Sign in").click()
            expect(page.get_by_role("heading", name="Hauls")).to_be_visible()
            self.assertEqual(stream.value.status, 200)
            expect(page.get_by_text("Pellwick Ferry Landing").first).to_be_visible()
            cookie = next(c for c in page.context.cookies() if c["name"] == "caravan-access")
            self.assertEqual((cookie["httpOnly"], cookie["sameSite"]), (True, "Strict"))
            self.assertEqual(page.evaluate("document.cookie"), "")
            for elsewhere in ("//example.invalid/x", "/\\\\example.invalid/x", "https://example.invalid/x"):
                page.goto(f"http://127.0.0.1:{port}/sign-in?back={quote(elsewhere)}")
                page.get_by_label("Access key").fill(KEY)
                page.get_by_role("button", name="Sign in").click()
                expect(page.get_by_role("heading", name="Hauls")).to_be_visible()
                self.assertEqual(urlsplit(page.url).netloc, f"127.0.0.1:{port}")
        finally:
            self.page.goto("about:blank")
            server.should_exit = True
            thread.join(20)


if __name__ == "__main__":
    unittest.main()
