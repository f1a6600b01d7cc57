"""Template filters that format numbers: three digits at most for an estimate, with its range."""

from __future__ import annotations

from datetime import datetime
from functools import lru_cache
from typing import Any

from django import template
from django.forms import BoundField
from django.http import HttpRequest
from django.middleware.csrf import get_token
from django.urls import reverse
from django.utils import timezone
from django.utils.html import format_html
from django.utils.safestring import SafeString

from needle.decide.starting import Verdict
from needle.estimate import GRADE_WORDS, Estimate
from needle.message import Message
from needle.quantity import as_read, chance_text, hours_text, money_text, significant, with_unit
from needle.words.plan import start_text
from web.common.glossary import GLOSSARY, anchor
from web.common.units import clock, day_clock, said, temperature

register = template.Library()
#: Distance up to which a moment is near, h.
NEAR_H = 2.0


@register.filter
def quantity(value: float | None, unit: str) -> str:
    """A value with its unit, or a dash."""
    return "–" if value is None else with_unit(value, unit)


@register.filter
def say(message: Message | str | None) -> str:
    """The sentence of a message."""
    return said(message)


@register.filter
def rated(value: float | None, unit: str) -> str:
    """A rating with the digits that it was given with."""
    return "–" if value is None else as_read(value, unit)


@register.filter
def mid(estimate: Estimate | None, unit: str = "") -> str:
    """An estimate's likely value."""
    if estimate is None:
        return "–"
    return with_unit(estimate.value, unit) if unit else significant(estimate.value, 2)


@register.filter
def span(estimate: Estimate | None, unit: str = "") -> str:
    """An estimate's range, low to high; the unit once."""
    if estimate is None or estimate.spread == 0:
        return ""
    kilo = unit in ("W", "VA", "Wh") and estimate.high >= 999.5
    text = _low_to_high(estimate, 1000 if kilo else 1)
    return f"{text}\u00a0{'k' * kilo}{unit}" if unit else text


@register.filter
def span_alike(estimate: Estimate | None, unit: str) -> str:
    """An estimate's range in the unit of its likely value, which is shown next to it."""
    if estimate is None or estimate.spread == 0:
        return ""
    return _low_to_high(estimate, 1000 if f"k{unit}" in with_unit(estimate.value, unit) else 1)


@register.filter
def with_range(estimate: Estimate | None, unit: str = "") -> SafeString:
    """An estimate's likely value and range, with one unit."""
    # Digits and units alone: nothing to escape, and a survey writes a thousand of them.
    return SafeString(
        f'{mid(estimate, unit)} <span class="range">{span_alike(estimate, unit)}</span>'
    )


def _low_to_high(estimate: Estimate, scale: float) -> str:
    digits = 2 if estimate.spread > 0.02 else 3
    low, high = estimate.low / scale, estimate.high / scale
    return f"{significant(low, digits)}\u2013{significant(high, digits)}"


@register.filter
def minus(value: float) -> str:
    """A number with one decimal and a true minus sign."""
    return f"{value:.1f}".replace("-", "\u2212")


@register.filter
def count(number: int) -> str:
    """A large number in groups of three digits."""
    return f"{number:,}".replace(",", "\u202f")


@register.filter
def money(estimate: Estimate | None, currency: str) -> str:
    """A likely amount with its currency: ``EUR 412.60``."""
    return "–" if estimate is None else f"{currency}\u00a0{money_text(estimate.value, currency)}"


@register.filter
def money_span(estimate: Estimate, currency: str) -> str:
    """The range of an amount, low to high."""
    if estimate.spread == 0:
        return ""
    low, high = (money_text(value, currency) for value in (estimate.low, estimate.high))
    return f"{low}\u2013{high}"


@register.filter
def hours(value: float | None) -> str:
    """Hours as ``19 h 40 min``."""
    return "–" if value is None else hours_text(value)


@register.filter
def hours_exact(value: float | None) -> str:
    """Measured hours, to the minute: ``4 h 12 min``."""
    return "–" if value is None else hours_text(value, exact=True)


@register.filter
def hours_of(seconds: float) -> str:
    """Seconds as hours and minutes, or as seconds if short."""
    return f"{seconds:.0f}\u00a0s" if seconds < 120 else hours_text(seconds / 3600, exact=True)


@register.filter(name="clock")
def clock_of(moment: datetime | str | None) -> str:
    """A time of day: a moment's, or one that is stored as ``HH:MM``."""
    if isinstance(moment, str):
        return clock(moment)
    return "" if moment is None else clock(timezone.localtime(moment))


@register.filter
def degrees(degrees_c: float) -> str:
    """A temperature."""
    return temperature(degrees_c)


@register.filter
def near(moment: datetime) -> str:
    """A future moment: ``in 40 min (21:32)`` if near, with its day if far."""
    here = timezone.localtime(moment)
    ahead = (here - timezone.localtime()).total_seconds() / 3600
    if 0 <= ahead <= NEAR_H:
        return f"in {hours_text(ahead)} ({clock(here)})"
    return day_clock(here)


@register.filter
def percent(share: float | None) -> str:
    """A share in whole percent."""
    return "–" if share is None else f"{share * 100:.0f}\u00a0%"


@register.filter
def percent_three(share: float) -> str:
    """A share in percent with three digits: ``91.4 %``."""
    return f"{share * 100:.3g}\u00a0%"


@register.filter
def span_percent(estimate: Estimate) -> str:
    """The range of a share, in percent."""
    if estimate.spread == 0:
        return ""
    return f"{estimate.low * 100:.3g}\u2013{estimate.high * 100:.3g}\u00a0%"


@register.filter
def percent_one(share: float) -> str:
    """A small share in percent with one decimal: ``2.5 %``."""
    return f"{share * 100:g}\u00a0%"


@register.filter
@lru_cache(maxsize=16)
def grade_mark(grade: str) -> SafeString:
    """The letter of a grade of evidence, with its meaning; ``?`` if unknown."""
    return format_html(
        '<span class="grade grade-{}" title="{}">{}</span>',
        grade.lower(),
        GRADE_WORDS.get(grade, "nothing known"),
        grade,
    )


@register.filter
def signed_percent(share: float) -> str:
    """``+12 %``, ``−3 %``."""
    sign = "+" if share >= 0 else "−"
    return f"{sign}{abs(share) * 100:.0f}\u00a0%"


@register.filter
def plural(count: int, noun: str) -> str:
    """``3 loads``, ``1 load``."""
    return f"{count}\u00a0{noun}{'' if count == 1 else 's'}"


@register.filter
def start_words(verdict: Verdict) -> str:
    return start_text(verdict.verdict, verdict.chance)


@register.filter
def start_mark(verdict: Verdict) -> str:
    """The shape of a start verdict, shown with its word and colour."""
    return {"holds": "●", "grey": "◐"}.get(verdict.verdict, "✕")


@register.filter
def csrf(request: HttpRequest) -> str:
    """The CSRF token, for partials that are included with ``only``."""
    return get_token(request)


@register.filter
def here(request: Any) -> str:
    """The page that a request came from; for a fragment, the page that shows it."""
    return request.htmx.current_url_abs_path or "" if request.htmx else request.get_full_path()


@register.filter
def any_filled(fields: list[BoundField]) -> bool:
    """Whether any field of a group has a value, so that its fold is open."""
    return any(field.value() not in (None, "", False, []) for field in fields)


@register.simple_tag
def term(word: str, shown: str = "") -> SafeString:
    """A word of the glossary, with its meaning as a tooltip and a link."""
    address = f"{reverse('common:glossary')}#{anchor(word)}"
    return format_html(
        '<a class="term" href="{}" title="{}">{}</a>', address, GLOSSARY[word], shown or word
    )


@register.filter
def chance(share: float) -> str:
    """A chance: ``6 in 10``."""
    return chance_text(share)


@register.filter
def answers(field: BoundField) -> tuple[tuple[str, str], ...]:
    """Possible answers to a question about a field's number; else empty."""
    question = getattr(field.field, "question", None)
    return () if question is None else question.answers


@register.filter
def sure(field: BoundField) -> str:
    """The confirmed text of a field; "" if there is none."""
    return getattr(field.field, "sure", "")


@register.filter
def first_up(text: str) -> str:
    """A text with a capital first letter, except units: ``kWh over time`` is unchanged."""
    return text if text[1:2].isupper() else f"{text[:1].upper()}{text[1:]}"
