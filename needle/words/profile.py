"""Sentences on a load's profile: what to mind in its readings."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from needle.words.figures import Sentence, Units


def _draw_changed(
    _: Units,
    ratio: float,
    low: float,
    high: float,
    last_before: datetime,
    first_after: datetime,
) -> str:
    more = "more" if ratio >= 1 else "less"
    ends = sorted(abs(share - 1) * 100 for share in (low, high))
    first, last = last_before, first_after
    same = (first.year, first.month) == (last.year, last.month)
    when = f"{first:%B %Y}" if same else f"some time between {first:%B %Y} and {last:%B %Y}"
    return (
        f"It draws {abs(ratio - 1) * 100:.0f} % {more} ({ends[0]:.0f} to {ends[1]:.0f} %) since "
        f"{when}: older readings no longer count."
    )


def _undated(_: Units, count: int) -> str:
    what = "A counter or capture has" if count == 1 else f"{count} counters or captures have"
    return f"{what} no date, and may be from before the change: give the date, and it counts."


def _only_va(_: Units, state: str, setting: str, low: float, high: float) -> str:
    of = f" ({setting})" if setting else ""
    return (
        f"{state.capitalize()}{of}: only volt-amperes are known; the watts assume a power factor "
        f"of {low:g} to {high:g}."
    )


SENTENCES: Mapping[str, Sentence] = {
    "draw-changed": _draw_changed,
    "undated-left-out": _undated,
    "spot-disagrees": "{state:capital}: {why}",
    "only-va-known": _only_va,
    "over-breaker": (
        "{state:capital} was read at {watts:W}; its breaker of {breaker_a:g} A carries {va:VA} for "
        "minutes: check both."
    ),
    "start-low": (
        "The start read is {times:.2g} times the running VA, where {kind} takes {low:g} to "
        "{high:g} times: did the meter hold the peak, and was one conductor clamped?"
    ),
    "start-at-least": (
        "The start was read as {va:VA} by a meter that is blind to starts shorter than about a "
        "second: it is at least that."
    ),
    "start-high": (
        "The start read is {times:.0f} times the running VA: check its amps and volts, and the "
        "running watts."
    ),
    "legs-open": (
        "Is it on one leg or on both? Its amps were read without volts, and count at {volts:g} V: "
        "on both legs they are twice as many VA. Say it in its details."
    ),
    "of-setting": "This profile speaks of the setting “{setting}”.",
    "dc-volts-taken": (
        "Its amps that were read without volts count at {volts:g} V, as read beside others."
    ),
    "dc-volts-missing": "Its amps do not count: on DC the volts beside them are needed.",
    "other-volts": (
        "Its label says {label_v:g} V, where its mains have {mains_v:g} V: amps that were read "
        "without volts count at {label_v:g} V. Check how it is fed."
    ),
    "mean-above-running": (
        "The mean of {mean_w:W} lies above the running watts of {running_w:W}: was the counter "
        "reset, and is the elapsed time right? The mean counts."
    ),
    "counter-still": (
        "A counter shows no energy yet: it bounds the draw; let it run until its last digit moves."
    ),
    "drop-all-idle": (
        "The supply's own idle draw explains the whole fall in charge: the load's share cannot be "
        "told from it."
    ),
    "drop-efficiency-assumed": (
        "The fall in charge was taken to pass an inverter of 90 ± 6 %: say what the supply passes "
        "on, or 100 % where it was read on its outlets."
    ),
    "means-differ": (
        "Two ways to know the mean differ: {best} ({best_w:W}); {other} ({other_w:W}). The "
        "better-graded one is used."
    ),
    "resting-not-below": (
        "Resting watts are not below the mean and running watts: check which state is which. The "
        "duty leaves them out."
    ),
}
