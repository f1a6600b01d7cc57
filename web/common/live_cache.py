"""A cache of objects as they are, in this process: not pickled, so that nobody may change them."""

from __future__ import annotations

import threading
from collections import OrderedDict
from typing import Any

from django.core.cache.backends.base import DEFAULT_TIMEOUT, BaseCache

#: Objects that are held where the settings do not say how many.
MOST = 32


class LiveCache(BaseCache):
    """The objects used last, without time-outs; for what follows from its key alone."""

    def __init__(self, _location: str, params: dict[str, Any]) -> None:
        super().__init__(params)
        self.most = int(params.get("OPTIONS", {}).get("MAX_ENTRIES", MOST))
        self.held: OrderedDict[str, Any] = OrderedDict()
        self.lock = threading.Lock()

    def add(
        self, key: str, value: Any, timeout: Any = DEFAULT_TIMEOUT, version: int | None = None
    ) -> bool:
        if key in self.held:
            return False
        self.set(key, value)
        return True

    def get(self, key: str, default: Any = None, version: int | None = None) -> Any:
        with self.lock:
            if key not in self.held:
                return default
            self.held.move_to_end(key)
            return self.held[key]

    def set(
        self, key: str, value: Any, timeout: Any = DEFAULT_TIMEOUT, version: int | None = None
    ) -> None:
        with self.lock:
            self.held[key] = value
            self.held.move_to_end(key)
            while len(self.held) > self.most:
                self.held.popitem(last=False)

    def delete(self, key: str, version: int | None = None) -> bool:
        with self.lock:
            return self.held.pop(key, None) is not None

    def clear(self) -> None:
        with self.lock:
            self.held.clear()
