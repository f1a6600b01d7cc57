"""The server: what it refuses before it starts, and what it makes ready."""

import gc
import os
import socket
import subprocess
import sys

from django.template import engines
from django.test import SimpleTestCase

from web.first_start import BASE
from web.serve import is_free, make_ready, refuse_if_taken

#: Large packages that a few pages need: each costs a start 0.3 to 1.6 s of processor.
_LARGE = ("pandas", "pvlib", "scipy.optimize", "scipy.sparse", "scipy.stats")
_LOADED = f"""
import sys
import django
django.setup()
import web.urls
print(*sorted(set({_LARGE}) & sys.modules.keys()))
"""
#: A server whose worker is busy for a minute when it is told to end.
_ENDING = """
import os, signal, sys, threading, time
import django
django.setup()
from web import serve
from web.background.pool import POOL
from web.background.questions import AnswerPending, Question
def end():
    try:
        POOL.ask(Question("long", "one", time.sleep, (60.0,)), 3.0)
    except AnswerPending:
        os.kill(os.getpid(), signal.SIGTERM)
serve.make_ready = end
serve.main()
"""


class ServeTest(SimpleTestCase):
    def test_it_ends_in_time_when_it_is_told_to(self):
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        env = {**os.environ, "STEADY_PORT": str(port)}
        command = [sys.executable, "-c", _ENDING]
        ended = subprocess.run(
            command, cwd=BASE, env=env, capture_output=True, text=True, check=False, timeout=50
        )
        self.assertEqual((ended.returncode, ended.stderr), (0, ""))

    def test_a_start_does_not_load_what_few_pages_need(self):
        command = [sys.executable, "-c", _LOADED]
        ended = subprocess.run(command, cwd=BASE, capture_output=True, text=True, check=True)
        self.assertEqual(ended.stdout.split(), [])

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
