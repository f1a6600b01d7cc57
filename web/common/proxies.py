"""Client address and HTTPS behind a trusted reverse proxy."""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Iterable, Sequence
from typing import Any

Wsgi = Callable[[dict[str, Any], Any], Iterable[bytes]]
#: In the list of trusted proxies: one that comes through a socket of this machine.
UNIX = "unix"


class TrustedProxies:
    """Accepts ``X-Forwarded-For`` and ``-Proto`` from trusted proxies only.

    The client is the last address of the chain that is not a trusted proxy: a client may have
    written the ones before it.

    Parameters
    ----------
    application : callable
        WSGI application.
    trusted : sequence of str
        Addresses or networks, or :data:`UNIX`.

    Raises
    ------
    ValueError
        An entry is neither an address nor a network.
    """

    def __init__(self, application: Wsgi, trusted: Sequence[str]) -> None:
        self.application = application
        self.by_socket = UNIX in trusted
        self.networks = [ipaddress.ip_network(name) for name in trusted if name != UNIX]

    def trusts(self, address: str) -> bool:
        if not address:
            return self.by_socket
        try:
            client = ipaddress.ip_address(address)
        except ValueError:
            return False
        return any(client in network for network in self.networks)

    def __call__(self, environ: dict[str, Any], start_response: Any) -> Iterable[bytes]:
        chain = environ.pop("HTTP_X_FORWARDED_FOR", "")
        scheme = environ.pop("HTTP_X_FORWARDED_PROTO", "")
        if self.trusts(environ.get("REMOTE_ADDR", "")):
            if client := self._client(chain):
                environ["REMOTE_ADDR"] = client
            last = scheme.split(",")[-1].strip().lower()
            if last in ("http", "https"):
                environ["wsgi.url_scheme"] = last
        return self.application(environ, start_response)

    def _client(self, chain: str) -> str:
        """The last address that is not a trusted proxy; empty if there is none."""
        for written in reversed(chain.split(",")):
            try:
                address = str(ipaddress.ip_address(written.strip()))
            except ValueError:
                return ""
            if not self.trusts(address):
                return address
        return ""
