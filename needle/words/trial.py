"""Sentences on trials and their forecasts."""

from __future__ import annotations

from collections.abc import Mapping

from needle.words.figures import Sentence, Units


def _charge_far_below(_: Units, shown: float, low: float, high: float) -> str:
    return (
        f"The {shown * 100:.3g} % shown lies far below the {low * 100:.0f} to {high * 100:.0f} % "
        "that all else leaves. Look again; if it shows the same, do not rely on this forecast: be "
        "ready for it to stop soon."
    )


def _charge_rose(_: Units, hours: float, before: float, after: float) -> str:
    return (
        f"At {hours:g} h the charge rose from {before * 100:.3g} to {after * 100:.3g} %: was it "
        "charged? Kept as a note, not counted."
    )


SENTENCES: Mapping[str, Sentence] = {
    "charge-rose-at": _charge_rose,
    "counter-fell-at": "At {hours:g} h the counter fell: was it reset? Not counted.",
    "ah-without-volts-at": (
        "At {hours:g} h the Ah are not counted: the battery's volts are not known. Give them, or "
        "the volts beside the Ah."
    ),
    "charge-far-below": _charge_far_below,
    "lesson-hours": "The same plan again lasts",
    "lesson-battery": "The battery holds",
    "lesson-idle": "The inverter draws while idle",
    "lesson-efficiency": "The inverter passes on",
    "lesson-output": "{output} passes on",
    "lesson-load": "{load} draws on average while in use",
    "last-fifth": "The last fifth of a display often goes faster than it says.",
}
