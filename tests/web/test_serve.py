"""The server: what it refuses before it starts, and what it makes ready."""

import gc
import socket

from django.template import engines
from django.test import SimpleTestCase

from web.first_start import BASE
from web.serve import is_free, make_ready, refuse_if_taken


class ServeTest(SimpleTestCase):
    def test_a_port_in_use_is_a_sentence_with_the_way_out(self):
        with socket.socket() as other:
            other.bind(("127.0.0.1", 0))
            other.listen()
            port = other.getsockname()[1]
            self.assertFalse(is_free("127.0.0.1", port))
            with self.assertRaisesRegex(SystemExit, f"Port {port} .* is in use.*STEADY_PORT=8001"):
                refuse_if_taken("127.0.0.1", port)
        self.assertTrue(is_free("127.0.0.1", port))

    def test_every_page_is_ready_before_it_is_asked_for(self):
        """Which also shows that every template compiles."""
        self.addCleanup(gc.unfreeze)
        make_ready()
        (loader,) = engines["django"].engine.template_loaders
        ready = {key for key in loader.get_template_cache if isinstance(key, str)}
        folder = BASE / "web" / "templates"
        for page in folder.rglob("*.html"):
            self.assertIn(str(page.relative_to(folder)), ready)
        self.assertGreater(gc.get_freeze_count(), 10_000)
