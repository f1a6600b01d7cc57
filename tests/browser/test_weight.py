"""What a page costs on its way: bytes on the first visit and after, and how much of it moves."""

import gzip
from pathlib import Path
from urllib.parse import urlparse

from django.conf import settings
from django.contrib.staticfiles import finders

from tests.browser.base import BrowserTest

#: Most bytes without fonts: on the first visit, and on the next, kB.
FIRST_KB, AGAIN_KB = 150.0, 40.0
#: Most layout shift, as the browser sums it.
MOST_SHIFT = 0.02
WATCH_SHIFTS = """
window.shift = 0;
window.moved = [];
new PerformanceObserver(list => {
  for (const entry of list.getEntries()) if (!entry.hadRecentInput) {
    window.shift += entry.value;
    for (const source of entry.sources) window.moved.push(source.node?.outerHTML?.slice(0, 80));
  }
}).observe({type: "layout-shift", buffered: true});
"""


class WeightTest(BrowserTest):
    def test_pages_are_light_and_stand_still(self):
        clinic = self.clinic()
        signed_in = self.signed_in().context.storage_state()
        box = clinic.loads.get(name="Vaccine refrigerator")
        for name, *args in (("plans:current",), ("bench:capture", box.captures.first().pk)):
            with self.subTest(page=name):
                page = self.open(storage_state=signed_in)
                page.add_init_script(WATCH_SHIFTS)
                first = self.visit(page, name, *args)
                self.assertLess(
                    page.evaluate("window.shift"), MOST_SHIFT, page.evaluate("window.moved")
                )
                self.assertLess(first, FIRST_KB)
                page.goto("about:blank")
                self.assertLess(self.visit(page, name, *args), AGAIN_KB)

    def visit(self, page, name, *args):
        """Go to a page and wait for its answer; kB that came, but for fonts.

        Styles and scripts count as they are shipped: compressed once, when they are collected.
        """
        session = page.context.new_cdp_session(page)
        session.send("Network.enable")
        seen, sizes = {}, {}
        session.on(
            "Network.responseReceived",
            lambda event: seen.update(
                {event["requestId"]: (urlparse(event["response"]["url"]).path, event["type"])}
            ),
        )
        session.on(
            "Network.loadingFinished",
            lambda event: sizes.update({event["requestId"]: event["encodedDataLength"]}),
        )
        self.go(page, name, *args)
        page.wait_for_load_state("networkidle")
        session.detach()
        return (
            sum(
                min(size, shipped(seen[key][0]))
                for key, size in sizes.items()
                if key in seen and seen[key][1] != "Font"
            )
            / 1000
        )


def shipped(path):
    """Bytes of a file of the site as it is sent; no bound for what is made anew."""
    if not path.startswith(settings.STATIC_URL):
        return float("inf")
    content = Path(finders.find(path.removeprefix(settings.STATIC_URL))).read_bytes()
    return len(gzip.compress(content, 9))
