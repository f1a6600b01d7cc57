"""After an outage: what it took, when the battery is full again, and the same again tonight."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django import forms
from django.utils import timezone

from needle.plan.sources.mains import Mains
from needle.plan.sources.registry import ChargeWindow
from needle.quantity import hours_range_text, hours_text, with_unit
from needle.trial.lessons import Lesson
from needle.trial.prediction import Forecast
from needle.trial.trial import Trial as CoreTrial
from needle.watch.refill import MOST_REFILL_H, full_again_h
from web.common.fields import QuantityField
from web.common.units import day_clock
from web.trials.models import Trial


class ChargerForm(forms.Form):
    """The charger that fills the battery now."""

    charger = QuantityField("W", label="Charger", most=1e6, above=True, required=False)


@dataclass(frozen=True)
class PowerBack:
    """Sentences about an outage that is over, and the form of the charger."""

    lines: Sequence[str]
    form: ChargerForm


def power_back(
    trial: Trial, prediction: Forecast, hours: Lesson | None, asked: Mapping[str, Any]
) -> PowerBack:
    """What an outage took, and when it would be carried again.

    ``asked`` are the values of the charger's form; without one the plan's mains are taken.
    """
    core = trial.to_core()
    form = ChargerForm(asked if asked.get("charger") else None)
    given = form.cleaned_data["charger"] if form.is_bound and form.is_valid() else None
    watts = given or _usual_w(core)
    if not form.is_bound:
        form.initial["charger"] = watts
    lines = [_took(prediction)]
    if watts is not None:
        lines.append(_full_again(trial, core, prediction, watts))
    if hours is not None:
        low, mid, high = hours.after
        lines.append(
            f"The same again, from full: all that its plan runs lasts "
            f"{hours_range_text(low, high)}, most likely {hours_text(mid)}."
        )
    return PowerBack(lines, form)


def _took(prediction: Forecast) -> str:
    wh = [with_unit(each, "Wh", 2) for each in prediction.drawn_wh]
    low, mid, high = (f"{share * 100:.0f} %" for share in prediction.charge)
    return (
        f"The outage lasted {hours_text(prediction.now_h)}. The battery gave about {wh[1]} "
        f"({wh[0]} to {wh[2]}) and was left at {mid} ({low} to {high})."
    )


def _full_again(trial: Trial, core: CoreTrial, prediction: Forecast, watts: float) -> str:
    hours = full_again_h(prediction.charge, prediction.held_wh, watts, core.battery)
    with_watts = f"With {with_unit(watts, 'W', 2)} into the battery"
    if math.isinf(hours[1]):
        return f"{with_watts} it is not full within {MOST_REFILL_H / 24:.0f} days."
    assert trial.ended_at is not None
    at = day_clock(timezone.localtime(trial.ended_at + timedelta(hours=hours[1])))
    latest = min(hours[2], MOST_REFILL_H)
    return (
        f"{with_watts} it is full again after {hours_text(hours[1])} "
        f"({hours_range_text(hours[0], latest)}), about {at}."
    )


def _usual_w(core: CoreTrial) -> float | None:
    """W of the plan's mains; None if it has none: what an input takes at most is no charger."""
    sources = core.plan.sources if core.plan is not None else ()
    mains = [
        source.most_w
        for source in sources
        if isinstance(source, Mains | ChargeWindow) and not source.litres_per_kwh
    ]
    return max(mains, default=None)
