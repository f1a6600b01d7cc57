"""How large, how many more, how many nights: what takes many runs of a plan, kept."""

from __future__ import annotations

from dataclasses import dataclass

from django.core.cache import caches

from needle.decide.order import Starter
from needle.decide.sizing import Size, inverter_sizes
from needle.plan.plan import AC
from needle.plan.sizing import (
    BatterySize,
    MoreTasks,
    Nights,
    battery_for,
    more_tasks,
    nights_covered,
)
from web.plans.draft import document
from web.plans.outcomes import KEPT_S, Answer, key_of


@dataclass(frozen=True)
class Sizes:
    """Battery and inverter for the needed hours, what people would have computed, what more fits.

    ``labels_w`` is the sum of the labels, None where a load has none.
    """

    battery: BatterySize
    inverters: list[Size]
    more: list[MoreTasks]
    nights: list[Nights]
    labels_w: float | None


def sizes_of(found: Answer) -> Sizes | None:
    """Sizes for an answered plan; None without an answer."""
    if found.outcome is None:
        return None
    labels = _labels_w(found)
    key = f"sizes:{found.plan.odds}:{labels}:{key_of(document(found.draft))}"
    kept = caches["answers"].get(key)
    if kept is None:
        kept = Sizes(
            battery=battery_for(found.outcome, found.plan.odds, labels),
            inverters=inverter_sizes(_starters(found)),
            more=more_tasks(found.outcome),
            nights=nights_covered(found.outcome),
            labels_w=labels,
        )
        caches["answers"].set(key, kept, KEPT_S)
    return kept


def _labels_w(found: Answer) -> float | None:
    labels = [
        max((one.data.get("watts") or 0.0 for one in used.load.known_readings()
             if one.type == "label"), default=0.0) * used.entry.count
        for used in found.used
        if used.counted
    ]  # fmt: skip
    return sum(labels) if labels and all(labels) else None


def _starters(found: Answer) -> list[Starter]:
    assert found.outcome is not None
    return [
        Starter(load.name, load.running_w, load.start_va, load.start_s)
        for load in found.outcome.plan.loads
        if load.route == AC
        for _ in range(load.count)
    ]
