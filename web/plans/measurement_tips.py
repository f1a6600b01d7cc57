"""Measurements that narrow a plan's range most: where to make them, and their duration."""

from __future__ import annotations

from dataclasses import dataclass

from django.urls import reverse

from needle.plan.advice.measurements import DECIDES, Narrowing
from needle.plan.draws.inputs import (
    CAPACITY,
    INVERTER_EFFICIENCY,
    INVERTER_IDLE,
    LOAD_START,
    OUTPUT,
    SOURCE,
)
from needle.plan.sources.source import Source
from needle.quantity import chance_text, hours_text
from web.common.units import said
from web.plans.outcomes import Answer

#: Figures of a supply, the guided test that narrows each, and its duration.
_SUPPLY_TESTS = {
    CAPACITY: ("a capacity test of the battery", "capacity", "a whole discharge"),
    INVERTER_IDLE: ("an idle test of the inverter", "idle", "several hours"),
    INVERTER_EFFICIENCY: ("an efficiency test of the inverter", "efficiency", "half an hour"),
}


#: Least narrowing that is named, h.
LEAST_HOURS = 0.05


@dataclass(frozen=True)
class MeasurementTip:
    """One measurement: what, how, how long, where it is done, and what it does to the range."""

    what: str
    how: str
    takes: str
    url: str
    narrowing: Narrowing

    @property
    def hours_gained(self) -> float:
        return self.narrowing.range_h - self.narrowing.range_h_after

    @property
    def sentence(self) -> str:
        how = f": {self.how}" if self.how else ""
        first = f"{self.what[:1].upper()}{self.what[1:]}{how}."
        if self.narrowing.key.kind == LOAD_START:
            return first
        decides = " It can decide whether the plan holds." if self.decides else ""
        if self.hours_gained < LEAST_HOURS:
            return f"{first}{decides}"
        return f"{first} Narrows the range by {hours_text(self.hours_gained)}.{decides}"

    @property
    def decides(self) -> bool:
        """Whether it removes much of the doubt whether the plan holds."""
        return self.narrowing.settles >= DECIDES


def measurement_tips(answer: Answer) -> list[MeasurementTip]:
    """Best first."""
    return [_tip(answer, narrowing) for narrowing in answer.narrowings]


def _tip(answer: Answer, narrowing: Narrowing) -> MeasurementTip:
    job, supply = answer.plan.job, answer.supply
    test = _SUPPLY_TESTS.get(narrowing.key.kind)
    if narrowing.key.kind == OUTPUT and supply is not None and not supply.continuous_w:
        words = f"the load's Wh on {narrowing.key.name} beside the charge that they took"
        return MeasurementTip(words, "", "a day", "", narrowing)
    if narrowing.key.kind == OUTPUT:
        test = (f"{narrowing.key.name} against AC, one load", "route", "a day each")
    if test is not None and supply is not None:
        words, kind, takes = test
        url = reverse("supplies:test", args=[job.pk, supply.pk, kind])
        return MeasurementTip(words, "", takes, url, narrowing)
    if narrowing.key.kind == SOURCE:
        how, takes = _to_measure(answer, narrowing.key.name)
        return MeasurementTip(how.format(name=narrowing.what), "", takes, "", narrowing)
    return _tip_for_load(answer, narrowing)


def _to_measure(answer: Answer, source: str) -> tuple[str, str]:
    """How what a source of the plan gives is measured, and how long that takes."""
    sources = answer.outcome.plan.sources if answer.outcome is not None else ()
    return next((each.TO_MEASURE for each in sources if each.name == source), Source.TO_MEASURE)


def _tip_for_load(answer: Answer, narrowing: Narrowing) -> MeasurementTip:
    """A start test of a load, or the measurement that narrows its power most."""
    job, supply = answer.plan.job, answer.supply
    used = next((used for used in answer.used if used.name == narrowing.key.name), None)
    if used is None or used.profile is None:
        return MeasurementTip(narrowing.what, "", "", "", narrowing)
    if narrowing.key.kind == LOAD_START:
        url = reverse("matching:record-start", args=[job.pk])
        url += f"?load={used.load.pk}&supply={supply.pk if supply else ''}"
        chance = f"chance that it fails: {chance_text(narrowing.share)}"
        what = f"a start test of {narrowing.what}"
        return MeasurementTip(what, chance, "five minutes", url, narrowing)
    wanted = ("mean", "running watts")
    fitting = [advice for advice in used.profile.advice if advice.narrows in wanted]
    url = reverse("loads:load", args=[job.pk, used.load.pk])
    if not fitting:
        return MeasurementTip(f"{narrowing.what}, again", "", "", url, narrowing)
    advice = min(fitting, key=lambda advice: wanted.index(advice.narrows))
    takes = hours_text(advice.minutes / 60)
    return MeasurementTip(narrowing.what, said(advice.method), takes, url, narrowing)
