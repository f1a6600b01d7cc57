"""What changes a person's meters."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.utils import timezone

from web.meters.models import Meter


def add_meter(meter: Meter) -> Meter:
    """Store a new meter, once for its ``client_key``."""
    with transaction.atomic():
        known = meter.sent_before(lambda known: known.owner == meter.owner)
        if known is not None:
            return known
        meter.save()
    return meter


def taken_in(meter: Meter, owner: Any) -> Meter:
    """A meter that came with a package: one's own that has or had that name, else this one."""
    own: list[Meter] = list(Meter.objects.visible_to(owner))
    for known in sorted(own, key=lambda known: known.name != meter.name):
        if meter.name in (known.name, *known.formerly):
            return known
    meter.owner = owner
    meter.save()
    return meter


def take_in_documents(owner: Any, documents: list[dict[str, Any]]) -> None:
    """Meters of an open document that was checked: those whose names one does not have yet."""
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
    """Store a changed meter; readings go on to know it by the names that it had.

    Raises
    ------
    ChangedMeanwhile
        Another hand stored it after it was read here.
    """
    with transaction.atomic():
        before = meter.as_stored()
        if before.name != meter.name and before.name not in meter.formerly:
            meter.formerly = [*meter.formerly, before.name][-20:]
        meter.version += 1
        meter.save()


def keep_comparison(meter: Meter, against: Meter | None, pairs: list[list[float]]) -> None:
    """Store what a meter and another showed on the same loads; no pairs take it back."""
    meter.against, meter.pairs = against if pairs else None, pairs
    change_meter(meter)


def remove_meter(meter: Meter) -> None:
    """Take a meter out; it can be brought back. Readings keep its name."""
    meter.removed_at = timezone.now()
    change_meter(meter)


def bring_back(owner: Any, pk: int) -> Meter | None:
    """The removed meter again; None where it is not there, or its name is taken by now."""
    meter: Meter | None = Meter.objects.filter(owner=owner, pk=pk).exclude(removed_at=None).first()
    if meter is None or Meter.objects.visible_to(owner).filter(name=meter.name).exists():
        return None
    meter.removed_at = None
    change_meter(meter)
    return meter
