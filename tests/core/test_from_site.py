"""Documents of a site: a token goes to the address given, and what is refused is a sentence."""

import threading
import unittest
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from needle.document import DocumentError
from needle.from_site import Site


class Answering(BaseHTTPRequestHandler):
    """Answers by the path; keeps what was asked with which token."""

    asked: list = []

    def do_GET(self):
        self.asked.append((self.path, self.headers["Authorization"]))
        status, headers, body = {
            "/api/v1/good/": (200, {}, b'{"name": "Plan"}'),
            "/api/v1/away/": (302, {"Location": "http://127.0.0.1:9/api/v1/good/"}, b""),
            "/api/v1/none/": (404, {}, b'{"detail": "There is no such thing."}'),
            "/api/v1/odd/": (500, {}, b"<h1>"),
        }.get(self.path, (200, {}, b"{"))
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_args):
        """Nothing on the console."""


class SiteTest(unittest.TestCase):
    def setUp(self):
        Answering.asked.clear()
        server = ThreadingHTTPServer(("127.0.0.1", 0), Answering)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        self.url = f"http://127.0.0.1:{server.server_port}"

    def refused(self, path, url=""):
        with self.assertRaises(DocumentError) as caught:
            Site(url or self.url, "secret").document(path)
        self.assertNotIn("secret", str(caught.exception))
        return str(caught.exception)

    def test_a_site_and_its_interface_are_the_same_address(self):
        for url in (self.url, f"{self.url}/", f"{self.url}/api/v1", f"{self.url}/api/v1/"):
            self.assertEqual(Site(url, "secret").document("good/"), {"name": "Plan"})
        self.assertEqual(set(Answering.asked), {("/api/v1/good/", "Bearer secret")})

    def test_a_redirection_is_not_followed(self):
        self.assertIn("leads to another address", self.refused("away/"))

    def test_refusals_are_the_sites_sentence(self):
        self.assertIn("refused (404): There is no such thing.", self.refused("none/"))
        self.assertIn("refused (500)", self.refused("odd/"))
        self.assertIn("is not JSON", self.refused("else/"))

    def test_what_is_no_address_or_does_not_answer(self):
        self.assertIn("is not like https", self.refused("good/", "file:///etc/passwd"))
        self.assertIn("is not like https", self.refused("good/", "example.org"))
        self.assertIn("cannot be reached", self.refused("good/", "http://127.0.0.1:9"))
