"""Entries that a device could not send at once: each counts once, with the moment it was made."""

from __future__ import annotations

import math
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta

from django.db import transaction
from django.http import HttpRequest
from django.utils import timezone

from web.common.forms import posted_key
from web.jobs.models import Job, Receipt

#: How far ahead of now a device may think a moment of now is, s.
AHEAD_S = 60.0
#: Longest time that an entry waits on a device; what says more is no time, s.
LONGEST_S = 90 * 24 * 3600.0
#: How long receipts are kept: longer than an entry waits.
KEPT = timedelta(seconds=LONGEST_S) + timedelta(days=10)


def moment_made(request: HttpRequest) -> datetime | None:
    """Moment at which a posted entry was made, if it waited on its device; None if sent at once.

    The device sends ``made_at``, seconds since the epoch by this site's clock: it asked for the
    time first, so that its own clock may be wrong by hours without any effect.
    """
    try:
        made_at_s = float(request.POST.get("made_at", ""))
    except ValueError:
        return None
    now = timezone.now()
    waited_s = now.timestamp() - made_at_s
    if not math.isfinite(waited_s) or not -AHEAD_S <= waited_s <= LONGEST_S:
        return None
    return min(now, datetime.fromtimestamp(made_at_s, tz=UTC))


@contextmanager
def once(request: HttpRequest, job: Job) -> Iterator[bool]:
    """Whether a posted entry arrives for the first time, by its ``client_key``.

    The receipt is stored together with what is changed inside the block, or not at all. Use it for
    short changes that make no record with a key of their own.
    """
    with transaction.atomic():
        key = posted_key(request)
        yield key is None or Receipt.objects.get_or_create(job=job, client_key=key)[1]


def forget_old_receipts() -> None:
    """Delete receipts of entries that no device can still be holding."""
    Receipt.objects.filter(created_at__lt=timezone.now() - KEPT).delete()
