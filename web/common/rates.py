"""Rate limits, counted in the shared cache."""

from __future__ import annotations

import hashlib
import ipaddress
from dataclasses import dataclass

from django.core.cache import cache
from django.http import HttpRequest
from django.utils import timezone


def address_of(request: HttpRequest) -> str:
    """The client's address; trusted proxies have already set it.

    Of IPv6 its network of 64 bits, which one customer usually has to himself: all addresses in it
    are one client.
    """
    text = str(request.META.get("REMOTE_ADDR", ""))
    try:
        address = ipaddress.ip_address(text.split("%", maxsplit=1)[0])
    except ValueError:
        return text
    if isinstance(address, ipaddress.IPv4Address):
        return text
    if address.ipv4_mapped is not None:
        return str(address.ipv4_mapped)
    return str(ipaddress.ip_network((address, 64), strict=False))


@dataclass(frozen=True)
class Rate:
    """At most ``most`` of ``what`` in every ``span_s`` seconds, for each client."""

    what: str
    most: int
    span_s: int

    def _key(self, who: str) -> str:
        span = int(timezone.now().timestamp() // self.span_s)
        name = hashlib.sha256(who.encode()).hexdigest()[:32]
        return f"rate:{self.what}:{name}:{span}"

    def count(self, who: str) -> bool:
        """Count one; return whether the limit is exceeded."""
        key = self._key(who)
        cache.add(key, 0, self.span_s + 60)
        try:
            return bool(cache.incr(key) > self.most)
        except ValueError:  # it ran out between the two
            return False

    def is_spent(self, who: str) -> bool:
        """Whether the next one would exceed the limit."""
        return bool(cache.get(self._key(who), 0) >= self.most)
