"""Sentences on how a figure is known: read, counted, recorded, or usual for its kind."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date

from needle.quantity import hours_text, with_unit
from needle.words.figures import Sentence, Units, plural


def _figure_known(_: Units, figure: str, grade: str, how: Sequence[str]) -> str:
    return f"{figure.capitalize()} ({grade}): {'; '.join(how)}"


def _in_a_year(expected: float, low: float, high: float) -> str:
    return f"In a year reckon with {_whole(expected)} ({_whole(low)} to {_whole(high)})."


def _whole(share: float) -> str:
    return f"{share * 100:.0f} %"


def _capacity_once(_: Units, **expected: float) -> str:
    return (
        f"{_in_a_year(**expected)} The loss is what is usual for its chemistry: test it again in "
        "a year."
    )


def _capacity_unchanged(
    _: Units, first: float, first_on: date, newest: float, newest_on: date, **expected: float
) -> str:
    span = _span(first, first_on, newest, newest_on)
    return f"{span}: no change that these tests could show. {_in_a_year(**expected)}"


def _capacity_falls(
    _: Units,
    first: float,
    first_on: date,
    newest: float,
    newest_on: date,
    yearly: float,
    least: float,
    most: float,
    **expected: float,
) -> str:
    span = _span(first, first_on, newest, newest_on)
    ends = f"{least * 100:.1f} to {most * 100:.1f} %"
    return f"{span}: it loses {yearly * 100:.1f} % a year ({ends}). {_in_a_year(**expected)}"


def _span(first: float, first_on: date, newest: float, newest_on: date) -> str:
    return f"{_whole(first)} in {first_on:%B %Y}, {_whole(newest)} in {newest_on:%B %Y}"


def _uses_seen(
    _: Units,
    uses: int,
    hours: float,
    per_day: tuple[float, float, float],
    use_wh: float,
    mean_w: float,
) -> str:
    often, low, high = (f"{value:.2g}" for value in per_day)
    seen = f"{plural(uses, 'use')} seen in {hours_text(hours)}" if hours > 0 else "no use seen yet"
    return (
        f"{seen}: about {often} a day ({low} to {high}), each {with_unit(use_wh, 'Wh')}: "
        f"mean {with_unit(mean_w, 'W')}"
    )


def _capture_mean(_: Units, hours: float, cycles: int, mean_w: float) -> str:
    seen = f", {plural(cycles, 'complete cycle')}" if cycles else ""
    return f"capture of {hours_text(hours, exact=True)}{seen}: mean {with_unit(mean_w, 'W')}"


def _charge_fell(
    _: Units,
    fallen: float,
    held_wh: float,
    hours: float,
    idle_w: float,
    usual_idle: bool,
    mean_w: float,
) -> str:
    usual = " (not known: usual for its size)" if usual_idle else ""
    return (
        f"{fallen * 100:.3g} % of {with_unit(held_wh, 'Wh')} in {hours_text(hours, exact=True)}, "
        f"less {with_unit(idle_w, 'W')} idle{usual}: mean {with_unit(mean_w, 'W')}"
    )


def _idle_over_time(
    _: Units,
    before: tuple[float, float, float],
    since: str,
    after: tuple[float, float, float],
    now: str,
    real: bool,
) -> str:
    first, last = (
        f"{with_unit(likely, 'W')} ({low:.3g} to {high:.3g})"
        for likely, low, high in (before, after)
    )
    change = "a real change, the newest counts" if real else "no real change"
    return f"Idle {first} in {since}, {last} in {now}: {change}."


def _pairs_leave(_: Units, pairs: int) -> str:
    return f"what {'one pair' if pairs == 1 else 'two pairs'} of AC and DC readings leaves of it"


def _times_a_day(_: Units, times: float) -> str:
    often = f"{times:g} times a day" if times >= 1 else f"{7 * times:.3g} times a week"
    return f"{often}, as said"


SENTENCES: Mapping[str, Sentence] = {
    "figure-known": _figure_known,
    # What was read, counted and recorded.
    "watts-read": "{watts:W} read on {meter}",
    "va-read": "{va:VA} read on {meter}",
    "readings-between": "{count} readings from {low:.4g} to {high:.4g} W",
    "pf-read": "PF {power_factor:.2f} read",
    "pf-recorded": "PF {power_factor:.2f} recorded",
    "watts-recorded": "{watts:W} recorded",
    "counted": "{wh:Wh} in {hours:h exact} on {meter}: mean {mean_w:W}",
    "nothing-in-more": "and nothing in {hours:h exact} more",
    "nothing-counted": (
        "nothing counted in {hours:h exact}: at most its last digit, {digits_wh:Wh}"
    ),
    "nothing-recorded": (
        "nothing drawn in {hours:h exact} recorded: less than half a use of {use_wh:Wh}"
    ),
    "counted-on-dc": "counted at a DC output; on AC its adapter leaves {left:whole %} of its watts",
    "uses-seen": _uses_seen,
    "watts-usual": "watts usual for {kind}",
    "speed-follows-work": (
        "its speed follows its work, and it may rest in a cool room: a reading is a moment"
    ),
    "capture-mean": _capture_mean,
    "charge-fell": _charge_fell,
    "cycles-tallied": (
        "{cycles:plural complete cycle} tallied, {on_h:h} on of {of_h:h}: duty {duty:.2f}"
    ),
    "cycles-recorded": "{cycles:plural complete cycle} recorded",
    "duty-recorded": "{cycles:plural complete cycle} recorded: duty {duty:.2f}",
    "one-block": "one block in the capture: its share of the time",
    "never-rests": "never rests",
    "start-read": "start {va:VA} read on {meter}",
    "start-bound": "at least {va:VA} seen",
    "start-seen-slow": "start of at least {va:VA} seen",
    "task-wh": "{tasks:plural task} measured: {value:Wh}",
    "piece-wh": "{tasks:plural task} measured: a piece {value:Wh}",
    "task-watts": "{tasks:plural task} measured: mean while it lasts {value:W}",
    # What labels and people say.
    "label-watts": "label {watts:W}",
    "label-va": "label {va:VA}, an upper bound",
    "label-plate": "{label}: labels state {low:g} to {high:g} times what {kind} draws running",
    "label-horsepower": (
        "label {horsepower:g} hp at the shaft, motor efficiency {low:g} to {high:g} assumed"
    ),
    "breaker-bounds": "a {breaker_a:g} A breaker: at most {va:VA} for minutes",
    "energy-label": "energy label {yearly_kwh:g} kWh a year: mean {mean_w:W}",
    "times-a-day-stated": _times_a_day,
    "hours-a-day": "{hours:.3g} h a day in use",
    "duty-assumed": "on for {low:bare %} to {high:%} of the time, as assumed",
    # What is usual, and what follows from other figures.
    "pf-assumed": "PF of {kind} assumed",
    "pf-usual": "PF usual for {kind}",
    "duty-usual": "duty usual for {kind}",
    "running-from-duty": "running watts from the usual duty of {kind}",
    "start-usual": "no start measured: {kind} draws {low:g} to {high:g} times its running VA",
    "defrost-unseen": "a defrost may not have been seen yet: up to a fifth more",
    "lifted-to-mean": "lifted to the mean of {mean_w:W}",
    "watts-wander": "its watts wander: a reading is a moment, not its mean",
    "no-break": "runs without a break while in use",
    "duty-from-means": "duty = (mean − resting) ÷ (running − resting) = {duty:.3f}",
    # Supplies.
    "dated": "{said}, {on:day}",
    "label": "label",
    "as-given": "as given",
    "as-printed": "volts times amp-hours, as printed",
    "floor-left": "the last {floor:whole %} is left in it",
    "idle-for": "{idle_w:.3g} W idle for {hours:.3g} h",
    "efficiency-of": "{share:whole %} efficiency",
    "none-known": "none known",
    "a-trial": "a trial",
    "adapter-usual": "usual for AC adapters; no route test yet",
    "read-on-both": "read on both",
    "route-test": "route test",
    "drop-of": "{start:bare %} → {end:%} of {held_wh:Wh}",
    "idle-read": "idle read on the battery side",
    "idle-test": "idle test: {drop} in {hours:g} h",
    "from-trial": "trial: {held}",
    "wh-counted": "{wh:Wh} counted",
    "drain": "drain: {counted} from {start:bare %} to {end:%}",
    "drain-fast": (
        "drain: {counted} from {start:bare %} to {end:%} in {hours:.3g} h: {factor:%} of the "
        "label at its rated {rated_h:g} h"
    ),
    "behind-inverter": "{battery_wh:Wh} at the battery for {ac_wh:Wh} behind the inverter",
    "full-to-empty": "{held_wh:Wh} from full to empty",
    "aged": "aged {years:.1f} years at {yearly:%} a year",
    "capacity-usual": "0.93 ± 0.05 of the label, until a trial",
    "share-of-label": "{share:g} of the label",
    "resistance-usual": "usual for a sound battery of this size",
    "fitted": "fitted to {pairs} pairs of AC and DC readings",
    "pairs-leave": _pairs_leave,
    "outputs-usual": "usual for DC and USB outputs; not tested yet",
    "dc-idle-usual": "usual for a DC output; no idle test yet",
    "usb-usual": "usual for USB outputs; not tested yet",
    "usb-idle-usual": "usual for a USB output; no idle test yet",
    "converters-usual": "usual for DC converters; not tested yet",
    "converter-idle-usual": "usual for a DC converter; no idle test yet",
    "only-wire": "only wire and fuse between",
    "nothing-between": "nothing between that draws",
    "inverters-usual": "usual for inverters; no efficiency test yet",
    "inverter-idle-usual": "usual for inverters of this size; no idle test yet",
    "idle-over-time": _idle_over_time,
    "capacity-once": _capacity_once,
    "capacity-unchanged": _capacity_unchanged,
    "capacity-falls": _capacity_falls,
    # Sources.
    "read-in-full-sun": "{readings:plural reading} in full sun",
    "wh-of-days": "Wh of {days:plural day}",
    "sun-as-measured": "by {how:list}",
    "sun-by-cloud": "{clouds:whole %} cloud",
}
