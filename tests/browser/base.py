"""A real browser on the live site; console errors and requests that leave the machine fail."""

from __future__ import annotations

import atexit
import os
import socket
from functools import cache
from pathlib import Path
from typing import Any
from urllib.parse import urlparse

from django.conf import settings
from django.contrib.auth import get_user_model
from django.contrib.staticfiles.handlers import StaticFilesHandler
from django.contrib.staticfiles.testing import StaticLiveServerTestCase
from django.core.cache import caches
from django.core.servers.basehttp import ThreadedWSGIServer
from django.test import Client
from django.test.testcases import LiveServerThread
from django.urls import reverse
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from tests.demo_data import load_demo
from tests.few_draws import FewDraws
from tools.chromium import launch
from web.demo.scenario import USERNAME
from web.jobs.models import Job

AXE = Path(__file__).parent / "vendor" / "axe.min.js"
WIDE = {"width": 1280, "height": 800}
PHONE = {"width": 390, "height": 844}
# What htmx writes when a newer request takes the place of one still on its way; a request that
# fails says so in other words.
REPLACED = ("htmx:sendAbort", "htmx:afterRequest", "Service Worker registration blocked")
# What browser and htmx write while there is no connection.
OFFLINE = ("htmx:sendError", "Failed to load resource: net::ERR_INTERNET_DISCONNECTED")
expect.set_options(timeout=20_000)


class CachedStaticFiles(StaticFilesHandler):
    """Styles and scripts that a browser fetches once in a test, as it does from the real site."""

    def serve(self, request: Any) -> Any:
        response = super().serve(request)
        response["Cache-Control"] = "max-age=3600"
        return response


class SamePortServer(ThreadedWSGIServer):
    """A server on the port that another one of this process just left."""

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **{**kwargs, "allow_reuse_address": True})


class SamePortThread(LiveServerThread):
    server_class = SamePortServer


@cache
def the_browser() -> Browser:
    """One browser for all tests of a process."""
    playwright = sync_playwright().start()
    browser = launch(playwright)
    atexit.register(playwright.stop)
    atexit.register(browser.close)
    return browser


@cache
def free_port(process: int) -> int:
    """A port for all live servers of a process, of those that no connection is given by itself."""
    for port in range(20_000 + process % 10_000, 32_000):
        with socket.socket() as trial:
            if trial.connect_ex(("localhost", port)):
                return port
    raise OSError("no port is free")


#: Browser contexts of this process that were emptied, by their options; each has styles, scripts
#: and fonts in its cache.
_emptied: dict[str, list[BrowserContext]] = {}


def empty(context: BrowserContext, origin: str) -> None:
    """Take away what a test left in a browser context, but for what was fetched."""
    context.set_offline(False)
    session = context.new_cdp_session(context.pages[0])
    session.send("Storage.clearDataForOrigin", {"origin": origin, "storageTypes": "all"})
    for page in context.pages:
        page.close()
    context.clear_cookies()


class BrowserTest(FewDraws, StaticLiveServerTestCase):
    """Each test gets an empty browser context; the demo scenario is there."""

    static_handler = CachedStaticFiles
    server_thread_class = SamePortThread

    @classmethod
    def setUpClass(cls) -> None:
        cls.port = free_port(os.getpid())
        # Playwright's sync API keeps an event loop in this thread; the ORM is only used beside it.
        os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
        super().setUpClass()

    def setUp(self) -> None:
        # Answers follow from their documents alone, and the demo's are the same in every test.
        caches["default"].clear()
        load_demo()
        self.complaints: list[str] = []
        self.expected_statuses: set[int] = set()
        self.is_offline = False

    def tearDown(self) -> None:
        self.assertEqual(self.complaints, [])

    def open(
        self, viewport: dict[str, int] | None = None, *, fresh: bool = False, **context: Any
    ) -> Page:
        """A page of an empty context, watched; of a new one for tests that change its clock."""
        context.setdefault("reduced_motion", "reduce")
        context["viewport"] = viewport or WIDE
        # What one test's page is kept as is no other test's business.
        context.setdefault("service_workers", "block")
        page = self._context(context, fresh).new_page()
        page.on("console", lambda message: self._console(message.type, message.text))
        page.on("pageerror", lambda error: self.complaints.append(f"page error: {error}"))
        page.on("request", lambda request: self._request(request.url))
        return page

    def _context(self, options: dict[str, Any], fresh: bool) -> BrowserContext:
        """A browser context that is this test's own."""
        fresh = fresh or "storage_state" in options or options["service_workers"] == "allow"
        if fresh:
            opened = the_browser().new_context(**options)
            self.addCleanup(opened.close)
            return opened
        emptied = _emptied.setdefault(repr(sorted(options.items())), [])
        opened = emptied.pop() if emptied else the_browser().new_context(**options)
        self.addCleanup(emptied.append, opened)
        self.addCleanup(empty, opened, self.live_server_url)
        return opened

    def _console(self, kind: str, text: str) -> None:
        said = (f"{word} {status}" for word in ("of", "Code") for status in self.expected_statuses)
        expected = any(words in text for words in said)
        replaced = text.startswith(REPLACED) or (self.is_offline and text.startswith(OFFLINE))
        if kind in ("error", "warning") and not expected and not replaced:
            self.complaints.append(f"console {kind}: {text}")

    def _request(self, url: str) -> None:
        parts = urlparse(url)
        if parts.scheme in ("http", "https") and parts.hostname not in ("localhost", "127.0.0.1"):
            self.complaints.append(f"request left the machine: {url}")

    def url(self, name: str, *args: Any) -> str:
        return self.live_server_url + reverse(name, args=args)

    def signed_in(self, viewport: dict[str, int] | None = None, **context: Any) -> Page:
        """An empty page of somebody signed in as the demo user.

        Signing in by its page is what the first answer's test does; the others save the time.
        """
        page = self.open(viewport, **context)
        client = Client()
        client.force_login(get_user_model().objects.get(username=USERNAME))
        cookie = client.cookies[settings.SESSION_COOKIE_NAME]
        page.context.add_cookies(
            [{"name": cookie.key, "value": cookie.value, "url": self.live_server_url}]
        )
        return page

    def clinic(self) -> Job:
        return Job.objects.get(name="Tern Point Animal Clinic")

    def go(self, page: Page, name: str, *args: Any) -> None:
        page.goto(self.url(name, self.clinic().pk, *args))

    def axe(self, page: Page, *rules: str) -> list[str]:
        """What axe finds wrong by its rules for WCAG 2.1 AA, or by those named, one line each."""
        if not page.evaluate("'axe' in window"):
            page.evaluate(AXE.read_text())
        only = list(rules) or ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa"]
        violations = page.evaluate(
            "async only => (await axe.run({runOnly: only, preload: false,"
            " resultTypes: ['violations']})).violations"
            ".map(v => `${v.id}: ${v.nodes.slice(0, 3).map(n => n.target).join(' | ')}`)",
            only,
        )
        return list(violations)
