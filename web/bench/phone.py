"""A QR code that opens this page on a phone, if the site is reachable on the local network."""

from __future__ import annotations

import ipaddress

from django.conf import settings
from django.http import HttpRequest
from django.utils.safestring import SafeString

from web.drawing.qr import qr_code

#: A longer address makes a code too fine to read; then the page without its query will do.
MOST_LETTERS = 300


def phone_code(request: HttpRequest) -> SafeString | None:
    """The page's address as a QR code; None if no other device can reach it."""
    name = _heard_as(request)
    if name is None:
        return None
    whole = request.get_full_path()
    address = f"{request.scheme}://{name}{whole if len(whole) <= MOST_LETTERS else request.path}"
    return qr_code(address, f"Code of {address}")


def _heard_as(request: HttpRequest) -> str | None:
    """The site's host name and port for other devices."""
    if not _this_computer(request.get_host()):
        return request.get_host()
    if not _any_address(settings.HOST) and _this_computer(settings.HOST):
        return None
    names = [name for name in settings.ALLOWED_HOSTS if name[:1] not in ("*", ".")]
    name = next((name for name in names if not _this_computer(name)), None)
    return f"{name}:{settings.PORT}" if name else None


def _this_computer(host: str) -> bool:
    name = host.rsplit(":", 1)[0].strip("[]")
    if name in ("localhost", ""):
        return True
    try:
        address = ipaddress.ip_address(name)
    except ValueError:
        return False
    return address.is_loopback or address.is_unspecified


def _any_address(host: str) -> bool:
    """Whether a site bound to this host is reachable on all networks of the computer."""
    return host in ("0.0.0.0", "::")  # noqa: S104 -- compared, not listened at
