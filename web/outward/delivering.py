"""Messages to webhooks: signed, sent to the outside only, and tried again for half a day.

The signature is ``Steady-Signature: t=SECONDS,v1=HEX``: HMAC-SHA-256 (RFC 2104) with the hook's
secret over ``SECONDS.BODY``. A receiver that compares it and the time knows that the message is
from here, and new.
"""

from __future__ import annotations

import hashlib
import hmac
import ipaddress
import logging
import socket
import ssl
import threading
import time
from contextlib import suppress
from datetime import timedelta
from http.client import HTTPConnection, HTTPException, HTTPSConnection
from urllib.parse import urlsplit

from django.conf import settings
from django.utils import timezone

from web.outward.models import Delivery

log = logging.getLogger("steady.outward")

#: Longest that one message may take, s.
TIMEOUT_S = 10.0
#: When a message is tried again, after each failure.
WAITS = tuple(timedelta(minutes=minutes) for minutes in (1, 5, 30, 120, 480))
#: Messages sent in one turn, so that one slow receiver holds up no other job for long.
MOST_A_TURN = 20
#: How long what was sent is kept.
KEPT = timedelta(days=14)


class Refused(Exception):
    """Why a message is not sent, or was not taken."""


def signature(secret: str, body: str, seconds: int) -> str:
    """The value of the header with which a receiver checks a message."""
    text = f"{seconds}.{body}".encode()
    return f"t={seconds},v1={hmac.new(secret.encode(), text, hashlib.sha256).hexdigest()}"


def outside_address(host: str, port: int) -> str:
    """An address of a host that lies outside of this machine and its network.

    Raises
    ------
    Refused
        The name is not known, or leads inside. Networks in ``STEADY_HOOKS_INSIDE`` are allowed.
    """
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        raise Refused("its name is not known") from None
    addresses = [ipaddress.ip_address(str(entry[4][0]).split("%")[0]) for entry in found]
    allowed = [ipaddress.ip_network(network) for network in settings.HOOKS_INSIDE]
    for address in addresses:
        inside = not address.is_global or address.is_multicast
        if inside and not any(address in network for network in allowed):
            raise Refused("it leads to an address inside this machine or its network")
    return str(addresses[0])


class _Pinned(HTTPSConnection):
    """A TLS connection to an address that was looked up before, under the name of its host."""

    def __init__(self, host: str, port: int, address: str) -> None:
        self._trusted = ssl.create_default_context()
        super().__init__(host, port, timeout=TIMEOUT_S, context=self._trusted)
        self.address = address

    def connect(self) -> None:
        plain = socket.create_connection((self.address, self.port), self.timeout)
        self.sock = self._trusted.wrap_socket(plain, server_hostname=self.host)


def _connection(scheme: str, host: str, port: int) -> HTTPConnection:
    """A connection to the very address that was found to lie outside."""
    address = outside_address(host, port)
    if scheme == "https":
        return _Pinned(host, port, address)
    return HTTPConnection(address, port, timeout=TIMEOUT_S)


def post(url: str, body: str, secret: str) -> None:
    """Send a message; redirections are not followed.

    Raises
    ------
    Refused
        It was not taken.
    """
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise Refused("its address begins with neither http nor https")
    port = parts.port or (443 if parts.scheme == "https" else 80)
    target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    headers = {
        "Host": parts.netloc.rpartition("@")[2],
        "Content-Type": "application/json",
        "User-Agent": "steady-needle",
        "Steady-Signature": signature(secret, body, int(time.time())),
    }
    try:
        connection = _connection(parts.scheme, parts.hostname, port)
        # A receiver that sends a byte now and then never times out by itself.
        limit = threading.Timer(TIMEOUT_S, _cut, [connection])
        limit.start()
        try:
            connection.request("POST", target, body.encode(), headers)
            status = connection.getresponse().status
        finally:
            limit.cancel()
            connection.close()
    except (OSError, HTTPException, ValueError) as error:
        raise Refused(f"{type(error).__name__}: {error}") from None
    if not 200 <= status < 300:
        raise Refused(f"it answered {status}")


def _cut(connection: HTTPConnection) -> None:
    """End a connection that another thread waits for."""
    with suppress(OSError):
        if connection.sock is not None:
            connection.sock.shutdown(socket.SHUT_RDWR)


def deliver() -> int:
    """Send the messages whose time has come; return how many were taken."""
    now = timezone.now()
    Delivery.objects.filter(created_at__lt=now - KEPT).delete()
    due = Delivery.objects.filter(sent_at=None, failed=False, due_at__lte=now)
    due = due.filter(hook__job__removed_at=None).select_related("hook").order_by("due_at")
    return sum(_try(delivery) for delivery in due[:MOST_A_TURN])


def _try(delivery: Delivery) -> bool:
    """Send one message; return whether it was taken."""
    try:
        post(delivery.hook.url, delivery.body, delivery.hook.secret)
    except Refused as trouble:
        log.warning("Webhook %s: %s", delivery.hook.pk, trouble)
        delivery.trouble = str(trouble)[:200]
        if delivery.tries < len(WAITS):
            delivery.due_at = timezone.now() + WAITS[delivery.tries]
        delivery.failed = delivery.tries >= len(WAITS)
        taken = False
    else:
        delivery.sent_at, delivery.trouble, taken = timezone.now(), "", True
    delivery.tries += 1
    delivery.save()
    return taken
