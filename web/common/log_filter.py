"""What logs never hold."""

from __future__ import annotations

import logging
import re
from typing import Any

#: The address of a link or an invitation: whoever reads its token in a log could open it.
_LINK = re.compile(r"/(s|join)/[^/\s]+")


class WithoutTokens(logging.Filter):
    """Writes "/s/…" for the address of a link, "/join/…" for that of an invitation."""

    def filter(self, record: logging.LogRecord) -> bool:
        record.msg = _redacted(record.msg)
        if isinstance(record.args, tuple):
            record.args = tuple(_redacted(value) for value in record.args)
        return True


def _redacted(value: Any) -> Any:
    return _LINK.sub(r"/\1/…", value) if isinstance(value, str) else value
