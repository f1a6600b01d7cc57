"""Sentences on plans: what to mind, what helps, and why something does not run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime

from needle.decide.starting import LIKELY
from needle.quantity import chance_text, hours_text, with_unit
from needle.words.figures import Sentence, Units, degrees_text, moment_text, temperature_text


def start_text(verdict: str, chance: float | None) -> str:
    """Whether a load starts, with its chance if that matters: ``likely holds, 8 in 10``."""
    if chance is None or verdict != "grey":
        return verdict
    odds = chance_text(chance)
    return f"likely holds, {odds}" if chance >= LIKELY else f"grey, {odds}"


#: What came of a start test.
_RESULTS = {
    "held": "tested: it held",
    "complained": "tested: it complained, then ran",
    "tripped": "tested: it tripped",
    "refused": "tested: the load refused to start",
}


def _start_tested(_: Units, result: str, times: int) -> str:
    return _RESULTS[result] + (f", {times} times" if times > 1 else "")


def _tested_beside(_: Units, why: str, tested: str, beside_w: float) -> str:
    beside = "alone" if beside_w <= 0 else f"beside {with_unit(beside_w, 'W')}"
    return f"{why}; {tested}, {beside}"


def _against_figures(_: Units, tested: str, computed: str) -> str:
    return f"{tested}; by the numbers it {'would be grey' if computed == 'grey' else computed}"


def _rest_means(_: Units, others: Sequence[str], boxes: Sequence[str], hours: float) -> str:
    off = hours_text(hours)
    caveats = [f"leaves {', '.join(others)} without power for {off}"] if others else []
    if boxes:
        off_words = f"{', '.join(boxes)} is off for {off} and works it off afterwards"
        caveats.append(f"{off_words}: watch its contents")
    return "; ".join(caveats)


def _set_warmer(units: Units, load: str, from_c: float, to_c: float) -> str:
    return f"set {load} from {degrees_text(from_c, units)} to {temperature_text(to_c, units)}"


def _room_not_corrected(units: Units, heats: bool, set_c: float) -> str:
    return (
        f"not corrected for the room: the room while measuring must be "
        f"{'below' if heats else 'above'} the set point of {temperature_text(set_c, units)}."
    )


def _move_task(units: Units, load: str, to: datetime, begins: datetime) -> str:
    return f"move {load} to {moment_text(to, begins, units)}"


def _charge_longer(units: Units, source: str, at: datetime, begins: datetime) -> str:
    return f"run {source} for 2 h more, once, from {moment_text(at, begins, units)}"


def _mains_fill(
    units: Units,
    source: str,
    low: float,
    charge: float,
    high: float,
    lowest: float,
    less: bool,
) -> str:
    filled = f"{charge * 100:.0f} % ({low * 100:.0f} to {high * 100:.0f} %)"
    turns = "each turn leaves less than the one before" if less else "turn after turn"
    return (
        f"After a turn of {source} the battery is at least at {filled}, {turns}. "
        f"Before one it may be down to {lowest * 100:.0f} %"
    )


SENTENCES: Mapping[str, Sentence] = {
    "leave-off": "leave off {load}",
    "put-on-route": "put {load} on {route}",
    "inverter-may-stay-off": "the inverter can stay off",
    "set-to": "set {load} to {setting}",
    "set-warmer": _set_warmer,
    "within-makers-range": "only within the range that the contents' maker states",
    "rest-inverter": "rest the inverter from {first_min:clock} to {last_min:clock}",
    "rest-means": _rest_means,
    "move-task": _move_task,
    "move-tasks": "move {count} tasks ({loads:list})",
    "burns-fuel": (
        "about {litres:.1f} l of fuel; outdoors, far from openings, with an alarm indoors"
    ),
    "charge-longer": _charge_longer,
    "over-continuous": "{watts:W} running is over the {carried_w:W} it carries",
    "over-continuous-va": "{va:VA} running is over the {carried_va:VA} it carries",
    "carried-for-seconds": (
        "{watts:W} running is {over_w:W} over; it is carried for {seconds:g} s only"
    ),
    "surge-left": "{va:VA} left",
    "over-surge": "{va:VA} over the surge rating, for {seconds:g} s",
    "over-surge-long": "{va:VA} over, for {seconds:g} s: longer than its surge rating",
    "may-dip": "{why}: its voltage may dip and still start it",
    "may-dip-test-it": "{why}: its voltage may dip and still start it; test it",
    "start-tested": _start_tested,
    "tested-beside": _tested_beside,
    "tested-against-figures": _against_figures,
    "other-inverter-volts": "it wants {wants_v:V}, and the inverter gives {gives_v:V}",
    "of-load": "{load}: {notice}",
    "motor-on-modified-sine": (
        "{load}: a motor runs hot on a modified sine: try it, and keep the start test."
    ),
    "drive-on-modified-sine": (
        "{load}: its electronics may refuse a modified sine: try it, and keep the start test."
    ),
    "sun-off-clock": (
        "{source}: at longitude {longitude:g}° the sun is {hours:.0f} h away from the plan's "
        "clock: check the time zone, or where the panels stand."
    ),
    "room-not-corrected": _room_not_corrected,
    "never-cycles-off": (
        "in a room of {room_c:°C} it would never cycle off, and may not reach its set point."
    ),
    "inconsistent-run": (
        "The run of {hours:h exact} fits nothing that is known of this supply and its loads: it "
        "does not count. Check its hours, charges and loads."
    ),
    "mains-fill": _mains_fill,
    "ranges-follow-runs": (
        "Ranges are {factor:.1f} times as wide as this evidence alone gives: earlier runs ended "
        "farther from theirs, or nearer, than was said."
    ),
    "surge-rating-unknown": (
        "The surge rating is not known: the continuous rating is used instead."
    ),
}
