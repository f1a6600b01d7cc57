"""Sentences on the mistakes of a drill."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from needle.words.figures import Sentence, Units, clock_span_text


def _plan_differs(how: str) -> Sentence:
    def worded(units: Units, load: str, between: Sequence[Sequence[str]]) -> str:
        times = " and ".join(clock_span_text(first, last, units) for first, last in between)
        return f"your plan has {load} {how}: it runs {times or 'all the time'}"

    return worded


SENTENCES: Mapping[str, Sentence] = {
    "counter-not-reset": "the counter at {load} was not reset: {wh:.0f} Wh were on it",
    "counter-too-coarse": "the counter at {load} counts in {step_wh:.0f} Wh: more at once say more",
    "display-stood-still": (
        "after {hours:.2g} h the display still stood at full: something is drawn all the same"
    ),
    "read-too-early": "the meter at {load} is slow: it was read before it had settled",
    "whole-cable": "the clamp lay around the whole cable of {load}: the currents cancel",
    "not-measured": (
        "nothing was measured of {load}: its label says up to {label_factor:.2g} times what it "
        "runs at"
    ),
    "not-drained": "the pack was not drained: it holds {holds:whole %} of its label",
    "load-left-out": _plan_differs("left out"),
    "at-other-hours": _plan_differs("at other hours"),
    "other-floor": ("your plan drains the pack to {floor:whole %}: {wanted:whole %} stays in it"),
}
