"""Rate limits, counted in the shared cache."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

from django.core.cache import cache
from django.utils import timezone


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
