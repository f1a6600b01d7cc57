"""Behind a reverse proxy: its word counts, nobody else's."""

from __future__ import annotations

import unittest
from io import BytesIO

from django.core.wsgi import get_wsgi_application
from django.test import TestCase, override_settings

from web.common.proxies import TrustedProxies


def seen(trusted, address, **headers):
    """Client address and scheme as the application sees them, and headers that are left."""
    told = {}

    def application(environ, start_response):
        told.update(environ)
        return []

    environ = {
        "REMOTE_ADDR": address,
        "wsgi.url_scheme": "http",
        **{f"HTTP_X_FORWARDED_{name.upper()}": value for name, value in headers.items()},
    }
    TrustedProxies(application, trusted)(environ, None)
    left = [name for name in told if name.startswith("HTTP_X_FORWARDED_")]
    return told["REMOTE_ADDR"], told["wsgi.url_scheme"], left


class TrustTest(unittest.TestCase):
    def test_a_trusted_proxy_is_believed(self):
        self.assertEqual(
            seen(["127.0.0.1"], "127.0.0.1", **{"for": "203.0.113.7", "proto": "https"}),
            ("203.0.113.7", "https", []),
        )

    def test_nobody_else_is(self):
        for trusted in ([], ["10.0.0.0/8"], ["unix"]):
            self.assertEqual(
                seen(trusted, "203.0.113.1", **{"for": "198.51.100.1", "proto": "https"}),
                ("203.0.113.1", "http", []),
            )

    def test_what_a_client_wrote_before_the_proxy_does_not_count(self):
        chain = "198.51.100.66, 203.0.113.7, 10.1.2.3"
        address, _, _ = seen(["127.0.0.1", "10.0.0.0/8"], "127.0.0.1", **{"for": chain})
        self.assertEqual(address, "203.0.113.7")
        address, _, _ = seen(["127.0.0.1"], "127.0.0.1", **{"for": "203.0.113.7, nonsense"})
        self.assertEqual(address, "127.0.0.1")

    def test_a_socket_of_this_machine(self):
        self.assertEqual(
            seen(["unix"], "", **{"for": "2001:db8::1", "proto": "https"}),
            ("2001:db8::1", "https", []),
        )
        self.assertEqual(seen(["127.0.0.1"], "", **{"for": "2001:db8::1"}), ("", "http", []))

    def test_a_network_that_is_none_is_refused_at_the_start(self):
        with self.assertRaises(ValueError):
            TrustedProxies(None, ["the proxy"])


@override_settings(SECURE_SSL_REDIRECT=True, SESSION_COOKIE_SECURE=True, CSRF_COOKIE_SECURE=True)
class HttpsTest(TestCase):
    """The site over HTTPS, behind a stand-in of a proxy that speaks it."""

    def asked(self, address="127.0.0.1", **headers):
        told = {}

        def start_response(status, headers):
            told.update(status=status, headers=dict(headers))

        environ = {
            "REQUEST_METHOD": "GET",
            "PATH_INFO": "/sign-up/",
            "SERVER_NAME": "127.0.0.1",
            "SERVER_PORT": "8000",
            "HTTP_HOST": "needle.example",
            "wsgi.url_scheme": "http",
            "wsgi.input": BytesIO(),
            "REMOTE_ADDR": address,
            **headers,
        }
        site = TrustedProxies(get_wsgi_application(), ["127.0.0.1"])
        b"".join(site(environ, start_response))
        return told

    def test_what_came_over_https_is_answered(self):
        answer = self.asked(HTTP_X_FORWARDED_PROTO="https", HTTP_X_FORWARDED_FOR="203.0.113.7")
        self.assertEqual(answer["status"], "200 OK")
        self.assertIn("Secure", answer["headers"]["Set-Cookie"])

    def test_what_came_plain_is_redirected_once(self):
        for headers in ({}, {"HTTP_X_FORWARDED_PROTO": "http"}):
            answer = self.asked(**headers)
            self.assertEqual(answer["status"], "301 Moved Permanently")
            self.assertEqual(answer["headers"]["Location"], "https://needle.example/sign-up/")

    def test_a_client_cannot_say_so_itself(self):
        answer = self.asked("203.0.113.7", HTTP_X_FORWARDED_PROTO="https")
        self.assertEqual(answer["status"], "301 Moved Permanently")
