"""All changes of a person's meters."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.utils import timezone

from web.meters.models import Meter


def add_meter(meter: Meter) -> Meter:
    """Store a new meter, once per ``client_key``."""
    with transaction.atomic():
        known = meter.sent_before(lambda known: known.owner == meter.owner)
        if known is not None:
            return known
        meter.save()
    return meter


def taken_in(meter: Meter, owner: Any) -> Meter:
    """A meter of an imported package: the user's own with its name, else this one."""
    own: list[Meter] = list(Meter.objects.visible_to(owner))
    for known in sorted(own, key=lambda known: known.name != meter.name):
        if meter.name in (known.name, *known.formerly):
            return known
    meter.owner = owner
    meter.save()
    return meter


def take_in_documents(owner: Any, documents: list[dict[str, Any]]) -> None:
    """Store meters of a checked document whose names the user does not have yet."""
    made: dict[str, Meter] = {}
    for item in documents:
        steps = item.get("steps") or {}
        kept = ("name", "kind", "limit", "counts", "least_w", "most_a", "base_w")
        more = {
            key: item[key] for key in (*kept, "fast_inrush", "logs") if item.get(key) is not None
        }
        meter = Meter(
            **more,
            step_w=steps.get("watts"),
            step_wh=steps.get("wh"),
            shows=item.get("shows") or [],
            formerly=item.get("formerly") or [],
            pairs=item.get("pairs") or [],
            against=made.get(item.get("against") or ""),
        )
        made[meter.name] = taken_in(meter, owner)


def change_meter(meter: Meter) -> None:
    """Store a changed meter; readings still find it by its former names.

    Raises
    ------
    StaleRecordError
        Another request stored it after it was read here.
    """
    with transaction.atomic():
        before = meter.as_stored()
        if before.name != meter.name and before.name not in meter.formerly:
            meter.formerly = [*meter.formerly, before.name][-20:]
        meter.version += 1
        meter.save()


def keep_comparison(meter: Meter, against: Meter | None, pairs: list[list[float]]) -> None:
    """Store a comparison with another meter; no pairs remove it."""
    meter.against, meter.pairs = against if pairs else None, pairs
    change_meter(meter)


def remove_meter(meter: Meter) -> None:
    """Remove a meter; it can be restored. Readings keep its name."""
    meter.removed_at = timezone.now()
    change_meter(meter)


def bring_back(owner: Any, pk: int) -> Meter | None:
    """Restore a removed meter; None if it does not exist, or its name is taken."""
    meter: Meter | None = Meter.objects.filter(owner=owner, pk=pk).exclude(removed_at=None).first()
    if meter is None or Meter.objects.visible_to(owner).filter(name=meter.name).exists():
        return None
    meter.removed_at = None
    change_meter(meter)
    return meter
