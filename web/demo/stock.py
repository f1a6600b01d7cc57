"""Copies of the demo that wait for visitors, so that nobody waits for theirs."""

from __future__ import annotations

import threading
import time
from typing import Any

from django.conf import settings
from django.contrib.auth import get_user_model
from django.contrib.auth.models import Group
from django.db import connections, transaction
from django.utils import timezone

from web.common.turns import one_at_a_time
from web.demo.visits import STAYS, VISITORS, may_visit, new_visitor

#: The group of those whose copy waits.
IN_STOCK = "visitors in stock"
#: Pause before each copy, in which those who came are served, s.
PAUSE_S = 3.0
_restocking = threading.Lock()


def welcome() -> Any:
    """A visitor with a copy of the demo of their own, from stock if there is one; None without."""
    visitor = _taken()
    if visitor is None and may_visit():
        visitor = new_visitor(VISITORS)
    restock_soon()
    return visitor


def _taken() -> Any:
    """A visitor out of the stock; None if it is empty."""
    waiting = get_user_model().objects.filter(groups__name=IN_STOCK).order_by("pk")
    for visitor in waiting[: settings.VISITOR_STOCK]:
        stock = Group.objects.get(name=IN_STOCK)
        with transaction.atomic():
            memberships = visitor.groups.through.objects.filter(user=visitor, group=stock)
            # Whoever takes the membership away has the visitor.
            if not memberships.delete()[0]:
                continue
            visitor.groups.add(Group.objects.get_or_create(name=VISITORS)[0])
            visitor.date_joined = timezone.now()
            visitor.save(update_fields=["date_joined"])
        return visitor
    return None


def restock_soon() -> None:
    """Fill the stock beside the requests; at once, if it is being filled already."""
    if settings.VISITOR_STOCK and _restocking.acquire(blocking=False):
        threading.Thread(target=_restock_and_close, daemon=True).start()


def restock(pause_s: float = PAUSE_S) -> int:
    """Fill the stock; how many copies were made."""
    made = 0
    with one_at_a_time("stock"):
        forget_stock(older_only=True)
        while may_visit() and _stock_size() < settings.VISITOR_STOCK:
            time.sleep(pause_s)
            new_visitor(IN_STOCK)
            made += 1
    return made


def forget_stock(older_only: bool = False) -> None:
    """Delete what is in stock; ``older_only`` what was made more than a day ago."""
    stock = get_user_model().objects.filter(groups__name=IN_STOCK)
    if older_only:
        stock = stock.filter(date_joined__lt=timezone.now() - STAYS)
    get_user_model().objects.filter(pk__in=list(stock.values_list("pk", flat=True))).delete()


def _stock_size() -> int:
    return get_user_model().objects.filter(groups__name=IN_STOCK).count()


def _restock_and_close() -> None:
    try:
        restock()
    finally:
        connections.close_all()
        _restocking.release()
